package catalog

import (
	"fmt"
	"strings"

	"readyferry/connect"
	"readyferry/core/step"
)

// AtHome says in words why all messages of a flow are worked on in the first partition of a fleet; ""
// where they are spread over all partitions, each by its order value.
func (c *Catalog) AtHome(f *Flow) string {
	if f == nil || f.Live == nil {
		return "it is not live"
	}
	if by := c.namer(func(u *step.Use) bool { return u.Kind == step.UseFlow && u.Name == f.Name && u.Runner == "" }); by != "" {
		return fmt.Sprintf("the flow %s calls it", by)
	}
	for _, p := range f.plans() {
		if why := p.Meets(); why != "" {
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
				if by := c.writerOf(u.Name); by != "" && !p.HasTable(u.Name) {
					why = fmt.Sprintf("the flow %s writes into the table %s", by, u.Name)
				}
			}
			if why != "" {
				return why
			}
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

// writerOf names a live flow that writes into a table, or "".
func (c *Catalog) writerOf(table string) string {
	return c.namer(func(u *step.Use) bool { return u.Kind == step.UseTable && u.Pairs && u.Name == table })
}

// namer gives the first live flow, by name, that uses something; "" where none does.
func (c *Catalog) namer(is func(u *step.Use) bool) (by string) {
	c.Each(func(f *Flow) {
		if by != "" && f.Name >= by {
			return
		}
		for _, p := range f.plans() {
			for i := range p.Uses {
				if is(&p.Uses[i]) {
					by = f.Name
				}
			}
		}
	})
	return by
}
