package run

import (
	"errors"
	"slices"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/step"
	"readyferry/core/want"
)

// The states of a transaction.
const (
	UnderWay   = "under way"
	Waiting    = "waiting"
	Delivered  = "delivered"
	TurnedAway = "turned away"
	DeadLetter = "dead letter"
)

// Walk takes a message through a plan, as far as the recorded effects reach.
func Walk(p *plan.Plan, in Input) *Result {
	w := newWalker(p, in)
	end := w.begin(p)
	return w.ended(end)
}

// ended gives the result of a walk that has come to its end.
func (w *walker) ended(end progress) *Result {
	r := w.result
	switch {
	case len(r.Failures) > 0:
		r.State, r.Reason = DeadLetter, r.Failures[0].Reason
	case len(r.Wants) > 0 || w.waits != "":
		r.State, r.Reason = Waiting, w.waits
		r.Ends = w.follows == 0 && w.last == len(r.Wants) && w.waits == "" && w.reason == "" && len(r.Keep) == 0 &&
			len(w.splits) == 0 && !w.patient
	case end == turnedAway:
		r.State, r.Reason = TurnedAway, w.reason
	default:
		r.State = Delivered
		if r.Reason = w.partsAway(); r.Reason != "" && !w.delivered {
			r.State = TurnedAway
		}
	}
	return r
}

// walkMemory is what one walk may build, in bytes. Every walk of a message has as
// much, so that what was once walked is walked again.
const walkMemory = 256 << 20

func newWalker(p *plan.Plan, in Input) *walker {
	w := &walker{
		in:      in,
		rules:   p.Rules,
		bodies:  p.Bodies || in.Trace,
		memory:  message.NewMemory("the work on one message", walkMemory),
		watch:   &expr.Watch{Otherwise: p.Document.Intake.Missing == "otherwise", Mixed: in.Trace},
		result:  &Result{},
		awaited: p.Document.Intake.Awaited && in.Origin == nil && in.Letter == nil,
	}
	if k := p.Document.Intake; k.Kind == "subflow" || in.Called {
		w.awaited = in.Origin == nil && in.Letter == nil
		w.patient = true
	}
	w.patient = w.patient || p.Document.Intake.Finished
	switch {
	case in.Origin != nil:
		w.in.Message = in.Origin.State.Message
	case in.Resume != nil:
		w.awaited, w.in.Message = false, in.Resume.Message
	}
	return w
}

// begin walks from the first step of a message or part.
func (w *walker) begin(p *plan.Plan) progress {
	switch {
	case w.in.Origin != nil:
		return w.origin(w.in.Origin)
	case w.in.Resume != nil:
		return w.resume(p, w.in.Resume)
	case w.in.Letter != nil:
		return w.letter(p)
	}
	st := step.State{Message: w.in.Message}
	w.past(&st, step.Intake)
	end := w.block(p.Block, "", &st)
	if end == done {
		w.result.Final = &st.Message
	}
	return end
}

// progress says how a block ended.
type progress int

const (
	done progress = iota
	blocked
	turnedAway
	joined // it is in a group, which goes on in its place
)

type walker struct {
	in        Input
	rules     flow.Rules // of the plan
	bodies    bool       // what steps leave is kept for expressions, or for people
	memory    *message.Memory
	watch     *expr.Watch
	awaited   bool // a caller waits for an answer
	patient   bool // also behind a delivery
	result    *Result
	reason    string // of the last end
	waits     string // why a stand-in delivery waits
	reach     string // the split to come to, or ""
	reached   *Reached
	shown     int       // bytes of bodies in the trace
	split     *inline   // around the step, in a rehearsal
	splits    []*inline // of the message itself
	delivered bool      // the message itself, besides its parts
	part      int
	soft      int       // ways of scatters around the step
	later     *progress // how it ended after it had waited
	groups    int       // that went on here
	follows   int       // blocks around the step with other steps behind it
	last      int       // deliveries behind which no step comes
	suffix    string    // of paths: which group of a rehearsal goes on here
}

func (w *walker) block(b *step.Block, prefix string, st *step.State) progress {
	for i, s := range b.Steps {
		if s.Off {
			continue
		}
		behind := 0
		if slices.ContainsFunc(b.Steps[i+1:], func(s *step.Compiled) bool { return !s.Off }) {
			behind = 1
		}
		w.follows += behind
		p := w.step(s, prefix+s.ID, st)
		w.follows -= behind
		if p != done {
			return p
		}
	}
	return done
}

func (w *walker) step(s *step.Compiled, path string, st *step.State) progress {
	call := &step.Call{State: *st, Path: path, Now: w.in.Message.ReceivedAt, Trace: w.in.Trace, Memory: w.memory,
		Watch: w.watch}
	if s.Looks {
		call.Rows = w.rowsFor(path)
	}
	entry := Entry{Path: path, Step: s.ID, Kind: s.Kind, Reads: s.Reads}
	before := *st
	began := w.clock()
	w.needs(s, st, true)
	if s.When != nil {
		holds, known, err := w.holds(s, call)
		if !known {
			return w.unknown(entry, st, began)
		}
		w.heard(s)
		if err != nil {
			f := &step.Failure{Phase: "when", Class: step.Data, Reason: err.Error()}
			if s.Else != nil {
				return w.caught(s, call, entry, before, st, f, began)
			}
			return w.failed(entry, before, st, f, began)
		}
		if !holds {
			entry.Outcome = "skipped"
			w.trace(entry, before, st, began)
			return done
		}
	}
	w.needs(s, st, false)
	if e, ok := w.in.Effects[path]; ok {
		w.sent(s, *call)
		call.Effect = &e
	}
	res, known, err := w.run(s, call)
	w.heard(s)
	if known && err == nil && res.Want != nil {
		res, known, err = w.want(s, call, res, &entry)
	}
	if !known {
		return w.unknown(entry, st, began)
	}
	entry.Looked = looked(call)
	if err != nil {
		f := asFailure(err)
		entry.Outcome, entry.Fields = res.Outcome, res.Fields
		if s.Else != nil {
			return w.caught(s, call, entry, before, st, f, began)
		}
		return w.failed(entry, before, st, f, began)
	}
	entry.Outcome, entry.Fields = res.Outcome, res.Fields
	if res.Answer != nil {
		switch {
		case !w.awaited:
			w.result.Notes = append(
				w.result.Notes,
				step.Note{Level: "info", Text: s.ID + ": nobody waits for this answer"},
			)
		case st.Answered && !w.patient:
			w.result.Notes = append(
				w.result.Notes,
				step.Note{
					Level: "info",
					Text:  s.ID + ": nobody waits for this answer any more; the caller was answered before the first delivery",
				},
			)
		case w.result.Answer == nil:
			w.result.Answer = res.Answer
		}
	}
	if res.Note != nil {
		w.result.Notes = append(w.result.Notes, *res.Note)
	}
	if res.Keep != nil && call.Effect == nil {
		w.result.Keep = append(w.result.Keep, Kept{path, *res.Keep})
	}
	if res.Parts != nil {
		switch {
		case w.reach == path:
			w.reached = &Reached{rules: w.rules, step: s, path: path, state: *st, Parts: res.Parts}
			return blocked
		case call.Effect != nil || len(res.Parts.Items) == 0:
		case w.in.Inline:
			w.parts(s, path, *st, res.Parts, entry, before)
			return done
		default:
			res.Want = &want.Spawn{Items: res.Parts.Items, InOrder: res.Parts.InOrder, Stop: res.Parts.Stop}
			w.result.Wants = append(
				w.result.Wants,
				want.Asked{Want: res.Want, Path: path, Step: s.ID, StepKind: s.Kind},
			)
		}
	}
	if res.Want != nil {
		entry.State = Waiting
		w.trace(entry, before, st, began)
		return blocked
	}
	if res.End != nil {
		entry.State = TurnedAway
		w.reason, w.result.Where = res.End.Reason, s.ID
		w.trace(entry, before, st, began)
		return turnedAway
	}
	if res.Scatter != nil {
		return w.scatter(s, path, st, call, res.Scatter, entry, before, began)
	}
	if res.Joined {
		w.trace(entry, before, st, began)
		if w.in.Groups != nil {
			w.in.Groups.settle()
		}
		return joined
	}
	*st = res.State
	w.past(st, s.ID)
	if s.Kind == "deliver" {
		entry.State = Delivered
		w.delivered = w.delivered || w.split == nil
	}
	for _, i := range res.Ways {
		entry.Ways = append(entry.Ways, s.Ways[i].Name)
		if w.in.Ways {
			w.result.Ways = append(w.result.Ways, path+"."+s.Ways[i].Name)
		}
	}
	w.trace(entry, before, st, began)
	return w.ways(s, path, res.Ways, st)
}

// past keeps the body as it stands behind a step.
func (w *walker) past(st *step.State, id string) {
	if !w.bodies || st.Message.Body == nil || id == "" {
		return
	}
	if st.Bodies == nil {
		st.Bodies = message.NewMap()
	}
	st.Bodies = st.Bodies.With(id, st.Message.Body)
}

// want asks the stand-in, or records that the step waits for the world.
func (w *walker) want(s *step.Compiled, call *step.Call, res step.Result, entry *Entry) (_ step.Result, known bool,
	_ error) {
	asked := want.Asked{Want: res.Want, Path: call.Path, Step: s.ID, StepKind: s.Kind}
	if g := w.in.Groups; g != nil {
		if meet := g.meet[asked.Kind()]; meet != nil {
			res, err := meet(w, s, call, res, asked)
			return res, true, err
		}
	}
	asked.Path += w.suffix
	asked.Soft = w.soft > 0 || s.Else != nil
	w.result.Wants = append(w.result.Wants, asked)
	if _, sends := asked.Want.(*want.Send); sends && w.follows == 0 && !asked.Soft && s.Kind == "deliver" {
		w.last++
	}
	if w.in.StandIn == nil {
		return res, true, nil
	}
	reply, ok := w.in.StandIn(asked)
	switch {
	case !ok:
		return res, true, nil
	case reply.Fail != nil:
		w.result.Wants = w.result.Wants[:len(w.result.Wants)-1]
		return step.Result{Outcome: short(reply.Fail.Reason)}, true, reply.Fail
	case reply.Wait != "":
		w.waits = reply.Wait
		res.Outcome = reply.Wait
		return res, true, nil
	}
	w.result.Wants = w.result.Wants[:len(w.result.Wants)-1]
	call.Effect = &reply.Effect
	return w.run(s, call)
}

// asFailure gives any error of a step as a failure.
func asFailure(err error) *step.Failure {
	var f *step.Failure
	if !errors.As(err, &f) {
		f = &step.Failure{Phase: "run", Class: step.Flow, Reason: err.Error()}
	}
	return f
}

// sent tells what a step handed over whose effect is known.
func (w *walker) sent(s *step.Compiled, call step.Call) {
	if w.in.Sent == nil {
		return
	}
	if res, err := s.Runner.Run(&call); err == nil && res.Want != nil {
		w.in.Sent(want.Asked{Want: res.Want, Path: call.Path, Step: s.ID, StepKind: s.Kind})
	}
}

func (w *walker) failed(e Entry, before step.State, st *step.State, f *step.Failure, began time.Duration) progress {
	f.Path, f.Step, f.Kind = e.Path, e.Step, e.Kind
	w.result.Failures = append(w.result.Failures, *f)
	e.State = DeadLetter
	e.Error = &f.Reason
	if e.Outcome == "" || f.Phase == "when" {
		e.Outcome = short(f.Reason)
	}
	w.trace(e, before, st, began)
	return blocked
}
