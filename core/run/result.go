package run

import (
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/core/want"
)

// Input is what a walk works on.
type Input struct {
	Message message.Message
	// Origin is where a part begins; nil for a message, which begins with the
	// flow's first step.
	Origin *Origin
	// Resume is where a group goes on, in the middle of the flow.
	Resume *Resume
	// Letter is about the dead letter whose steps are walked; nil for anything else.
	Letter *message.Node
	// Called tells that another flow has handed the message over.
	Called bool
	// Groups takes members where nothing is real; nil in live runs.
	Groups *Groups
	// Inline walks the parts of a split together with their message, as a
	// rehearsal does; else each is a walk of its own.
	Inline bool
	// Effects are the recorded answers to wants, by path.
	Effects map[string]want.Effect
	// StandIn answers wants that have no effect yet; nil in live runs.
	StandIn func(want.Asked) (StandInReply, bool)
	// Sent hears of the wants that have an effect already: what was handed
	// over. nil leaves them out.
	Sent func(want.Asked)
	// Trace asks for what each step did, with messages before and after.
	Trace bool
	// Ways asks for the ways that were taken, without what the steps did.
	Ways bool
	// NoBodies leaves the messages out of the trace.
	NoBodies bool
	// Clock gives the time since some fixed moment, to tell how long steps
	// took; nil leaves that out, and then equal walks give equal bytes.
	Clock func() time.Duration
}

// StandInReply is what a rehearsal takes for the answer of an outside system.
type StandInReply struct {
	Effect want.Effect
	Fail   *step.Failure // the step fails
	Wait   string        // the delivery would wait for this reason
}

// Result is what a walk came to.
type Result struct {
	State    string
	Reason   string
	Where    string       // the step that turned the message away
	Answer   *step.Answer // nil when no step said one
	Trace    []Entry
	Wants    []want.Asked // what is needed to go on
	Keep     []Kept       // what steps have worked out and the journal is to keep
	Failures []step.Failure
	Final    *message.Message // the message behind the last step, where the walk came there
	Notes    []step.Note
	Ways     []string       // that were taken, as paths; of a walk that was asked for them
	Findings []flow.Finding // what only a message shows; of a walk with a trace
	// Needs are the paths that its steps cannot do without: nil where they were there. They
	// are of a walk with a trace, too.
	Needs map[Need]*expr.MissingError `json:"-"`
	// Ends tells that all it waits for are deliveries behind which nothing comes: when they
	// are through it is delivered, and need not be walked for that.
	Ends bool
}

// Kept is an effect that a step has brought about itself.
type Kept struct {
	Path   string
	Effect want.Effect
}

// Entry is what one step did.
type Entry struct {
	Path    string       `json:"path"`
	Step    string       `json:"step"`
	Kind    string       `json:"kind"`
	Outcome string       `json:"outcome"`
	State   string       `json:"state"` // delivered, waiting, turned away, dead letter, or "" for an ordinary step
	Before  *Body        `json:"before,omitempty"`
	After   *Body        `json:"after,omitempty"`
	Took    float64      `json:"took"`             // milliseconds
	Caught  string       `json:"caught,omitempty"` // why it failed, where its else went on
	Error   *string      `json:"error"`
	Reads   []string     `json:"reads,omitempty"` // JSON Pointers into the body before
	Ways    []string     `json:"ways,omitempty"`
	Fields  []step.Field `json:"fields,omitempty"`
	// Earlier are the names under which expressions find the body behind earlier steps.
	Earlier []string      `json:"earlier,omitempty"`
	Looked  []want.Looked `json:"looked,omitempty"` // rows of tables that it found or wrote
	// Names are what its expressions see besides the message: part, vars, replies.
	Names []Named `json:"names,omitempty"`
	// Reply is what it was answered, as later expressions see it: status, headers, body.
	Reply string `json:"reply,omitempty"` // JSON
}

// Named is a value that expressions see by a name.
type Named struct {
	Name string `json:"name"`
	JSON string `json:"json"`
}
