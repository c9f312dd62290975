package watch

import (
	"errors"
	"time"

	"readyferry/connect"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Source is how messages come into a flow from an outside system.
type Source struct {
	Flow       string     `json:"flow"`
	Kind       string     `json:"kind"`
	Held       bool       `json:"held"`       // the flow is paused
	Failing    *Trouble   `json:"failing"`    // null while it works
	Received   uint64     `json:"received"`   // messages since the application began
	LastHour   int64      `json:"lastHour"`   // messages
	Unfinished int64      `json:"unfinished"` // messages of the flow that have not ended
	Oldest     *time.Time `json:"oldest"`     // when the oldest of those came
	Backlog    *int64     `json:"backlog"`    // messages that wait at the source, where it says so
	NextAt     *time.Time `json:"nextAt"`     // when it is asked next, where it is
	LastAt     *time.Time `json:"lastAt"`     // when it was asked last
	During     string     `json:"during"`     // the calendar that it follows, or ""
}

// Sources tells of the flows that take messages in from a connection: by polls and tables, or as
// its receivers.
func (w *Watch) Sources(connection string) ([]Source, error) {
	if w.Catalog.Connection(connection) == nil {
		return nil, journal.ErrNotFound
	}
	troubles, err := w.Troubles()
	if err != nil {
		return nil, err
	}
	now := w.Now()
	counts, err := w.Store.All().SumCounts(now.Add(-time.Hour), now)
	if err != nil {
		return nil, err
	}
	totals, err := w.Totals()
	if err != nil {
		return nil, err
	}
	came := map[string]uint64{}
	for _, f := range w.Meter.Counted().Flows {
		came[f.Flow] = f.Came
	}
	pulse := w.links.Pulses.Pulse(connection, now)
	out := []Source{}
	for _, f := range w.Catalog.Flows() {
		in := f.Intake()
		if in == nil || in.Of != connection || f.Live == nil {
			continue
		}
		s := Source{Flow: f.Name, Kind: in.Kind, Held: f.Paused, Received: came[f.Name], During: in.Timing.During}
		for _, c := range counts {
			if c.Flow == f.Name {
				s.LastHour += c.N
			}
		}
		for _, c := range totals {
			if c.Flow == f.Name && (c.State == store.UnderWay || c.State == store.Waiting) {
				s.Unfinished += c.N
			}
		}
		if err := w.sourceNow(&s, f, troubles, &pulse); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

// sourceNow adds how a source is now.
func (w *Watch) sourceNow(s *Source, f *catalog.Flow, troubles []Trouble, pulse *connect.Pulse) (err error) {
	if s.Unfinished > 0 {
		if s.Oldest, err = w.Store.All().OldestUnfinished(f.Name); err != nil {
			return err
		}
	}
	if n, told := pulse.Backlog[f.Name]; told {
		s.Backlog = &n
	}
	for i := range troubles {
		if t := &troubles[i]; t.Flow == f.Name && t.Load == nil {
			s.Failing = t
		}
	}
	c, err := w.Store.All().Clock(f.Name)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err == nil {
		s.LastAt = c.LastAt
		if !c.NextAt.IsZero() {
			s.NextAt = &c.NextAt
		}
	}
	return err
}
