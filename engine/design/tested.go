package design

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
)

// Tested is what a test of a connection came to.
type Tested struct {
	OK     bool             `json:"ok"`
	Status int              `json:"status"`
	Detail string           `json:"detail"`
	Took   float64          `json:"took"` // milliseconds
	Header []message.Header `json:"headers"`
	Body   string           `json:"body"` // its first 4 KiB
	Steps  []connect.Step   `json:"steps"`
}

// TestConnection tries a connection, as its system does that.
func (g *Designs) TestConnection(ctx context.Context, name string) (Tested, error) {
	c := g.Catalog.Connection(name)
	if c == nil {
		return Tested{}, journal.ErrNotFound
	}
	if sys := g.Catalog.Systems().Find(c.Kind); sys == nil || sys.Open == nil {
		return Tested{}, fmt.Errorf(
			"%w: a connection of kind %s is called by others, so there is nothing to call",
			journal.ErrDecision,
			c.Kind,
		)
	}
	began := time.Now()
	report := connect.Report{}
	link, err := g.links.Link(ctx, c)
	if err == nil {
		report, err = link.Check(ctx)
	}
	if err != nil {
		report.Detail = err.Error()
	}
	t := Tested{
		OK:     report.OK,
		Detail: report.Detail,
		Header: append([]message.Header{}, report.Headers...),
		Steps:  append([]connect.Step{}, report.Steps...),
	}
	if t.OK {
		g.inspect(ctx, link, name, &t)
	}
	t.Status, _ = strconv.Atoi(report.Code)
	t.Took = float64(time.Since(began).Microseconds()) / 1000
	t.Body = string(report.Answer[:min(len(report.Answer), 4096)])
	g.links.Pulses.Note(name, t.OK, "tested: "+t.Detail, g.Now())
	if t.OK {
		g.links.Pulses.Ready(name, connect.Outward, g.Now())
	}
	return t, nil
}

// mostInspected is how many places of flows one test looks at.
const mostInspected = 20

// inspect looks whether what flows say to a connection is there, in their drafts and
// where those cannot be read in their live versions.
func (g *Designs) inspect(ctx context.Context, link connect.Link, name string, t *Tested) {
	looker, can := link.(connect.Inspector)
	if !can {
		return
	}
	uses := g.usesOf(name)
	for _, u := range uses[:min(len(uses), mostInspected)] {
		s := looker.Inspect(ctx, u)
		if t.Steps = append(t.Steps, s); !s.OK && t.OK {
			t.OK, t.Detail = false, s.Detail
		}
	}
}

// usesOf lists what flows say to a connection, in the order of their names.
func (g *Designs) usesOf(name string) []connect.Use {
	var out []connect.Use
	g.Catalog.Each(func(f *catalog.Flow) {
		p := f.Draft
		if p == nil {
			p = f.Live
		}
		if p == nil || p.Document.Source == nil {
			return
		}
		out = append(out, usesIn(f.Name, p, name)...)
	})
	slices.SortStableFunc(out, func(a, b connect.Use) int {
		switch {
		case a.Flow < b.Flow:
			return -1
		case a.Flow > b.Flow:
			return 1
		}
		return 0
	})
	return out
}

func usesIn(of string, p *plan.Plan, name string) []connect.Use {
	var out []connect.Use
	if in := &p.Document.Intake; in.Of == name {
		out = append(out, connect.Use{Flow: of, Intake: true, Settings: in.Settings})
	}
	var walk func(n *message.Node)
	walk = func(n *message.Node) {
		for _, item := range n.Items {
			walk(item)
		}
		if names(n, "deliver", "to", name) || names(n, "ask", "of", name) {
			out = append(out, connect.Use{Flow: of, Settings: n})
		}
		for _, m := range n.Members {
			walk(m.Value)
		}
	}
	for _, steps := range []string{"steps", "on-dead-letter"} {
		if n := p.Document.Source.Root.Get(steps); n != nil {
			walk(n)
		}
	}
	return out
}

// names tells whether a map is a step of a kind that names a connection.
func names(n *message.Node, kind, setting, connection string) bool {
	if n.Kind != message.Map {
		return false
	}
	k, c := n.Get("kind"), n.Get(setting)
	return k != nil && k.Text == kind && c != nil && c.Text == connection
}

// Offers lists what is there at a connection: topics, queues, tables. what is the name of
// the setting for which it is asked.
func (g *Designs) Offers(ctx context.Context, name, what string) ([]string, error) {
	c := g.Catalog.Connection(name)
	if c == nil {
		return nil, journal.ErrNotFound
	}
	link, err := g.links.Link(ctx, c)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	lister, can := link.(connect.Lister)
	if !can {
		return []string{}, nil
	}
	list, err := lister.List(ctx, what)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	return append([]string{}, list[:min(len(list), mostOffered)]...), nil
}

// Describe tells how a table of a connection is made.
func (g *Designs) Describe(ctx context.Context, name, table string) (*connect.Table, error) {
	d, err := g.describer(ctx, name)
	if err != nil {
		return nil, err
	}
	out, err := d.Describe(ctx, table)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	return out, nil
}

// Query writes the statement that gives what is selected of a connection's tables.
func (g *Designs) Query(ctx context.Context, name string, s *connect.Selection) (sql string, params []string, err error) {
	d, err := g.describer(ctx, name)
	if err != nil {
		return "", nil, err
	}
	if sql, params, err = d.Query(s); err != nil {
		return "", nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	return sql, params, nil
}

func (g *Designs) describer(ctx context.Context, name string) (connect.Describer, error) {
	c := g.Catalog.Connection(name)
	if c == nil {
		return nil, journal.ErrNotFound
	}
	link, err := g.links.Link(ctx, c)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	d, can := link.(connect.Describer)
	if !can {
		return nil, fmt.Errorf("%w: a connection of kind %s has no tables", journal.ErrDecision, c.Kind)
	}
	return d, nil
}

// mostOffered is how many things a form offers.
const mostOffered = 1000
