package watch

import "readyferry/store"

// Found is what a list asks for.
type Found = store.Found

// plain tells whether a list needs no index of words.
func plain(q *Found) bool { return len(q.Terms) == 0 && q.Reference == "" && !q.First }

// List lists transactions, the newest first. Without the index of words a reference is found
// only as it is written, and filters in words are refused.
func (w *Watch) List(q Found) ([]Transaction, error) {
	q.Plainly()
	if plain(&q) || len(q.Terms) == 0 && !q.First {
		// A reference as it is written is found at once; a part of one when the index has it.
		rows, err := w.Store.All().Transactions(q.Filter)
		if err != nil || len(rows) > 0 || q.Reference == "" || q.After != nil || !w.Store.Words() {
			return rows, err
		}
	}
	return w.FindBy(q)
}

// CountList counts what a list has in all; more tells that it was counted no further.
func (w *Watch) CountList(q Found) (n int64, more bool, err error) {
	q.Plainly()
	if plain(&q) {
		n, err = w.Store.All().CountSpan(store.OfFlow(q.Flow).Within(q.Of), q.State, q.From, q.To)
		return n, false, err
	}
	if len(q.Terms) == 0 && !q.First {
		exact := q.Filter
		exact.After, exact.Limit = nil, 1000
		rows, err := w.Store.All().Transactions(exact)
		if err != nil || len(rows) > 0 || !w.Store.Words() {
			return int64(len(rows)), len(rows) == exact.Limit, err
		}
	}
	n, more, err = w.Store.All().CountFound(q)
	return n, more, notByWords(err)
}
