package stream

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"

	"readyferry/connect"
	"readyferry/core/retry"
)

// said are the errors of the protocol in words, and what a try that ends with one comes
// to. One that is not here is tried again where the protocol calls it retriable, else
// never.
var said = map[int16]struct {
	words   string
	outcome retry.Outcome
	data    bool // the message is at fault
}{
	kerr.CorruptMessage.Code:                     {"the record was damaged on its way", retry.Again, false},
	kerr.UnknownTopicOrPartition.Code:            {"the topic is not there", retry.Never, false},
	kerr.LeaderNotAvailable.Code:                 {"no broker leads the partition at present", retry.Again, false},
	kerr.NotLeaderForPartition.Code:              {"another broker leads the partition now", retry.Again, false},
	kerr.RequestTimedOut.Code:                    {"the brokers did not agree in time", retry.Again, false},
	kerr.MessageTooLarge.Code:                    {"the record is larger than the topic takes", retry.Never, true},
	kerr.InvalidTopicException.Code:              {"that is no name of a topic", retry.Never, true},
	kerr.RecordListTooLarge.Code:                 {"the record is larger than a segment of the log", retry.Never, true},
	kerr.NotEnoughReplicas.Code:                  {"too few replicas are there to keep it", retry.Again, false},
	kerr.NotEnoughReplicasAfterAppend.Code:       {"too few replicas have it", retry.Again, false},
	kerr.InvalidTimestamp.Code:                   {"the topic does not take the record's time", retry.Never, true},
	kerr.TopicAuthorizationFailed.Code:           {"the brokers do not permit it for this topic", retry.Never, false},
	kerr.GroupAuthorizationFailed.Code:           {"the brokers do not permit this consumer group", retry.Never, false},
	kerr.ClusterAuthorizationFailed.Code:         {"the brokers do not permit it", retry.Never, false},
	kerr.UnsupportedSaslMechanism.Code:           {"the brokers do not know this way to sign in", retry.Never, false},
	kerr.SaslAuthenticationFailed.Code:           {"the brokers do not know the user or password", retry.Never, false},
	kerr.PolicyViolation.Code:                    {"it is against a policy of the brokers", retry.Never, false},
	kerr.OutOfOrderSequenceNumber.Code:           {"the brokers have lost track of this producer", retry.Again, false},
	kerr.KafkaStorageError.Code:                  {"a broker cannot write to its disk", retry.Again, false},
	kerr.ThrottlingQuotaExceeded.Code:            {"the quota is used up", retry.Again, false},
	kerr.InvalidRecord.Code:                      {"the topic does not take such a record", retry.Never, true},
	kerr.TransactionalIDAuthorizationFailed.Code: {"the brokers do not permit this producer", retry.Never, false},
}

// words says what an error means, with its name in the protocol.
func words(e *kerr.Error) string {
	w := said[e.Code].words
	if w == "" {
		w = "the brokers refuse it"
	}
	return fmt.Sprintf("%s (%d %s)", w, e.Code, e.Message)
}

// outcomeOf makes a receipt of the error that an appended record came to.
func (l *link) outcomeOf(err error) (connect.Receipt, error) {
	var e *kerr.Error
	switch {
	case err == nil:
		return connect.Receipt{Outcome: retry.Delivered, Code: "acknowledged"}, nil
	case errors.As(err, &e):
		s, known := said[e.Code]
		out := connect.Receipt{Outcome: retry.Never, Code: fmt.Sprintf("%d %s", e.Code, e.Message), Words: words(e)}
		if known {
			out.Outcome = s.outcome
		} else if e.Retriable {
			out.Outcome = retry.Again
		}
		if s.data {
			return connect.Receipt{}, fmt.Errorf("%w: %w: %s", connect.ErrCannotSend, connect.ErrBadData, out.Words)
		}
		return out, nil
	case strings.Contains(err.Error(), "invalid record partitioning choice"):
		return connect.Receipt{}, fmt.Errorf("%w: %w: the topic has no such partition", connect.ErrCannotSend, connect.ErrBadData)
	case errors.Is(err, kgo.ErrRecordTimeout), errors.Is(err, context.DeadlineExceeded):
		return connect.Receipt{}, fmt.Errorf("%s did not acknowledge it within %s", l.c.Name, l.c.TimeLimit)
	}
	return connect.Receipt{}, fmt.Errorf("%s: %w", l.c.Name, err)
}

// outcomes are what the help shows.
func outcomes() []connect.Meaning {
	out := []connect.Meaning{{Code: "0", Words: "as many replicas have it as the topic asks for", Comes: string(retry.Delivered)}}
	for _, code := range slices.Sorted(maps.Keys(said)) {
		s, name := said[code], ""
		if e := kerr.TypedErrorForCode(code); e != nil {
			name = " " + e.Message
		}
		out = append(out, connect.Meaning{Code: fmt.Sprint(code, name), Words: s.words, Comes: connect.Comes(s.outcome, s.data)})
	}
	return append(out,
		connect.Meaning{Code: "", Words: "the topic has no partition of that number", Comes: "never (data)"},
		connect.Meaning{Code: "other", Words: "any other error: as the protocol calls it retriable or not", Comes: "again or never"},
		connect.InDoubt("the brokers do not acknowledge in time, the connection breaks off"))
}
