// Package watch is everything that is only read: lists and counts, the inspection
// of what a transaction did, previews of what a resend would do, rates and the
// events of change.
//
// It promises that a look is true and leaves no trace: what it shows of a
// transaction is the same walk over the same effects as the one that was, and
// what it cannot know it says. Opening a page costs the same at one thousand and
// at ten million transactions.
package watch

import (
	"readyferry/connect"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Watch reads. It is safe for concurrent use.
type Watch struct {
	*journal.Journal
	store.View // lists, as they are in the file, or in those of all partitions
	Events     *Hub
	Meter      *Meter
	rates      *rates
	lines      lines
	passed     passed
	links      *connect.Links
	changed    chan struct{} // a transaction has, since the index of words was filled last
}

// New makes a watch.
func New(j *journal.Journal, links *connect.Links) *Watch {
	w := &Watch{Journal: j, links: links, View: j.Store.All(), Events: newHub(), Meter: newMeter(), rates: newRates(),
		changed: make(chan struct{}, 1)}
	j.Listen(w.heard)
	j.Store.Observe(w.Meter.happened)
	w.Meter.Pass(w.lines.add)
	if !j.Partition.First() {
		w.passed.id = store.NewID()
		w.Meter.Pass(w.passed.add)
	}
	return w
}

func (w *Watch) heard(n *journal.Notice) {
	now := w.Now()
	for q, k := range n.Put {
		w.rates.add(q, k, 0, now)
	}
	for q, k := range n.Taken {
		w.rates.add(q, 0, k, now)
	}
	if len(n.Away) > 0 {
		w.Meter.away(n.Away)
	}
	if n.Events[journal.EventTransactions] {
		select {
		case w.changed <- struct{}{}:
		default:
		}
	}
	for topic := range n.Events {
		w.Events.Publish(topic)
	}
}

// Pulse gives how a connection is, and what goes through it.
func (w *Watch) Pulse(connection string) connect.Pulse {
	return w.links.Pulses.Pulse(connection, w.Now())
}

// Close ends what listens to events.
func (w *Watch) Close() { w.Events.close() }
