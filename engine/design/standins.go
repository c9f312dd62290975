package design

import (
	"context"
	"encoding/json"

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
		set.Define(d)
	}
	return nil
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
