package perform

import (
	"encoding/json"
	"fmt"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
)

// correlated gives headers with those by which a reply finds its question.
func correlated(headers []message.Header, id, replyTo string) []message.Header {
	set := []message.Header{
		{Name: journal.CorrelationHeader, Value: id}, {Name: journal.ReplyToHeader, Value: replyTo},
	}
	for _, h := range headers {
		if !strings.EqualFold(h.Name, journal.CorrelationHeader) && !strings.EqualFold(h.Name, journal.ReplyToHeader) {
			set = append(set, h)
		}
	}
	return set
}

// call lets another flow take the message. Its transaction is stored with the
// step and walked behind the commit; when this one waits, it hears of the end.
type call struct{ *Performers }

// called is the transaction of the other flow, as it was received.
type called struct {
	*journal.Arrived
	first *store.ID // the one that it repeats, or nil
	key   *store.OnceKey
}

// Foresee implements journal.Performer.
func (p call) Foresee(v *journal.Move, asked want.Asked) (journal.Outcome, error) {
	c := asked.Want.(*want.Call)
	fails := func(class step.Class, reason string, args ...any) (journal.Outcome, error) {
		return journal.Outcome{
			Failure: &step.Failure{Phase: "flow", Class: class, Reason: fmt.Sprintf(reason, args...)},
		}, nil
	}
	f := p.Catalog.Flow(c.Flow)
	switch {
	case f == nil || f.Live == nil:
		return fails(step.Flow, "there is no published flow %q", c.Flow)
	case f.Paused:
		return fails(step.Target, "the flow %s is paused", c.Flow)
	case v.Tx.Depth+1 > step.MaxDepth:
		return fails(
			step.Flow,
			"%d flows have called each other in a row, which is the limit; %s would be one more",
			step.MaxDepth,
			c.Flow,
		)
	}
	headers, err := json.Marshal(c.Request.Headers)
	if err != nil {
		return journal.Outcome{}, err
	}
	in, plan, err := p.ReceiveShared(
		f,
		journal.Arrival{Headers: headers, Body: c.Request.Body, Reference: v.Tx.Reference, Source: "flow " + v.Tx.Flow},
	)
	if err != nil {
		return journal.Outcome{}, err
	}
	if in.Refused != nil {
		return fails(step.Data, "the flow %s does not take it: %v", c.Flow, in.Refused)
	}
	root := v.Tx.Root()
	in.Tx.Journey = &root
	in.Tx.Caller, in.Tx.CallerPath, in.Tx.CallerWaits, in.Tx.Depth = &v.Tx.ID, asked.Path, c.Wait, v.Tx.Depth+1
	began := &called{Arrived: in}
	if began.key = in.OnceKey(plan, v.Session.At); began.key != nil {
		if began.first, err = v.Session.FirstOf(began.key); err != nil {
			return journal.Outcome{}, err
		}
	}
	o := journal.Outcome{Data: began}
	switch {
	case began.first != nil && c.Wait && plan.Rules >= flow.Rules2:
		// It gets the first one's answer, now or when that has ended.
		if o.Effect, err = p.endOf(v.Session, *began.first); err != nil {
			return journal.Outcome{}, err
		}
	case began.first != nil && c.Wait:
		o.Failure = &step.Failure{
			Phase:  "flow",
			Class:  step.Data,
			Reason: fmt.Sprintf("the flow %s turned the message away: duplicate of %s", c.Flow, began.first),
		}
	case !c.Wait:
		o.Effect = &want.Effect{Item: in.Tx.ID.String()}
	}
	return o, nil
}

// endOf gives what a flow that was called has come to, as its caller hears it; nil
// while it has not ended.
func (p call) endOf(s *journal.Session, id store.ID) (*want.Effect, error) {
	t, err := p.Store.Transaction(id)
	if err != nil || t.State != store.Delivered && t.State != store.TurnedAway {
		return nil, err
	}
	v, err := s.Read(id)
	if err != nil {
		return nil, err
	}
	return v.Heard(), nil
}

// Perform implements journal.Performer.
func (p call) Perform(w *journal.Writing, asked want.Asked, foreseen journal.Outcome) (journal.Outcome, error) {
	began, ok := foreseen.Data.(*called)
	if !ok {
		return foreseen, nil // it does not begin
	}
	c, t := asked.Want.(*want.Call), began.Tx
	if began.key != nil {
		had, fresh, err := w.Tx.Once(began.key, w.Now())
		if err != nil {
			return foreseen, err
		}
		if fresh != (began.first == nil) || !fresh && had != *began.first {
			return foreseen, journal.ErrStale
		}
	}
	if began.first != nil && c.Wait && foreseen.Effect == nil && foreseen.Failure == nil {
		first, err := w.Tx.Transaction(*began.first)
		if err != nil {
			return foreseen, err
		}
		if first.State == store.Delivered || first.State == store.TurnedAway {
			return foreseen, journal.ErrStale // it has ended just now
		}
		if err := w.WaitsAt(asked.Path, w.Now().Add(c.Within), "", "waits for the flow "+c.Flow, false); err != nil {
			return foreseen, err
		}
	}
	if began.first != nil {
		now := w.Now()
		t.State, t.FinishedAt = store.TurnedAway, &now
		t.DuplicateOf, t.Reason = began.first, "duplicate of "+began.first.String()
		w.Notice.Events[journal.EventTransactions] = true
		return foreseen, w.Tx.AddTransaction(&t, began.Message)
	}
	if err := w.Begin(&t, began.Message); err != nil || !c.Wait {
		return foreseen, err
	}
	return foreseen, w.WaitsAt(asked.Path, w.Now().Add(c.Within), "", "waits for the flow "+c.Flow, false)
}
