package journal

import (
	"encoding/json"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/store"
)

// patient tells that a caller waits until the transaction is finished.
func (w *Writing) patient() bool {
	t := w.T
	if t.Parent != nil || t.OfLetter != nil || t.CallerWaits || t.FromGroup {
		return false
	}
	p := w.Plan()
	return p != nil && p.Document.Intake.Finished
}

// fromAfar tells of a transaction that a flow of another application has called.
func (w *Writing) fromAfar() bool {
	t := w.T
	if t.Parent != nil || t.OfLetter != nil || t.Caller != nil || t.FromGroup {
		return false
	}
	p := w.Plan()
	return p != nil && p.Document.Intake.Kind == "subflow"
}

// answer lets whoever waits hear what a step says, once.
func (w *Writing) answer(a *step.Answer, b []byte) error {
	if w.fromAfar() {
		w.Notice.Answers[w.T.ID] = a
		return nil
	}
	if w.T.CallerWaits {
		w.told = true
		return w.handTo(*w.T.Caller, w.Move.heard)
	}
	if !w.patient() {
		return nil
	}
	first, err := w.Tx.AnswerOnce(w.T.ID, b)
	if err == nil && first {
		w.Notice.Answers[w.T.ID] = a
	}
	return err
}

// ended lets whoever waits hear of the end of a transaction that no step answers.
// What a flow came to that was called is known from its walk; without one it is
// walked once more behind the commit.
func (w *Writing) ended(res *run.Result) error {
	t := w.T
	if t.State < store.Delivered {
		return nil
	}
	if t.State != store.DeadLetter {
		untold, err := w.tellRepeats(res != nil && w.Move != nil)
		if err != nil {
			return err
		}
		if untold {
			w.Wake()
			return nil
		}
	}
	if t.CallerWaits {
		return w.endedFor(res)
	}
	if w.fromAfar() { // who called looks at what it came to
		w.Notice.Answers[t.ID] = nil
		return nil
	}
	if !w.patient() {
		return nil
	}
	a := run.FinishedAnswer(t.ID.String(), t.State.String(), t.Reason)
	if p := w.Plan(); t.State == store.DeadLetter && p.Rules >= flow.Rules2 {
		// Who waits hears of it. It is not the answer that a repeat gets: a person may mend
		// the message yet.
		w.Notice.Answers[t.ID] = a
		return nil
	}
	b, err := json.Marshal(a)
	if err != nil {
		return err
	}
	return w.answer(a, b)
}

// endedFor lets the flow hear that has called this one.
func (w *Writing) endedFor(res *run.Result) error {
	t := w.T
	switch {
	case t.State == store.DeadLetter || w.told:
		return nil // a person may mend it while its caller waits
	case res == nil:
		w.Wake()
		return nil
	}
	if t.State == store.TurnedAway && res.Answer == nil {
		away, err := Prepare(t.CallerPath, w.away())
		if err != nil {
			return err
		}
		return w.handTo(*t.Caller, away)
	}
	return w.handTo(*t.Caller, w.Move.heard)
}

// final is what a flow comes to that another one has called and no step answers:
// its message at the end.
func final(id store.ID, res *run.Result) want.Effect {
	e := want.Effect{Item: id.String(), Status: 200, Body: jsonfmt.Encode(message.NewNull())}
	if res.Final != nil {
		e.Headers, e.Body = []message.Header{
			{Name: "Content-Type", Value: step.ContentType(res.Final)},
		}, step.Bytes(
			res.Final,
		)
	}
	return e
}

// Heard gives what a flow that has called this one hears of its end: the answer of a
// step, or the message as it is behind the last one.
func (v *Move) Heard() *want.Effect {
	res := run.Walk(v.Plan, v.input)
	switch a := res.Answer; {
	case a != nil:
		return &want.Effect{Item: v.Tx.ID.String(), Status: a.Status, Headers: a.Headers, Body: a.Body}
	case v.Tx.State == store.TurnedAway:
		w := &Writing{T: &v.Tx}
		away := w.away()
		return &away
	}
	e := final(v.Tx.ID, res)
	return &e
}

// handTo ends the wait of another transaction, if it still waits there: what
// comes too late stands in its own transaction alone.
func (w *Writing) handTo(id store.ID, effect store.Effect) error {
	stands, err := w.Tx.HasLimit(id, effect.Path)
	if err != nil || !stands {
		return err
	}
	other, err := w.Open(w.Tx, w.Notice, id)
	if err != nil {
		return err
	}
	return other.GoesOn(&store.TimeLimit{Tx: id, Path: effect.Path, Waits: true}, effect)
}

// GoesOn ends a wait of a transaction; behind the commit it is walked on.
func (w *Writing) GoesOn(l *store.TimeLimit, effect store.Effect) error {
	if err := w.WaitsNot(l); err != nil {
		return err
	}
	return w.Hears(effect)
}

// Hears records what a transaction's want came to; behind the commit it is
// walked on.
func (w *Writing) Hears(effect store.Effect) error {
	if err := w.record(effect); err != nil {
		return err
	}
	w.Wake()
	w.Notice.Events[EventTransactions] = true
	return w.Tx.SaveTransaction(w.T, w.T.State)
}
