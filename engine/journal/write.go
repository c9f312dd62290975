package journal

import (
	"encoding/json"
	"errors"
	"slices"
	"time"

	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/store"
	"readyferry/store/body"
)

// Writing is a transaction inside of the writer: its row as it is now, and what
// is told of it behind the commit. Nothing here computes.
type Writing struct {
	*Journal
	Tx     *store.Tx
	T      *store.Transaction
	Notice *Notice
	Move   *Move // nil where the transaction does not walk, and is settled anew alone

	told bool // its caller has heard
	next []func() error
}

// Open gives a transaction inside of the writer that does not walk.
func (j *Journal) Open(tx *store.Tx, n *Notice, id store.ID) (*Writing, error) {
	t, err := tx.Transaction(id)
	if err != nil {
		return nil, err
	}
	return &Writing{Journal: j, Tx: tx, T: &t, Notice: n}, nil
}

// Plan gives the compiled plan of the transaction's version; nil when it can no
// longer be read.
func (w *Writing) Plan() *plan.Plan {
	if w.Move != nil {
		return w.Move.Plan
	}
	p, err := w.Catalog.Plan(w.T.Flow, w.T.Version)
	if err != nil {
		return nil
	}
	return p
}

// Later adds work for others, to be done once this transaction is settled.
func (w *Writing) Later(do func() error) { w.next = append(w.next, do) }

// perform brings about what was foreseen, and compares.
func (w *Writing) perform(p Performer, asked want.Asked, foreseen Outcome) error {
	o, err := p.Perform(w, asked, foreseen)
	learned, here := w.Move.Session.known.outcomes, place{w.T.ID, asked.Path}
	if errors.Is(err, ErrStale) {
		delete(learned, here) // nothing is known of it but that it must be foreseen anew
	}
	if err != nil {
		return err
	}
	if !o.same(foreseen) {
		learned[here] = o
		return ErrStale
	}
	switch {
	case o.Failure != nil && asked.Soft:
		return w.Record(asked.Path, want.Effect{Failed: o.Failure.Reason})
	case o.Effect != nil:
		return w.Record(asked.Path, *o.Effect)
	}
	return nil
}

// Record writes an effect into the journal. What was read before is stale then.
func (w *Writing) Record(path string, effect want.Effect) error {
	e, err := Prepare(path, effect)
	if err != nil {
		return err
	}
	return w.record(e)
}

// record is Record of an effect that was prepared outside of the writer.
func (w *Writing) record(e store.Effect) error {
	w.T.Revision++
	e.Tx, e.At = w.T.ID, w.Now()
	return w.Tx.AddEffect(&e)
}

// Prepare gives an effect as it is stored, outside of the writer. Whose it is and
// when it came is filled in there.
func Prepare(path string, effect want.Effect) (store.Effect, error) {
	b, err := json.Marshal(effect)
	return store.Effect{Path: path, Result: b, Body: body.Of(effect.Body).Packed()}, err
}

// Forget removes an effect that is to be brought about anew.
func (w *Writing) Forget(path string) error {
	w.T.Revision++
	return w.Tx.ForgetEffect(w.T.ID, path)
}

// Wake lets the transaction be walked behind the commit.
func (w *Writing) Wake() {
	w.T.ToWalk = true
	w.Notice.Woken[w.T.ID] = w.T.Flow
}

// WaitsAt notes that the transaction waits at a step for a time. One that is idle
// lets the reader of its queue take another message meanwhile.
func (w *Writing) WaitsAt(path string, at time.Time, table, text string, idle bool) error {
	w.T.Gathered++
	w.T.OwnWaits++
	w.T.Idle = idle
	w.T.GatherPlace, w.T.GatherText = path, text
	w.Notice.Gather = true
	l := store.TimeLimit{Tx: w.T.ID, Path: path, At: at, Watched: table, Waits: true}
	if table != "" {
		w.Notice.Held = append(w.Notice.Held, l)
	}
	return w.Tx.Limit(&l)
}

// WaitsNot notes that the transaction waits there no more.
func (w *Writing) WaitsNot(l *store.TimeLimit) error {
	if l.Waits {
		w.T.Gathered, w.T.OwnWaits = max(0, w.T.Gathered-1), max(0, w.T.OwnWaits-1)
	}
	return w.Tx.LimitOver(l)
}

// settleWalk stores what the world must do behind a walk, and settles.
func (w *Writing) settleWalk(res *run.Result) error {
	var stored []store.Delivery
	var err error
	if !w.Move.fresh {
		if stored, err = w.Tx.Deliveries(w.T.ID); err != nil {
			return err
		}
	}
	w.T.ToWalk = false
	deliveries, err := w.deliveries(res, stored)
	if err != nil {
		return err
	}
	if err := w.keepLetters(res.Failures, deliveries); err != nil {
		return err
	}
	if res.Answer != nil { // before the end is told, which has an answer of its own
		if err := w.answer(res.Answer, w.Move.answer); err != nil {
			return err
		}
	}
	if err := w.settle(res, deliveries); err != nil {
		return err
	}
	return w.settleOthers()
}

func (w *Writing) settleOthers() error {
	for len(w.next) > 0 {
		do := w.next[0]
		w.next = w.next[1:]
		if err := do(); err != nil {
			return err
		}
	}
	return nil
}

// Settle settles a transaction that has not walked.
func (w *Writing) Settle() error {
	rows, err := w.Tx.Deliveries(w.T.ID)
	if err != nil {
		return err
	}
	all := make([]*store.Delivery, len(rows))
	for i := range rows {
		all[i] = &rows[i]
	}
	if err := w.settle(nil, all); err != nil {
		return err
	}
	return w.settleOthers()
}

// deliveries brings the stored deliveries in line with what the walk wants.
func (w *Writing) deliveries(res *run.Result, stored []store.Delivery) ([]*store.Delivery, error) {
	out := make([]*store.Delivery, 0, len(stored)+1)
	byPath := map[string]*store.Delivery{}
	for i := range stored {
		byPath[stored[i].Path] = &stored[i]
		out = append(out, &stored[i])
	}
	wanted := map[string]bool{}
	for _, asked := range res.Wants {
		send, ok := asked.Want.(*want.Send)
		if !ok {
			continue
		}
		wanted[asked.Path] = true
		d := byPath[asked.Path]
		if d != nil &&
			(d.State <= store.Behind || d.State >= store.Done && d.State <= store.Dead && !w.Move.rearm[asked.Path]) {
			continue
		}
		made, err := w.deliver(d, asked, send, w.Move.sends[asked.Path])
		if err != nil {
			return nil, err
		}
		if d == nil {
			out = append(out, made)
		}
		if made.State == store.Pending {
			one := Ready{ID: made.ID, Flow: made.Flow}
			if out := w.Move.sends[asked.Path]; len(send.Request.Body) <= handedOn && out.body.Filled() {
				one.Rules, one.Request = out.rules, send.Request
			}
			w.Notice.Ready[made.Target] = append(w.Notice.Ready[made.Target], one)
		}
	}
	return out, w.withdraw(out, wanted)
}

// deliver stores a delivery, or lets one that ended (d) begin another round.
func (w *Writing) deliver(d *store.Delivery, asked want.Asked, send *want.Send, out outgoing) (*store.Delivery, error) {
	now, save := w.Now(), w.Tx.RearmDelivery
	if d == nil {
		id, err := store.ParseID(run.DeliveryID(w.T.ID.String(), asked.Path))
		if err != nil {
			return nil, err
		}
		save = w.Tx.AddDelivery
		d = &store.Delivery{
			ID:         id,
			Tx:         w.T.ID,
			Flow:       w.T.Flow,
			Path:       asked.Path,
			Step:       asked.Step,
			OrderValue: w.T.OrderValue,
			CreatedAt:  now,
			Soft:       asked.Soft,
		}
		switch {
		case send.Unordered:
			d.OrderValue = ""
		case send.Order != "":
			d.OrderValue = send.Order
		}
	} else {
		d.Round++
	}
	d.Plan, d.Request, d.Body = out.plan, out.request, out.body
	d.Target, d.State, d.Tries, d.FirstAt, d.NextAt, d.NextWhy = send.Connection, store.Pending, 0, nil, &now, ""
	return d, save(d)
}

// withdraw ends the deliveries that the walk wants no more.
func (w *Writing) withdraw(all []*store.Delivery, wanted map[string]bool) error {
	for _, d := range all {
		_, done := w.Move.input.Effects[d.Path]
		open := d.State <= store.Behind || d.State == store.Dead && w.Move.rearm[d.Path]
		if open && !wanted[d.Path] && !done {
			d.State, d.NextAt = store.Withdrawn, nil
			if err := w.Tx.SaveDelivery(d, w.Now()); err != nil {
				return err
			}
		}
	}
	return nil
}

// settle computes the transaction's state from its letters, deliveries and
// the end of its walk (nil when it has not walked), and stores it.
func (w *Writing) settle(res *run.Result, deliveries []*store.Delivery) error {
	t, before, now := w.T, w.T.State, w.Now()
	var letters []store.Letter
	if w.Move == nil || !w.Move.fresh || len(res.Failures) > 0 {
		var err error
		if letters, err = w.Tx.LettersOf(t.ID); err != nil {
			return err
		}
	}
	open := slices.IndexFunc(letters, func(l store.Letter) bool { return l.State == store.LetterOpen })
	discarded := slices.IndexFunc(letters, func(l store.Letter) bool { return l.State == store.LetterDiscarded })
	passed := slices.IndexFunc(letters, func(l store.Letter) bool { return l.State == store.LetterPassed })
	pending, tried := w.countTries(deliveries)
	t.FinishedAt, t.Place, t.PlaceText = nil, "", ""
	switch {
	case open >= 0:
		t.State, t.Reason = store.DeadLetter, letters[open].Reason
		t.Place, t.PlaceText = letters[open].Path, letters[open].Kind+" "+letters[open].Step
	case pending != nil:
		t.State, t.Reason = store.UnderWay, ""
		if tried {
			t.State = store.Waiting
		}
		t.Place, t.PlaceText = pending.Path, "deliver to "+pending.Target
	case t.Gathered > 0:
		t.State, t.Reason = store.Waiting, ""
		t.Place, t.PlaceText = t.GatherPlace, t.GatherText
	case t.ToWalk:
		t.State, t.Reason = store.UnderWay, ""
	case discarded >= 0:
		t.State, t.Reason, t.FinishedAt = store.TurnedAway, w.discardedFor(&letters[discarded]), &now
	case passed >= 0:
		t.State, t.Reason, t.FinishedAt = store.TurnedAway, "failed, and who waited for it was told: "+
			letters[passed].Reason, &now
	case res != nil && res.State == run.TurnedAway:
		t.State, t.Reason, t.FinishedAt = store.TurnedAway, res.Reason, &now
		w.Notice.Away = append(w.Notice.Away, Away{t.Flow, res.Where})
	default:
		t.State, t.Reason, t.FinishedAt = store.Delivered, "", &now
	}
	if t.Parts > 0 {
		mine := own{State: t.State, Reason: t.Reason, Place: t.Place, PlaceText: t.PlaceText}
		if t.FinishedAt != nil {
			at := t.FinishedAt.UnixMicro()
			mine.FinishedAt = &at
		}
		var err error
		if t.Own, err = json.Marshal(mine); err != nil {
			return err
		}
		if err := w.whole(); err != nil {
			return err
		}
	}
	return w.save(before, res)
}

// countTries sums the tries up; pending is the first delivery that has not ended,
// tried whether one of those waits for another try or for its turn.
func (w *Writing) countTries(deliveries []*store.Delivery) (pending *store.Delivery, tried bool) {
	t := w.T
	t.Tries, t.NextTryAt = 0, nil
	for _, d := range deliveries {
		t.Tries += d.Total
		if d.State > store.Behind {
			continue
		}
		if pending == nil {
			pending = d
		}
		tried = tried || d.Tries > 0 || d.State == store.Behind
		if d.Tries > 0 && d.NextAt != nil && (t.NextTryAt == nil || d.NextAt.Before(*t.NextTryAt)) {
			t.NextTryAt = d.NextAt
		}
	}
	return pending, tried
}

// save stores a transaction's state; before is the one until now.
func (w *Writing) save(before store.State, res *run.Result) error {
	// What waits for other messages lets those behind it go on: they may be what
	// it waits for.
	waits := w.T.State == store.Waiting && w.T.Gathered > 0 && w.T.Place == w.T.GatherPlace
	aside := waits && w.T.Gathered > w.T.OwnWaits
	if err := w.lend(waits); err != nil {
		return err
	}
	if w.T.State >= store.Delivered || waits && w.T.Idle || w.T.Lent {
		if err := w.release(); err != nil {
			return err
		}
	}
	if aside != w.T.Aside && w.T.Parent != nil {
		if err := w.Tx.SetAside(w.T, map[bool]int{true: 1, false: -1}[aside]); err != nil {
			return err
		}
	}
	w.T.Aside = aside
	w.Notice.Events[EventTransactions] = true
	if w.T.Parent == nil {
		if err := w.ended(res); err != nil {
			return err
		}
	}
	if err := w.Tx.SaveTransaction(w.T, before); err != nil {
		return err
	}
	if w.T.State >= store.Delivered {
		w.begun.drop(w.T.ID)
	}
	if w.T.Parent != nil {
		w.tellWhole()
	}
	return nil
}

// lend notes whether a message that waits for another try of a delivery gives its
// place at its reader back: it does, unless the reader works on one after the other.
// gathers tells that it waits for something else.
func (w *Writing) lend(gathers bool) error {
	t := w.T
	lent := t.Lent
	if t.Parent == nil && (lent || t.QueueItem != 0 || t.FromTopic) {
		p := w.Plan()
		lent = t.State == store.Waiting && !gathers && p != nil && p.Document.Intake.InFlight > 1
		if p != nil && t.Lent && !lent {
			if s, ok := catalog.SourceOf(&p.Document.Intake); ok {
				w.Notice.Channels[s.Channel()] = true // its reader may have stopped for it
			}
		}
	}
	if lent == t.Lent {
		return nil
	}
	t.Lent = lent
	return w.Tx.Lend(t.Flow, map[bool]int64{true: 1, false: -1}[lent])
}

// release lets the reader of a queue or topic take another message, now that
// the transaction has ended or lets others pass.
func (w *Writing) release() error {
	t := w.T
	if t.QueueItem == 0 && !t.FromTopic {
		return nil
	}
	if t.QueueItem != 0 {
		if err := w.Tx.Finish(t.QueueItem); err != nil {
			return err
		}
	} else if err := w.Tx.FinishTopic(t.ID); err != nil {
		return err
	}
	t.QueueItem, t.FromTopic = 0, false
	if p := w.Plan(); p != nil {
		if s, ok := catalog.SourceOf(&p.Document.Intake); ok {
			w.Notice.Channels[s.Channel()] = true
		}
	}
	w.Notice.Events[EventQueues] = true
	return nil
}

// Fails makes a dead letter of a failure at a step, outside of a walk.
func (w *Writing) Fails(f step.Failure) error {
	old, err := w.Tx.LettersOf(w.T.ID)
	if err != nil {
		return err
	}
	return w.die(old, f)
}
