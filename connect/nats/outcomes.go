package nats

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	client "github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"readyferry/connect"
	"readyferry/core/retry"
)

// said are the errors of streams by their number, in words, and what a try that ends with
// one comes to. One that is not here follows its status as one of HTTP does.
var said = map[jetstream.ErrorCode]struct {
	words   string
	outcome retry.Outcome
	data    bool // the message is at fault
}{
	10023: {"the server has not enough resources", retry.Again, false},
	10039: {"the account has no streams", retry.Never, false},
	10047: {"the stream is full in this server", retry.Again, false},
	10054: {"the message is larger than the stream takes", retry.Never, true},
	10059: {"the stream is not there", retry.Never, false},
	10060: {"another stream was expected", retry.Never, false},
	10071: {"the sequence that was expected is another", retry.Never, false},
	10076: {"the server keeps no streams", retry.Never, false},
	10077: {"the stream does not store it: it is full, or its disk", retry.Again, false},
	10109: {"the stream is sealed", retry.Never, false},
	10122: {"the stream does not take such headers", retry.Never, true},
}

// refused is an answer of a stream that is no confirmation.
func refused(e *jetstream.APIError) (connect.Receipt, error) {
	s, known := said[e.ErrorCode]
	out := connect.Receipt{Outcome: retry.Default().Classify(e.Code), Code: fmt.Sprint(e.ErrorCode, " ", e.Description)}
	if known {
		out.Outcome = s.outcome
	}
	if s.words == "" {
		s.words = "the stream refuses it"
	}
	out.Words = fmt.Sprintf("%s (%d %s)", s.words, e.ErrorCode, e.Description)
	if s.data {
		return connect.Receipt{}, fmt.Errorf("%w: %w: %s", connect.ErrCannotSend, connect.ErrBadData, out.Words)
	}
	return out, nil
}

// outcomeOf makes a receipt of the error that a published message came to.
func (l *link) outcomeOf(ctx context.Context, subject string, err error) (connect.Receipt, error) {
	var api *jetstream.APIError
	switch {
	case errors.As(err, &api):
		return refused(api)
	case errors.Is(err, jetstream.ErrNoStreamResponse), errors.Is(err, client.ErrNoResponders):
		return connect.Receipt{Outcome: retry.Never, Code: "503", Words: "no stream takes the subject " + subject}, nil
	case errors.Is(err, client.ErrMaxPayload):
		return connect.Receipt{}, fmt.Errorf("%w: %w: the message is larger than the broker takes", connect.ErrCannotSend, connect.ErrBadData)
	case errors.Is(err, client.ErrBadSubject), errors.Is(err, client.ErrBadHeaderMsg):
		return connect.Receipt{}, fmt.Errorf("%w: %w: %q is no subject", connect.ErrCannotSend, connect.ErrBadData, subject)
	case l.forbidden(subject):
		return connect.Receipt{Outcome: retry.Never, Code: "Permissions Violation", Words: "the broker does not permit publishing to " + subject}, nil
	case errors.Is(err, context.DeadlineExceeded), errors.Is(ctx.Err(), context.DeadlineExceeded), errors.Is(err, client.ErrTimeout):
		return connect.Receipt{}, fmt.Errorf("%s did not confirm it within %s", l.c.Name, l.c.TimeLimit)
	}
	return connect.Receipt{}, fmt.Errorf("%s: %w", l.c.Name, err)
}

// outcomes are what the help shows.
func outcomes() []connect.Meaning {
	out := []connect.Meaning{
		{Code: "ack", Words: "a stream has stored it, or had it already under this id", Comes: string(retry.Delivered)},
		{Code: "503", Words: "no stream takes the subject", Comes: string(retry.Never)},
		{Code: "Permissions Violation", Words: "the broker does not permit it", Comes: string(retry.Never)},
		{Code: "Maximum Payload", Words: "the message is larger than the broker takes", Comes: "never (data)"},
	}
	for _, code := range slices.Sorted(maps.Keys(said)) {
		s := said[code]
		out = append(out, connect.Meaning{Code: fmt.Sprint(code), Words: s.words, Comes: connect.Comes(s.outcome, s.data)})
	}
	return append(out, connect.Meaning{Code: "other", Words: "any other error of a stream: as HTTP treats its status", Comes: "again or never"},
		connect.InDoubt("no stream confirms in time, the connection breaks off"))
}
