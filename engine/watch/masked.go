package watch

import (
	"errors"
	"strings"

	"readyferry/core/mask"
	"readyferry/engine/journal"
	"readyferry/store"
)

// chain is how far back values are looked for: a message that was split, put into a queue or
// handed to another flow holds what the one before it held.
const chain = 12

// Masking tells whether any flow masks a field.
func (w *Watch) Masking() (any bool) {
	for _, f := range w.Catalog.Flows() {
		any = any || f.Live != nil && len(f.Live.Document.Mask) > 0 || f.Draft != nil && len(f.Draft.Document.Mask) > 0
	}
	return any
}

// Masked collects what is masked in a transaction and in those that it came of, except in
// flows that may says are seen. A message that cannot be read is masked as a whole.
func (w *Watch) Masked(id store.ID, may func(flow string) bool, add func(values []string, paths []mask.Path)) error {
	m := &masked{w, may, add, map[store.ID]bool{}}
	return m.in(id, chain)
}

// masked is a look for values over transactions and what they came of.
type masked struct {
	w    *Watch
	may  func(flow string) bool
	add  func(values []string, paths []mask.Path)
	seen map[store.ID]bool
}

// membersAtOnce is how many members of a group are read at once.
const membersAtOnce = 500

// in looks in a transaction and, up to so many steps back, in those that it came of: the whole
// of a part, the members of a group, who handed a message on or called.
func (m *masked) in(id store.ID, left int) error {
	if left == 0 || m.seen[id] {
		return nil
	}
	m.seen[id] = true
	t, err := m.w.Store.All().Transaction(id)
	if err != nil {
		return err
	}
	if !m.may(t.Flow) {
		if err := m.w.maskedIn(&t, m.add); err != nil {
			return err
		}
	}
	for _, from := range []*store.ID{t.Parent, t.Origin, t.Caller} {
		if from == nil {
			continue
		}
		err := m.in(*from, left-1)
		if errors.Is(err, store.ErrNotFound) && !m.may(t.Flow) {
			err = m.whole(id) // what it came of was let go, and nobody knows any more what was masked in it
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	if !t.FromGroup {
		return nil
	}
	for after := 0; ; {
		rows, err := m.w.Store.Members(t.ID, after, membersAtOnce)
		if err != nil {
			return err
		}
		for _, one := range rows {
			if err := m.in(one.Tx, left-1); err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			after = one.N
		}
		if len(rows) < membersAtOnce {
			return nil
		}
	}
}

// whole masks all that a transaction has received.
func (m *masked) whole(id store.ID) error {
	rows, err := m.w.Store.All().Messages(id)
	for i := range rows {
		m.add([]string{string(rows[i].Body.Bytes())}, nil)
	}
	return err
}

func (w *Watch) maskedIn(t *Transaction, add func(values []string, paths []mask.Path)) error {
	p, err := w.Catalog.Plan(t.Flow, t.Version)
	if err != nil {
		p = nil // it cannot be read any more; the live version says what is masked
	}
	paths := w.MaskOf(t.Flow, p)
	if len(paths) == 0 || t.Parent != nil || t.FromGroup { // their messages are made of others
		return nil
	}
	if p == nil {
		if f := w.Catalog.Flow(t.Flow); f != nil {
			p = f.Live
		}
	}
	rows, err := w.Store.All().Messages(t.ID)
	if err != nil {
		return err
	}
	for i := range rows {
		root, _, _, err := journal.Root(t, &rows[i], p)
		if err != nil {
			add([]string{string(rows[i].Body.Bytes())}, nil)
			continue
		}
		add(mask.Values(root, paths), paths)
	}
	return nil
}

// unseen takes out of a text what is masked in a transaction: nobody finds a message by what
// they may not see, not even by trying.
func (w *Watch) unseen(t *Transaction, text string) string {
	if text == "" || !w.Masking() {
		return text
	}
	var values []string
	var paths []mask.Path
	err := w.Masked(t.ID, func(string) bool { return false }, func(some []string, of []mask.Path) {
		values, paths = append(values, some...), append(paths, of...)
	})
	if err != nil || len(values) == 0 {
		return text
	}
	return strings.ReplaceAll(mask.NewVeil(values, paths).Hide(text), mask.Shown, "")
}
