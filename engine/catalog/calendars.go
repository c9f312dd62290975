package catalog

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/hours"
	"readyferry/core/timing"
	"readyferry/store"
)

// Calendar gives a calendar by its name; nil where there is none, or where it cannot be read.
func (c *Catalog) Calendar(name string) *hours.Calendar {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.calendars[name]
}

// CalendarsChanged reads the calendars anew and tells everyone.
func (c *Catalog) CalendarsChanged() error { return c.change(c.readCalendars) }

// readCalendars reads all of them. One that cannot be read is left out: what follows it does not
// take place, which its page says.
func (c *Catalog) readCalendars() error {
	rows, err := c.store.Calendars()
	if err != nil {
		return err
	}
	read, failed := CalendarsOf(rows)
	for name, err := range failed {
		c.log.Error("a calendar cannot be used", "calendar", name, "error", err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.calendars = read
	return nil
}

// CalendarsOf reads calendars with what they leave out. What is right is given whatever is wrong
// with others, of which failed tells.
func CalendarsOf(rows []store.Calendar) (out map[string]*hours.Calendar, failed map[string]error) {
	plain, out, failed := map[string]*hours.Calendar{}, map[string]*hours.Calendar{}, map[string]error{}
	except := map[string][]string{}
	for _, row := range rows {
		zone, err := timing.Zone(row.Zone)
		if err == nil {
			plain[row.Name], err = hours.Read(row.Text, zone)
		}
		if err != nil {
			delete(plain, row.Name)
			failed[row.Name] = err
		}
		except[row.Name] = strings.Fields(row.Except)
	}
	var whole func(name string, under []string) (*hours.Calendar, error)
	whole = func(name string, under []string) (*hours.Calendar, error) {
		if slices.Contains(under, name) {
			return nil, fmt.Errorf("%s leaves out itself, by way of %s", name, strings.Join(under, ", "))
		}
		c := plain[name]
		if c == nil {
			return nil, fmt.Errorf("there is no calendar %s", name)
		}
		var others []*hours.Calendar
		for _, other := range except[name] {
			o, err := whole(other, append(slices.Clip(under), name))
			if err != nil {
				return nil, err
			}
			others = append(others, o)
		}
		return c.Except(others...), nil
	}
	for name := range plain {
		c, err := whole(name, nil)
		if err != nil {
			failed[name] = err
			continue
		}
		out[name] = c
	}
	return out, failed
}

// CalendarUses tells what follows a calendar: other calendars, rules, flows and connections.
func (c *Catalog) CalendarUses(name string) (out []string, err error) {
	rows, err := c.store.Calendars()
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if slices.Contains(strings.Fields(row.Except), name) {
			out = append(out, "the calendar "+row.Name)
		}
	}
	for _, f := range c.Flows() {
		if in := f.Intake(); in != nil && in.Timing.During == name {
			out = append(out, "the flow "+f.Name)
		}
	}
	for _, conn := range c.Connections() {
		if conn.HeldDuring == name {
			out = append(out, "the connection "+conn.Name)
		}
	}
	return out, nil
}

// CertificateEnds gives when the first of the certificates of a connection ends: one that it
// holds, or the one that its system showed last since the start; zero where there is none.
func (c *Catalog) CertificateEnds(conn *connect.Connection) time.Time {
	first := reach.Ends(conn)
	if at, ok := c.shown.Load(conn.Name); ok && (first.IsZero() || at.(time.Time).Before(first)) {
		first = at.(time.Time)
	}
	return first
}
