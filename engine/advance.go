package engine

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/retry"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// walking takes one transaction on, inside one database transaction.
type walking struct {
	e        *Engine
	tx       *store.Tx
	t        *store.Transaction
	p        *plan.Plan
	messageN int // the message that counts
	begun
	after       *aftermath
	fresh       bool            // just made: nothing of it is stored yet but itself
	rearm       map[string]bool // paths whose ended deliveries a person sends again
	pass        map[string]bool // paths at which a person lets it go on although its turn has not come
	held        map[string]bool // paths at which it waits for its turn already
	next        []func() error  // what follows for others, once this one is settled
	lettersRead bool
	lettersNow  []store.Letter // of the transaction, before this walk
	quiet       bool           // whoever called it hears of its end from the one who began it
}

// load reads what a walk needs of a transaction.
func (e *Engine) load(tx *store.Tx, id store.ID, after *aftermath) (*walking, error) {
	t, err := tx.Transaction(id)
	if err != nil {
		return nil, err
	}
	p, err := e.plan(t.Flow, t.Version)
	if err != nil {
		return nil, err
	}
	m, err := tx.Message(id)
	if err != nil {
		return nil, err
	}
	w := &walking{e: e, tx: tx, t: &t, p: p, messageN: m.N, after: after}
	w.begun, err = e.walkOf(tx, &t, &m, p)
	return w, err
}

// advance walks, does at once what is inside the application, stores what the
// world must do, and settles the transaction's state. first is the result of a
// walk over the present effects, or nil; last is the walk with which it stops.
func (w *walking) advance(first *run.Result) (last *run.Result, err error) {
	res, refused := first, map[string]step.Failure{}
	if w.t.Gathered > 0 && w.held == nil {
		at, err := w.tx.HeldAt(w.t.ID)
		if err != nil {
			return nil, err
		}
		limits, err := w.tx.LimitsOf(w.t.ID)
		if err != nil {
			return nil, err
		}
		at = append(at, limits...)
		w.held = map[string]bool{}
		for _, path := range at {
			w.held[path] = true
		}
	}
	for {
		if res == nil {
			res = run.Walk(w.p, w.input)
		}
		for _, k := range res.Keep {
			if err := w.record(k.Path, k.Effect); err != nil {
				return nil, err
			}
		}
		res.Keep = nil
		moved, err := w.puts(res, refused)
		if err != nil {
			return nil, err
		}
		if !moved {
			break
		}
		res = nil
	}
	for _, want := range res.Wants {
		if f, ok := refused[want.Path]; ok {
			if f.Step, f.Path = want.Step, want.Path; f.Kind == "" {
				f.Kind, f.Phase = "deliver", "put"
			}
			res.Failures = append(res.Failures, f)
		}
	}
	var stored []store.Delivery
	if !w.fresh {
		if stored, err = w.tx.Deliveries(w.t.ID); err != nil {
			return nil, err
		}
	}
	deliveries, err := w.deliveries(res, stored)
	if err != nil {
		return nil, err
	}
	if err := w.letters(res.Failures, deliveries); err != nil {
		return nil, err
	}
	if res.Answer != nil { // before the end is told, which has an answer of its own
		if err := w.answer(res.Answer); err != nil {
			return nil, err
		}
	}
	if err := w.settle(res, deliveries); err != nil {
		return nil, err
	}
	for len(w.next) > 0 {
		do := w.next[0]
		w.next = w.next[1:]
		if err := do(); err != nil {
			return nil, err
		}
	}
	return res, nil
}

// record writes an effect into the journal.
func (w *walking) record(path string, effect step.Effect) error {
	b, err := json.Marshal(effect)
	if err != nil {
		return err
	}
	w.input.Effects[path] = effect
	return w.tx.AddEffect(&store.Effect{Tx: w.t.ID, Path: path, Result: b, At: w.e.clock()})
}

// deliveries brings the stored deliveries in line with what the walk wants.
func (w *walking) deliveries(res *run.Result, stored []store.Delivery) ([]*store.Delivery, error) {
	now := w.e.clock()
	out := make([]*store.Delivery, 0, len(stored)+1)
	byPath := map[string]*store.Delivery{}
	for i := range stored {
		byPath[stored[i].Path] = &stored[i]
		out = append(out, &stored[i])
	}
	wanted := map[string]bool{}
	for _, want := range res.Wants {
		if !want.Outside() {
			continue
		}
		wanted[want.Path] = true
		d := byPath[want.Path]
		if d != nil && (d.State <= store.Behind || d.State >= store.Done && d.State <= store.Dead && !w.rearm[want.Path]) {
			continue
		}
		fresh := d == nil
		if fresh {
			id, err := store.ParseID(run.DeliveryID(w.t.ID.String(), want.Path))
			if err != nil {
				return nil, err
			}
			d = &store.Delivery{ID: id, Tx: w.t.ID, Flow: w.t.Flow, Path: want.Path, Step: want.Step, OrderValue: w.t.OrderValue, CreatedAt: now, Soft: want.Soft}
			switch {
			case want.Unordered:
				d.OrderValue = ""
			case want.Order != "":
				d.OrderValue = want.Order
			}
			out = append(out, d)
		} else {
			d.Round++
		}
		if err := w.e.prepare(d, want, now); err != nil {
			return nil, err
		}
		store := w.tx.AddDelivery
		if !fresh {
			store = w.tx.RearmDelivery
		}
		if err := store(d); err != nil {
			return nil, err
		}
		w.after.targets[d.Target] = true
	}
	for _, d := range out {
		_, done := w.input.Effects[d.Path]
		open := d.State <= store.Behind || d.State == store.Dead && w.rearm[d.Path]
		if open && !wanted[d.Path] && !done {
			d.State, d.NextAt = store.Withdrawn, nil
			if err := w.tx.SaveDelivery(d, now); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// prepare fills a delivery in for a new round of tries.
func (e *Engine) prepare(d *store.Delivery, want step.Want, now time.Time) error {
	rules := retry.Default()
	if want.Retry != nil {
		rules = want.Retry.Plan()
	} else if c := e.connection(want.Target); c != nil && c.Retry != nil {
		rules = c.Retry.Plan()
	}
	var err error
	if d.Plan, err = json.Marshal(rules); err != nil {
		return err
	}
	if d.Request, err = json.Marshal(want.Request); err != nil {
		return err
	}
	d.Target, d.State, d.Tries, d.FirstAt, d.NextAt, d.NextWhy = want.Target, store.Pending, 0, nil, &now, ""
	return nil
}

// settle computes the transaction's state from its letters, deliveries and
// the end of its walk (nil when the walk has not ended), and stores it.
func (w *walking) settle(res *run.Result, deliveries []*store.Delivery) error {
	t, before, now := w.t, w.t.State, w.e.clock()
	var letters []store.Letter
	if !w.fresh || res != nil && len(res.Failures) > 0 {
		var err error
		if letters, err = w.tx.LettersOf(t.ID); err != nil {
			return err
		}
	}
	open := slices.IndexFunc(letters, func(l store.Letter) bool { return l.State == store.LetterOpen })
	discarded := slices.IndexFunc(letters, func(l store.Letter) bool { return l.State == store.LetterDiscarded })
	pending, tried := -1, false
	t.Tries, t.NextTryAt = 0, nil
	for i, d := range deliveries {
		t.Tries += d.Total
		if d.State > store.Behind {
			continue
		}
		if pending < 0 {
			pending = i
		}
		tried = tried || d.Tries > 0 || d.State == store.Behind
		if d.Tries > 0 && d.NextAt != nil && (t.NextTryAt == nil || d.NextAt.Before(*t.NextTryAt)) {
			t.NextTryAt = d.NextAt
		}
	}
	t.FinishedAt, t.Place, t.PlaceText = nil, "", ""
	switch {
	case open >= 0:
		t.State, t.Reason = store.DeadLetter, letters[open].Reason
		t.Place, t.PlaceText = letters[open].Path, letters[open].Kind+" "+letters[open].Step
	case pending >= 0:
		t.State, t.Reason = store.UnderWay, ""
		if tried {
			t.State = store.Waiting
		}
		t.Place, t.PlaceText = deliveries[pending].Path, "deliver to "+deliveries[pending].Target
	case t.Gathered > 0:
		t.State, t.Reason = store.Waiting, ""
		t.Place, t.PlaceText = t.GatherPlace, t.GatherText
	case discarded >= 0:
		t.State, t.Reason, t.FinishedAt = store.TurnedAway, "discarded: "+letters[discarded].Reason, &now
	case res != nil && res.State == run.TurnedAway:
		t.State, t.Reason, t.FinishedAt = store.TurnedAway, res.Reason, &now
	default:
		t.State, t.Reason, t.FinishedAt = store.Delivered, "", &now
	}
	if t.Parts > 0 {
		var err error
		if t.Own, err = json.Marshal(own{t.State, t.Reason, t.Place, t.PlaceText, t.FinishedAt}); err != nil {
			return err
		}
		if err := w.whole(); err != nil {
			return err
		}
	}
	return w.save(before)
}

// save stores a transaction's state; before is the one until now.
func (w *walking) save(before store.State) error {
	// What waits for other messages lets those behind it go on: they may be what
	// it waits for.
	waits := w.t.State == store.Waiting && w.t.Gathered > 0 && w.t.Place == w.t.GatherPlace
	aside := waits && w.t.Gathered > w.t.OwnWaits
	if w.t.State >= store.Delivered || waits && w.t.Idle {
		if err := w.release(); err != nil {
			return err
		}
	}
	if aside != w.t.Aside && w.t.Parent != nil {
		if err := w.tx.SetAside(w.t, map[bool]int{true: 1, false: -1}[aside]); err != nil {
			return err
		}
	}
	w.t.Aside = aside
	w.after.events[TopicTransactions] = true
	if err := w.tx.SaveTransaction(w.t, before); err != nil {
		return err
	}
	if w.t.Parent != nil {
		return w.tell()
	}
	return w.ended()
}

// release lets the reader of a queue or topic take another message, now that
// the transaction has ended.
func (w *walking) release() error {
	t := w.t
	if t.QueueItem == 0 && !t.FromTopic {
		return nil
	}
	if t.QueueItem != 0 {
		if err := w.tx.Finish(t.QueueItem); err != nil {
			return err
		}
	} else if err := w.tx.FinishTopic(t.ID); err != nil {
		return err
	}
	t.QueueItem, t.FromTopic = 0, false
	if s, ok := sourceOf(&w.p.Document.Intake); ok {
		w.after.queues[s.channel()] = true
	}
	w.after.events[TopicQueues] = true
	return nil
}

func decodeEffects(rows []store.Effect) (map[string]step.Effect, error) {
	out := make(map[string]step.Effect, len(rows))
	for _, r := range rows {
		var e step.Effect
		if err := json.Unmarshal(r.Result, &e); err != nil {
			return nil, fmt.Errorf("the effect at %s: %w", r.Path, err)
		}
		out[r.Path] = e
	}
	return out, nil
}

func decodeEnvelope(t *store.Transaction, m *store.Message) (run.Envelope, error) {
	e := run.Envelope{ID: t.ID.String(), ReceivedAt: t.ReceivedAt, Body: m.Body, Reference: t.Reference}
	for _, part := range []struct {
		from []byte
		into *[]message.Header
	}{{m.Headers, &e.Headers}, {m.Params, &e.Params}, {m.Query, &e.Query}} {
		if err := json.Unmarshal(part.from, part.into); err != nil {
			return e, fmt.Errorf("the message of %s: %w", t.ID, err)
		}
	}
	return e, nil
}

func sortHeaders(h []message.Header) {
	slices.SortStableFunc(h, func(a, b message.Header) int { return strings.Compare(a.Name, b.Name) })
}
