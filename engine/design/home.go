package design

import (
	"fmt"

	"readyferry/core/plan"
	"readyferry/engine/journal"
)

// movesHome refuses to take a flow to the first partition of a fleet while its own remembers messages for those to
// come: they would not be found. With sure a person has been asked.
func (g *Designs) movesHome(name string, p *plan.Plan, sure bool) error {
	f := g.Catalog.Flow(name)
	if sure || f == nil || f.Home == 0 || g.Catalog.NextHome(name, p) != 0 {
		return nil
	}
	r, err := g.Store.All().Remembered(name)
	if err != nil || r.Groups+r.Turns+r.Once == 0 {
		return err
	}
	return fmt.Errorf("%w: %s would be worked on in partition 0, since %s; what it remembers is in partition %d and stays there "+
		"(%d open groups, the turns of %d keys, %d values that came once): say sure=true, or publish it under another name",
		journal.ErrInUse, name, g.Catalog.WhyFirst(name, p), f.Home, r.Groups, r.Turns, r.Once)
}
