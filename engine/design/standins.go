package design

import (
	"context"
	"encoding/json"
	"fmt"
	"sort"
	"strings"

	"readyferry/engine/journal"
	"readyferry/standin"
	"readyferry/store"
)

// LoadStandIns puts the stored definitions of stand-ins into a set.
func (g *Designs) LoadStandIns(set *standin.Set) error {
	rows, err := g.Store.StandIns()
	if err != nil {
		return err
	}
	for _, r := range rows {
		var d standin.Definition
		if err := json.Unmarshal(r.Document, &d); err != nil {
			return err
		}
		if err := set.Define(d); err != nil {
			return err
		}
	}
	return nil
}

// DeleteStandIn removes the stored definition of a stand-in, or gives
// journal.ErrNotFound. Connections that reach it are named with journal.ErrInUse,
// unless whoever asks is sure.
func (g *Designs) DeleteStandIn(ctx context.Context, name string, sure bool) error {
	if users := g.reaching(name); len(users) > 0 && !sure {
		return fmt.Errorf("%w: %s would reach nothing; change it first, or ask with sure=true",
			journal.ErrInUse, strings.Join(users, ", "))
	}
	return g.Store.Write(ctx, func(tx *store.Tx) error { return tx.DeleteStandIn(name) })
}

// reaching lists the connections whose address is that of a stand-in.
func (g *Designs) reaching(name string) []string {
	var out []string
	for _, c := range g.Catalog.Connections() {
		if rest, is := strings.CutPrefix(c.Address, "stand-in://"); is {
			if first, _, _ := strings.Cut(rest, "/"); first == name {
				out = append(out, c.Name)
			}
		}
	}
	sort.Strings(out)
	return out
}

// SaveStandIn stores the definition of a stand-in.
func (g *Designs) SaveStandIn(ctx context.Context, d standin.Definition) error {
	b, err := json.Marshal(d)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *store.Tx) error {
		return tx.SaveStandIn(&store.StandIn{Name: d.Name, Document: b})
	})
}
