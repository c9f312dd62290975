package catalog

import (
	"fmt"
	"slices"
	"strings"

	"readyferry/connect"
	"readyferry/core/plan"
	"readyferry/core/step"
)

// Place is where the messages of a flow are worked on, in a fleet whose journal is in several partitions.
type Place struct {
	Spread    bool   // over all partitions, each message by its order value
	Partition int    // where they are not: all of them in this one
	Why       string // they are not, in words
}

// Place says where the messages of a flow are worked on.
func (c *Catalog) Place(f *Flow) Place {
	if f == nil || f.Live == nil {
		return Place{Why: "it is not live"}
	}
	for _, p := range f.plans() {
		if why := c.WhyFirst(f.Name, p); why != "" {
			return Place{Why: why}
		}
	}
	for _, p := range f.plans() {
		if why := p.Meets(); why != "" {
			return Place{Partition: f.Home, Why: why}
		}
	}
	return Place{Spread: true}
}

// NextHome gives the partition in which a flow is at home from when a version of it takes messages. One that meets
// nobody but itself gets one then, that in which the fewest flows are, and keeps it, as what it has is there; one that
// has been in the first partition stays there.
func (c *Catalog) NextHome(name string, p *plan.Plan) int {
	f := c.Flow(name)
	switch {
	case c.WhyFirst(name, p) != "":
		return 0
	case f != nil && f.Home != 0:
		return f.Home
	case p.Meets() == "", f != nil && f.Version > 0 && !c.Place(f).Spread:
		return 0
	}
	there := make([]int, c.Partitions)
	c.Each(func(f *Flow) {
		if at := c.Place(f); f.Live != nil && !at.Spread {
			there[at.Partition]++
		}
	})
	return slices.Index(there, slices.Min(there))
}

// WhyFirst says why messages of a flow under a version have to be in the first partition, or "".
func (c *Catalog) WhyFirst(name string, p *plan.Plan) string {
	related := c.relations()
	if by := related.callers[name]; by != "" {
		return fmt.Sprintf("the flow %s calls it", by)
	}
	if why := p.Shares(); why != "" {
		return why
	}
	for _, u := range p.Uses {
		var why string
		switch u.Kind {
		case step.UseConnection:
			if u.As != step.AsCaller {
				why = c.keepsHome(c.Connection(u.Name))
			}
		case step.UseTable:
			if by := related.writers[u.Name]; by != "" && !p.HasTable(u.Name) {
				why = fmt.Sprintf("the flow %s writes into the table %s", by, u.Name)
			}
		}
		if why != "" {
			return why
		}
	}
	return ""
}

// keepsHome says why a connection can be used from one place alone, or "".
func (c *Catalog) keepsHome(conn *connect.Connection) string {
	switch {
	case conn == nil:
		return ""
	case conn.At != "":
		return fmt.Sprintf("%s is reached by the runner %s", conn.Name, conn.At)
	case strings.HasPrefix(conn.Address, "stand-in://") && conn.Kind != "http":
		return conn.Name + " is a stand-in"
	case conn.Text("/sign-in/grant") == "authorization-code": // each answer brings the secret for the next
		return "a person has signed in for " + conn.Name
	case conn.InFlight > 0 && conn.InFlight < c.Partitions:
		return fmt.Sprintf("%s takes %d at once", conn.Name, conn.InFlight)
	}
	return ""
}

// relations are what flows have to do with each other. Of several the first by name stands for all.
type relations struct {
	callers map[string]string // by the flow that they call
	writers map[string]string // by the table that they write into
}

// relations gives those between the live flows, which are worked out once for each change of a flow.
func (c *Catalog) relations() *relations {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.related != nil {
		return c.related
	}
	r := &relations{callers: map[string]string{}, writers: map[string]string{}}
	note := func(of map[string]string, what, flow string) {
		if by := of[what]; by == "" || flow < by {
			of[what] = flow
		}
	}
	for name, f := range c.flows {
		for _, p := range f.plans() {
			for _, u := range p.Uses {
				switch {
				case u.Kind == step.UseFlow && u.Runner == "":
					note(r.callers, u.Name, name)
				case u.Kind == step.UseTable && u.Pairs:
					note(r.writers, u.Name, name)
				}
			}
		}
	}
	c.related = r
	return r
}
