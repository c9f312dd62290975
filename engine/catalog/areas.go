package catalog

import (
	"slices"

	"readyferry/core/access"
	"readyferry/core/step"
	"readyferry/core/table"
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
