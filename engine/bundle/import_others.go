package bundle

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"readyferry/core/access"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/table"
	"readyferry/engine/design"
	"readyferry/engine/journal"
	"readyferry/store"
)

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
