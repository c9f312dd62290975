package amqp

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	client "github.com/rabbitmq/amqp091-go"

	"readyferry/connect"
	"readyferry/core/retry"
)

// said are the reply codes of AMQP 0-9-1 (1.3) in words, and what a try that ends with one
// comes to. A code that is not here is tried again.
var said = map[int]struct {
	words   string
	outcome retry.Outcome
	data    bool // the message is at fault
}{
	311: {"the message is larger than the broker takes", retry.Never, true},
	312: {"nothing is bound to the exchange for this routing key, so the broker returned it", retry.Never, false},
	313: {"nobody takes from the queue now, so the broker returned it", retry.Again, false},
	320: {"an operator closed the connection", retry.Again, false},
	402: {"the broker has no such virtual host", retry.Never, false},
	403: {"the broker does not permit it", retry.Never, false},
	404: {"the exchange or queue is not there", retry.Never, false},
	405: {"the queue belongs to another connection", retry.Again, false},
	406: {"the broker has what is asked for, and it is different", retry.Never, false},
	501: {"the broker cannot read the frame", retry.Never, false},
	502: {"the broker cannot read a value", retry.Never, true},
	503: {"the broker does not do what is asked for", retry.Never, false},
	504: {"the channel was not open", retry.Again, false},
	505: {"the broker expected another frame", retry.Again, false},
	506: {"the broker has not enough room", retry.Again, false},
	530: {"the broker does not permit it", retry.Never, false},
	540: {"the broker does not have this function", retry.Never, false},
	541: {"the broker has a fault of its own", retry.Again, false},
}

// nacked is what a message comes to that the broker did not take: a queue is full, or it
// could not be stored.
var nacked = connect.Receipt{Outcome: retry.Again, Code: "nack", Words: "the broker did not take it: a queue is full, or it cannot store it"}

// words says what a reply code means, with what the broker says itself.
func words(code int, text string) string {
	w := said[code].words
	if w == "" {
		w = "the broker closed it"
	}
	return strings.TrimSpace(fmt.Sprintf("%s (%d %s)", w, code, strings.TrimSpace(text)))
}

// outcomes are what the help shows.
func outcomes() []connect.Meaning {
	out := []connect.Meaning{
		{Code: "ack", Words: "the broker has it, and something is bound", Comes: string(retry.Delivered)},
		{Code: "nack", Words: nacked.Words, Comes: string(nacked.Outcome)},
		{Code: "blocked", Words: "the broker takes nothing at present: its memory or disk is short", Comes: string(retry.Again)},
	}
	for _, code := range slices.Sorted(maps.Keys(said)) {
		s := said[code]
		out = append(out, connect.Meaning{Code: strconv.Itoa(code), Words: s.words, Comes: connect.Comes(s.outcome, s.data)})
	}
	return append(out, connect.Meaning{Code: "other", Words: "any other reply code", Comes: string(retry.Again)},
		connect.InDoubt("the broker does not confirm in time, the connection breaks off"))
}

// receipt makes a receipt of a reply code. It gives an error that wraps
// connect.ErrBadData where the message is at fault.
func receipt(code int, text string) (connect.Receipt, error) {
	s, known := said[code]
	out := connect.Receipt{Outcome: retry.Again, Code: fmt.Sprintf("%d %s", code, text), Words: words(code, text)}
	if known {
		out.Outcome = s.outcome
	}
	if s.data {
		return connect.Receipt{}, fmt.Errorf("%w: %w: %s", connect.ErrCannotSend, connect.ErrBadData, out.Words)
	}
	return out, nil
}

// replyOf gives the reply code with which the broker ended something; 0 where it did not.
func replyOf(err error) (int, string) {
	var e *client.Error
	if errors.As(err, &e) && e != nil && e.Server {
		return e.Code, e.Reason
	}
	return 0, ""
}
