package store

import (
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// A copy applies the records of a while together, and need only arrive where the journal stands behind the last of them.
// Most messages come, are delivered and end within that while: their rows are inserted by one record and changed by the
// next. So what records do to the rows of messages is held back until the copy commits, and an update of a row that is
// inserted in the same while becomes part of its insert. The row is written once in place of twice, and stands in the
// indexes of its end alone, and not before in those of its beginning.
//
// The row is the same as if it had been inserted and updated, which the tests of the engine compare row by row where
// they run over mirrored journals. That rests on what is held: statements that say all that they write, insert rows or
// set columns of one row by its key, and read nothing else. Any other statement is executed where it stands, with all
// that is held before it.

// heldTables are those that messages write into as they go their way, and for those whose updates are folded the column
// by which an update says which row it means.
var heldTables = map[string]string{
	"transactions": "id", "deliveries": "seq",
	"messages": "", "bodies": "", "tries": "", "effects": "", "counts": "", "tallies": "", "search_words": "",
	"search_later": "",
}

// shape is how a statement looks that may be held.
type shape struct {
	table   string
	insert  bool
	columns []string // of an insert into a table whose updates are folded: of each row; of an update: those that are set
	plain   []string // of such an insert: what stands for each column; "?" is a value
	values  int      // of such an insert: how many a row has
}

// shapeOf reads a statement; nil: it is not held.
func shapeOf(query string) *shape {
	f := &shape{}
	rest, is := strings.CutPrefix(query, "UPDATE ")
	if !is {
		f.insert = true
		if rest, is = strings.CutPrefix(query, "INSERT INTO "); !is {
			if rest, is = strings.CutPrefix(query, "INSERT OR IGNORE INTO "); !is {
				return nil
			}
		}
	}
	f.table, rest, _ = strings.Cut(rest, " ")
	f.table = strings.Trim(f.table, "`")
	key, held := heldTables[f.table]
	switch {
	case !held || readsMore(rest):
		return nil
	case key == "":
		return f
	case f.insert:
		return f.readInsert(query, rest)
	}
	return f.readUpdate(rest, key)
}

// readsMore tells whether a statement asks other rows, or is asked itself.
func readsMore(rest string) bool {
	rest = strings.ToUpper(rest)
	return strings.Contains(rest, "SELECT") || strings.Contains(rest, " FROM ") || strings.Contains(rest, "RETURNING")
}

// readInsert reads what stands behind the name of a table: its columns and the values of a row.
func (f *shape) readInsert(query, rest string) *shape {
	columns, rows, is := strings.Cut(rest, ") VALUES (")
	if !is || !strings.HasPrefix(query, "INSERT INTO ") || strings.Contains(rows, ") ") {
		return nil // it may come to nothing, or to something else
	}
	f.columns = strings.Split(strings.TrimPrefix(columns, "("), ",")
	for i, c := range f.columns {
		f.columns[i] = strings.Trim(c, "` ")
	}
	one, _, _ := strings.Cut(rows, ")")
	f.plain = strings.Split(one, ",")
	for _, p := range f.plain {
		if p == "?" {
			f.values++
		}
	}
	if len(f.plain) != len(f.columns) || f.values == 0 {
		return nil
	}
	return f
}

// readUpdate reads what stands behind the name of a table: the columns that are set of the row with a key.
func (f *shape) readUpdate(rest, key string) *shape {
	sets, is := strings.CutPrefix(rest, "SET ")
	if !is {
		return nil
	}
	if sets, is = strings.CutSuffix(sets, " WHERE "+key+"=?"); !is {
		return nil
	}
	for _, set := range strings.Split(sets, ",") {
		column, is := strings.CutSuffix(set, "=?")
		if !is || column == "body" { // what refers to a body is counted when that changes
			return nil
		}
		f.columns = append(f.columns, column)
	}
	return f
}

// heldStatement is one that is executed later.
type heldStatement struct {
	query    string
	rows     int64 // that it is to change
	from, to int   // its values
}

// heldRow says where a row stands that an insert makes which is held.
type heldRow struct {
	shape *shape
	from  int // its first value
}

// rowKey is the key of a row.
type rowKey struct {
	table string
	n     int64
	text  string
}

// folding holds statements. What updates have become part of is executed as if they had never been.
type folding struct {
	shapes map[string]*shape
	stmts  []heldStatement
	values []any
	bytes  int // of records that the values stand in
	rows   map[rowKey]heldRow
}

// How much is held: so many values, and of so many bytes.
const (
	heldValues = 1 << 18
	heldBytes  = 8 << 20
)

// full tells whether no more is to be held.
func (h *folding) full() bool { return len(h.values) > heldValues || h.bytes > heldBytes }

// shape gives that of a statement; nil: it is not held.
func (h *folding) shape(query string) *shape {
	f, known := h.shapes[query]
	if !known {
		if h.shapes == nil {
			h.shapes, h.rows = map[string]*shape{}, map[rowKey]heldRow{}
		}
		f = shapeOf(query)
		h.shapes[query] = f
	}
	return f
}

// keyOf makes a key of a value; none of a kind that no key is of.
func keyOf(table string, v any) (k rowKey, is bool) {
	k.table = table
	switch v := v.(type) {
	case int64:
		k.n = v
	case []byte:
		k.text = string(v)
	default:
		return k, false
	}
	return k, true
}

// hold holds a statement with the values that were read behind a place, or folds it. again: it is to be held once more
// when what is held was executed, since it changes what cannot be folded.
func (h *folding) hold(f *shape, query string, rows int64, from int) (again bool) {
	values := h.values[from:]
	key := heldTables[f.table]
	switch {
	case key == "":
	case f.insert:
		at := slices.Index(f.columns, key)
		if at >= 0 && f.plain[at] == "?" && len(values)%f.values == 0 {
			at = f.offset(at)
			for row := from; row < len(h.values); row += f.values {
				if k, is := keyOf(f.table, h.values[row+at]); is {
					h.rows[k] = heldRow{f, row}
				}
			}
		}
	case len(values) == len(f.columns)+1:
		k, is := keyOf(f.table, values[len(f.columns)])
		row, there := h.rows[k]
		if is && there {
			if rows != 1 || !h.fold(row, f, values) {
				return true
			}
			h.values = h.values[:from]
			return false
		}
	}
	h.stmts = append(h.stmts, heldStatement{query, rows, from, len(h.values)})
	return false
}

// offset says which value of a row stands for a column.
func (f *shape) offset(column int) (n int) {
	for _, p := range f.plain[:column] {
		if p == "?" {
			n++
		}
	}
	return n
}

// fold makes an update part of the insert of its row, or says that it cannot be.
func (h *folding) fold(row heldRow, update *shape, values []any) bool {
	var places [64]int
	if len(update.columns) > len(places) {
		return false
	}
	for i, c := range update.columns {
		at := slices.Index(row.shape.columns, c)
		switch {
		case at < 0:
			return false
		case row.shape.plain[at] == "?":
			places[i] = row.from + row.shape.offset(at)
		case row.shape.plain[at] == "NULL" && values[i] == nil:
			places[i] = -1
		default:
			return false
		}
	}
	for i := range update.columns {
		if places[i] >= 0 {
			h.values[places[i]] = values[i]
		}
	}
	return true
}

// flush executes what is held.
func (p *replaying) flush() error {
	for _, s := range p.held.stmts {
		p.args = p.args[:0]
		for i, v := range p.held.values[s.from:s.to] {
			if v != nil { // the driver takes back what was bound before, so that what is not bound is null
				p.args = append(p.args, driver.NamedValue{Ordinal: i + 1, Value: v})
			}
		}
		if err := p.again(s.query, s.rows); err != nil {
			return err
		}
	}
	clear(p.held.values)
	p.held.stmts, p.held.values, p.held.bytes = p.held.stmts[:0], p.held.values[:0], 0
	clear(p.held.rows)
	return nil
}

// statement executes a statement of a record, or holds it.
func (p *replaying) statement(query string, rows int64, r *reading) error {
	f := p.held.shape(query)
	if f == nil || p.held.full() {
		if err := p.flush(); err != nil {
			return err
		}
	}
	from, before := len(p.held.values), len(r.rest)
	for count := r.number(); count > 0 && r.err == nil; count-- {
		p.held.values = append(p.held.values, r.value())
	}
	if r.err != nil {
		return errors.Join(errDamaged, r.err)
	}
	p.held.bytes += before - len(r.rest)
	if f == nil { // nothing is held before it
		p.held.stmts = append(p.held.stmts, heldStatement{query, rows, from, len(p.held.values)})
		return p.flush()
	}
	if !p.held.hold(f, query, rows, from) {
		return nil
	}
	values := slices.Clone(p.held.values[from:])
	p.held.values = p.held.values[:from]
	if err := p.flush(); err != nil {
		return err
	}
	p.held.values = append(p.held.values, values...)
	if p.held.hold(f, query, rows, 0) {
		return fmt.Errorf("%w: %q changes a row that nothing is held of", ErrNotTheSame, query)
	}
	return nil
}
