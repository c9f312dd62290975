package run

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/core/step"
)

// Origin is where the walk of a part begins.
type Origin struct {
	State   step.State
	Block   *step.Block
	Prefix  string        // of the paths of its steps: per-title[3]/
	Failure *step.Failure // the part cannot even begin
	Count   int           // how many parts there are
}

// PartPath gives the path of one part of a split.
func PartPath(split string, i int) string { return fmt.Sprintf("%s[%d]", split, i) }

// Reached is a split as a walk comes to it.
type Reached struct {
	rules flow.Rules
	step  *step.Compiled
	path  string
	state step.State
	Parts *step.Parts
}

// Size is how large the message is that was split, in bytes.
func (r *Reached) Size() int { return r.state.Message.Size }

// Reach walks over recorded effects to the split at a path. The error says
// that the walk does not come there.
func Reach(p *plan.Plan, in Input, path string) (*Reached, error) {
	w := newWalker(p, in)
	w.reach = path
	w.begin(p)
	if w.reached == nil {
		why := "no split stands there"
		if len(w.result.Failures) > 0 {
			why = w.result.Failures[0].Error()
		}
		return nil, fmt.Errorf("the message does not come to %s: %s", path, why)
	}
	return w.reached, nil
}

// Origin gives the place at which a part begins. id is that of its transaction.
// value stands for the part's own, when a person has repaired it; nil: as the
// split made it.
func (r *Reached) Origin(i int, id string, value *step.Part) *Origin {
	o := &Origin{Block: r.Parts.Block, Prefix: PartPath(r.path, i) + "/", Count: len(r.Parts.Items)}
	item := r.Parts.Items[i]
	if value != nil {
		item = value.Value
	}
	var err error
	if o.State, err = r.Parts.Begin(r.state, i, item); err != nil {
		var f *step.Failure
		if !errors.As(err, &f) {
			f = &step.Failure{Phase: "message", Class: step.Flow, Reason: err.Error()}
		}
		f.Step, f.Kind, f.Path = r.step.ID, r.step.Kind, PartPath(r.path, i)
		o.Failure = f
	}
	if m := &o.State.Message; r.rules >= flow.Rules2 {
		m.ID, m.Parent = id, r.state.Message.ID
	}
	return o
}

// inline is a split whose parts are walked together with their message.
type inline struct {
	w       *walker
	entry   int    // of the split in the trace
	outcome string // as the step said it
	scope   string // what groups know it by that wait for all its parts
	states  []string
	why     string // the first that was turned away was
}

// The states of a part in a rehearsal besides those of a transaction.
const (
	notBegun = "not begun"
	aside    = "waiting for others" // and for nothing else
)

// parts walks the parts of a split one after the other, where nothing is real.
func (w *walker) parts(
	s *step.Compiled,
	path string,
	st step.State,
	parts *step.Parts,
	entry Entry,
	before step.State,
) {
	in := &inline{
		w:       w,
		entry:   len(w.result.Trace),
		outcome: entry.Outcome,
		scope:   w.in.Message.ID + "\x00" + path,
		states:  make([]string, len(parts.Items)),
	}
	w.trace(entry, before, &before, w.clock())
	for i := range in.states {
		in.states[i] = notBegun
	}
	reached := &Reached{rules: w.rules, step: s, path: path, state: st, Parts: parts}
	if w.split == nil {
		w.splits = append(w.splits, in)
	}
	reason, awaited, outer, part := w.reason, w.awaited, w.split, w.part
	w.awaited = false
	for i := range parts.Items {
		if parts.InOrder && in.count(Waiting) > 0 || parts.Stop && in.count(DeadLetter) > 0 {
			break
		}
		w.split, w.part = in, i
		w.reason = ""
		in.states[i] = w.stateOf(func() progress { return w.origin(reached.Origin(i, DeliveryID(st.Message.ID, PartPath(path, i)), nil)) })
		if in.states[i] == TurnedAway && in.why == "" {
			in.why = w.reason
		}
		if w.in.Groups != nil {
			w.in.Groups.settleAll()
		}
	}
	w.reason, w.awaited, w.split, w.part = reason, awaited, outer, part
	in.tell()
}

// stateOf tells the state that a walk of a part leaves it in.
func (w *walker) stateOf(walk func() progress) string {
	failures, wants, waits := len(w.result.Failures), len(w.result.Wants), w.waits
	w.waits = ""
	p := walk()
	state := Delivered
	switch {
	case len(w.result.Failures) > failures:
		state = DeadLetter
	case len(w.result.Wants) > wants || w.waits != "":
		state = Waiting
	case p == blocked:
		state = aside
	case p == turnedAway:
		state = TurnedAway
	}
	if waits != "" {
		w.waits = waits
	}
	return state
}

func (in *inline) count(states ...string) (n int) {
	for _, s := range in.states {
		if slices.Contains(states, s) {
			n++
		}
	}
	return n
}

// tell says how the parts are, and closes the groups that wait for all of them
// when no more can come.
func (in *inline) tell() {
	if in.entry < len(in.w.result.Trace) && len(in.states) > 0 {
		in.w.result.Trace[in.entry].Outcome = in.outcome + ": " + in.summary()
	}
	if g := in.w.in.Groups; g != nil {
		g.allParts(in.scope, in.count(DeadLetter, Waiting, aside, notBegun))
	}
}

// AllTurnedAway says of a message that none of its parts came through; first is why
// the first of them did not.
func AllTurnedAway(parts int, first string) string {
	if parts == 1 {
		return "its only part was turned away: " + first
	}
	return fmt.Sprintf("all %d parts were turned away, the first: %s", parts, first)
}

// turnedAway says why the message counts as turned away, because all its parts
// are; "" when it does not.
func (w *walker) partsAway() string {
	total, first := 0, ""
	for _, in := range w.splits {
		if in.count(TurnedAway) < len(in.states) {
			return ""
		}
		if total += len(in.states); first == "" {
			first = in.why
		}
	}
	if total == 0 || w.rules < flow.Rules2 {
		return ""
	}
	return AllTurnedAway(total, first)
}

func (in *inline) summary() string {
	var words []string
	for _, state := range []string{Delivered, TurnedAway, Waiting, aside, DeadLetter, notBegun} {
		if n := in.count(state); n > 0 {
			words = append(words, fmt.Sprintf("%d %s", n, state))
		}
	}
	return strings.Join(words, ", ")
}

// origin walks a part from its beginning.
func (w *walker) origin(o *Origin) progress {
	if o.Failure != nil {
		w.result.Failures = append(w.result.Failures, *o.Failure)
		return blocked
	}
	st := o.State
	return w.block(o.Block, o.Prefix, &st)
}
