package bundle

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"readyferry/core/flow"
	"readyferry/engine/design"
	"readyferry/engine/journal"
	"readyferry/engine/people"
	"readyferry/store"
)

// Change is one thing that an import does.
type Change struct {
	Kind   string `json:"kind"` // flow, sample, connection, table, calendar, alarm, person
	Name   string `json:"name"`
	Does   string `json:"does"` // adds, changes, publishes, asks, pauses, resumes, removes
	Detail string `json:"detail"`
}

// Options say how a bundle is taken.
type Options struct {
	// RemoveOthers removes flows, samples, connections, tables, alarms and calendars that the
	// bundle does not have. People are never removed.
	RemoveOthers bool
	// RemoveFlows removes flows and samples that the bundle does not have, and nothing else.
	RemoveFlows bool
	// KeepPaused leaves flows paused that are, and the others as they are.
	KeepPaused bool
	// KeepConnections leaves connections that are there already as they are: their addresses
	// are those of this place.
	KeepConnections bool
	By, Note        string
}

// plan is what an import does: what it says of itself, and what it does in the transaction.
type plan struct {
	changes []Change
	do      []func(tx *store.Tx) error
	late    []Change // behind all else
	doLate  []func(tx *store.Tx) error
}

func (p *plan) last(c Change, do func(tx *store.Tx) error) {
	p.late = append(p.late, c)
	p.doLate = append(p.doLate, do)
}

func (p *plan) will(c Change, do func(tx *store.Tx) error) {
	p.changes = append(p.changes, c)
	p.do = append(p.do, do)
}

// Preview says exactly what an import would do. A *design.FindingsError tells that it would
// be refused.
func (b *Bundles) Preview(f Files, o Options) ([]Change, error) {
	p, err := b.plan(f, o)
	if err != nil {
		return nil, err
	}
	return p.changes, nil
}

// Import takes a bundle, in one transaction.
func (b *Bundles) Import(ctx context.Context, f Files, o Options) ([]Change, error) {
	p, err := b.plan(f, o)
	if err != nil || len(p.do) == 0 {
		return nil, err
	}
	err = b.Store.Write(ctx, func(tx *store.Tx) error {
		for i, do := range p.do {
			if err := do(tx); err != nil {
				c := p.changes[i]
				return fmt.Errorf("%s %s: %w", c.Kind, c.Name, err)
			}
		}
		if slices.ContainsFunc(p.changes, func(c Change) bool { return c.Kind == "person" }) {
			return people.StillOwned(tx)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	b.Announce(journal.EventFlows, journal.EventAlarms)
	return p.changes, errors.Join(b.Catalog.CalendarsChanged(), b.Catalog.Changed())
}

func (b *Bundles) plan(f Files, o Options) (*plan, error) {
	if err := f.Check(); err != nil {
		return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	p := &plan{}
	for _, part := range []func(*plan, Files, Options) error{b.calendars, b.connections, b.tables, b.flows, b.alarms,
		b.people} {
		if err := part(p, f, o); err != nil {
			return nil, err
		}
	}
	p.changes, p.do = append(p.changes, p.late...), append(p.do, p.doLate...)
	return p, nil
}

func refuse(what string, findings []flow.Finding) error {
	return &design.FindingsError{What: what, Findings: findings}
}
