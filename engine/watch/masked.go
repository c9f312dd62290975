package watch

import (
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
	next := &id
	for n := 0; next != nil && n < chain; n++ {
		t, err := w.Store.Transaction(*next)
		if err != nil {
			return err
		}
		if !may(t.Flow) {
			if err := w.maskedIn(&t, add); err != nil {
				return err
			}
		}
		next = t.Parent
		for _, other := range []*store.ID{t.Origin, t.Caller} {
			if next == nil {
				next = other
			}
		}
	}
	return nil
}

func (w *Watch) maskedIn(t *Transaction, add func(values []string, paths []mask.Path)) error {
	p, err := w.Catalog.Plan(t.Flow, t.Version)
	if err != nil {
		p = nil // it cannot be read any more; the live version says what is masked
	}
	paths := w.MaskOf(t.Flow, p)
	if len(paths) == 0 || t.Parent != nil {
		return nil
	}
	if p == nil {
		if f := w.Catalog.Flow(t.Flow); f != nil {
			p = f.Live
		}
	}
	rows, err := w.Store.Messages(t.ID)
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
