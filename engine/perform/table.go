package perform

import (
	"errors"
	"fmt"
	"slices"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
)

// look finds rows of tables. It is true of the moment at which it was taken, and
// recorded with the version of the table; nothing else hangs on its being so
// still, so that the writer need not look again.
type look struct{ *Performers }

// Foresee implements journal.Performer.
func (look) Foresee(v *journal.Move, asked want.Asked) (journal.Outcome, error) {
	effect, err := asked.Want.(want.Finder).Find(v.LookIn())
	return outcome(effect, err)
}

// Perform implements journal.Performer.
func (look) Perform(_ *journal.Writing, _ want.Asked, foreseen journal.Outcome) (journal.Outcome, error) {
	return foreseen, nil
}

func outcome(effect want.Effect, err error) (journal.Outcome, error) {
	var f *step.Failure
	if errors.As(err, &f) {
		return journal.Outcome{Failure: f}, nil
	}
	return journal.Outcome{Effect: &effect}, err
}

// pair writes a row of a cross-reference table.
type pair struct{ *Performers }

// Foresee implements journal.Performer.
func (p pair) Foresee(v *journal.Move, asked want.Asked) (journal.Outcome, error) {
	w := asked.Want.(*want.Pair)
	if f := ownTable(v, w.Table); f != nil {
		return journal.Outcome{Failure: f}, nil
	}
	t, pairing, effect, err := w.Decide(v.LookIn())
	if err == nil {
		v.Session.Tables.Write(w.Table, t, pairing)
	}
	return outcome(effect, err)
}

// ownTable refuses a table that is a file of the flow.
func ownTable(v *journal.Move, name string) *step.Failure {
	if !v.Plan.HasTable(name) {
		return nil
	}
	return &step.Failure{
		Phase: "in",
		Class: step.Flow,
		Reason: fmt.Sprintf(
			"the table %q is a file of the flow, which nothing changes; make a cross-reference table on the Tables page",
			name,
		),
	}
}

// Perform implements journal.Performer.
func (p pair) Perform(w *journal.Writing, asked want.Asked, _ journal.Outcome) (journal.Outcome, error) {
	name := asked.Want.(*want.Pair)
	if f := ownTable(w.Move, name.Table); f != nil {
		return journal.Outcome{Failure: f}, nil
	}
	t, pairing, effect, err := name.Decide(w.Move.Plan.Tables(w.Tx.LookIn()))
	if err != nil || !pairing.Add {
		return outcome(effect, err)
	}
	info, err := w.Tx.TableInfo(name.Table)
	if err != nil {
		return journal.Outcome{}, err
	}
	var remove []int64
	row := table.Row{Value: pairing.Row}
	for _, r := range pairing.Remove {
		remove, row.Pos = append(remove, r.N), r.Pos
	}
	version, err := WriteRows(
		w.Tx,
		info,
		t.Definition(),
		[]table.Row{row},
		remove,
		store.TableChange{What: "paired", Detail: pairing.Said, By: w.T.Flow, Tx: &w.T.ID, At: w.Now()},
	)
	if err != nil {
		return journal.Outcome{}, err
	}
	effect.Looked[0].Version = version
	w.Notice.Tables[name.Table], w.Notice.Events[journal.EventTables] = true, true
	return journal.Outcome{Effect: &effect}, nil
}

// WriteRows makes a version of a table inside of the writer, row by row, and
// refuses rows that clash. The change says what, by whom and at what time.
func WriteRows(
	tx *store.Tx,
	t store.Table,
	d *table.Definition,
	add []table.Row,
	remove []int64,
	c store.TableChange,
) (int64, error) {
	own := *d
	own.Columns = slices.Clone(d.Columns)
	d = &own
	t.Next = max(t.Next, t.Version) + 1
	version := t.Next
	if err := tx.CloseRows(&t, remove, version); err != nil {
		return 0, err
	}
	for _, row := range add {
		other, err := tx.Clashing(&t, d, version, row.Value)
		if err != nil {
			return 0, fmt.Errorf("%w: %w", journal.ErrDecision, err)
		}
		if other != nil {
			return 0, fmt.Errorf(
				"%w: the row %s clashes with %s",
				journal.ErrDecision,
				jsonfmt.Encode(row.Value),
				jsonfmt.Encode(other.Value),
			)
		}
		if err := tx.AddRows(d, []table.Row{row}, version); err != nil {
			return 0, err
		}
		for _, name := range row.Value.Names() {
			if !slices.Contains(d.Columns, name) {
				d.Columns = append(d.Columns, name)
			}
		}
	}
	t.Version, t.UpdatedAt, t.Document = version, c.At, jsonfmt.Encode(d.Tree())
	t.Rows += int64(len(add) - len(remove))
	c.Table, c.Version, c.Added, c.Removed, c.Document = t.Name, version, int64(
		len(add),
	), int64(
		len(remove),
	), t.Document
	return version, errors.Join(tx.SaveTable(&t), tx.AddChange(&c))
}

// TableChanged tells everyone, and wakes what waits for a row.
func (p *Performers) TableChanged(name string) {
	p.Announce(journal.EventTables)
	send(p, p.changedTables, name)
}
