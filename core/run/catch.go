package run

import (
	"errors"
	"time"

	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/step"
)

// DeadPrefix stands before the paths of the steps that run for a dead letter.
const DeadPrefix = "on-dead-letter/"

// caught goes on where a step has failed and its else says how.
func (w *walker) caught(
	s *step.Compiled,
	call *step.Call,
	e Entry,
	before step.State,
	st *step.State,
	f *step.Failure,
	began time.Duration,
) progress {
	f.Path, f.Step, f.Kind = e.Path, e.Step, e.Kind
	call.State = before
	var next step.State
	var err error
	known, looking := w.with(s, call, func(c *step.Call) { next, err = s.Else.Instead(c, f) })
	if looking == nil && !known {
		return w.unknown(e, st, began)
	}
	if err = errors.Join(err, looking); err != nil {
		return w.failed(e, before, st, asFailure(err), began)
	}
	e.Outcome, e.Caught = "caught: "+short(f.Reason), f.Reason
	w.result.Notes = append(w.result.Notes, step.Note{Level: "warning", Text: s.ID + ", caught: " + f.Reason})
	*st = next
	at := len(w.result.Trace)
	w.trace(e, before, st, began)
	if s.Else.Block == nil {
		return done
	}
	outer := st.Caught
	st.Caught = step.Caught(f)
	p := w.block(s.Else.Block, e.Path+"."+step.ElseWay+"/", st)
	st.Caught = outer
	if p != done || !s.Else.Ends {
		return p
	}
	w.reason, w.result.Where = f.Reason, s.ID
	w.told(at, e.Outcome, TurnedAway)
	return turnedAway
}

// letter walks the steps that run for a dead letter.
func (w *walker) letter(p *plan.Plan) progress {
	if p.OnDead == nil {
		return done
	}
	st := step.State{Message: w.in.Message, Letter: w.in.Letter, Answered: true}
	w.past(&st, step.Intake)
	return w.block(p.OnDead, DeadPrefix, &st)
}

// tellDeaths rehearses the steps that run for each dead letter.
func (r *rehearsing) tellDeaths(failures []step.Failure) {
	for _, f := range failures {
		in := r.input
		in.Origin, in.Resume, in.Groups = nil, nil, nil
		in.Letter = step.Caught(&f)
		for _, m := range []message.Header{
			{Name: "id", Value: DeliveryID(r.id, DeadPrefix+f.Path)}, {Name: "flow", Value: r.p.Document.Name},
			{Name: "version", Value: "0"}, {Name: "transaction", Value: r.id},
			{Name: "reference", Value: in.Message.Reference}, {Name: "at",
				Value: in.Message.ReceivedAt.UTC().Format(time.RFC3339Nano)},
		} {
			in.Letter = in.Letter.With(m.Name, message.NewString(m.Value))
		}
		w := newWalker(r.p, in)
		w.letter(r.p)
		r.out.Trace = append(r.out.Trace, w.result.Trace...)
		r.out.Notes = append(r.out.Notes, w.result.Notes...)
	}
}
