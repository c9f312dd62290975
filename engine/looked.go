package engine

import (
	"errors"
	"fmt"

	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/store"
)

// looked does what a step wants of tables. failure ends the step; then no effect
// is recorded, so that a message that is sent again looks anew.
func (w *walking) looked(want *step.Want) (effect *step.Effect, failure *step.Failure, err error) {
	tables := w.p.Tables(w.tx.LookIn())
	var out step.Effect
	if want.Kind == step.WantLookup {
		out, err = want.Lookup.Do(tables)
	} else {
		out, err = w.pair(want, tables)
	}
	if errors.As(err, &failure) {
		failure.Kind = map[string]string{step.WantLookup: "lookup", step.WantPair: "pair"}[want.Kind]
		return nil, failure, nil
	}
	return &out, nil, err
}

// pair writes a row of a cross-reference table.
func (w *walking) pair(want *step.Want, tables table.Tables) (step.Effect, error) {
	name := want.Pair.Table
	if w.p.HasTable(name) {
		return step.Effect{}, &step.Failure{Phase: "in", Class: step.Flow, Reason: fmt.Sprintf("the table %q is a file of the flow, which nothing changes; make a cross-reference table on the Tables page", name)}
	}
	t, p, effect, err := want.Pair.Decide(tables)
	if err != nil || !p.Add {
		return effect, err
	}
	info, err := w.tx.TableInfo(name)
	if err != nil {
		return effect, err
	}
	var remove []int64
	row := table.Row{Value: p.Row}
	for _, r := range p.Remove {
		remove, row.Pos = append(remove, r.N), r.Pos
	}
	version, err := w.e.writeRows(w.tx, info, t.Definition(), []table.Row{row}, remove, store.TableChange{What: "paired", Detail: p.Said, By: w.t.Flow, Tx: &w.t.ID})
	effect.Looked[0].Version = version
	w.after.tables[name] = true
	return effect, err
}
