// Package wire is what the application and a runner say to each other: one small type for each
// thing, as JSON.
//
// The application asks, and the runner does and answers. A runner knows no connection but those that
// were opened for it, and forgets them when it is told; whoever asks about one that it does not know
// is told so, opens it and asks again. So neither has to know whether the other was started anew.
package wire

import (
	"encoding/json"
	"errors"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/outbound"
	"readyferry/core/retry"
	"readyferry/core/want"
)

// What a runner can be asked.
const (
	Open     = "open"     // Opening → nothing
	Try      = "try"      // Trying → Tried
	Check    = "check"    // Asking → connect.Report
	List     = "list"     // Asking → []string
	Peek     = "peek"     // Asking → *connect.Arrival
	Inspect  = "inspect"  // Asking → connect.Step
	Describe = "describe" // Asking → *connect.Table
	Query    = "query"    // Selecting → Statement
	Receive  = "receive"  // Receiving → nothing
	Fetch    = "fetch"    // Fetching → Fetched
	Settle   = "settle"   // Settling → nothing
	Stop     = "stop"     // Receiving → nothing
	Keep     = "keep"     // Keeping → nothing
	Host     = "host"     // Hosting → nothing
	Call     = "call"     // Calling → Tried
)

// What a runner tells unasked.
const (
	Hello    = "hello"    // Greeting
	Renewed  = "renewed"  // Renewal
	Answered = "answered" // Awaiting → Awaited: a message whose sender waits for the flow's answer
)

// Said is what comes back for whatever was asked.
type Said struct {
	Unopened bool            `json:"unopened,omitempty"` // the connection is not open here, or another than was meant
	Failure  *Failure        `json:"failure,omitempty"`
	Value    json.RawMessage `json:"value,omitempty"`
}

// Failure is an error, with what others ask of it.
type Failure struct {
	Text       string `json:"text"`
	CannotSend bool   `json:"cannotSend,omitempty"`
	BadData    bool   `json:"badData,omitempty"`
}

// FailureOf takes an error apart; nil for none.
func FailureOf(err error) *Failure {
	if err == nil {
		return nil
	}
	return &Failure{err.Error(), errors.Is(err, connect.ErrCannotSend), errors.Is(err, connect.ErrBadData)}
}

// Error puts it together again; nil for none.
func (f *Failure) Error() error {
	switch {
	case f == nil:
		return nil
	case f.BadData:
		return failed{f.Text, []error{connect.ErrCannotSend, connect.ErrBadData}}
	case f.CannotSend:
		return failed{f.Text, []error{connect.ErrCannotSend}}
	}
	return errors.New(f.Text)
}

type failed struct {
	text string
	is   []error
}

func (f failed) Error() string   { return f.text }
func (f failed) Unwrap() []error { return f.is }

// Of names a connection as it was opened: another document or secret is another version.
type Of struct {
	Connection string `json:"connection"`
	Version    string `json:"version"`
}

// Opening opens a connection, in place of what was open under its name.
type Opening struct {
	Of
	Document []byte        `json:"document"` // without secrets, with the values of the place
	Secrets  []string      `json:"secrets"`
	List     outbound.List `json:"list"` // what an owner permits beyond its own hosts
}

// Trying is one try of a delivery or question.
type Trying struct {
	Of
	ID          string        `json:"id"`
	TraceParent string        `json:"traceParent,omitempty"`
	Rules       []byte        `json:"rules"`
	Request     *want.Request `json:"request"`
	Body        []byte        `json:"body,omitempty"`
	Ask         bool          `json:"ask,omitempty"`
}

// Tried is what became of a try.
type Tried struct {
	Outcome retry.Outcome    `json:"outcome"`
	After   time.Duration    `json:"after,omitempty"`
	Code    string           `json:"code"`
	Words   string           `json:"words,omitempty"`
	Headers []message.Header `json:"headers,omitempty"`
	Answer  []byte           `json:"answer,omitempty"`
}

// Asking asks something else of a connection.
type Asking struct {
	Of
	What     string          `json:"what,omitempty"`     // to be listed or described
	Settings json.RawMessage `json:"settings,omitempty"` // of the intake or delivery that it is about
	Flow     string          `json:"flow,omitempty"`
	Intake   bool            `json:"intake,omitempty"`
}

// Selecting asks for the statement that gives what is selected of tables.
type Selecting struct {
	Of
	Selection *connect.Selection `json:"selection"`
}

// Statement is one, with the names of its parameters.
type Statement struct {
	SQL    string   `json:"sql"`
	Params []string `json:"params"`
}

// Receiving has a runner receive for a flow, from where mark stands unless it knows better.
type Receiving struct {
	Of
	Flow     string          `json:"flow"`
	Settings json.RawMessage `json:"settings"`
	Mark     []byte          `json:"mark,omitempty"`
}

// Fetching asks for what was received for a flow behind a number.
type Fetching struct {
	Flow   string `json:"flow"`
	Kept   string `json:"kept"`   // which store the number is of; another one begins anew
	Behind uint64 `json:"behind"` // the number of the last that is known
}

// Fetched are messages in the order in which they came.
type Fetched struct {
	Receives bool      `json:"receives"` // somebody receives for the flow
	Kept     string    `json:"kept"`
	Came     []Arrived `json:"came"`
	Waiting  int64     `json:"waiting"` // messages that are kept
	Ready    bool      `json:"ready"`   // its system is connected to
	Behind   int64     `json:"behind"`  // wait at the source
	Trouble  string    `json:"trouble,omitempty"`
}

// Arrived is what came together, under a number.
type Arrived struct {
	N        uint64            `json:"n"`
	Arrivals []connect.Arrival `json:"arrivals"`
}

// Settling tells that all up to a number is stored inside.
type Settling struct {
	Flow string `json:"flow"`
	Kept string `json:"kept"`
	To   uint64 `json:"to"`
}

// Hosting gives a runner the flows that run there, in place of those that it had.
type Hosting struct {
	Version string              `json:"version"`
	Files   map[string][]byte   `json:"files"`   // a bundle
	Secrets map[string][]string `json:"secrets"` // of its connections, by name
	List    outbound.List       `json:"list"`    // what an owner permits beyond its own hosts
}

// Calling hands a message to a flow that runs at the runner, and waits until it has ended.
type Calling struct {
	Version     string           `json:"version"` // of what is hosted
	ID          string           `json:"id"`
	Flow        string           `json:"flow"`
	Within      time.Duration    `json:"within"`
	TraceParent string           `json:"traceParent,omitempty"`
	Headers     []message.Header `json:"headers"`
	Body        []byte           `json:"body"`
}

// Keeping lists what is to stay open and to be received; the rest is let go.
type Keeping struct {
	Connections []string `json:"connections"`
	Flows       []string `json:"flows"`
}

// Greeting is how a runner is.
type Greeting struct {
	Version string           `json:"version"`
	Since   time.Time        `json:"since"`   // it was started
	Open    []string         `json:"open"`    // connections
	Flows   []string         `json:"flows"`   // that run there
	Hosted  string           `json:"hosted"`  // the version of these
	Waiting map[string]int64 `json:"waiting"` // messages that are kept, by flow
}

// Renewal is a secret that a system gave in place of an earlier one.
type Renewal struct {
	Connection string `json:"connection"`
	Secret     string `json:"secret"`
}

// Awaiting is a message whose sender waits.
type Awaiting struct {
	Flow    string          `json:"flow"`
	Arrival connect.Arrival `json:"arrival"`
}

// Awaited is what its flow says.
type Awaited struct {
	Answer  connect.Answer `json:"answer"`
	Failure *Failure       `json:"failure,omitempty"`
}

// TextOf gives the words of an error of the line as people read them.
func TextOf(err error) string { return strings.TrimPrefix(err.Error(), "nats: ") }
