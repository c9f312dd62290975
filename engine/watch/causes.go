package watch

import (
	"time"

	"github.com/google/uuid"

	"readyferry/core/cause"
	"readyferry/store"
)

// Cause is a group of dead letters that failed for the same reason, judged by what else
// happened.
type Cause struct {
	store.Cause
	Since  time.Time // of the oldest letter
	Judged cause.Class
	Why    []string // the evidence, in sentences
	Target string   // the connection, "" where the step has none
	Live   int      // the version of the flow that is live now, 0 for none
}

// soundAtMost bounds what is counted as evidence: whether there are ten others or a
// thousand makes no difference.
const soundAtMost = 100

// Causes lists the causes of open dead letters, the largest first.
func (w *Watch) Causes(limit int) ([]Cause, error) {
	rows, err := w.Store.All().Causes(limit)
	if err != nil {
		return nil, err
	}
	out := make([]Cause, len(rows))
	for i := range rows {
		if out[i], err = w.judged(&rows[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (w *Watch) judged(row *store.Cause) (Cause, error) {
	sec, nsec := uuid.UUID(row.Since).Time().UnixTime()
	c := Cause{Cause: *row, Since: time.Unix(sec, nsec).UTC()}
	if f := w.Catalog.Flow(row.Flow); f != nil {
		c.Live = f.Version
	}
	e := cause.Evidence{
		Said:    cause.Class(row.Class),
		Phase:   row.Phase,
		Flow:    row.Flow,
		Count:   row.N,
		Since:   c.Since,
		Version: row.Version,
	}
	if v, err := w.Store.Version(row.Flow, row.Version); err == nil {
		e.Began = v.PublishedAt
	}
	// Those before the first letter count as well, as long as they went under the same version.
	since := c.Since.Add(-24 * time.Hour)
	if e.Began.After(since) {
		since = e.Began
	}
	var err error
	if e.Sound, err = w.Store.All().SoundUnder(row.Flow, row.Version, since, soundAtMost); err != nil {
		return c, err
	}
	deliveries, err := w.Store.All().Deliveries(row.Tx)
	if err != nil {
		return c, err
	}
	for i := range deliveries {
		if d := &deliveries[i]; d.Path == row.Path {
			c.Target, e.Target = d.Target, d.Target
			tries, err := w.Store.All().Tries(d.ID)
			if err != nil {
				return c, err
			}
			if len(tries) > 0 {
				e.Status = tries[len(tries)-1].Status
			}
			lately := w.links.Pulses.TriesSince(d.Target, c.Since)
			e.Through, e.Failed = lately.Good, lately.Bad
		}
	}
	c.Judged, c.Why = cause.Judge(e)
	return c, nil
}
