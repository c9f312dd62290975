// Package design is what people make: drafts and versions of flows, samples and
// their rehearsals, connections, tables, stand-ins.
//
// It promises that nothing which was made is lost or overwritten unseen: what is
// saved is checked first and refused with its findings, every change names the
// revision that it was made over, and a published version never changes. What it
// rehearses leaves nothing outside and nothing behind.
package design

import (
	"sync"

	"readyferry/connect"
	"readyferry/engine/journal"
	"readyferry/engine/perform"
	"readyferry/engine/waker"
)

// Designs change what people make. They are safe for concurrent use.
type Designs struct {
	*journal.Journal
	performers *perform.Performers
	links      *connect.Links

	invited invitations

	mu      sync.Mutex
	loading map[string]*Loading // imports under way, by table
	routes  knownRoutes
	// compared are drafts over real messages, the latest last.
	compared []*traffic
	plans    *waker.Sleeper // of versions that wait for their time
}

// New makes the designs.
func New(p *perform.Performers, links *connect.Links) *Designs {
	g := &Designs{Journal: p.Journal, performers: p, links: links, loading: map[string]*Loading{},
		plans: p.Waker.Sleeper()}
	g.Catalog.OnChange(func() { g.Announce(journal.EventFlows, journal.EventConnections) })
	return g
}

// Start sweeps away what an earlier process has left unfinished, and puts versions to work at
// their time.
func (g *Designs) Start() error {
	g.Life.Go(func() {
		g.plans.Keep(g.Life.Context().Done(), g.goPlanned, func(err error) {
			if !g.Life.Over() {
				g.Log.Error("putting versions to work at their time", "error", err)
			}
		})
	})
	return g.dropUnfinished()
}
