package watch

import (
	"errors"
	"time"

	"readyferry/store"
)

// TopicReader is a transaction that a message of a topic became.
type TopicReader struct {
	Subscription string     `json:"subscription"`
	Transaction  ID         `json:"transaction"`
	State        string     `json:"state"`
	Tries        int        `json:"tries"`
	NextTryAt    *time.Time `json:"nextTryAt"`
}

// mostOfJourney bounds how many transactions of a journey are looked through for those that read
// a message.
const mostOfJourney = 300

// ReadersOf tells what messages of a topic became with those who read them, by offset. Of one
// that somebody outside put there, only what works on it now is known.
func (w *Watch) ReadersOf(topic string, rows []TopicMessage) (map[int64][]TopicReader, error) {
	out := map[int64][]TopicReader{}
	if len(rows) == 0 {
		return out, nil
	}
	first, last := rows[0].N, rows[len(rows)-1].N
	work, err := w.Store.TopicWork(topic, min(first, last), max(first, last))
	if err != nil {
		return nil, err
	}
	known := map[ID]bool{}
	add := func(n int64, t *Transaction, subscription string) {
		if !known[t.ID] {
			known[t.ID] = true
			out[n] = append(out[n], TopicReader{subscription, t.ID, t.State.String(), t.Tries, t.NextTryAt})
		}
	}
	for _, one := range work {
		if t, err := w.Transaction(one.Tx); err == nil {
			add(one.N, &t, one.Subscription)
		}
	}
	for i := range rows {
		if rows[i].From == (ID{}) {
			continue
		}
		if err := w.readersOf(topic, &rows[i], add); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (w *Watch) readersOf(topic string, m *TopicMessage, add func(n int64, t *Transaction, subscription string)) error {
	from, err := w.Transaction(m.From)
	if errors.Is(err, store.ErrNotFound) {
		return nil // it is not kept any more
	}
	if err != nil {
		return err
	}
	all, err := w.Store.All().OfJourney(from.Root(), nil, mostOfJourney)
	if err != nil {
		return err
	}
	for i := range all {
		t := &all[i]
		if t.Origin == nil || *t.Origin != m.From {
			continue
		}
		if in := w.IntakeOf(t.Flow); in != nil && in.Kind == "topic" && in.Topic == topic {
			add(m.N, t, in.Subscription)
		}
	}
	return nil
}
