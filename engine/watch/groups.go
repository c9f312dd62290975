package watch

import (
	"time"

	"readyferry/core/group"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// OpenGroup is an open group as people see it.
type OpenGroup struct {
	store.Group
	Missing []string // what it waits for, in words, besides time
	In      int      // members that have come in the last minute
}

// OpenGroups lists open groups with what they wait for.
func (w *Watch) OpenGroups(of store.Of, after *store.ID, limit int) ([]OpenGroup, error) {
	rows, err := w.Store.All().OpenGroups(of, after, limit)
	if err != nil {
		return nil, err
	}
	out := make([]OpenGroup, len(rows))
	for i, g := range rows {
		out[i] = OpenGroup{Group: g, Missing: []string{}}
		if out[i].In, err = w.Store.All().CountSince(g.ID, w.Now().Add(-time.Minute), 1000); err != nil {
			return nil, err
		}
		p, err := w.Catalog.Plan(g.Flow, g.Version)
		if err != nil {
			continue // its flow can no longer be read; the group is there all the same
		}
		if rules := rulesAt(p, g.Path); rules != nil {
			seen := &group.Group{Key: g.Key, Count: g.Members, OpenedAt: g.OpenedAt, LastAt: g.LastAt, Awaited: -1}
			if out[i].Missing = append(out[i].Missing, rules.Missing(seen)...); rules.Parts != "" && g.Scope != "" {
				out[i].Missing = append(out[i].Missing, "the other parts of "+rules.Parts)
			}
		}
	}
	return out, nil
}

func rulesAt(p *plan.Plan, path string) *group.Rules {
	if s := run.StepAt(p, path); s != nil {
		return step.RulesOf(s)
	}
	return nil
}
