package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// expect lets a caller hear the answer of a transaction that is finished, or is
// answered by a step. forget must be called.
func (e *Engine) expect(id store.ID) (heard <-chan *step.Answer, forget func()) {
	ch := make(chan *step.Answer, 1)
	e.mu.Lock()
	e.expected[id] = append(e.expected[id], ch)
	e.mu.Unlock()
	return ch, func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		list := e.expected[id]
		for i, c := range list {
			if c == ch {
				list = append(list[:i:i], list[i+1:]...)
				break
			}
		}
		if e.expected[id] = list; len(list) == 0 {
			delete(e.expected, id)
		}
	}
}

// tellCallers hands an answer to those who wait for it.
func (e *Engine) tellCallers(id store.ID, a *step.Answer) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, ch := range e.expected[id] {
		select {
		case ch <- a:
		default: // it has heard
		}
	}
}

// finished waits for the answer of a transaction. When that takes too long the
// caller is told what it would have been told at once, and the answer is kept.
func (e *Engine) finished(ctx context.Context, id store.ID, heard <-chan *step.Answer, wait time.Duration) (*step.Answer, error) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case a := <-heard:
		return a, nil
	case <-timer.C:
		return run.StoredAnswer(id.String()), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-e.ctx.Done():
		return nil, &run.RefusedError{Status: 503, Title: "The application stops", Detail: fmt.Sprintf("the message is stored as transaction %s and goes on after the next start", id)}
	}
}

// patient tells that a caller waits until the transaction is finished.
func (w *walking) patient() bool {
	return w.p != nil && w.p.Document.Intake.Finished && w.t.Parent == nil && w.t.OfLetter == nil && !w.t.CallerWaits && !w.t.FromGroup
}

// answer lets whoever waits hear what a step says, once.
func (w *walking) answer(a *step.Answer) error {
	if w.patient() {
		b, err := json.Marshal(a)
		if err != nil {
			return err
		}
		first, err := w.tx.AnswerOnce(w.t.ID, b)
		if err != nil {
			return err
		}
		if first {
			w.after.answers[w.t.ID] = a
		}
	}
	if w.t.CallerWaits && !w.quiet {
		return w.e.answerCaller(w.tx, w.t, step.Effect{Item: w.t.ID.String(), Status: a.Status, Headers: a.Headers, Body: a.Body}, w.after)
	}
	return nil
}

// ended lets whoever waits hear of the end of a transaction that no step answers.
func (w *walking) ended() error {
	t := w.t
	if t.State < store.Delivered || !w.patient() && (!t.CallerWaits || w.quiet) {
		return nil
	}
	if t.State == store.DeadLetter && t.CallerWaits {
		return nil // a person may mend it while its caller waits
	}
	if w.patient() {
		return w.answer(run.FinishedAnswer(t.ID.String(), t.State.String(), t.Reason))
	}
	again, err := w.e.load(w.tx, t.ID, w.after)
	if err != nil {
		return err
	}
	effect := calledEffect(t, run.Walk(again.p, again.input))
	if effect == nil {
		return nil
	}
	return w.e.answerCaller(w.tx, t, *effect, w.after)
}

// calledEffect is what a flow came to that another one has called; nil while it
// goes on.
func calledEffect(t *store.Transaction, res *run.Result) *step.Effect {
	e := &step.Effect{Item: t.ID.String()}
	switch {
	case res.Answer != nil:
		e.Status, e.Headers, e.Body = res.Answer.Status, res.Answer.Headers, res.Answer.Body
	case t.State == store.TurnedAway:
		e.Failed = fmt.Sprintf("the flow %s turned the message away: %s", t.Flow, t.Reason)
	case t.State == store.Delivered && res.Final != nil:
		e.Status, e.Headers, e.Body = 200, []message.Header{{Name: "Content-Type", Value: step.ContentType(res.Final)}}, step.Bytes(res.Final)
	case t.State == store.Delivered:
		e.Status, e.Body = 200, jsonfmt.Encode(message.NewNull())
	default:
		return nil
	}
	return e
}

// answerCaller takes a flow on that has called another one.
func (e *Engine) answerCaller(tx *store.Tx, t *store.Transaction, effect step.Effect, after *aftermath) error {
	w, err := e.load(tx, *t.Caller, after)
	if err != nil {
		return err
	}
	if _, had := w.input.Effects[t.CallerPath]; had {
		return nil
	}
	l := &store.TimeLimit{Tx: *t.Caller, Path: t.CallerPath}
	if l.Waits, err = tx.HasLimit(*t.Caller, t.CallerPath); err != nil {
		return err
	}
	if !l.Waits {
		return nil // it waits no more: the answer came too late, and stands in its own transaction
	}
	return w.goesOn(l, effect)
}
