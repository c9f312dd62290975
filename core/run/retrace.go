package run

import (
	"bytes"
	"encoding/json"
	"slices"

	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/core/want"
)

// Past is what a message that was worked on has met, it and its parts, by path.
type Past struct {
	Effects map[string]want.Effect // what its wants came to
	Died    map[string]string      // why a delivery was given up
}

// Retraced is a message over what it met: as it went, and as it would go.
type Retraced struct {
	Was, Is Rehearsal
	Called  bool          // what it comes to goes to the flow that called
	Body    *message.Node // of the message as the draft reads it; nil where it does not
	was, is []heard       // what each of them asked of the world
}

// heard is a want with what tables as they are now answer it, where it looks into them.
type heard struct {
	want.Asked
	now *StandInReply
}

// Retrace walks a message that has come under one plan through another one, over what it
// met. Both walks are told the same of the world: what stands in the past counts wherever
// a plan asks the same of the same, so that whatever differs comes from the plans alone.
// A question that was never asked has no answer, and a walk that needs one ends there
// (Rehearsal.Unknown).
//
// A message is retraced by itself. Where it joins others it ends, as what follows is theirs;
// the group that came of them is a message of its own here as in the journal.
func Retrace(was, is *plan.Plan, in Envelope, opt Options, past Past) Retraced {
	then := &retracing{past: past, first: true}
	out := Retraced{Was: then.walk(was, in, opt), Called: is.Document.Intake.Kind == "subflow"}
	now := &retracing{past: past, asked: then.heard, paths: make(map[string]int, len(then.heard))}
	for i := range then.heard {
		now.paths[then.heard[i].Path] = i
	}
	out.Is = now.walk(is, in, opt)
	out.was, out.is, out.Body = then.heard, now.heard, now.body
	return out
}

// retracing is one walk of a message over its past.
type retracing struct {
	past  Past
	first bool           // it is the walk that the past is of
	asked []heard        // by that one
	paths map[string]int // where in asked
	heard []heard
	body  *message.Node
}

func (r *retracing) walk(p *plan.Plan, in Envelope, opt Options) Rehearsal {
	opt.Known, opt.Live, opt.Strict, opt.heard = nil, false, true, r.hear
	v := newVirtual()
	v.tables = &table.Scratch{Under: p.Tables(opt.Tables)}
	w := rehearse(p, in, opt, nil, v)
	r.body = w.input.Message.Body
	return w.finish()
}

// hear gives what the past says of a want. now is what a rehearsal takes for its answer
// where it has one of its own, else nil.
func (r *retracing) hear(asked want.Asked, now *StandInReply) (StandInReply, bool) {
	one := heard{asked, now}
	r.heard = append(r.heard, one)
	path, same := asked.Path, true
	if !r.first {
		path, same = r.before(&one)
	}
	if !same {
		return StandInReply{}, false
	}
	if e, ok := r.past.Effects[path]; ok {
		return StandInReply{Effect: e}, true
	}
	if why, ok := r.past.Died[path]; ok {
		return StandInReply{Fail: &step.Failure{Phase: "delivery", Class: step.Target, Reason: why}}, true
	}
	return StandInReply{}, false
}

// before finds the path at which the same was asked in the past: the want's own, or else
// that of the same step, which may stand elsewhere now.
func (r *retracing) before(asked *heard) (string, bool) {
	if i, known := r.paths[asked.Path]; known && r.asked[i].same(asked) {
		return asked.Path, true // as nearly always, also of the thousandth part of a split
	}
	for i := range r.asked {
		if a := &r.asked[i]; a.Step == asked.Step && a.same(asked) {
			return a.Path, true
		}
	}
	return "", false
}

// same tells whether the world would answer two wants the same. Those that look into tables
// are the same where the tables, as they are now, give both the same.
func (h *heard) same(o *heard) bool {
	switch h.Kind() {
	case want.KindLook, want.KindRows, want.KindPair:
		if o.Kind() != h.Kind() || h.now == nil || o.now == nil || (h.now.Fail == nil) != (o.now.Fail == nil) {
			return false
		}
		if h.now.Fail != nil {
			return h.now.Fail.Reason == o.now.Fail.Reason
		}
		a, b := h.now.Effect.Looked, o.now.Effect.Looked
		return slices.EqualFunc(a, b, func(x, y want.Looked) bool {
			return x.Table == y.Table && x.Key == y.Key && x.Asked == y.Asked && bytes.Equal(x.Row, y.Row)
		})
	}
	return sameWant(h.Want, o.Want)
}

// sameWant is same of two wants that say themselves what they want. A delivery is the same
// where it goes to the same; of a question all that it says counts.
func sameWant(a, b want.Want) bool {
	if a.Kind() != b.Kind() {
		return false
	}
	switch x := a.(type) {
	case *want.Send:
		y := b.(*want.Send)
		return x.System == y.System && x.Connection == y.Connection && (!x.Ask && !y.Ask || sameRequest(x.Request, y.Request))
	case *want.Put:
		return x.Queue == b.(*want.Put).Queue
	case *want.Publish:
		return x.Topic == b.(*want.Publish).Topic
	case *want.Question:
		return x.Queue == b.(*want.Question).Queue && sameRequest(x.Request, b.(*want.Question).Request)
	case *want.Call:
		return x.Flow == b.(*want.Call).Flow && (!x.Wait || sameRequest(x.Request, b.(*want.Call).Request))
	case *want.Join:
		y := b.(*want.Join)
		return x.Key == y.Key && (x.Unique == nil) == (y.Unique == nil) && (x.Unique == nil || *x.Unique == *y.Unique)
	case *want.Turn:
		y := b.(*want.Turn)
		return x.Key == y.Key && x.Number == y.Number && x.Order.PassLate == y.Order.PassLate
	case *want.Once:
		return x.Key == b.(*want.Once).Key && x.For == b.(*want.Once).For
	case *want.Hold:
		y := b.(*want.Hold)
		return x.For == y.For && x.Until.Equal(y.Until) && x.Table == y.Table && x.Late == y.Late
	case *want.Pace:
		return x.Key == b.(*want.Pace).Key && *x.Pace == *b.(*want.Pace).Pace
	case *want.Limit:
		return x.Within == b.(*want.Limit).Within
	}
	return false
}

func sameRequest(a, b *want.Request) bool {
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return bytes.Equal(x, y) && bytes.Equal(a.Body, b.Body)
}
