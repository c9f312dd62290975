package alarm

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"readyferry/core/access"
	core "readyferry/core/alarm"
	"readyferry/core/timing"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Rules lists the rules by title.
func (a *Alarms) Rules() []*Rule {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := make([]*Rule, 0, len(a.rules))
	for _, r := range a.rules {
		out = append(out, r)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Title+out[i].Name < out[j].Title+out[j].Name })
	return out
}

// Rule gives a rule by its name.
func (a *Alarms) Rule(name string) (*Rule, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if r := a.rules[name]; r != nil {
		return r, nil
	}
	return nil, journal.ErrNotFound
}

// check finds what is wrong with a rule, in itself and in what it names.
func (a *Alarms) check(r *core.Rule) error {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("%w: %w", journal.ErrDecision, fmt.Errorf(format, args...))
	}
	if err := r.Check(); err != nil {
		return wrong("%w", err)
	}
	for at, name := range map[string]string{"during": r.During, "quiet": r.Quiet} {
		if name != "" && a.Catalog.Calendar(name) == nil {
			return wrong("%s: there is no calendar named %q; add it under Calendars, or choose another", at, name)
		}
	}
	for i, t := range r.Tell {
		if t.Flow != "" && a.Catalog.Flow(t.Flow) == nil {
			return wrong("tell/%d/flow: there is no flow named %q; choose another, or a connection", i, t.Flow)
		}
		if t.Connection == "" {
			continue
		}
		conn := a.Catalog.Connection(t.Connection)
		if conn == nil {
			return wrong("tell/%d/connection: there is no connection named %q; make it on the Connections page, or choose another", i, t.Connection)
		}
		if sys := a.Catalog.Systems().Find(conn.Kind); sys == nil || sys.Deliver == nil || sys.Name == "sql" {
			return wrong(
				"tell/%d/connection: nothing can be told by %q, which is of kind %s",
				i,
				t.Connection,
				conn.Kind,
			)
		}
		if conn.Kind == "mail" && strings.TrimSpace(t.Recipients) == "" {
			return wrong("tell/%d/recipients: a mail needs them; write addresses with commas between", i)
		}
	}
	return nil
}

// SaveRule creates or replaces a rule. revision, where it is not nil, is the one that it must
// have; 0 for a new one.
func (a *Alarms) SaveRule(ctx context.Context, name string, r *core.Rule, revision *int64) (int64, error) {
	if !nameForm.MatchString(name) {
		return 0, fmt.Errorf("%w: name: small letters, digits and hyphens, at most 63", journal.ErrDecision)
	}
	if err := a.check(r); err != nil {
		return 0, err
	}
	document, err := json.Marshal(r)
	if err != nil {
		return 0, err
	}
	row := store.AlarmRule{Name: name, Document: document, CreatedAt: a.Now(), By: access.Of(ctx).String()}
	err = a.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		n.Events[journal.EventAlarms] = true
		old, err := tx.AlarmRule(name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if revision != nil && *revision != old.Revision {
			return journal.ErrConflict
		}
		row.Revision = old.Revision + 1
		if err == nil {
			row.CreatedAt = old.CreatedAt
		}
		return tx.SaveAlarmRule(&row)
	})
	if err == nil {
		err = a.readRules()
		a.rouse()
	}
	return row.Revision, err
}

// DropRule removes a rule; what rings for it is over.
func (a *Alarms) DropRule(ctx context.Context, name string) error {
	if _, err := a.Rule(name); err != nil {
		return err
	}
	err := a.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		n.Events[journal.EventAlarms] = true
		return tx.DropAlarmRule(name, a.Now())
	})
	if err != nil {
		return err
	}
	return a.readRules()
}

// seeded is the setting that tells that the first rules were given.
const seeded = "alarms seeded"

// seed gives an application that never had any the rules that hold everywhere. They tell nobody:
// whom, only its people know.
func (a *Alarms) seed() error {
	return a.Store.Write(a.context(), func(tx *store.Tx) error {
		was, err := tx.Setting(seeded)
		if err != nil || was == seededNow {
			return err
		}
		for name, r := range firstRules {
			if max(1, seededBy(seededWith[r.Watch])) <= seededBy(was) {
				continue // an earlier release gave it
			}
			document, err := json.Marshal(r)
			if err != nil {
				return err
			}
			if err := tx.SaveAlarmRule(&store.AlarmRule{Name: name, Document: document, Revision: 1,
				CreatedAt: a.Now()}); err != nil {
				return err
			}
		}
		return tx.SetSetting(seeded, seededNow)
	})
}

// What releases have noted behind giving their rules, in turn: the first ones, and with which kind more
// came. seededNow is the last.
var seedings = []string{"", "yes", "with secrets", "with refusals", seededNow}

const seededNow = "with members"

var seededWith = map[string]string{"secret": "with secrets", "refused": "with refusals", "members": seededNow}

// seededBy gives the place of what a release has noted.
func seededBy(noted string) int {
	if i := slices.Index(seedings, noted); i >= 0 && noted != "" {
		return i
	}
	if noted == "" {
		return 0
	}
	return 1
}

var firstRules = map[string]core.Rule{
	"dead-letters":     {Title: "Dead letters wait for somebody", Watch: "open-letters"},
	"connection-fails": {Title: "A connection does not work", Watch: "target", Limit: 5, Urgent: true},
	"source-fails":     {Title: "A source brings nothing, because it fails", Watch: "source", Limit: 5, Urgent: true},
	"too-old":          {Title: "A message has been under way for long", Watch: "age", Limit: 60},
	"certificate-ends": {Title: "A certificate ends soon", Watch: "certificate", Limit: 21},
	"key-ends":         {Title: "A key ends soon", Watch: "key", Limit: 14},
	"secret-ends":      {Title: "A secret of a connection ends soon", Watch: "secret", Limit: 14},
	"many-refused":     {Title: "Many sign-ins or requests are refused", Watch: "refused", Limit: 20},
	"member-away":      {Title: "A member of the fleet is away", Watch: "members", Urgent: true},
	"disk-is-short":    {Title: "The disk gets full", Watch: "disk", Limit: 2000, Urgent: true},
}

// Calendars lists the calendars.
func (a *Alarms) Calendars() ([]store.Calendar, error) { return a.Store.Calendars() }

// SaveCalendar creates or replaces a calendar.
func (a *Alarms) SaveCalendar(ctx context.Context, c *store.Calendar, revision *int64) (int64, error) {
	if !nameForm.MatchString(c.Name) {
		return 0, fmt.Errorf("%w: name: small letters, digits and hyphens, at most 63", journal.ErrDecision)
	}
	if _, err := timing.Zone(c.Zone); err != nil {
		return 0, fmt.Errorf("%w: zone: %w", journal.ErrDecision, err)
	}
	err := a.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		n.Events[journal.EventAlarms] = true
		all, err := tx.Calendars()
		if err != nil {
			return err
		}
		others := []store.Calendar{*c}
		for _, o := range all {
			if o.Name != c.Name {
				others = append(others, o)
				continue
			}
			c.Revision = o.Revision
		}
		if revision != nil && *revision != c.Revision {
			return journal.ErrConflict
		}
		c.Revision++
		if read, failed := catalog.CalendarsOf(others); read[c.Name] == nil {
			return fmt.Errorf("%w: %w", journal.ErrDecision, failed[c.Name])
		}
		return tx.SaveCalendar(c)
	})
	if err != nil {
		return 0, err
	}
	a.rouse()
	return c.Revision, a.Catalog.CalendarsChanged()
}

// CalendarUses tells what follows a calendar, in words.
func (a *Alarms) CalendarUses(name string) ([]string, error) {
	uses, err := a.Catalog.CalendarUses(name)
	for _, r := range a.Rules() {
		if r.During == name || r.Quiet == name {
			uses = append(uses, "the rule "+r.Title)
		}
	}
	return uses, err
}

// DropCalendar removes a calendar that nothing follows.
func (a *Alarms) DropCalendar(ctx context.Context, name string) error {
	if _, err := a.Store.Calendar(name); err != nil {
		return err
	}
	uses, err := a.CalendarUses(name)
	if err != nil {
		return err
	}
	if len(uses) > 0 {
		return fmt.Errorf("%w: %s follows it", journal.ErrInUse, strings.Join(uses, ", "))
	}
	err = a.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		n.Events[journal.EventAlarms] = true
		return tx.DropCalendar(name)
	})
	if err != nil {
		return err
	}
	return a.Catalog.CalendarsChanged()
}
