package journal

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"readyferry/core/cause"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/store"
)

// keepLetters keeps one dead letter for each place that failed, and closes those
// whose place has been passed.
func (w *Writing) keepLetters(failures []step.Failure, deliveries []*store.Delivery) error {
	var old []store.Letter
	if !w.Move.fresh {
		var err error
		if old, err = w.Tx.LettersOf(w.T.ID); err != nil {
			return err
		}
	}
	discarded := map[string]bool{}
	for _, l := range old {
		discarded[l.Path] = l.State == store.LetterDiscarded || l.State == store.LetterPassed
	}
	failed := map[string]bool{}
	for _, f := range failures {
		if discarded[f.Path] {
			continue // a person has decided about this place
		}
		failed[f.Path] = true
		if err := w.die(old, f); err != nil {
			return err
		}
	}
	state := map[string]store.DeliveryState{}
	for _, d := range deliveries {
		state[d.Path] = d.State
	}
	for i := range old {
		l := &old[i]
		s, known := state[l.Path]
		if l.State >= store.LetterResolved || failed[l.Path] || known && (s <= store.Behind || s == store.Dead) {
			continue
		}
		l.State = store.LetterResolved
		if err := w.Tx.SaveLetter(l, w.Now(), w.who(), "resolved", ""); err != nil {
			return err
		}
		w.Notice.Events[EventDeadLetters] = true
	}
	return nil
}

// die makes or reopens the dead letter of a failure.
func (w *Writing) die(old []store.Letter, f step.Failure) error {
	l, known := &store.Letter{ID: store.NewID(), Tx: w.T.ID, At: w.Now()}, false
	for i := range old {
		if old[i].Path == f.Path && old[i].State != store.LetterDiscarded && old[i].State != store.LetterPassed {
			if old[i].State == store.LetterOpen && old[i].Reason == f.Reason {
				return nil
			}
			l, known = &old[i], true
		}
	}
	l.Flow, l.Version, l.Step, l.Path, l.Kind, l.Phase = w.T.Flow, w.T.Version, f.Step, f.Path, f.Kind, f.Phase
	l.Class, l.Reason, l.Reference, l.State = string(f.Class), f.Reason, w.T.Reference, store.LetterOpen
	l.CauseText = cause.Text(f.Reason, w.named)
	sum := sha256.Sum256([]byte(w.T.Flow + "\x00" + f.Step + "\x00" + l.CauseText))
	l.Cause = hex.EncodeToString(sum[:8])
	w.Notice.Events[EventDeadLetters] = true
	if passed, err := w.passOn(&f); err != nil {
		return err
	} else if passed {
		l.State = store.LetterPassed
		return w.Tx.SaveLetter(l, w.Now(), w.who(), "passed on", f.Reason)
	}
	if err := w.Tx.SaveLetter(l, w.Now(), w.who(), "died", f.Reason); err != nil || known {
		return err
	}
	return w.tellDeath(l)
}

// named tells whether the flow itself has a text that a reason quotes.
func (w *Writing) named(text string) bool {
	p := w.Plan()
	return p != nil && p.Names(text)
}

// who says whose doing it is that a letter changes by itself.
func (w *Writing) who() string { return "the flow " + w.T.Flow }

// Person is who decides, as long as nobody signs in.
const Person = "a person"

// tellDeath begins the steps that a flow runs once for each of its dead letters,
// as a transaction of their own. When that one becomes a dead letter itself,
// nothing more is begun: it cannot loop.
func (w *Writing) tellDeath(l *store.Letter) error {
	if w.T.OfLetter != nil || w.T.Version == 0 {
		return nil
	}
	p := w.Plan()
	if p == nil || p.OnDead == nil {
		return nil // a flow that cannot be read cannot tell of it; the letter stands all the same
	}
	m, err := w.Tx.MessageHead(w.T.ID)
	if err != nil {
		return err
	}
	about := []message.Header{
		{
			Name:  "id",
			Value: l.ID.String(),
		}, {Name: "flow", Value: l.Flow}, {Name: "version", Value: fmt.Sprint(l.Version)},
		{
			Name:  "transaction",
			Value: l.Tx.String(),
		}, {Name: "reference", Value: l.Reference}, {Name: "step", Value: l.Step},
		{
			Name:  "path",
			Value: l.Path,
		}, {Name: "kind", Value: l.Kind}, {Name: "setting", Value: l.Phase}, {Name: "class", Value: l.Class},
		{Name: "reason", Value: l.Reason}, {Name: "at", Value: l.At.UTC().Format(time.RFC3339Nano)},
	}
	params, err := json.Marshal(about)
	if err != nil {
		return err
	}
	root := w.T.Root()
	t := &store.Transaction{
		ID:         store.NewID(),
		Journey:    &root,
		Flow:       w.T.Flow,
		Version:    w.T.Version,
		Reference:  w.T.Reference,
		ReceivedAt: w.Now(),
		OfLetter:   &l.ID,
	}
	return w.Begin(
		t,
		&store.Message{
			Tx:       t.ID,
			Headers:  m.Headers,
			Params:   params,
			Query:    m.Query,
			Body:     m.Body,
			Source:   "dead letter of " + l.Tx.String(),
			Warnings: []byte("null"),
		},
	)
}

// Begin stores a transaction that this one brings about; it is walked behind the
// commit.
func (w *Writing) Begin(t *store.Transaction, m *store.Message) error {
	t.ToWalk = true
	w.Notice.Woken[t.ID] = t.Flow
	w.Notice.Events[EventTransactions] = true
	return w.Tx.AddTransaction(t, m)
}

// DeadOnArrival keeps a message that no step has seen, as a dead letter.
func (j *Journal) DeadOnArrival(tx *store.Tx, n *Notice, t *store.Transaction, m *store.Message, f step.Failure) error {
	t.State, t.Reason, t.PlaceText = store.DeadLetter, f.Reason, "intake"
	if err := tx.AddTransaction(t, m); err != nil {
		return err
	}
	n.Events[EventTransactions] = true
	w := &Writing{Journal: j, Tx: tx, T: t, Notice: n}
	return w.die(nil, f)
}
