package bundle

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"readyferry/core/alarm"
	"readyferry/core/timing"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// calendar is what stands beside the text of a calendar.
type calendar struct {
	Title  string `json:"title"`
	Zone   string `json:"zone"`
	Except string `json:"except,omitempty"`
}

func (b *Bundles) exportAlarms(out Files) error {
	calendars, err := b.Store.Calendars()
	if err != nil {
		return err
	}
	for _, c := range calendars {
		out["calendars/"+c.Name+".ics"] = []byte(c.Text)
		out["calendars/"+c.Name+".json"] = lines(calendar{c.Title, c.Zone, c.Except})
	}
	rules, err := b.Store.AlarmRules()
	if err != nil {
		return err
	}
	for _, r := range rules {
		out["alarms/"+r.Name+".json"] = pretty(r.Document)
	}
	return nil
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// calendars plans that calendars are as the bundle has them. They come before whatever follows
// them.
func (b *Bundles) calendars(p *plan, f Files, o Options) error {
	rows, err := b.Store.Calendars()
	if err != nil {
		return err
	}
	have, want := map[string]store.Calendar{}, map[string]store.Calendar{}
	for _, r := range rows {
		have[r.Name], want[r.Name] = r, r
	}
	names := f.below("calendars", ".ics")
	for _, name := range names {
		var head calendar
		if text := f["calendars/"+name+".json"]; text != nil {
			if err := json.Unmarshal(text, &head); err != nil {
				return fmt.Errorf("%w: calendars/%s.json: %w", journal.ErrDecision, name, err)
			}
		}
		if _, err := timing.Zone(head.Zone); err != nil || !nameForm.MatchString(name) {
			return fmt.Errorf("%w: the calendar %q cannot be taken: %w", journal.ErrDecision, name,
				errors.Join(err, errors.New("its name has small letters, digits and hyphens, its zone is one of the IANA's")))
		}
		c := store.Calendar{Name: name, Title: head.Title, Zone: head.Zone, Except: head.Except,
			Text:     string(f["calendars/"+name+".ics"]),
			Revision: have[name].Revision}
		if want[name] = c; have[name] == c {
			continue
		}
		does := "adds"
		if _, there := have[name]; there {
			does = "changes"
		}
		c.Revision++
		p.will(Change{"calendar", name, does, head.Title}, func(tx *store.Tx) error { return tx.SaveCalendar(&c) })
	}
	if o.RemoveOthers {
		for _, r := range rows {
			if !slices.Contains(names, r.Name) {
				delete(want, r.Name)
				p.last(Change{"calendar", r.Name, "removes", ""}, func(tx *store.Tx) error { return tx.DropCalendar(r.Name) })
			}
		}
	}
	all := make([]store.Calendar, 0, len(want))
	for _, c := range want {
		all = append(all, c)
	}
	_, failed := catalog.CalendarsOf(all)
	for name, err := range failed {
		return fmt.Errorf("%w: the calendar %s cannot be taken: %w", journal.ErrDecision, name, err)
	}
	return nil
}

// alarms plans that the rules of alarms are as the bundle has them.
func (b *Bundles) alarms(p *plan, f Files, o Options) error {
	rows, err := b.Store.AlarmRules()
	if err != nil {
		return err
	}
	have := map[string]store.AlarmRule{}
	for _, r := range rows {
		have[r.Name] = r
	}
	names := f.below("alarms", ".json")
	for _, name := range names {
		r, err := b.rule(f, name)
		if err != nil {
			return fmt.Errorf("%w: alarms/%s.json: %w", journal.ErrDecision, name, err)
		}
		document, err := json.Marshal(r)
		if err != nil {
			return err
		}
		old, there := have[name]
		if there && sameJSON(old.Document, document) {
			continue
		}
		row := store.AlarmRule{Name: name, Document: document, Revision: old.Revision + 1, CreatedAt: b.Now(), By: o.By}
		does := "adds"
		if there {
			does, row.CreatedAt = "changes", old.CreatedAt
		}
		p.will(Change{"alarm", name, does, r.Title}, func(tx *store.Tx) error { return tx.SaveAlarmRule(&row) })
	}
	for _, r := range rows {
		if o.RemoveOthers && !slices.Contains(names, r.Name) {
			p.will(Change{"alarm", r.Name, "removes", ""}, func(tx *store.Tx) error { return tx.DropAlarmRule(r.Name, b.Now()) })
		}
	}
	return nil
}

// rule reads a rule, and finds what is wrong with it and with what it names.
func (b *Bundles) rule(f Files, name string) (*alarm.Rule, error) {
	var r alarm.Rule
	if err := json.Unmarshal(f["alarms/"+name+".json"], &r); err != nil {
		return nil, err
	}
	if !nameForm.MatchString(name) {
		return nil, fmt.Errorf("%q is no name of a rule: small letters, digits and hyphens", name)
	}
	if err := r.Check(); err != nil {
		return nil, err
	}
	for _, c := range []string{r.During, r.Quiet} {
		if c != "" && f["calendars/"+c+".ics"] == nil && b.Catalog.Calendar(c) == nil {
			return nil, fmt.Errorf("there is no calendar %s, neither here nor in the bundle", c)
		}
	}
	for _, t := range r.Tell {
		if t.Flow != "" && f["flows/"+t.Flow+"/flow.yaml"] == nil && b.Catalog.Flow(t.Flow) == nil {
			return nil, fmt.Errorf("there is no flow %s, neither here nor in the bundle", t.Flow)
		}
		if c := t.Connection; c != "" && f["connections/"+c+".yaml"] == nil && b.Catalog.Connection(c) == nil {
			return nil, fmt.Errorf("there is no connection %s, neither here nor in the bundle", c)
		}
	}
	return &r, nil
}
