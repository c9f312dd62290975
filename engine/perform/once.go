package perform

import (
	"crypto/sha256"

	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
)

// once tells a key that came before from one that did not.
type once struct{ *Performers }

// Foresee implements journal.Performer.
func (once) Foresee(v *journal.Move, asked want.Asked) (journal.Outcome, error) {
	key := onceKey(&v.Tx, asked, v.Session)
	first, err := v.Session.FirstOf(key)
	if err != nil {
		return journal.Outcome{}, err
	}
	if first == nil {
		return journal.Outcome{Effect: repeats(v.Tx.ID, v.Tx.ID)}, nil
	}
	return journal.Outcome{Effect: repeats(*first, v.Tx.ID)}, nil
}

func onceKey(t *store.Transaction, asked want.Asked, s *journal.Session) *store.OnceKey {
	w := asked.Want.(*want.Once)
	sum := sha256.Sum256([]byte(run.GroupPath(asked.Path) + "\x00" + w.Key))
	return &store.OnceKey{Flow: t.Flow, Key: sum[:], Tx: t.ID, Until: s.At.Add(w.For)}
}

// repeats gives what a key comes to that a transaction had first: the same one
// may have been here before under another version.
func repeats(first, now store.ID) *want.Effect {
	if first == now {
		return &want.Effect{Said: "first"}
	}
	return &want.Effect{Refused: "duplicate of " + first.String()}
}

// Perform implements journal.Performer.
func (once) Perform(w *journal.Writing, asked want.Asked, _ journal.Outcome) (journal.Outcome, error) {
	first, _, err := w.Tx.Once(onceKey(w.T, asked, w.Move.Session), w.Move.Session.At)
	return journal.Outcome{Effect: repeats(first, w.T.ID)}, err
}
