package run

import (
	"errors"
	"fmt"
	"time"

	"readyferry/core/step"
	"readyferry/core/want"
)

// scatter walks the ways of a scatter side by side, and goes on when their
// answers are enough or its time is over.
func (w *walker) scatter(
	s *step.Compiled,
	path string,
	st *step.State,
	call *step.Call,
	rules *step.Scatter,
	entry Entry,
	before step.State,
	began time.Duration,
) progress {
	at := len(w.result.Trace)
	for _, way := range s.Ways {
		entry.Ways = append(entry.Ways, way.Name)
	}
	w.trace(entry, before, &before, began)
	over := call.Effect != nil && call.Effect.Over
	answers := make([]step.WayAnswer, len(s.Ways))
	wants := make([][]want.Asked, len(s.Ways)) // of the ways that have not answered yet
	ends := make([]int, len(s.Ways))           // of their steps in the trace
	first := len(w.result.Wants)
	pending := 0
	for i, way := range s.Ways {
		var waits string
		answers[i], wants[i], waits = w.scattered(way, path, st)
		ends[i] = len(w.result.Trace)
		if wants[i] == nil && waits == "" {
			continue
		}
		pending++
		if answers[i].Missing = fmt.Sprintf("no answer within %s", rules.Within); waits != "" {
			answers[i].Missing += " (" + waits + ")"
		}
	}
	w.result.Wants = w.result.Wants[:first]
	enough, err := w.enough(rules, answers)
	if err != nil {
		return w.scatterFailed(at, entry, before, st, err, began)
	}
	if pending > 0 && !enough && !over && !w.in.Inline {
		for _, list := range wants {
			w.result.Wants = append(w.result.Wants, list...)
		}
		w.result.Wants = append(
			w.result.Wants,
			want.Asked{Want: &want.Limit{Within: rules.Within}, Path: path, Step: s.ID, StepKind: s.Kind},
		)
		w.told(at, fmt.Sprintf("%d of %d answered so far", len(s.Ways)-pending, len(s.Ways)), Waiting)
		return blocked
	}
	for i := range answers {
		if wants[i] == nil {
			continue
		}
		if enough && !over {
			answers[i].Missing = "not needed any more"
		}
		if ends[i] > 0 && w.in.Trace && w.result.Trace[ends[i]-1].State == Waiting {
			e := &w.result.Trace[ends[i]-1]
			e.State, e.Outcome = TurnedAway, answers[i].Missing
		}
	}
	var res step.Result
	known, looking := w.with(s, call, func(c *step.Call) { res, err = rules.Gather(c, answers) })
	if looking == nil && !known {
		w.told(at, "not yet", Waiting)
		return blocked
	}
	if err = errors.Join(err, looking); err != nil {
		entry.Fields = res.Fields
		return w.scatterFailed(at, entry, before, st, err, began)
	}
	*st = res.State
	w.past(st, s.ID)
	w.told(at, res.Outcome, "")
	if at < len(w.result.Trace) {
		e := &w.result.Trace[at]
		e.Looked = looked(call)
		if e.Fields = res.Fields; e.After != nil {
			e.After = show(&st.Message)
		}
	}
	return done
}

// told changes what the trace tells of a step.
func (w *walker) told(at int, outcome, state string) {
	if at < len(w.result.Trace) {
		w.result.Trace[at].Outcome, w.result.Trace[at].State = outcome, state
	}
}

func (w *walker) scatterFailed(
	at int,
	entry Entry,
	before step.State,
	st *step.State,
	err error,
	began time.Duration,
) progress {
	var f *step.Failure
	if !errors.As(err, &f) {
		f = &step.Failure{Phase: "gather", Class: step.Flow, Reason: err.Error()}
	}
	if at < len(w.result.Trace) { // it is told once, behind its ways
		w.result.Trace = append(w.result.Trace[:at:at], w.result.Trace[at+1:]...)
	}
	return w.failed(entry, before, st, f, began)
}

// scattered walks one way. wants are what it still needs of the world; waits is
// why a stand-in keeps it waiting.
func (w *walker) scattered(
	way step.Way,
	path string,
	st *step.State,
) (a step.WayAnswer, wants []want.Asked, waits string) {
	a.Way = way.Name
	own := *st
	failures, needed, told := len(w.result.Failures), len(w.result.Wants), len(w.result.Trace)
	reason, waited := w.reason, w.waits
	w.waits, w.soft = "", w.soft+1
	end := w.block(way.Block, path+"."+way.Name+"/", &own)
	waits, w.waits, w.soft = w.waits, waited, w.soft-1
	a.Replies = own.Replies
	switch {
	case len(w.result.Failures) > failures:
		a.Missing = w.result.Failures[failures].Reason
		w.result.Failures = w.result.Failures[:failures]
		for i := told; i < len(w.result.Trace); i++ {
			if w.result.Trace[i].State == DeadLetter {
				w.result.Trace[i].State = TurnedAway // its answer is missing; the message goes on
			}
		}
		w.result.Wants, waits = w.result.Wants[:needed], ""
	case end == turnedAway:
		a.Missing = w.reason
	case end == blocked:
		wants = append([]want.Asked{}, w.result.Wants[needed:]...)
	default:
		if a.Reply = step.ReplyOf(st, &own); a.Reply == nil {
			a.Missing = "it gives no answer"
		}
	}
	w.reason = reason
	return a, wants, waits
}

// enough tells whether the answers that have come are enough.
func (w *walker) enough(rules *step.Scatter, answers []step.WayAnswer) (bool, error) {
	answered := 0
	for i := range answers {
		a := &answers[i]
		if a.Reply == nil {
			continue
		}
		answered++
		if rules.Fits == nil {
			if answered == rules.First {
				for j := i + 1; j < len(answers); j++ { // in a rehearsal all answer at once
					if answers[j].Reply != nil {
						answers[j].Reply, answers[j].Missing = nil, "not needed any more"
					}
				}
				return true, nil
			}
			continue
		}
		fits, err := rules.Fits(a)
		if err != nil {
			return false, &step.Failure{
				Phase:  "gather/fits",
				Class:  step.Data,
				Reason: "way " + a.Way + ": " + err.Error(),
			}
		}
		if fits {
			a.Chosen = true
			return true, nil
		}
	}
	return false, nil
}
