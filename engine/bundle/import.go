package bundle

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"readyferry/core/access"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/engine/catalog"
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

func (b *Bundles) connections(p *plan, f Files, o Options) error {
	names := f.below("connections", ".yaml")
	for _, name := range names {
		d, findings := b.Catalog.Systems().Read(f["connections/"+name+".yaml"])
		if d == nil {
			return refuse("the connection "+name+" cannot be taken", findings)
		}
		if d.Connection.Name != name {
			return fmt.Errorf("%w: connections/%s.yaml is of %q", journal.ErrDecision, name, d.Connection.Name)
		}
		if d.Secrets != nil {
			return fmt.Errorf("%w: connections/%s.yaml holds a secret; give secrets here, they are not moved",
				journal.ErrDecision, name)
		}
		old, err := b.Store.Connection(name)
		there := err == nil
		if err != nil && !errors.Is(err, journal.ErrNotFound) {
			return err
		}
		row := store.Connection{Name: name, Kind: d.Connection.Kind, Document: jsonfmt.Encode(d.Tree), UpdatedAt: b.Now(),
			Revision: old.Revision + 1, By: o.By}
		if there && (o.KeepConnections || sameJSON(old.Document, row.Document)) {
			continue
		}
		c := Change{"connection", name, "adds", d.Connection.Address}
		if there {
			c.Does = "changes"
			if before, _ := b.Catalog.Systems().Read(old.Document); before != nil && design.SameDoor(before.Connection,
				d.Connection) {
				row.Sealed = old.Sealed
			}
		}
		if row.Sealed == nil && design.NeedsSecret(d.Connection) {
			c.Detail += "; give it its secret here"
		}
		if row.Named, err = b.Named(context.Background(), d.Connection); err != nil {
			return err
		}
		p.will(c, func(tx *store.Tx) error { return tx.SaveConnection(&row) })
	}
	if !o.RemoveOthers {
		return nil
	}
	rows, err := b.Store.Connections()
	if err != nil {
		return err
	}
	for _, r := range rows {
		if !slices.Contains(names, r.Name) {
			p.will(Change{"connection", r.Name, "removes", ""}, func(tx *store.Tx) error { return tx.DeleteConnection(r.Name) })
		}
	}
	return nil
}

func sameJSON(a, b []byte) bool {
	var x, y any
	if json.Unmarshal(a, &x) != nil || json.Unmarshal(b, &y) != nil {
		return bytes.Equal(a, b)
	}
	m, _ := json.Marshal(x)
	n, _ := json.Marshal(y)
	return bytes.Equal(m, n)
}

func (b *Bundles) tables(p *plan, f Files, o Options) error {
	names := f.below("tables", ".yaml")
	for _, name := range names {
		d, findings := table.Read(f["tables/"+name+".yaml"])
		if d == nil {
			return refuse("the table "+name+" cannot be taken", findings)
		}
		if d.Name != name {
			return fmt.Errorf("%w: tables/%s.yaml is of %q", journal.ErrDecision, name, d.Name)
		}
		c, do, err := b.TableAs(d, f["tables/"+name+".json"])
		if err != nil {
			return fmt.Errorf("the table %s: %w", name, err)
		}
		if do != nil {
			does := "changes"
			if c.New {
				does = "adds"
			}
			p.will(Change{"table", name, does, c.Detail}, do)
		}
	}
	if !o.RemoveOthers {
		return nil
	}
	all, err := b.Store.Tables()
	if err != nil {
		return err
	}
	for _, t := range all {
		if !slices.Contains(names, t.Name) {
			p.will(Change{"table", t.Name, "removes", fmt.Sprintf("%d rows", t.Rows)},
				func(tx *store.Tx) error { return tx.DropTable(t.Name) })
		}
	}
	return nil
}

func (b *Bundles) flows(p *plan, f Files, o Options) error {
	names := f.below("flows", "")
	for _, name := range names {
		if err := b.flow(p, f, name, o); err != nil {
			return err
		}
	}
	if !o.RemoveOthers && !o.RemoveFlows {
		return nil
	}
	rows, err := b.Store.Flows()
	if err != nil {
		return err
	}
	for _, r := range rows {
		if !slices.Contains(names, r.Name) {
			if err := b.Ended(r.Name); err != nil {
				return fmt.Errorf("the flow %s cannot be removed: %w", r.Name, err)
			}
			p.will(Change{"flow", r.Name, "removes", ""}, func(tx *store.Tx) error { return tx.DeleteFlow(r.Name) })
		}
	}
	return nil
}

// flow plans what is done to one flow: its draft, its samples, what is live and whether it is
// paused.
func (b *Bundles) flow(p *plan, f Files, name string, o Options) error {
	at := "flows/" + name
	draft, files := f[at+"/flow.yaml"], f.in(at+"/files")
	read, findings := b.Catalog.Reader().Read(draft, files)
	if read == nil {
		return refuse("the flow "+name+" cannot be taken", findings)
	}
	if read.Document.Name != name {
		return fmt.Errorf("%w: %s/flow.yaml is of %q", journal.ErrDecision, at, read.Document.Name)
	}
	var s state
	if text := f[at+"/state.json"]; text != nil {
		if err := json.Unmarshal(text, &s); err != nil {
			return fmt.Errorf("%w: %s/state.json: %w", journal.ErrDecision, at, err)
		}
	}
	old, err := b.Store.Flow(name)
	there := err == nil
	if err != nil && !errors.Is(err, journal.ErrNotFound) {
		return err
	}
	had, err := b.Store.Files(name)
	if err != nil {
		return err
	}
	if old.Draft != string(draft) || !maps.EqualFunc(had, files, bytes.Equal) {
		c := Change{"flow", name, "adds", read.Document.Title}
		if there {
			c.Does = "changes"
		}
		p.will(c, func(tx *store.Tx) error {
			return b.saveDraft(tx, name, read.Document.Title, draft, files, had)
		})
	}
	if err := b.samples(p, f, name, o); err != nil {
		return err
	}
	return b.liveAs(p, f, name, s, old, o)
}

func (b *Bundles) saveDraft(tx *store.Tx, name, title string, draft []byte, files, had map[string][]byte) error {
	row, err := tx.Flow(name)
	if err != nil && !errors.Is(err, journal.ErrNotFound) {
		return err
	}
	row.Name, row.Title, row.Draft, row.UpdatedAt = name, title, string(draft), b.Now()
	row.Revision++
	row.Edits++
	if err := tx.SaveFlow(&row); err != nil {
		return err
	}
	for file := range had {
		if files[file] == nil {
			if err := tx.SaveFile(name, file, nil); err != nil {
				return err
			}
		}
	}
	for file, content := range files {
		if err := tx.SaveFile(name, file, content); err != nil {
			return err
		}
	}
	return nil
}

func (b *Bundles) samples(p *plan, f Files, name string, o Options) error {
	rows, err := b.Store.Samples(name)
	if err != nil {
		return err
	}
	had := map[string][]byte{}
	for _, r := range rows {
		had[r.Name] = r.Document
	}
	var kept []string
	for _, file := range f.below("flows/"+name+"/samples", ".json") {
		var s catalog.Sample
		if err := json.Unmarshal(f["flows/"+name+"/samples/"+file+".json"], &s); err != nil || s.Name == "" {
			return fmt.Errorf("%w: flows/%s/samples/%s.json is no sample: %w", journal.ErrDecision, name, file, err)
		}
		kept = append(kept, s.Name)
		doc, err := json.Marshal(s)
		if err != nil {
			return err
		}
		was, there := had[s.Name]
		if there && sameJSON(was, doc) {
			continue
		}
		c := Change{"sample", name + ": " + s.Name, "adds", ""}
		if there {
			c.Does = "changes"
		}
		p.will(c, func(tx *store.Tx) error { return catalog.SaveSample(tx, name, s) })
	}
	for _, r := range rows {
		if (o.RemoveOthers || o.RemoveFlows) && !slices.Contains(kept, r.Name) {
			p.will(Change{"sample", name + ": " + r.Name, "removes", ""},
				func(tx *store.Tx) error { return tx.DeleteSample(name, r.Name) })
		}
	}
	return nil
}

// liveAs plans that what is live in the bundle is live here.
func (b *Bundles) liveAs(p *plan, f Files, name string, s state, old store.Flow, o Options) error {
	at := "flows/" + name
	if !s.Live {
		return nil
	}
	document, files := f[at+"/live.yaml"], f.in(at+"/live-files")
	if document == nil {
		document, files = f[at+"/flow.yaml"], f.in(at+"/files")
	}
	read, findings := b.Catalog.Reader().Read(document, files)
	if read == nil || flow.HasErrors(findings) {
		return refuse("the live version of "+name+" cannot be taken", findings)
	}
	if err := b.reaches(f, read.Uses, name); err != nil {
		return err
	}
	packed, err := design.Pack(read.Keeps(files))
	if err != nil {
		return err
	}
	same := false
	if old.Live > 0 {
		v, err := b.Store.Version(name, old.Live)
		if err != nil {
			return err
		}
		same = v.Document == string(document) && bytes.Equal(v.Files, packed)
	}
	needs, err := b.Catalog.NeedsSecond(name, read.Document.Area)
	if err != nil {
		return err
	}
	if !same && needs {
		if err := b.asks(p, name, string(document), packed, f[at+"/live.yaml"] != nil, o); err != nil {
			return err
		}
	} else if !same {
		v := store.Version{Flow: name, Document: string(document), Files: packed, Rules: int(flow.RulesNow),
			PublishedAt: b.Now(),
			By:          o.By, Note: o.Note}
		p.will(Change{"flow", name, "publishes", "a new version"}, func(tx *store.Tx) error {
			return b.GoesLive(tx, name, &v, read)
		})
	}
	if s.Paused != old.Paused && (!o.KeepPaused || old.Name == "") {
		does := map[bool]string{true: "pauses", false: "resumes"}[s.Paused]
		p.will(Change{"flow", name, does, ""}, func(tx *store.Tx) error {
			row, err := tx.Flow(name)
			if err != nil {
				return err
			}
			row.Paused = s.Paused
			return tx.SaveFlow(&row)
		})
	}
	return nil
}

// asks plans that a second person is asked for what would go live.
func (b *Bundles) asks(p *plan, name, document string, packed []byte, other bool, o Options) error {
	if other {
		return fmt.Errorf("%w: publishing %s needs a second person here, who publishes the draft; the bundle has another live version: "+
			"publish or undo the draft where it comes from", journal.ErrDecision, name)
	}
	a := store.Asked{Flow: name, Mark: design.Mark(document, packed), By: o.By, Note: o.Note, At: b.Now()}
	was, err := b.Store.Asked(name)
	if err != nil && !errors.Is(err, journal.ErrNotFound) || was.Mark == a.Mark {
		return err
	}
	p.will(Change{"flow", name, "asks", "for a second person who publishes it"},
		func(tx *store.Tx) error { return tx.AskFor(&a) })
	return nil
}

// reaches refuses a live version that uses a connection which is neither here nor in the bundle.
func (b *Bundles) reaches(f Files, uses []step.Use, name string) error {
	for _, u := range uses {
		if u.Kind == step.UseConnection && f["connections/"+u.Name+".yaml"] == nil && b.Catalog.Connection(u.Name) == nil {
			return fmt.Errorf("%w: the flow %s uses the connection %s, which is neither here nor in the bundle",
				journal.ErrDecision,
				name, u.Name)
		}
	}
	return nil
}

func (b *Bundles) people(p *plan, f Files, _ Options) error {
	text := f["people.json"]
	if text == nil {
		return nil
	}
	var all []person
	if err := json.Unmarshal(text, &all); err != nil {
		return fmt.Errorf("%w: people.json: %w", journal.ErrDecision, err)
	}
	for _, one := range all {
		if one.Name == "" || strings.ToLower(one.Name) != one.Name {
			return fmt.Errorf("%w: people.json: %q is no name", journal.ErrDecision, one.Name)
		}
		for _, g := range one.Grants {
			if err := g.Check(); err != nil {
				return fmt.Errorf("%w: people.json: %s: %w", journal.ErrDecision, one.Name, err)
			}
		}
		old, err := b.Store.Person(one.Name)
		there := err == nil
		if err != nil && !errors.Is(err, journal.ErrNotFound) {
			return err
		}
		grants, err := json.Marshal(one.Grants)
		if err != nil {
			return err
		}
		if there && old.Title == one.Title && bytes.Equal(old.Grants, grants) && old.Ended == one.Ended {
			continue
		}
		c := Change{"person", one.Name, "adds", rolesText(one.Grants)}
		row := store.Person{Name: one.Name, CreatedAt: b.Now(), ChangedAt: b.Now()}
		if there {
			c.Does, row = "changes", old
		}
		row.Title, row.Grants, row.Ended = one.Title, grants, one.Ended
		p.will(c, func(tx *store.Tx) error { return tx.SavePerson(&row) })
	}
	return nil
}

func rolesText(all []access.Grant) string {
	var out []string
	for _, g := range all {
		out = append(out, string(g.Role)+"@"+g.Area)
	}
	return strings.Join(out, ", ")
}
