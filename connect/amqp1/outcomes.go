package amqp1

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	client "github.com/Azure/go-amqp"

	"readyferry/connect"
	"readyferry/core/retry"
)

// said are the error conditions of AMQP 1.0 (2.8.15 to 2.8.18) in words, and what a try
// that ends with one comes to. One that is not here is tried again.
var said = map[client.ErrCond]struct {
	words   string
	outcome retry.Outcome
	data    bool // the message is at fault
}{
	client.ErrCondInternalError:         {"the broker has a fault of its own", retry.Again, false},
	client.ErrCondNotFound:              {"the address is not there", retry.Never, false},
	client.ErrCondUnauthorizedAccess:    {"the broker does not permit it", retry.Never, false},
	client.ErrCondDecodeError:           {"the broker cannot read the message", retry.Never, true},
	client.ErrCondResourceLimitExceeded: {"a quota or the room is used up", retry.Again, false},
	client.ErrCondNotAllowed:            {"the broker does not allow it", retry.Never, false},
	client.ErrCondInvalidField:          {"a property is not as the broker wants it", retry.Never, true},
	client.ErrCondNotImplemented:        {"the broker does not have this function", retry.Never, false},
	client.ErrCondResourceLocked:        {"another client has it", retry.Again, false},
	client.ErrCondPreconditionFailed:    {"the broker has what is asked for, and it is different", retry.Never, false},
	client.ErrCondResourceDeleted:       {"the address was removed", retry.Never, false},
	client.ErrCondIllegalState:          {"the broker is not in the state for it", retry.Again, false},
	client.ErrCondFrameSizeTooSmall:     {"the message needs larger frames", retry.Never, true},
	client.ErrCondConnectionForced:      {"an operator closed the connection", retry.Again, false},
	client.ErrCondDetachForced:          {"the broker ended the link", retry.Again, false},
	client.ErrCondLinkRedirect:          {"another address is to be used", retry.Never, false},
	client.ErrCondMessageSizeExceeded:   {"the message is larger than the broker takes", retry.Never, true},
	client.ErrCondStolen:                {"another client took the link over", retry.Again, false},
	client.ErrCondTransferLimitExceeded: {"more was sent than the broker gave room for", retry.Again, false},
}

// words says what a condition means.
func words(e *client.Error) string {
	w := said[e.Condition].words
	if w == "" {
		w = "the broker refuses it"
	}
	return fmt.Sprintf("%s (%s %.200s)", w, e.Condition, e.Description)
}

// receipt makes a receipt of an error condition.
func receipt(e *client.Error) (connect.Receipt, error) {
	s, known := said[e.Condition]
	out := connect.Receipt{Outcome: retry.Again, Code: string(e.Condition), Words: words(e)}
	if known {
		out.Outcome = s.outcome
	}
	if s.data {
		return connect.Receipt{}, fmt.Errorf("%w: %w: %s", connect.ErrCannotSend, connect.ErrBadData, out.Words)
	}
	return out, nil
}

// settled makes a receipt of the state in which the broker settled a message (3.4).
func settled(state client.DeliveryState) (connect.Receipt, error) {
	switch s := state.(type) {
	case *client.StateAccepted:
		return connect.Receipt{Outcome: retry.Delivered, Code: "accepted"}, nil
	case *client.StateRejected:
		if s.Error == nil {
			return connect.Receipt{Outcome: retry.Never, Code: "rejected",
				Words: "the broker rejects it and does not say why"}, nil
		}
		r, err := receipt(s.Error)
		if err == nil && r.Outcome == retry.Again && said[s.Error.Condition].words == "" {
			r.Outcome = retry.Never // it is this message that is not taken (3.4.3)
		}
		return r, err
	case *client.StateReleased:
		return connect.Receipt{Outcome: retry.Again, Code: "released",
			Words: "the broker did not work on it, and gives it back"}, nil
	case *client.StateModified:
		if s.UndeliverableHere {
			return connect.Receipt{Outcome: retry.Never, Code: "modified", Words: "the broker cannot deliver it there"}, nil
		}
		return connect.Receipt{Outcome: retry.Again, Code: "modified",
			Words: "the broker tried it in vain, and gives it back"}, nil
	}
	return connect.Receipt{}, fmt.Errorf("the broker settles it in a way that is not known: %T", state)
}

// ended makes a receipt of the error with which a link, session or connection ended.
func (l *link) ended(ctx context.Context, err error) (connect.Receipt, error) {
	var conn *client.ConnError
	if errors.As(err, &conn) { // it may have ended for what another message did
		return connect.Receipt{}, l.broke(err)
	}
	if e := conditionOf(err); e != nil {
		return receipt(e)
	}
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return connect.Receipt{}, fmt.Errorf("%s did not accept it within %s", l.c.Name, l.c.TimeLimit)
	}
	return connect.Receipt{}, l.broke(err)
}

// conditionOf gives the condition with which the broker ended something, nil where it did
// not.
func conditionOf(err error) *client.Error {
	var link *client.LinkError
	var session *client.SessionError
	var conn *client.ConnError
	var e *client.Error
	switch {
	case errors.As(err, &link):
		e = link.RemoteErr
	case errors.As(err, &session):
		e = session.RemoteErr
	case errors.As(err, &conn):
		e = conn.RemoteErr
	default:
		errors.As(err, &e)
	}
	return e
}

// outcomes are what the help shows.
func outcomes() []connect.Meaning {
	out := []connect.Meaning{
		{Code: "accepted", Words: "the broker has it", Comes: string(retry.Delivered)},
		{Code: "released", Words: "the broker did not work on it, and gives it back", Comes: string(retry.Again)},
		{Code: "modified", Words: "the broker tried it in vain: again, but for where it says that it cannot be delivered there", Comes: "again or never"},
		{Code: "rejected", Words: "the broker does not take this message: by its condition, below; never without one",
			Comes: string(retry.Never)},
	}
	for _, code := range slices.Sorted(maps.Keys(said)) {
		s := said[code]
		out = append(out, connect.Meaning{Code: string(code), Words: s.words, Comes: connect.Comes(s.outcome, s.data)})
	}
	return append(out, connect.Meaning{Code: "other", Words: "a link or connection that ends for another reason",
		Comes: string(retry.Again)},
		connect.InDoubt("the broker does not settle it in time, the connection breaks off"))
}
