package store

import (
	"errors"
	"fmt"
	"sync"

	"gorm.io/gorm"

	"readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/table"
)

// LookIn gives the tables as they are now, to find rows in.
func (v View) LookIn() table.Tables { return lookIn{v.sql(), v.definitions} }

type lookIn struct {
	db    *gorm.DB
	known *definitions
}

// definitions keeps the definitions of tables that were read, by their text:
// reading one costs a hundred times what finding a row does.
type definitions struct {
	mu  sync.Mutex
	all map[string]*table.Definition
}

// keptDefinitions is how many are kept; then all are forgotten.
const keptDefinitions = 1000

func (k *definitions) read(name string, document []byte) (*table.Definition, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if d := k.all[string(document)]; d != nil {
		return d, nil
	}
	d, findings := table.Read(document)
	if d == nil {
		return nil, fmt.Errorf("the table %q can no longer be read: %w", name, findings[0])
	}
	if len(k.all) >= keptDefinitions {
		clear(k.all)
	}
	k.all[string(document)] = d
	return d, nil
}

// Table implements table.Tables.
func (l lookIn) Table(name string) (table.Table, error) {
	t, err := tableInfo(l.db, name)
	if errors.Is(err, ErrNotFound) {
		var known []string
		if err := l.db.Model(&Table{}).Where("NOT dropped").Order("name").Limit(1000).Pluck("name", &known).Error; err != nil {
			return nil, err
		}
		return nil, table.NoTable(name, known)
	}
	if err != nil {
		return nil, err
	}
	d, err := l.known.read(t.Name, t.Document)
	if err != nil {
		return nil, err
	}
	return &stored{l.db, d, t.Version, t.Loading}, nil
}

// stored is a table in the file.
type stored struct {
	db      *gorm.DB
	def     *table.Definition
	version int64
	loading int64 // see Table.Loading
}

// standing chooses rows that stand in a version; with a name in front of its
// columns. What is being loaded is not there yet, and what that takes away still is.
func standing(of string, version, loading int64) (sql string, args []any) {
	from, to := of+`"from"`, of+`"to"`
	return from + " <= ? AND " + from + " <> ? AND (" + to + " = 0 OR " + to + " > ? OR " + to + " = ?)",
		[]any{version, loading, version, unless0(loading)}
}

// unless0 gives a version that no row has in the place of none.
func unless0(version int64) int64 {
	if version == 0 {
		return -1
	}
	return version
}

func (t *stored) Definition() *table.Definition { return t.def }

func (t *stored) Version() int64 { return t.version }

// Find implements table.Table. Rows of one key do not overlap, so the last one
// that begins at or before a value is the only one that can hold it.
func (t *stored) Find(key int, at table.Place) (*table.Row, error) {
	if key > 0 || t.def.Range == nil {
		return t.first(t.of(key, at.Key))
	}
	row, err := t.first(t.of(key, at.Key).Where("lo <= ?", at.Lo).Order("lo DESC"))
	if err != nil || row == nil {
		return nil, err
	}
	places, err := t.def.Places(row.Value)
	if err != nil || !t.def.Covers(places[0], at.Lo) {
		return nil, err
	}
	return row, nil
}

// clashing gives a row that may not stand beside one at this place, or nil.
func (t *stored) clashing(key int, p table.Place) (*table.Row, error) {
	if key > 0 || t.def.Range == nil {
		return t.Find(key, p)
	}
	for _, q := range []*gorm.DB{t.of(key, p.Key).Where("lo <= ?", p.Lo).Order("lo DESC"), t.of(key,
		p.Key).Where("lo > ?", p.Lo).Order("lo")} {
		row, err := t.first(q)
		if err != nil {
			return nil, err
		}
		if row == nil {
			continue
		}
		places, err := t.def.Places(row.Value)
		if err != nil {
			return nil, err
		}
		if t.def.Clash(key, p, places[0]) {
			return row, nil
		}
	}
	return nil, nil
}

// of chooses the rows of the version at a key.
func (t *stored) of(k int, key string) *gorm.DB {
	stands, args := standing("table_keys.", t.version, t.loading)
	return t.db.Table("table_keys").
		Select("table_rows.n, table_rows.pos, table_rows.body").
		Joins("JOIN table_rows ON table_rows.n = table_keys.row").
		Where(`table_keys."table" = ? AND k = ? AND key = ?`, t.def.Name, k, key).
		Where(stands, args...)
}

func (t *stored) first(q *gorm.DB) (*table.Row, error) {
	var r TableRow
	err := q.Limit(1).Take(&r).Error
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return rowOf(&r)
}

// Clashing gives a row that stands in a version of a table, also one that is being
// made, and may not stand beside this one; nil when there is none.
func (v View) Clashing(of *Table, d *table.Definition, version int64, row *message.Node) (*table.Row, error) {
	places, err := d.Places(row)
	if err != nil {
		return nil, err
	}
	t := &stored{v.sql(), d, version, of.Loading}
	for k, p := range places {
		if p.Key == "" && len(d.Keys[k]) > 0 {
			continue
		}
		if other, err := t.clashing(k, p); err != nil || other != nil {
			return other, err
		}
	}
	return nil, nil
}

func rowOf(r *TableRow) (*table.Row, error) {
	d, err := json.Decode(r.Body)
	if err != nil {
		return nil, fmt.Errorf("row %d: %w", r.N, err)
	}
	return &table.Row{N: r.N, Pos: r.Pos, Value: d.Root}, nil
}
