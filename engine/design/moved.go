package design

import (
	"context"
	"errors"
	"fmt"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/table"
	"readyferry/engine/journal"
	"readyferry/store"
)

// What moving things between instances needs of a design: the same rules as when a person
// does it, as pieces of one transaction.

// Pack gives files as a version keeps them.
func Pack(files map[string][]byte) ([]byte, error) { return pack(files) }

// SameFiles tells whether a version has the files of a draft, whatever values of config it keeps.
func SameFiles(version []byte, draft map[string][]byte) bool { return sameFiles(version, draft) }

// SameDoor tells whether a secret that was given for one connection goes to the same place
// with another.
func SameDoor(a, b *connect.Connection) bool { return sameDoor(a, b) }

// NeedsSecret tells whether a connection cannot sign in without a secret.
func NeedsSecret(c *connect.Connection) bool { return needsSecret(c) }

// Named notes which hosts a connection names, and what kinds of address they have now.
func (g *Designs) Named(ctx context.Context, c *connect.Connection) ([]byte, error) {
	return g.named(ctx, c)
}

// GoesLive makes a version of a flow, and puts it to work for all messages.
func (g *Designs) GoesLive(tx *store.Tx, name string, v *store.Version, p *plan.Plan) error {
	f, err := tx.Flow(name)
	if err != nil {
		return err
	}
	if err := tx.AddVersion(v); err != nil {
		return err
	}
	files, err := tx.Files(name)
	if err != nil {
		return err
	}
	if f.Edits = max(f.Edits, 1); v.Document == f.Draft && sameFiles(v.Files, files) {
		f.Edits = 0
	}
	return g.begins(tx, &f, v.N, p, &Word{By: v.By, Note: v.Note})
}

// Moved is what becomes of a table that is to be as another one.
type Moved struct {
	New    bool
	Detail string
}

// TableAs plans that a table is as a definition and a file of rows as JSON say. do is nil
// where it is so already.
func (g *Designs) TableAs(d *table.Definition, rows []byte) (m Moved, do func(tx *store.Tx) error, err error) {
	var list []*message.Node
	if len(rows) > 0 {
		f, err := table.ReadFile("json", rows)
		if err != nil {
			return m, nil, fmt.Errorf("%w: its rows: %w", journal.ErrDecision, err)
		}
		list = f.Rows
	}
	if problems := table.Check(d, list); problems != nil {
		return m, nil, fmt.Errorf("%w: its rows do not fit: %w", journal.ErrDecision, problems)
	}
	old, err := g.Store.TableInfo(d.Name)
	m.New = errors.Is(err, journal.ErrNotFound)
	if err != nil && !m.New {
		return m, nil, err
	}
	have, err := g.standing(d.Name, old.Version)
	if err != nil {
		return m, nil, err
	}
	if m.New {
		have = nil
	}
	was, _ := table.Read(old.Document)
	document := jsonfmt.Encode(d.Tree())
	var add []table.Row
	var remove []int64
	if was != nil && sameShape(was, d) && len(d.Keys) > 0 {
		var counted Imported
		if add, remove, err = difference(d, have, list, false, &counted); err != nil {
			return m, nil, err
		}
		m.Detail = fmt.Sprintf("%d rows added, %d changed, %d removed", counted.Added, counted.Changed, counted.Removed)
	} else if !sameRows(have, list) || was == nil || !sameShape(was, d) {
		for _, row := range list {
			add = append(add, table.Row{Value: row})
		}
		for _, row := range have {
			remove = append(remove, row.N)
		}
		m.Detail = fmt.Sprintf("%d rows", len(list))
	}
	if !m.New && len(add)+len(remove) == 0 && string(document) == string(old.Document) {
		return m, nil, nil
	}
	return m, func(tx *store.Tx) error { return g.putTable(tx, d, old.Version, document, add, remove) }, nil
}

func sameRows(have []table.Row, list []*message.Node) bool {
	if len(have) != len(list) {
		return false
	}
	for i := range have {
		if string(jsonfmt.Encode(have[i].Value)) != string(jsonfmt.Encode(list[i])) {
			return false
		}
	}
	return true
}

// putTable makes a version of a table within one transaction.
func (g *Designs) putTable(
	tx *store.Tx, d *table.Definition, version int64, document []byte, add []table.Row, remove []int64,
) error {
	t, err := tx.TableInfo(d.Name)
	if err != nil && !errors.Is(err, journal.ErrNotFound) {
		return err
	}
	if t.Version != version {
		return journal.ErrConflict
	}
	t.Name, t.Next = d.Name, max(t.Next, t.Version)+1
	t.Version, t.UpdatedAt, t.Document = t.Next, g.Now(), document
	t.Rows += int64(len(add) - len(remove))
	return errors.Join(
		tx.CloseRows(&store.Table{}, remove, t.Version), tx.AddRows(d, add, t.Version), tx.SaveTable(&t),
		tx.AddChange(&store.TableChange{Table: t.Name, Version: t.Version, At: t.UpdatedAt, What: "imported",
			Detail: "with others",
			By:     person, Added: int64(len(add)), Removed: int64(len(remove)), Document: document}),
	)
}

// RowsOf gives the rows of a table as a file of JSON.
func (g *Designs) RowsOf(d *table.Definition, version int64) ([]byte, error) {
	rows, err := g.standing(d.Name, version)
	if err != nil {
		return nil, err
	}
	list := make([]*message.Node, len(rows))
	for i := range rows {
		list[i] = rows[i].Value
	}
	return table.WriteFile("json", d.Columns, list)
}
