package watch

import (
	"fmt"

	"readyferry/core/run"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Beside finds the first place where two transactions of one flow part, and the value that
// did it; nil where they did all alike.
func (w *Watch) Beside(a, b store.ID) (*run.Parting, error) {
	one, err := w.Store.All().Transaction(a)
	if err != nil {
		return nil, err
	}
	other, err := w.Store.All().Transaction(b)
	if err != nil {
		return nil, err
	}
	if one.Flow != other.Flow {
		return nil, fmt.Errorf("%w: one is of %s and the other of %s, so they do not part: they never went together",
			journal.ErrDecision, one.Flow, other.Flow)
	}
	was, err := w.Inspect(a)
	if err != nil {
		return nil, err
	}
	is, err := w.Inspect(b)
	if err != nil {
		return nil, err
	}
	return run.Part(was, is), nil
}

// Like names the transaction of the same flow that came through last, beside which one can be
// looked at; ErrNotFound where none did.
func (w *Watch) Like(id store.ID) (*Transaction, error) {
	t, err := w.Store.All().Transaction(id)
	if err != nil {
		return nil, err
	}
	delivered := Delivered
	rows, err := w.Store.All().Transactions(store.Filter{Flow: t.Flow, State: &delivered, Limit: 20})
	if err != nil {
		return nil, err
	}
	for i := range rows {
		if rows[i].ID != id && rows[i].Version == t.Version {
			return &rows[i], nil
		}
	}
	for i := range rows {
		if rows[i].ID != id {
			return &rows[i], nil
		}
	}
	return nil, fmt.Errorf("%w: no other message of %s has come through", store.ErrNotFound, t.Flow)
}
