package watch

import (
	"time"

	"readyferry/connect"
	"readyferry/engine/journal"
)

// Target is how deliveries to a connection are going.
type Target struct {
	Pulse   connect.Pulse
	Tries   connect.Tries // of the last hour
	Waiting int64         // counted to a limit
	Oldest  *time.Time    // since when the one waits that waits the longest
}

// Target tells it of a connection.
func (w *Watch) Target(name string) (t Target, err error) {
	if w.Catalog.Connection(name) == nil {
		return t, journal.ErrNotFound
	}
	now := w.Now()
	t.Pulse, t.Tries = w.links.Pulses.Pulse(name, now), w.links.Pulses.TriesSince(name, now.Add(-time.Hour))
	if t.Waiting, err = w.Store.All().CountPending(name, countedUpTo); err != nil {
		return t, err
	}
	t.Oldest, err = w.Store.All().OldestPending(name)
	return t, err
}

// Targets names the connections that something can be delivered to.
func (w *Watch) Targets() (out []string) {
	for _, c := range w.Catalog.Connections() {
		if sys := w.Catalog.Systems().Find(c.Kind); sys != nil && sys.Open != nil {
			out = append(out, c.Name)
		}
	}
	return out
}
