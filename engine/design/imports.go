package design

import (
	"context"
	"fmt"
	"slices"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/table"
	"readyferry/engine/journal"
)

// Imported is what an import comes to, or would come to.
type Imported struct {
	Rows    int   `json:"rows"` // in the file
	Added   int   `json:"added"`
	Changed int   `json:"changed"`
	Removed int   `json:"removed"`
	Same    int   `json:"same"`
	Version int64 `json:"version"` // 0 for a preview
}

// Import loads a file into a table. merge keeps rows whose key is not in the
// file; else the file's rows are those of the table. A table that has no
// definition yet gets one that fits the file.
func (g *Designs) Import(ctx context.Context, name, format string, src []byte, merge, preview bool) (Imported, error) {
	f, err := table.ReadFile(format, src)
	if err != nil {
		return Imported{}, fmt.Errorf("%w: the file cannot be loaded: %w", journal.ErrDecision, err)
	}
	old, err := g.Store.TableInfo(name)
	if err != nil {
		return Imported{}, err
	}
	d, findings := table.Read(old.Document)
	if d == nil {
		return Imported{}, &FindingsError{"the table cannot be read", findings}
	}
	if len(d.Keys) == 0 {
		g := table.Guess(name, f.Columns)
		d.Columns, d.Keys, d.Range = g.Columns, g.Keys, g.Range
	}
	if err := f.Fit(d); err != nil {
		return Imported{}, fmt.Errorf("%w: the file does not fit the table: %w", journal.ErrDecision, err)
	}
	for _, c := range f.Columns {
		if !slices.Contains(d.Columns, c) {
			d.Columns = append(d.Columns, c)
		}
	}
	out := Imported{Rows: len(f.Rows)}
	have, err := g.standing(name, old.Version)
	if err != nil {
		return out, err
	}
	add, remove, err := difference(d, have, f.Rows, merge, &out)
	if err != nil || preview {
		return out, err
	}
	out.Version, err = g.change(ctx, old, d, add, remove, "imported", fmt.Sprintf("%d rows", len(f.Rows)))
	return out, err
}

// difference finds the rows to add and to remove so that a table holds those of
// a file.
func difference(
	d *table.Definition,
	have []table.Row,
	file []*message.Node,
	merge bool,
	out *Imported,
) (add []table.Row, remove []int64, err error) {
	type present struct {
		n    int
		text string
	}
	place := func(row *message.Node) (string, error) {
		p, err := d.Places(row)
		if err != nil {
			return "", err
		}
		return p[0].Key + "\x00" + p[0].Lo, nil
	}
	byKey, kept := make(map[string]present, len(have)), map[int]bool{}
	for i, row := range have {
		p, err := place(row.Value)
		if err != nil {
			p = fmt.Sprintf("\x00%d", i) // it does not fit a new definition and goes
		}
		byKey[p] = present{i, string(jsonfmt.Encode(row.Value))}
	}
	final := make([]*message.Node, 0, len(file))
	for _, row := range file {
		p, err := place(row)
		if err != nil {
			return nil, nil, err
		}
		was, ok := byKey[p]
		switch {
		case ok && was.text == string(jsonfmt.Encode(row)):
			out.Same++
		case ok:
			out.Changed++
			add, remove = append(add, table.Row{Pos: have[was.n].Pos, Value: row}), append(remove, have[was.n].N)
		default:
			out.Added++
			add = append(add, table.Row{Value: row})
		}
		if ok {
			kept[was.n] = true
		}
		final = append(final, row)
	}
	for i := range have {
		switch {
		case kept[i]:
		case merge:
			final = append(final, have[i].Value)
		default:
			out.Removed++
			remove = append(remove, have[i].N)
		}
	}
	if problems := table.Check(d, final); merge && problems != nil {
		return nil, nil, fmt.Errorf("%w: the rows clash with those of the table: %w", journal.ErrDecision, problems)
	}
	return add, remove, nil
}
