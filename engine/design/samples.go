package design

import (
	"context"
	"time"

	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/table"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// SampleRehearsal is the rehearsal of one sample.
type SampleRehearsal struct {
	Sample   string `json:"sample"`
	Expected string `json:"expected"` // as expected, differs, or none
	run.Rehearsal
}

// RehearseSamples runs samples through a draft: the given document and files,
// or the saved ones where they are nil; the given samples, or all saved ones.
// A document that cannot be walked gives its findings and no rehearsals.
func (g *Designs) RehearseSamples(
	name string,
	document []byte,
	samples []catalog.Sample,
) ([]SampleRehearsal, []flow.Finding, error) {
	f, err := g.Store.Flow(name)
	if err != nil {
		return nil, nil, err
	}
	if document == nil {
		document = []byte(f.Draft)
	}
	files, err := g.Store.Files(name)
	if err != nil {
		return nil, nil, err
	}
	if samples == nil {
		if samples, err = g.Catalog.Samples(name); err != nil {
			return nil, nil, err
		}
	}
	p, findings := g.Read(name, document, files)
	if p == nil {
		return []SampleRehearsal{}, findings, nil
	}
	return rehearse(p, name, samples, g.Store.LookIn()), findings, nil
}

// rehearse walks samples one after the other, so that they meet where a step
// gathers messages.
func rehearse(p *plan.Plan, name string, samples []catalog.Sample, tables table.Tables) []SampleRehearsal {
	began := time.Now()
	envelopes, options := make([]run.Envelope, len(samples)), make([]run.Options, len(samples))
	for i := range samples {
		replies := map[string]want.Effect{}
		for id, r := range samples[i].Replies {
			replies[id] = want.Effect{Status: r.Status, Headers: catalog.Pairs(r.Headers), Body: []byte(r.Body)}
		}
		envelopes[i] = samples[i].Envelope(name)
		options[i] = run.Options{
			Replies: replies,
			Clock:   func() time.Duration { return time.Since(began) },
			Tables:  tables,
		}
	}
	out := make([]SampleRehearsal, len(samples))
	for i, r := range run.RehearseAll(p, envelopes, options) {
		out[i] = SampleRehearsal{Sample: samples[i].Name, Rehearsal: r, Expected: "none"}
		if x := samples[i].Expect; x != nil {
			out[i].Expected = "as expected"
			if !met(x, &r) {
				out[i].Expected = "differs"
			}
		}
	}
	return out
}

func met(x *catalog.Expectation, r *run.Rehearsal) bool {
	if x.State != r.State || x.Answer != 0 && (r.Answer == nil || r.Answer.Status != x.Answer) ||
		len(x.Outcomes) != len(r.Trace) {
		return false
	}
	for _, t := range r.Trace {
		if want, ok := x.Outcomes[t.Path]; !ok || want != t.Outcome {
			return false
		}
	}
	return true
}

// SaveSample creates or replaces a sample of a flow.
func (g *Designs) SaveSample(ctx context.Context, name string, s catalog.Sample) error {
	if s.At.IsZero() {
		s.At = g.Now()
	}
	err := g.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Flow(name); err != nil {
			return err
		}
		return catalog.SaveSample(tx, name, s)
	})
	g.Announce(journal.EventFlows)
	return err
}

// DeleteSample removes a sample.
func (g *Designs) DeleteSample(ctx context.Context, name, sample string) error {
	defer g.Announce(journal.EventFlows)
	return g.Store.Write(ctx, func(tx *store.Tx) error { return tx.DeleteSample(name, sample) })
}
