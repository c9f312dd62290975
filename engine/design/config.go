package design

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"readyferry/core/config"
	"readyferry/core/flow"
	"readyferry/core/outbound"
	"readyferry/core/plan"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// byConfig is who has made a version because values of the place have changed.
const byConfig = "config"

// FollowConfig brings flows and connections to what this place says now. A version keeps the
// values that it was published with, so one that reads a value which has changed since is
// followed by a new one, the same but for the values; what is under way ends as it began. A
// flow that reads a value which there is no more goes on with what it has. It is to be called
// before the engine starts, and gives what it has done and what it could not.
func (g *Designs) FollowConfig(ctx context.Context) (done, left []string, err error) {
	rows, err := g.Store.Flows()
	if err != nil {
		return nil, nil, err
	}
	for i := range rows {
		for _, part := range []*int{&rows[i].Live, &rows[i].Trial, &rows[i].Planned} {
			says, err := g.followVersion(ctx, rows[i].Name, *part)
			if err != nil {
				left = append(left, fmt.Sprintf("the flow %s goes on with the values that it was published with: %v",
					rows[i].Name, err))
			} else if says != "" {
				done = append(done, says)
			}
		}
	}
	if err := g.followHosts(ctx); err != nil {
		return done, left, err
	}
	if len(done) > 0 {
		g.Announce(journal.EventFlows)
	}
	return done, left, g.Catalog.Changed()
}

// followVersion makes the version that follows one whose values have changed.
func (g *Designs) followVersion(ctx context.Context, name string, version int) (says string, err error) {
	if version == 0 {
		return "", nil
	}
	p, err := g.Catalog.Plan(name, version)
	if err != nil {
		return "", nil // it cannot be run under any values, which is said elsewhere
	}
	now := g.Catalog.Reader().Configured()
	changed := p.Differs(now)
	if len(changed) == 0 {
		return "", nil
	}
	v, err := g.Store.Version(name, version)
	if err != nil {
		return "", err
	}
	files, err := catalog.UnpackFiles(v.Files)
	if err != nil {
		return "", err
	}
	draft := plan.WithoutConfig(files)
	q, findings := g.Catalog.Reader().ReadHere(flow.Rules(v.Rules), []byte(v.Document), draft)
	for _, f := range findings {
		if f.Level == flow.Error {
			return "", f
		}
	}
	next := v
	next.N, next.PublishedAt, next.By = 0, g.Now(), byConfig
	next.Note, next.Despite = "changed: config."+strings.Join(changed, ", config."), ""
	if next.Files, err = pack(q.Keeps(draft)); err != nil {
		return "", err
	}
	err = g.Store.Write(ctx, func(tx *store.Tx) error { return g.succeeds(tx, name, version, &next) })
	return fmt.Sprintf("%s: version %d follows %d (%s)", name, next.N, version, next.Note), err
}

// succeeds puts a version in the place of another, whichever that had.
func (g *Designs) succeeds(tx *store.Tx, name string, old int, next *store.Version) error {
	f, err := tx.Flow(name)
	if err != nil {
		return err
	}
	if err := tx.AddVersion(next); err != nil {
		return err
	}
	e := store.VersionEvent{Flow: name, Version: next.N, At: g.Now(), By: byConfig, What: wentLive, Note: next.Note}
	if f.Live == old {
		f.Live = next.N
	}
	if f.Trial == old {
		f.Trial, e.What = next.N, forShare
	}
	if f.Planned == old {
		f.Planned, e.What = next.N, isPlanned
	}
	if err := tx.AddVersionEvent(&e); err != nil {
		return err
	}
	return tx.SaveFlow(&f)
}

// followHosts notes the hosts of connections that name them by a value of this place.
func (g *Designs) followHosts(ctx context.Context) error {
	rows, err := g.Store.Connections()
	if err != nil {
		return err
	}
	for i := range rows {
		d, _ := g.Catalog.Systems().Read(rows[i].Document)
		if d == nil || !config.Named(rows[i].Document) {
			continue
		}
		var had outbound.Named
		if json.Unmarshal(rows[i].Named, &had) == nil && slices.Equal(slices.Sorted(maps.Keys(had)),
			sorted(d.Connection.Hosts())) {
			continue
		}
		if rows[i].Named, err = g.named(ctx, d.Connection); err != nil {
			return err
		}
		if err := g.Store.Write(ctx, func(tx *store.Tx) error { return tx.SaveConnection(&rows[i]) }); err != nil {
			return err
		}
	}
	return nil
}

func sorted(list []string) []string {
	slices.Sort(list)
	return list
}
