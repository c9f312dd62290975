package watch

import "readyferry/store"

// Found is what a list asks for.
type Found = store.Found

// plain tells whether a list needs no index of words.
func plain(q *Found) bool { return len(q.Terms) == 0 && q.Reference == "" && !q.First }

// List lists transactions, the newest first. Without the index of words a reference is found
// only as it is written, and filters in words are refused.
func (w *Watch) List(q Found) ([]Transaction, error) {
	if plain(&q) || !w.Store.Words() && len(q.Terms) == 0 && !q.First {
		return w.Store.Transactions(q.Filter)
	}
	return w.FindBy(q)
}

// CountList counts what a list has in all; more tells that it was counted no further.
func (w *Watch) CountList(q Found) (n int64, more bool, err error) {
	if plain(&q) {
		n, err = w.Store.CountSpan(q.Flow, q.State, q.From, q.To)
		return n, false, err
	}
	n, more, err = w.Store.CountFound(q)
	return n, more, notByWords(err)
}
