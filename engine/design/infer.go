package design

import (
	"fmt"
	"slices"

	"readyferry/core/contract"
	"readyferry/core/expr"
	"readyferry/core/format"
	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/table"
	"readyferry/engine/journal"
)

// Env gives the environment of expressions.
func (g *Designs) Env() *expr.Env { return g.Catalog.Reader().Env() }

// Rows finds rows of tables as they are, for expressions that are tried out.
func (g *Designs) Rows() expr.Rows { return table.Live(g.Store.LookIn()) }

// InferSchema makes a schema that samples of a flow fit: the named ones, or all.
// left names those that cannot be read.
func (g *Designs) InferSchema(name string, only []string, how contract.Inferring) (schema *message.Node, left []string, err error) {
	f, err := g.Store.Flow(name)
	if err != nil {
		return nil, nil, err
	}
	files, err := g.Store.Files(name)
	if err != nil {
		return nil, nil, err
	}
	p, findings := g.Read(name, []byte(f.Draft), files)
	if p == nil {
		return nil, nil, &FindingsError{"the draft cannot be read", findings}
	}
	samples, err := g.Catalog.Samples(name)
	if err != nil {
		return nil, nil, err
	}
	var bodies []*message.Node
	for i := range samples {
		if only != nil && !slices.Contains(only, samples[i].Name) {
			continue
		}
		r, err := run.Receive(p, samples[i].Envelope(name))
		if err != nil {
			left = append(left, samples[i].Name)
			continue
		}
		bodies = append(bodies, r.Message.Body)
		how.XML = how.XML || r.Message.Format == format.XML
	}
	if bodies == nil {
		return nil, left, fmt.Errorf("%w: there is no sample that can be read; add one first", journal.ErrDecision)
	}
	return contract.Infer(bodies, how), left, nil
}
