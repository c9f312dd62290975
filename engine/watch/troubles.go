package watch

import (
	"sort"
	"time"

	"readyferry/store"
)

// Trouble is a source that fails: nothing comes from it, so no transaction tells of
// it.
type Trouble struct {
	Flow  string    `json:"flow"`
	Kind  string    `json:"kind"`  // of the intake, such as poll or schedule; load for a bulk load
	Load  *store.ID `json:"load"`  // null unless it is one
	Title string    `json:"title"` // of the load
	Since time.Time `json:"since"`
	Why   string    `json:"why"`
	Times int       `json:"times"` // failures in a row
}

// Troubles lists the sources of live flows that fail now, the longest first, and the
// loads that stopped over an error and that nobody has resumed or given up.
func (w *Watch) Troubles() ([]Trouble, error) {
	flows, err := w.Flows()
	if err != nil {
		return nil, err
	}
	open := map[string]bool{} // those that take something in
	for _, f := range flows {
		open[f.Name] = f.Live > 0 && !f.Paused
	}
	clocks, err := w.TroubledClocks()
	if err != nil {
		return nil, err
	}
	out := []Trouble{}
	for _, c := range clocks {
		if in := w.IntakeOf(c.Flow); open[c.Flow] && in != nil {
			t := Trouble{Flow: c.Flow, Kind: in.Kind, Since: c.NextAt, Why: c.Error, Times: max(1, c.Fails)}
			if c.FailsSince != nil {
				t.Since = *c.FailsSince
			}
			out = append(out, t)
		}
	}
	loads, err := w.FailedLoads()
	if err != nil {
		return nil, err
	}
	for _, l := range loads {
		t := Trouble{
			Flow:  l.Flow,
			Kind:  "load",
			Load:  &l.ID,
			Title: l.Title,
			Since: l.CreatedAt,
			Why:   l.Error,
			Times: 1,
		}
		if l.FinishedAt != nil {
			t.Since = *l.FinishedAt
		}
		out = append(out, t)
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Since.Before(out[j].Since) })
	return out, nil
}
