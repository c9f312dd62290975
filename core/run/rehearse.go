package run

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/core/want"
)

// Rehearsal is a walk with every outside effect answered by a stand-in, as
// people and programs read it.
type Rehearsal struct {
	State      string         `json:"state"`
	Reason     *string        `json:"reason"`
	Answer     *ShownAnswer   `json:"answer"` // null where nobody waits for one
	Intake     ShownIntake    `json:"intake"`
	Trace      []Entry        `json:"trace"`
	Deliveries []Delivery     `json:"deliveries"`
	Notes      []step.Note    `json:"notes"`
	Findings   []flow.Finding `json:"findings"`
	// Unknown are the answers of outside systems that a strict rehearsal would have to
	// know to go on, and was not given.
	Unknown []Unknown                   `json:"unknown,omitempty"`
	Needs   map[Need]*expr.MissingError `json:"-"` // of a Result
	final   *message.Message            // of a Result
}

// Unknown is an answer that a strict rehearsal does not know.
type Unknown struct {
	Path   string `json:"path"`
	Step   string `json:"step"`
	Kind   string `json:"kind"`
	Target string `json:"target"`
}

// Options of a rehearsal.
type Options struct {
	// Replies are stand-in answers, by step id or by path; the path counts
	// first. A delivery without one is taken as answered 200 with no body.
	Replies  map[string]want.Effect
	NoBodies bool
	Clock    func() time.Duration
	// Strict takes no answer for given that is not among Replies: where one is needed,
	// the rehearsal stops and says so, because a guess would not be what happens.
	Strict bool
	// Known are effects that have happened already; they are not asked again.
	Known map[string]want.Effect
	// Origin is where a part begins; nil for a whole message.
	Origin *Origin
	// Resume is where a group goes on; nil for anything else.
	Resume *Resume
	// Letter is about the dead letter whose steps run; nil for anything else.
	Letter *message.Node
	// LetterMessage is the message that it is about.
	LetterMessage *message.Message
	// Live leaves wants without a known effect open: nothing stands in, and
	// what was handed over before is shown, too.
	Live bool
	// Tables are those of the application; nil for none. Several messages share
	// what they write into them; nothing of it leaves the rehearsal.
	Tables table.Tables
	// Asked hears of each want as it comes, before it is answered; nil for nobody.
	Asked func(asked want.Asked)
	// heard gives what a want is known to come to; now is what stands in for it in the
	// tables, or nil. nil: nothing is known.
	heard func(asked want.Asked, now *StandInReply) (StandInReply, bool)
}

// Rehearse runs a message through a plan without any effect.
func Rehearse(p *plan.Plan, in Envelope, opt Options) Rehearsal {
	return RehearseAll(p, []Envelope{in}, []Options{opt})[0]
}

// RehearseAll runs several messages, one after the other: they meet where a
// step gathers messages, and the one that closes a group shows what the group
// does. Behind the last of them time passes until nothing waits for it.
func RehearseAll(p *plan.Plan, in []Envelope, opt []Options) []Rehearsal {
	groups := NewGroups(p)
	v := newVirtual()
	if len(opt) > 0 {
		v.tables = &table.Scratch{Under: p.Tables(opt[0].Tables)}
	}
	all := make([]*rehearsing, len(in))
	for i := range in {
		all[i] = rehearse(p, in[i], opt[i], groups, v)
	}
	groups.end()
	out := make([]Rehearsal, len(in))
	for i, r := range all {
		out[i] = r.finish()
	}
	return out
}

// rehearsing is a rehearsal that others may still add to.
type rehearsing struct {
	out     Rehearsal
	w       *walker // nil where the intake did not take the message
	end     progress
	id      string
	awaited bool
	alone   bool // the steps for its dead letters are messages of their own
	p       *plan.Plan
	input   Input
}

func rehearse(p *plan.Plan, in Envelope, opt Options, groups *Groups, v *virtual) *rehearsing {
	r := &rehearsing{id: in.ID, awaited: p.Document.Intake.Awaited, alone: opt.heard != nil}
	out := &r.out
	*out = Rehearsal{Trace: []Entry{}, Deliveries: []Delivery{}, Notes: []step.Note{}, Findings: []flow.Finding{}}
	received, err := arrive(p, in, &opt)
	if err != nil {
		var refused *RefusedError
		errors.As(err, &refused)
		out.State, out.Reason = TurnedAway, &refused.Detail
		out.Intake = ShownIntake{Outcome: refused.Title, Warnings: []string{}}
		if r.awaited {
			out.Answer = ShowAnswer(Faulted(p.Document.Intake.Faults, RefusalAnswer(refused)))
		} else {
			out.State = DeadLetter
		}
		return r
	}
	out.Intake = ShownIntake{
		Outcome:   "accepted",
		Reference: received.Reference,
		Once:      received.Once,
		Order:     received.Order,
		Warnings:  append([]string{}, received.Warnings...),
	}
	switch {
	case opt.Origin != nil:
		r.awaited = false
		out.Intake.Outcome = fmt.Sprintf("part %d of %d", opt.Origin.State.Part.Index+1, opt.Origin.Count)
	case opt.Letter != nil:
		r.awaited = false
		out.Intake.Outcome = "steps for a dead letter"
	case opt.Resume != nil:
		r.awaited = false
		out.Intake.Outcome = fmt.Sprintf(
			"group of %s, %s",
			counted(len(opt.Resume.Group.Items), "member"),
			opt.Resume.Group.Why,
		)
	}
	if !opt.NoBodies {
		out.Intake.Body = show(&received.Message)
	}
	shown := 0
	show := func(asked want.Asked) {
		handed, ok := asked.Want.(want.Handed)
		if !ok {
			return // it stays inside
		}
		d := ShowDelivery(in.ID, asked.Path, asked.Step, handed)
		if _, _, r := handed.Handed(); len(r.Body) > 0 {
			shown += len(r.Body)
		}
		if shown > shownBytes {
			d.Request.Text, d.Request.Base64, d.Request.Lines = nil, nil, nil
		}
		out.Deliveries = append(out.Deliveries, d)
	}
	input := Input{
		Message: received.Message, Origin: opt.Origin, Resume: opt.Resume, Letter: opt.Letter, Inline: !opt.Live,
		Effects: opt.Known, Trace: true, NoBodies: opt.NoBodies, Clock: opt.Clock,
		StandIn: func(asked want.Asked) (StandInReply, bool) {
			show(asked)
			if opt.Asked != nil {
				opt.Asked(asked)
			}
			if opt.Live {
				return StandInReply{}, false
			}
			var now *StandInReply
			if pretend := v.pretend[asked.Kind()]; pretend != nil {
				r := pretend(asked, received.Message.ReceivedAt, opt.Replies)
				now = &r
			}
			if opt.heard != nil {
				if known, ok := opt.heard(asked, now); ok {
					return known, true
				}
			}
			if now != nil {
				return *now, true
			}
			if opt.Strict && needed(p, asked) {
				if _, given := replied(asked, opt.Replies); !given {
					to, target := "", ""
					if h, ok := asked.Want.(want.Handed); ok {
						to, target, _ = h.Handed()
					}
					out.Unknown = append(out.Unknown, Unknown{asked.Path, asked.Step, to, target})
					why := "its answer is not known; say what it answers to see what follows"
					if opt.heard != nil {
						why = "its answer is not known" // and nobody can say it here
					}
					return StandInReply{Wait: why}, true
				}
			}
			return standIn(asked, opt.Replies), true
		},
	}
	if opt.Live {
		input.Sent = show
	} else {
		input.Groups = groups
	}
	r.p, r.input = p, input
	r.w = newWalker(p, input)
	r.end = r.w.begin(p)
	if groups != nil {
		groups.settleAll()
	}
	return r
}

// finish says how it ended, when all that may come of it has come.
func (r *rehearsing) finish() Rehearsal {
	if r.w == nil {
		return r.out
	}
	if r.w.later != nil {
		r.end = *r.w.later
	}
	w := r.w.ended(r.end)
	r.out.State = w.State
	if w.Reason != "" {
		r.out.Reason = &w.Reason
	}
	r.out.Trace = append(r.out.Trace, w.Trace...)
	r.out.Notes = append(r.out.Notes, w.Notes...)
	r.out.Findings = append(r.out.Findings, w.Findings...)
	r.out.Needs, r.out.final = w.Needs, w.Final
	if r.input.Inline && r.input.Letter == nil && r.p.OnDead != nil && !r.alone {
		r.tellDeaths(w.Failures)
	}
	if r.awaited {
		answer := w.Answer
		switch {
		case answer != nil:
		case r.p.Document.Intake.Finished && w.State != Waiting:
			answer = FinishedAnswer(r.id, w.State, w.Reason)
		default:
			answer = StoredAnswer(r.id)
		}
		r.out.Answer = ShowAnswer(Faulted(r.p.Document.Intake.Faults, answer))
	} else if w.Answer != nil {
		r.out.Answer = ShowAnswer(w.Answer)
	}
	return r.out
}

// arrive takes a message in; a part or a group comes from inside.
func arrive(p *plan.Plan, in Envelope, opt *Options) (Received, error) {
	switch {
	case opt.Origin != nil:
		m := message.Message{Format: "json", Body: opt.Origin.State.Part.Value}
		return Received{Message: m, Reference: in.Reference}, nil
	case opt.Letter != nil:
		return Received{Message: *opt.LetterMessage, Reference: in.Reference}, nil
	case opt.Resume != nil:
		return Received{Message: opt.Resume.Message, Reference: in.Reference}, nil
	}
	return Receive(p, in)
}

// needed tells whether what follows a want depends on its answer: a question's does,
// and that of a delivery where some expression looks at it.
func needed(p *plan.Plan, asked want.Asked) bool {
	switch w := asked.Want.(type) {
	case *want.Send:
		return w.Ask || mentions(p.Document.Source.Root, asked.Step)
	case *want.Call:
		return w.Wait
	case *want.Question:
		return true
	}
	return false
}

// mentions tells whether a document holds an expression over the reply of a step.
func mentions(n *message.Node, id string) bool {
	if n.Kind == message.String {
		return strings.Contains(n.Text, "replies."+id) || strings.Contains(n.Text, "replies.?"+id) ||
			strings.Contains(n.Text, "replies[") || strings.Contains(n.Text, "replies)")
	}
	for _, item := range n.Items {
		if mentions(item, id) {
			return true
		}
	}
	for i := range n.Members {
		if mentions(n.Members[i].Value, id) {
			return true
		}
	}
	return false
}

// standIn judges a stand-in answer by the retry plan, as the engine would a real one.
func standIn(asked want.Asked, replies map[string]want.Effect) StandInReply {
	send, outside := asked.Want.(*want.Send)
	e, ok := replied(asked, replies)
	if !ok {
		if e = (want.Effect{Status: 200}); outside && send.Request.Query != nil {
			e.Body = []byte("[{}]")
		}
	}
	if !outside {
		return StandInReply{Effect: e}
	}
	if e.Status == 0 {
		e.Status = 200
	}
	rules := retry.Default()
	if send.Retry != nil {
		rules = *send.Retry
	}
	switch rules.Classify(e.Status) {
	case retry.Again:
		return StandInReply{Wait: fmt.Sprintf("%d, tries again", e.Status)}
	case retry.Never:
		return StandInReply{
			Fail: &step.Failure{
				Phase:  "delivery",
				Class:  step.Target,
				Reason: fmt.Sprintf("%s answered %d, and no other try would help", send.Connection, e.Status),
			},
		}
	}
	return StandInReply{Effect: e}
}

// replied is the sample's stand-in answer to a want, by its path or else by its step.
func replied(asked want.Asked, replies map[string]want.Effect) (want.Effect, bool) {
	e, ok := replies[asked.Path]
	if !ok {
		e, ok = replies[asked.Step]
	}
	return e, ok
}
