package catalog

import (
	"errors"
	"slices"

	"readyferry/core/access"
	"readyferry/core/plan"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/store"
)

// Thing gives what rights are asked for: something by its kind and name, with the area
// that it is in.
func (c *Catalog) Thing(kind, name string) access.Thing {
	t := access.Thing{Kind: kind, Name: name}
	switch kind {
	case access.Flow:
		t.Area = c.Flow(name).Area()
	case access.Connection:
		if conn := c.Connection(name); conn != nil {
			t.Area = conn.Text("/area")
		}
	case access.Table:
		if row, err := c.store.TableInfo(name); err == nil {
			if d, _ := table.Read(row.Document); d != nil {
				t.Area = d.Area
			}
		}
	case access.Queue, access.Topic:
		t.Area = c.channelArea(kind, name)
	}
	return t
}

// Area gives the area of a flow: that of its live version, or of its draft where it was
// never published.
func (f *Flow) Area() string {
	switch {
	case f == nil:
	case f.Live != nil:
		return f.Live.Document.Area
	case f.Draft != nil:
		return f.Draft.Document.Area
	}
	return ""
}

// channelArea gives the area of a queue or topic: that of the flows that read it, or where
// nobody reads it, that of those that fill it. Where those are in several, it is in none.
func (c *Catalog) channelArea(kind, name string) string {
	var readers, writers []string
	c.Each(func(f *Flow) {
		p := planOf(f, true)
		if p == nil {
			return
		}
		if s, ok := SourceOf(&p.Document.Intake); ok && s.Kind == kind && s.Name == name {
			readers = append(readers, f.Area())
		} else if uses(p, useOf[kind], name) || kind == access.Queue && uses(p, step.UseReplies, name) {
			writers = append(writers, f.Area())
		}
	})
	for _, of := range [][]string{readers, writers} {
		slices.Sort(of)
		if of = slices.Compact(of); len(of) > 0 {
			if len(of) == 1 {
				return of[0]
			}
			return ""
		}
	}
	return ""
}

var useOf = map[string]string{access.Queue: step.UseQueue, access.Topic: step.UseTopic}

// FlowsFor lists the flows to which somebody has a right; nil for all of them.
func (c *Catalog) FlowsFor(w *access.Who, r access.Right) []string {
	if w.Everywhere(r) {
		return nil
	}
	out := []string{}
	c.Each(func(f *Flow) {
		if w.May(r, access.Thing{Kind: access.Flow, Name: f.Name, Area: f.Area()}) {
			out = append(out, f.Name)
		}
	})
	slices.Sort(out)
	return out
}

// thingsOf gives what a flow uses that rights are given for, besides tables of its own.
func (c *Catalog) thingsOf(p *plan.Plan) (out []access.Thing) {
	for _, u := range p.Uses {
		if kind := kindOf[u.Kind]; kind != "" && !(u.Kind == step.UseTable && p.HasTable(u.Name)) {
			out = append(out, c.Thing(kind, u.Name))
		}
	}
	return out
}

var kindOf = map[string]string{step.UseConnection: access.Connection, step.UseQueue: access.Queue, step.UseReplies: access.Queue,
	step.UseTopic: access.Topic, step.UseTable: access.Table, step.UseFlow: access.Flow}

// Beyond gives something that a flow uses though whoever publishes it may not see it; nil where
// there is nothing. What is in the flow's own area may be used, and queues, topics and flows
// that are in none: nobody reaches through a flow what is not theirs.
func (c *Catalog) Beyond(w *access.Who, p *plan.Plan) *access.Thing {
	area := p.Document.Area
	for _, t := range c.thingsOf(p) {
		shared := t.Area == area || t.Area == "" && t.Kind != access.Connection && t.Kind != access.Table
		if !shared && !w.May(access.See, t) {
			return &t
		}
	}
	return nil
}

// Unread gives a table that a flow looks up in though somebody may not read its rows; "" where
// there is none.
func (c *Catalog) Unread(w *access.Who, p *plan.Plan) string {
	for _, t := range c.thingsOf(p) {
		if t.Kind != access.Table || w.May(access.Samples, t) {
			continue
		}
		if _, err := c.store.TableInfo(t.Name); !errors.Is(err, store.ErrNotFound) {
			return t.Name
		}
	}
	return ""
}
