// Package step holds the kinds of step: for each its settings, how it is
// compiled, and what it does to a message. One file per kind, one line in the
// registry.
//
// A step is pure. What it needs of the world it asks for as a Want, and it
// goes on when the answer stands in the Call as an Effect.
package step

import (
	"fmt"
	"strings"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/want"
)

// Kind describes a kind of step.
type Kind struct {
	Name    string
	Summary string // what it does, in one sentence
	Reason  string // when to use it
	Example string // a step in YAML; a test compiles it
	// Properties are the JSON Schema properties of its own settings, and
	// Required the names that must be there.
	Properties string
	Required   []string
	Defs       string // JSON Schema definitions that Properties refer to, or ""

	compile func(c *Compiler, s *flow.Step) Runner
}

// Runner does the work of a compiled step on one message.
type Runner interface {
	Run(c *Call) (Result, error)
}

// Compiled is a step ready to run.
type Compiled struct {
	*flow.Step
	When   *expr.Program // nil: always
	Runner Runner
	Reads  []string // JSON Pointers into the body that its settings read
	Needs  []Need   // what of the body has to be there for its settings to come to anything
	Looks  bool     // its settings look up rows of tables that are no files of the flow
	Ways   []Way    // of a route
	Every  bool     // of a route: all ways that fit, each with its own copy
	Inside *Block   // of a split: the steps of each part
	Else   *Catch   // what happens when it fails; nil: a dead letter
}

// Need is a path below the body that an expression cannot do without.
type Need struct {
	At   string // of the setting, in the document
	Path expr.Path
}

// Way is one branch.
type Way struct {
	Name  string
	Block *Block
}

// Block is a sequence of steps.
type Block struct{ Steps []*Compiled }

// State is what travels from step to step. It is copied, never changed in place.
type State struct {
	Message message.Message
	Vars    *message.Node
	Replies *message.Node
	Bodies  *message.Node    // behind earlier steps by id, where expressions or people ask for them
	Sent    []message.Header // headers that set steps put; they leave with the message
	Part    *Part            // inside of a split
	Group   *Closed          // behind an aggregate
	Caught  *message.Node    // inside of an else: what failed
	Letter  *message.Node    // in the steps for a dead letter: about it
	Replied *message.Node    // the body when the last delivery was answered
	Order   string           // behind a resequence: deliveries keep their order by it; "" for that of the message
	// Answered tells that the outside world has had its say on the way here,
	// and that the caller has had an answer before that.
	Answered bool
}

// Call is one step's work on one message.
type Call struct {
	State  State
	Path   string       // the step's path in this transaction
	Effect *want.Effect // what the step's want came to, when that is known
	Now    time.Time
	Trace  bool            // whether details for people are wanted
	Memory *message.Memory // what the whole walk may build; nil: no bound
	Watch  *expr.Watch     // hears what conditions come to; nil: nobody does
	Rows   expr.Rows       // of tables that are no files of the flow; nil: there are none
}

// Scope gives what the step's expressions see.
func (c *Call) Scope() *expr.Scope {
	m := &c.State.Message
	s := &expr.Scope{
		Body: m.Body, Headers: m.Headers, Params: m.Params, Query: m.Query,
		Vars: c.State.Vars, Replies: c.State.Replies, Bodies: c.State.Bodies, Message: m, Now: c.Now, Seed: m.ID + "/" + c.Path,
		Memory: c.Memory, Watch: c.Watch, Rows: c.Rows,
	}
	p, g := c.State.Part, c.State.Group
	if p == nil && g == nil && c.State.Caught == nil && c.State.Letter == nil {
		return s
	}
	s.Locals = map[string]*message.Node{}
	if c.State.Caught != nil {
		s.Locals["caught"] = c.State.Caught
	}
	if c.State.Letter != nil {
		s.Locals["letter"] = c.State.Letter
	}
	if g != nil {
		s.Locals["group"] = g.Node()
	}
	if p != nil {
		s.Locals["part"], s.Locals["index"], s.Locals["last"] = p.Value, jsonInt(p.Index), message.NewBool(p.Last)
	}
	return s
}

// Result is what a step did.
type Result struct {
	State   State
	Outcome string       // in a word or two
	Ways    []int        // of a route: those to take, in order
	Keep    *want.Effect // what the step has worked out and the journal is to keep, so that it is not done again
	Want    want.Want    // what the step needs of the world before it can go on
	Parts   *Parts       // of a split
	Scatter *Scatter
	Joined  bool    // it is in a group now, which goes on in its place
	Answer  *Answer // what the caller gets, unless an earlier step has said
	End     *End    // the message is turned away here
	Note    *Note
	Fields  []Field // of a map: field by field, when details are wanted
}

// End turns a message away.
type End struct{ Reason string }

// Note is a line in the transaction's log.
type Note struct {
	Level string `json:"level"` // info or warning
	Text  string `json:"text"`
}

// Answer is what the caller of an intake gets.
type Answer struct {
	Status  int              `json:"status"`
	Headers []message.Header `json:"headers"`
	Body    []byte           `json:"body"`
}

// Field is what a map did for one target.
type Field struct {
	To      string   `json:"to"`
	At      string   `json:"at,omitempty"`    // where that is here, with the numbers of the rows
	Value   string   `json:"value,omitempty"` // as JSON
	Outcome string   `json:"outcome"`         // set, skipped or failed
	Error   string   `json:"error,omitempty"`
	Reads   []string `json:"reads"` // JSON Pointers into the body before, or what reads HL7 there
}

// Class says who can mend a failure.
type Class string

// The classes of failure.
const (
	Data   Class = "data"   // the message is not as expected
	Flow   Class = "flow"   // the flow is wrong
	Target Class = "target" // the outside system did not take it
)

// Failure ends a message as a dead letter.
type Failure struct {
	Step   string `json:"step"`
	Path   string `json:"path"`
	Kind   string `json:"kind"`
	Phase  string `json:"phase"` // the setting at work: when, fields/3, schema
	Class  Class  `json:"class"`
	Reason string `json:"reason"`
}

func (f *Failure) Error() string {
	return fmt.Sprintf("step %s, %s: %s", f.Path, f.Phase, f.Reason)
}

// fail gives the failure of an expression or template.
func fail(phase string, err error) error {
	class := Flow
	if expr.IsMissing(err) || strings.Contains(err.Error(), "do not fit together") ||
		strings.Contains(err.Error(), "segment of a path") {
		class = Data
	}
	return &Failure{Phase: phase, Class: class, Reason: err.Error()}
}
