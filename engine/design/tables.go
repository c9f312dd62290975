package design

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/table"
	"readyferry/engine/journal"
	"readyferry/engine/perform"
	"readyferry/store"
)

// Loading is how far an import has come.
type Loading struct {
	Done  int `json:"done"`
	Total int `json:"total"`
}

// LoadingOf tells how far an import into a table has come; false when none is
// under way.
func (g *Designs) LoadingOf(name string) (Loading, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	l, ok := g.loading[name]
	if !ok {
		return Loading{}, false
	}
	return *l, true
}

// beginLoading keeps a table to one change of many rows at a time.
func (g *Designs) beginLoading(name string, total int) (progress func(done int), end func(), err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.loading[name] != nil {
		return nil, nil, fmt.Errorf(
			"%w: rows are being loaded into the table %s; wait for its end, or stop it",
			journal.ErrDecision,
			name,
		)
	}
	l := &Loading{Total: total}
	g.loading[name] = l
	progress = func(done int) {
		g.mu.Lock()
		l.Done += done
		g.mu.Unlock()
		g.Announce(journal.EventTables)
	}
	end = func() {
		g.mu.Lock()
		delete(g.loading, name)
		g.mu.Unlock()
		g.Announce(journal.EventTables)
	}
	return progress, end, nil
}

// SaveTable creates a table or gives it another definition. Rows that do not
// fit it are a *FindingsError, and nothing is changed.
func (g *Designs) SaveTable(ctx context.Context, name string, document []byte, version *int64) (int64, error) {
	d, findings := table.Read(document)
	if d == nil {
		return 0, &FindingsError{"the table was not saved", findings}
	}
	wrong := func(ptr, msg, repair string) error {
		return &FindingsError{
			"the table was not saved",
			[]flow.Finding{
				{
					Level:   flow.Error,
					Code:    "wrong-value",
					Pointer: ptr,
					Line:    1,
					Column:  1,
					Message: msg,
					Repair:  repair,
				},
			},
		}
	}
	if d.Name != name {
		return 0, wrong(
			"/name",
			fmt.Sprintf("the document is of %q, but it stands under %q", d.Name, name),
			"write name: "+name,
		)
	}
	old, err := g.Store.TableInfo(name)
	if err != nil && !errors.Is(err, journal.ErrNotFound) {
		return 0, err
	}
	if dropped, err := g.Store.TableDropped(name); err != nil || dropped {
		return 0, errors.Join(err, fmt.Errorf("%w: the table %s is still being removed; try again", journal.ErrInUse, name))
	}
	if version != nil && *version != old.Version {
		return 0, journal.ErrConflict
	}
	if old.Rows == 0 {
		now := g.Now()
		t := old
		t.Name, t.Document, t.UpdatedAt = name, jsonfmt.Encode(d.Tree()), now
		t.Next = max(t.Next, t.Version) + 1
		t.Version = t.Next
		err := g.Store.Write(ctx, func(tx *store.Tx) error {
			if present, err := tx.TableInfo(name); err == nil && present.Version != old.Version ||
				err != nil && !errors.Is(err, journal.ErrNotFound) {
				return errors.Join(journal.ErrConflict, err)
			}
			return errors.Join(
				tx.SaveTable(&t),
				tx.AddChange(
					&store.TableChange{
						Table:    name,
						Version:  t.Version,
						At:       now,
						What:     "defined",
						By:       person,
						Document: t.Document,
					},
				),
			)
		})
		g.Announce(journal.EventTables)
		return t.Version, err
	}
	before, _ := table.Read(old.Document)
	if before != nil && sameShape(before, d) {
		return g.change(ctx, old, d, nil, nil, "defined", "")
	}
	rows, err := g.standing(name, old.Version)
	if err != nil {
		return 0, err
	}
	list, ns := make([]*message.Node, len(rows)), make([]int64, len(rows))
	for i, r := range rows {
		list[i], ns[i] = r.Value, r.N
	}
	if problems := table.Check(d, list); problems != nil {
		return 0, wrong("/keys", "the rows of the table do not fit: "+problems.Error(), "change those rows first")
	}
	return g.change(ctx, old, d, rows, ns, "defined", "") // every row anew, so that its keys are
}

const person = "a person"

func sameShape(a, b *table.Definition) bool {
	return a.Cross == b.Cross && slices.EqualFunc(a.Keys, b.Keys, slices.Equal) &&
		(a.Range == nil) == (b.Range == nil) &&
		(a.Range == nil || *a.Range == *b.Range)
}

func (g *Designs) standing(name string, version int64) (rows []table.Row, err error) {
	err = g.Store.EachTableRow(name, version, func(row *table.Row) error {
		rows = append(rows, *row)
		return nil
	})
	return rows, err
}

// changeBatch is how many rows one database transaction of a large change takes.
const changeBatch = 500

// change makes a new version of a table: rows are added and others removed.
// What readers see changes at once, at the end; until then it can be stopped.
func (g *Designs) change(
	ctx context.Context,
	old store.Table,
	d *table.Definition,
	add []table.Row,
	remove []int64,
	what, detail string,
) (int64, error) {
	progress, end, err := g.beginLoading(old.Name, len(add)+len(remove))
	if err != nil {
		return 0, err
	}
	defer end()
	version := int64(0)
	err = g.Store.Write(ctx, func(tx *store.Tx) error {
		t, err := tx.TableInfo(old.Name)
		if err != nil {
			return err
		}
		if t.Version != old.Version {
			return journal.ErrConflict
		}
		t.Next = max(t.Next, t.Version) + 1
		version = t.Next
		t.Loading = version
		return tx.SaveTable(&t)
	})
	if err != nil {
		return 0, err
	}
	added, removed := len(add), len(remove)
	for err == nil && len(add)+len(remove) > 0 {
		some, gone := add[:min(len(add), changeBatch)], remove[:min(len(remove), changeBatch)]
		add, remove = add[len(some):], remove[len(gone):]
		err = g.Store.Write(ctx, func(tx *store.Tx) error {
			return errors.Join(tx.CloseRows(&store.Table{}, gone, version), tx.AddRows(d, some, version))
		})
		progress(len(some) + len(gone))
	}
	if err == nil {
		err = g.Store.Write(ctx, func(tx *store.Tx) error {
			t, err := tx.TableInfo(old.Name)
			if err != nil {
				return err
			}
			if t.Version != old.Version {
				return fmt.Errorf("%w: a flow has written to the table meanwhile", journal.ErrConflict)
			}
			t.Version, t.Loading, t.UpdatedAt, t.Document = version, 0, g.Now(), jsonfmt.Encode(d.Tree())
			t.Rows += int64(added - removed)
			return errors.Join(tx.SaveTable(&t), tx.AddChange(&store.TableChange{
				Table: t.Name, Version: version, At: g.Now(), What: what, Detail: detail, By: person, Added: int64(added),
				Removed: int64(removed), Document: t.Document,
			}))
		})
	}
	if err != nil {
		return 0, errors.Join(err, g.dropVersion(old.Name, version))
	}
	g.performers.TableChanged(old.Name)
	return version, nil
}

// dropVersion removes what an import that was stopped has left.
func (g *Designs) dropVersion(name string, version int64) error {
	for more := true; more; {
		err := g.Store.Write(context.WithoutCancel(g.Life.Context()), func(tx *store.Tx) (err error) {
			if more, err = tx.DropVersion(name, version, changeBatch); more || err != nil {
				return err
			}
			t, err := tx.TableInfo(name)
			if errors.Is(err, journal.ErrNotFound) {
				return nil // it was removed meanwhile
			}
			if err == nil && t.Loading == version {
				t.Loading = 0
				err = tx.SaveTable(&t)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// dropUnfinished removes what a process that was killed has left of imports.
func (g *Designs) dropUnfinished() error {
	all, err := g.Store.Tables()
	if err != nil {
		return err
	}
	dropped, err := g.Store.DroppedTables()
	if err != nil {
		return err
	}
	for _, name := range dropped {
		if err := g.sweep(name); err != nil {
			return err
		}
	}
	for _, t := range all {
		if t.Loading > 0 { // flows may have made newer versions since
			if err := g.dropVersion(t.Name, t.Loading); err != nil {
				return err
			}
		}
		for v := t.Version + 1; v <= t.Next; v++ {
			if err := g.dropVersion(t.Name, v); err != nil {
				return err
			}
		}
	}
	return nil
}

// RowEdit changes, adds (Row 0) or removes (Value nil) a row.
type RowEdit struct {
	Row   int64
	Value *message.Node
}

// EditRows makes a new version of a table with some rows changed.
func (g *Designs) EditRows(ctx context.Context, name string, version *int64, edits []RowEdit) (int64, error) {
	var made int64
	err := g.Store.Write(ctx, func(tx *store.Tx) error {
		t, err := tx.TableInfo(name)
		if err != nil {
			return err
		}
		if version != nil && *version != t.Version {
			return journal.ErrConflict
		}
		d, findings := table.Read(t.Document)
		if d == nil {
			return &FindingsError{"the table cannot be read", findings}
		}
		if _, busy := g.LoadingOf(name); busy {
			return fmt.Errorf(
				"%w: rows are being loaded into the table %s; wait for its end, or stop it",
				journal.ErrDecision,
				name,
			)
		}
		var remove []int64
		var add []table.Row
		for _, edit := range edits {
			pos := int64(0)
			if edit.Row != 0 {
				old, err := tx.Row(name, edit.Row)
				if err != nil {
					return fmt.Errorf("row %d: %w", edit.Row, err)
				}
				remove, pos = append(remove, edit.Row), old.Pos
			}
			if edit.Value != nil {
				if len(jsonfmt.Encode(edit.Value)) > table.MaxRow {
					return fmt.Errorf("%w: a row has at most %d bytes", journal.ErrDecision, table.MaxRow)
				}
				add = append(add, table.Row{Pos: pos, Value: edit.Value})
			}
		}
		made, err = perform.WriteRows(tx, t, d, add, remove, store.TableChange{What: "edited", By: person, At: g.Now()})
		return err
	})
	if err == nil {
		g.performers.TableChanged(name)
	}
	return made, err
}

// RestoreTable makes a new version that is as an older one was.
func (g *Designs) RestoreTable(ctx context.Context, name string, version int64) (int64, error) {
	old, err := g.Store.TableInfo(name)
	if err != nil {
		return 0, err
	}
	document, err := g.Store.TableDocument(name, version)
	if err != nil {
		return 0, err
	}
	d, findings := table.Read(document)
	if d == nil {
		return 0, &FindingsError{"that version cannot be read", findings}
	}
	present, _ := table.Read(old.Document)
	all := present == nil || !sameShape(present, d)
	stands := map[int64]bool{}
	var add []table.Row
	var remove []int64
	if err := g.Store.EachTableRow(name, old.Version,
		func(r *table.Row) error { stands[r.N] = true; return nil }); err != nil {
		return 0, err
	}
	if err := g.Store.EachTableRow(name, version, func(r *table.Row) error {
		if all || !stands[r.N] {
			add = append(add, *r)
		} else {
			delete(stands, r.N)
		}
		return nil
	}); err != nil {
		return 0, err
	}
	for n := range stands {
		remove = append(remove, n)
	}
	slices.Sort(remove)
	return g.change(ctx, old, d, add, remove, "restored", fmt.Sprintf("version %d", version))
}

// DeleteTable removes a table that no live flow uses.
func (g *Designs) DeleteTable(ctx context.Context, name string) error {
	if live, _ := g.Catalog.TableUses(name); len(live) > 0 {
		return fmt.Errorf("%w: %v look into it", journal.ErrInUse, live)
	}
	err := g.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.TableInfo(name); err != nil {
			return err
		}
		if g.isLoading(name) {
			return fmt.Errorf("%w: rows are being loaded into it; stop that first", journal.ErrInUse)
		}
		return tx.DropTable(name)
	})
	g.Announce(journal.EventTables)
	if err != nil {
		return err
	}
	return g.sweep(name)
}

func (g *Designs) isLoading(name string) bool {
	_, busy := g.LoadingOf(name)
	return busy
}

// sweptBatch is how many rows of a dropped table one write removes.
const sweptBatch = 1000

// sweep removes what is left of a table that was dropped, some rows at a time.
func (g *Designs) sweep(name string) error {
	for more := true; more; {
		err := g.Store.Write(context.WithoutCancel(g.Life.Context()), func(tx *store.Tx) (err error) {
			more, err = tx.Sweep(name, sweptBatch)
			return err
		})
		if err != nil {
			return fmt.Errorf("removing the rows of %s: %w", name, err)
		}
	}
	return nil
}
