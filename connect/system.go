// Package connect is the door to outside systems: one way out, one way in, for
// every kind of system alike.
//
// A System is one kind: what its documents may say, as JSON Schema, and how it is
// reached. Each has a folder here and one line in connect/systems; nothing else
// in the application knows it. A Link is an open connection to one outside
// system. What more it can do is found by type assertion, as database/sql does:
// it may be a Sender, an Asker, a Receiver, a Lister, a Peeker.
//
// A connection is a document of its own. Its secrets are taken out of it when it
// is read and never stand in it again.
package connect

import (
	"context"
	"errors"
	"io"
	"strconv"
	"time"

	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/system"
	"readyferry/core/want"
)

// System is one kind of outside system.
type System struct {
	system.Kind
	// Connection is the schema of what its connection document says besides what
	// all of them do.
	Connection *message.Node
	// Notes are what people should know of it: how a repeat is told, which headers are
	// properties of it.
	Notes []string
	// Outcomes says what a try comes to by what the system says, for the help.
	Outcomes []Meaning
	// Check finds what the schema cannot say; nil for nothing.
	Check func(c *Connection, found Found)
	// Says makes what its source would say of a message that an intake has taken, with the
	// headers that this had, in lower case; nil where nothing can be sent from a stand-in.
	Says func(in Settings, headers map[string]string, body []byte) (Said, error)
	// Open opens a connection; nil for a system that only calls us.
	Open func(ctx context.Context, c *Connection) (Link, error)
}

// Meaning is what a word of a system means, and what a try that ends with it comes to.
type Meaning struct {
	Code  string `json:"code"`  // the system's own word
	Words string `json:"words"` // what that means
	Comes string `json:"comes"` // delivered, again, never, never (data), or unknown
}

// Comes says what an outcome comes to; data tells that the message is at fault.
func Comes(o retry.Outcome, data bool) string {
	if data {
		return "never (data)"
	}
	return string(o)
}

// InDoubt is what every system comes to where it says nothing.
func InDoubt(what string) Meaning {
	return Meaning{"", what + ", or the application stops in the middle: nobody knows whether it was taken, so it is tried again under the same id", "unknown"}
}

// Found reports what is wrong at a place of a document, and what to do.
type Found func(pointer, code, message, repair string)

// Link is an open connection with a life of its own: it reconnects, and says how
// it is. It is safe for concurrent use.
type Link interface {
	// Check tries the connection, as the test button does. An error means that the
	// test itself could not be made; a system that does not answer is a Report.
	Check(ctx context.Context) (Report, error)
	io.Closer
}

// Report is what a test of a connection came to.
type Report struct {
	OK      bool
	Detail  string           // in words
	Code    string           // the system's own word for it
	Headers []message.Header // of its answer
	Answer  []byte           // the first bytes of it
	Steps   []Step           // how far it came; none where there is but one
}

// Step is one step of a test.
type Step struct {
	OK      bool   `json:"ok"`
	Untried bool   `json:"untried,omitempty"` // an earlier one has failed
	Detail  string `json:"detail"`            // in words
	Repair  string `json:"repair,omitempty"`  // what to do where it failed
}

// Sender hands one message out: one try. An error means that the outcome is not
// known, and the try is made again; one that wraps ErrCannotSend, that no other
// try would help.
type Sender interface {
	Send(ctx context.Context, r Request) (Receipt, error)
}

// Asker asks one question, under the same rules.
type Asker interface {
	Ask(ctx context.Context, r Request) (Receipt, error)
}

// Hearer is an Asker that hears answers for which nobody waits any more, because they come
// late or a second time. It tells of them with the id of the request.
type Hearer interface {
	OnLate(told func(id string, r Receipt))
}

// Inspector looks whether what flows say to a system is there: a queue, a topic, a table.
type Inspector interface {
	Inspect(ctx context.Context, u Use) Step
}

// Use is what a flow says to a system.
type Use struct {
	Flow     string
	Intake   bool // it comes from there; else it goes there
	Settings Settings
}

// Inviter is a Link to which a person signs in once, in a browser.
type Inviter interface {
	// Invite gives the address at which the person signs in. From there a browser comes
	// to back with the state and a code, for which redeem gives the secret that stays.
	Invite(back, state string) (address string, redeem func(ctx context.Context, code string) (secret string, err error), err error)
}

// Request is one try of a delivery or a question.
type Request struct {
	ID string // the same on every try: the key by which a repeat can be told
	// TraceParent is the header traceparent (W3C Trace Context) that goes with it, where its
	// system has such headers and the flow has set none.
	TraceParent string
	Rules       retry.Plan // which of the system's words mean delivered, again, never
	want.Request
	// Content gives the body from its start, and Size its bytes, where it is too large to be
	// held; Body is then nil. Only a Streamer gets such a request. The reader is to be closed.
	Content func() (io.ReadCloser, error)
	Size    int64
}

// A Streamer is a link that takes bodies as they come from the disk.
type Streamer interface {
	// Streams tells whether it can: what signs a body has to hold it.
	Streams() bool
}

// Receipt says what became of a try.
type Receipt struct {
	Outcome retry.Outcome
	After   time.Duration // it asks not to be called again before; 0: it does not say
	Code    string        // its own word for it: a status, a reason code, an SQLSTATE
	Words   string        // what that means, where people do not know it
	Headers []message.Header
	Answer  io.Reader // read once, within the connection's limit; nil: there is none
}

// Status gives the code as a number, 0 where it is none.
func (r *Receipt) Status() int {
	n, err := strconv.Atoi(r.Code)
	if err != nil {
		return 0
	}
	return n
}

// Body reads the answer.
func (r *Receipt) Body() ([]byte, error) {
	if r.Answer == nil {
		return nil, nil
	}
	return io.ReadAll(r.Answer)
}

// ErrCannotSend is wrapped by errors that no other try would mend: the request
// itself cannot be made.
var ErrCannotSend = errors.New("the request cannot be made")

// final is an error that no other try would mend, in its own words.
type final struct{ error }

func (f final) Unwrap() []error { return []error{f.error, ErrCannotSend} }

// Final makes an error one that wraps ErrCannotSend without saying that the request cannot
// be made.
func Final(err error) error { return final{err} }

// ErrBadData is wrapped beside it where the message is at fault: the system works and
// does not take these values.
var ErrBadData = errors.New("the values do not fit")

// Receiver takes messages in. It acknowledges to the outside only what take has
// returned as stored. mark is where it stood; each Arrival carries the mark behind
// it, which is saved in the same database transaction. It returns when ctx ends,
// or with an error when it can go on no more; then it is begun anew after a pause
// that grows.
type Receiver interface {
	Receive(ctx context.Context, in Settings, mark []byte, take func(context.Context, []Arrival) ([]Taken, error)) error
}

// Settings are what an intake or delivery says to a system, by name.
type Settings = *message.Node

// Arrival is one message of an outside system.
type Arrival struct {
	ID      string // by which a repeat is told, where the intake says nothing itself; "" for none
	Headers []message.Header
	Body    []byte
	Mark    []byte // where the source stands behind it; nil: that does not change
	Refused string // why it is none that a flow can read; it is a dead letter at once
}

// Taken says what became of an arrival: it is stored.
type Taken struct {
	Refused string // why it became a dead letter at once; "" when it is under way
}

// Lister tells what is there: topics, queues, tables, folders.
type Lister interface {
	List(ctx context.Context, what string) ([]string, error)
}

// Peeker takes one message as a sample, without consuming it.
type Peeker interface {
	Peek(ctx context.Context, in Settings) (*Arrival, error)
}
