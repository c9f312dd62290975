// Package want holds what a step may want of the world: one small type for each
// want, and the one thing that every want comes to, an Effect.
//
// A walk is pure. Where a step needs the world, the walk stops and says what it
// wants; whoever drives the walk brings it about, or pretends to, and walks
// again over the effect. So the same step serves live runs, rehearsals and
// inspection alike, and none of them needs to know the kinds of step: they know
// the kinds of want, each by its Kind in a registry of their own.
//
// To add a want: a type here with its Kind, a performer in engine/perform, and
// its counterpart for rehearsals in core/run.
package want

import (
	"encoding/json"
	"time"

	"readyferry/core/group"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/table"
)

// The kinds of want, by which registries find what brings one about.
const (
	KindSend     = "send"     // hand a message to an outside system
	KindPut      = "put"      // put a message into a queue
	KindPublish  = "publish"  // put a message into the log of a topic
	KindSpawn    = "spawn"    // let the parts of a message begin
	KindJoin     = "join"     // become a member of a group
	KindTurn     = "turn"     // go on when its number is next
	KindLimit    = "limit"    // hear when a time is over
	KindLook     = "look"     // find rows of tables
	KindRows     = "rows"     // know the rows that lookup() in a step's settings asks for
	KindPair     = "pair"     // write a row of a cross-reference table
	KindOnce     = "once"     // know whether a key came before
	KindHold     = "hold"     // go on at a time, or when a row fits
	KindPace     = "pace"     // go on when there is room
	KindQuestion = "question" // ask by a queue, and have the reply
	KindCall     = "call"     // let another flow take the message
)

// Want is something that a step needs of the world before it can go on.
type Want interface {
	// Kind names the type in registries.
	Kind() string
}

// Asked is a want at the place where a walk came to it.
type Asked struct {
	Want
	Path     string // of the step in this transaction; the key of the effect
	Step     string // its id
	StepKind string // its kind: deliver, lookup
	// Soft tells that the step has another way to go on when it fails, in a
	// scatter or by its else: then the failure is recorded like an answer, and
	// nothing becomes a dead letter.
	Soft bool
}

// Outside tells whether it is handed to an outside system, with tries.
func (a *Asked) Outside() bool { return a.Kind() == KindSend }

// Handed is a want that hands a message over, as people are shown it.
type Handed interface {
	Want
	// Handed gives what takes it (http, queue, topic …), its name and what it gets.
	Handed() (to, name string, r *Request)
}

// Request is what is handed over.
type Request struct {
	Method  string           `json:"method,omitempty"`
	Path    string           `json:"path,omitempty"` // below the connection's address
	Headers []message.Header `json:"headers"`
	Format  string           `json:"format"`
	Body    []byte           `json:"-"`               // kept apart
	Query   *Query           `json:"query,omitempty"` // for a database
	// Settings are what a delivery says besides, as its system's schema has it; JSON.
	Settings json.RawMessage `json:"settings,omitempty"`
	// Ask tells that the system is asked in its own way, and the answer waited for.
	Ask bool `json:"ask,omitempty"`
	// Key is the key by which a repeat is told, where it is not the delivery's own.
	Key string `json:"key,omitempty"`
	// Trace is the journey that it belongs to, 32 hexadecimal digits (W3C Trace Context); ""
	// where that is the one of its transaction's own id.
	Trace string `json:"trace,omitempty"`
}

// Send hands a request to an outside system. The engine guarantees it: it is
// stored first, tried on a plan that ends, and a dead letter when all was in vain.
type Send struct {
	System     string // the kind of system that the step is written for: http, sql
	Connection string
	Ask        bool // it is a question: its answer is what it is sent for
	Request    *Request
	Retry      *retry.Plan // the step's own plan, or nil for the connection's
	// Order is the value by which deliveries keep their order, where a step has
	// said one; else it is that of the message. Unordered: neither matters.
	Order     string
	Unordered bool
}

// Kind implements Want.
func (*Send) Kind() string { return KindSend }

// Handed implements Handed.
func (w *Send) Handed() (to, name string, r *Request) { return w.System, w.Connection, w.Request }

// Across are the settings of a request that a flow at a runner takes.
type Across struct {
	Flow   string        `json:"flow"`
	Within time.Duration `json:"within"` // its end is waited for, in nanoseconds
}

// Put puts a message into a queue inside the application.
type Put struct {
	Queue    string
	Request  *Request
	Priority int           // 0 to 9, the higher are taken first
	Expires  time.Duration // after it nobody may begin to work on it; 0 for never
}

// Kind implements Want.
func (*Put) Kind() string { return KindPut }

// Handed implements Handed.
func (w *Put) Handed() (to, name string, r *Request) { return "queue", w.Queue, w.Request }

// Publish puts a message into the log of a topic.
type Publish struct {
	Topic   string
	Request *Request
}

// Kind implements Want.
func (*Publish) Kind() string { return KindPublish }

// Handed implements Handed.
func (w *Publish) Handed() (to, name string, r *Request) { return "topic", w.Topic, w.Request }

// Spawn lets the parts of a message begin, each with a journey of its own.
type Spawn struct {
	Items   []*message.Node
	InOrder bool // each begins when the one before it has ended
	Stop    bool // a dead one keeps those from beginning that have not
}

// Kind implements Want.
func (*Spawn) Kind() string { return KindSpawn }

// Join makes a message a member of the group of its key.
type Join struct {
	Key    string
	Item   *message.Node
	Unique *string // nil without an expression
	Rules  *group.Rules
}

// Kind implements Want.
func (*Join) Kind() string { return KindJoin }

// Turn lets a message go on when its number is next for its key.
type Turn struct {
	Key    string
	Number int64
	Order  *group.Order
}

// Kind implements Want.
func (*Turn) Kind() string { return KindTurn }

// Limit asks to hear when a time is over, such as that of a scatter. It has no
// effect until then.
type Limit struct{ Within time.Duration }

// Kind implements Want.
func (*Limit) Kind() string { return KindLimit }

// Look finds rows of tables, hop by hop. Do performs it; it depends on nothing
// but the tables and the message. An error that is a step's failure ends the
// message.
type Look struct {
	Table string // of the first hop
	Do    func(t table.Tables) (Effect, error)
}

// Kind implements Want.
func (*Look) Kind() string { return KindLook }

// Find implements Finder.
func (w *Look) Find(t table.Tables) (Effect, error) { return w.Do(t) }

// Finder is a want that reads tables, and does no more.
type Finder interface {
	Want
	Find(t table.Tables) (Effect, error)
}

// Rows finds the rows that lookup() asks for in the settings of a step, before the
// step is done. Do depends on nothing but the tables and the message.
type Rows struct {
	Do func(t table.Tables) (Effect, error)
}

// Kind implements Want.
func (*Rows) Kind() string { return KindRows }

// Find implements Finder.
func (w *Rows) Find(t table.Tables) (Effect, error) { return w.Do(t) }

// Pair writes a row of a cross-reference table. Decide says what that comes to
// in the tables as they are; an error that is a step's failure ends the message.
type Pair struct {
	Table  string
	Decide func(t table.Tables) (table.Table, table.Pairing, Effect, error)
}

// Kind implements Want.
func (*Pair) Kind() string { return KindPair }

// Once asks whether a key came here before, within a time.
type Once struct {
	Key string
	For time.Duration
}

// Kind implements Want.
func (*Once) Kind() string { return KindOnce }

// Hold lets a message wait for a time, or until a row fits.
type Hold struct {
	For   time.Duration // how long the wait lasts, from when the message comes to the step
	Until time.Time     // or when it is over
	// Table and Fits: the row that ends the wait before; Fits is nil without one.
	Table string
	Fits  func(table.Tables) (fits bool, looked Looked, err error)
	Late  string // dead letter, go on or turn away; of a wait for a row
	// Lateness says why it is a dead letter when no row has fitted in time.
	Lateness string
}

// Kind implements Want.
func (*Hold) Kind() string { return KindHold }

// End gives when the wait is over for a message that comes now.
func (w *Hold) End(now time.Time) time.Time {
	if w.For > 0 {
		return now.Add(w.For)
	}
	return w.Until
}

// Pace lets a message go on when there is room for it in the pace of its key.
type Pace struct {
	Key  string
	Pace *group.Pace
}

// Kind implements Want.
func (*Pace) Kind() string { return KindPace }

// Question asks by a queue and waits for the reply with the same correlation.
type Question struct {
	Queue    string
	Request  *Request
	Priority int
	ReplyTo  string
	Within   time.Duration
}

// Kind implements Want.
func (*Question) Kind() string { return KindQuestion }

// Handed implements Handed.
func (w *Question) Handed() (to, name string, r *Request) { return "reply", w.Queue, w.Request }

// Call lets another flow take the message, and waits for its answer or not.
type Call struct {
	Flow    string
	Request *Request
	Wait    bool
	Within  time.Duration
}

// Kind implements Want.
func (*Call) Kind() string { return KindCall }

// Handed implements Handed.
func (w *Call) Handed() (to, name string, r *Request) { return "flow", w.Flow, w.Request }
