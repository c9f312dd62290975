package plan

import (
	"maps"
	"slices"
	"sync"

	"readyferry/core/expr"
	"readyferry/core/table"
)

// ownTables makes tables of the flow's files, each when it is first asked for.
func ownTables(files map[string][]byte) map[string]func() (table.Table, error) {
	out := map[string]func() (table.Table, error){}
	for file, content := range files {
		if name, is := expr.TableName(file); is {
			out[name] = sync.OnceValues(func() (table.Table, error) { return table.FromFile(name, "csv", content) })
		}
	}
	return out
}

// Tables gives the tables that the flow's steps see: its own files, which
// belong to its version, before those of the application; outer may be nil.
func (p *Plan) Tables(outer table.Tables) table.Tables { return tables{p, outer} }

// HasTable tells whether a table is one of the flow's own files.
func (p *Plan) HasTable(name string) bool { return p.tables[name] != nil }

type tables struct {
	p     *Plan
	outer table.Tables
}

func (t tables) Table(name string) (table.Table, error) {
	if own := t.p.tables[name]; own != nil {
		return own()
	}
	if t.outer == nil {
		return nil, table.NoTable(name, slices.Sorted(maps.Keys(t.p.tables)))
	}
	return t.outer.Table(name)
}
