package run

import (
	"errors"
	"fmt"
	"strings"

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

// Origin gives the place at which a part begins. value stands for the part's
// own, when a person has repaired it; nil: as the split made it.
func (r *Reached) Origin(i int, value *step.Part) *Origin {
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
	return o
}

// parts walks the parts of a split one after the other, where nothing is real.
func (w *walker) parts(s *step.Compiled, path string, st step.State, parts *step.Parts, entry Entry, before step.State) {
	at := len(w.result.Trace)
	w.trace(entry, before, &before, w.clock())
	reached := &Reached{step: s, path: path, state: st, Parts: parts}
	ends, reason, awaited := map[string]int{}, w.reason, w.awaited
	w.awaited = false
	for i := range parts.Items {
		if parts.InOrder && ends[Waiting] > 0 || parts.Stop && ends[DeadLetter] > 0 {
			ends["not begun"] = len(parts.Items) - i
			break
		}
		failures, wants, waits := len(w.result.Failures), len(w.result.Wants), w.waits
		w.waits = ""
		p := w.origin(reached.Origin(i, nil))
		if w.in.Groups != nil {
			w.in.Groups.settle()
		}
		switch {
		case len(w.result.Failures) > failures:
			ends[DeadLetter]++
		case len(w.result.Wants) > wants || w.waits != "" || p == blocked:
			ends[Waiting]++
		case p == turnedAway:
			ends[TurnedAway]++
		default:
			ends[Delivered]++
		}
		if waits != "" {
			w.waits = waits
		}
	}
	w.reason, w.awaited = reason, awaited
	if w.in.Groups != nil {
		w.in.Groups.allParts(w.in.Message.ID+"\x00"+path, ends[DeadLetter]+ends[Waiting]+ends["not begun"])
	}
	if w.in.Trace && len(ends) > 0 {
		w.result.Trace[at].Outcome += ": " + summary(ends)
	}
}

func summary(ends map[string]int) string {
	var words []string
	for _, state := range []string{Delivered, TurnedAway, Waiting, DeadLetter, "not begun"} {
		if n := ends[state]; n > 0 {
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
