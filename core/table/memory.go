package table

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/message"
)

// Tables give tables by name.
type Tables interface {
	// Table gives a table; the error for one that is not there wraps ErrNoTable.
	Table(name string) (Table, error)
}

// Table is a table that rows can be found in.
type Table interface {
	Definition() *Definition
	// Version counts the changes of the table; 0 where nobody counts.
	Version() int64
	// Find gives the row at a place of a key, or nil: Lo is the sort key of the
	// value that must lie in the row's range, in a table that has one.
	Find(key int, at Place) (*Row, error)
}

// Row is a row that stands in a table.
type Row struct {
	N     int64 // tells it from the others of its table
	Pos   int64 // its place among them
	Value *message.Node
}

// Memory holds tables in memory: those of a rehearsal on the command line.
type Memory map[string]Table

// Table implements Tables.
func (m Memory) Table(name string) (Table, error) {
	if t := m[name]; t != nil {
		return t, nil
	}
	return nil, NoTable(name, slices.Sorted(maps.Keys(m)))
}

// NoTable says that there is no table of a name, and which there are.
func NoTable(name string, known []string) error {
	switch near := expr.Nearest(name, known); {
	case len(near) > 0:
		return fmt.Errorf("%w %q; did you mean %s?", ErrNoTable, name, strings.Join(near, " or "))
	case len(known) > 0:
		return fmt.Errorf("%w %q; there is %s", ErrNoTable, name, strings.Join(known[:min(8, len(known))], ", "))
	}
	return fmt.Errorf("%w %q", ErrNoTable, name)
}

// rows is a table in memory.
type rows struct {
	def  *Definition
	rows []*message.Node
	keys []index
}

type index map[string][]placed // by key, in order of Lo

type placed struct {
	Place
	row *message.Node
	n   int
}

// InMemory makes a table of rows. Rows that clash are an *Errors.
func InMemory(d *Definition, list []*message.Node) (Table, error) {
	t := &rows{def: d, rows: list}
	if err := t.build(); err != nil {
		return nil, err
	}
	return t, nil
}

func (t *rows) build() error {
	keys, problems := indexOf(t.def, t.rows)
	if problems != nil {
		return problems
	}
	t.keys = keys
	return nil
}

// Problem is what is wrong with one row.
type Problem struct {
	Row    int // counts from 0
	Line   int // in the file that it comes from; 0: not known
	Reason string
}

// Errors are the problems of rows, the first ones.
type Errors struct{ Problems []Problem }

func (e *Errors) Error() string {
	var all []string
	for _, p := range e.Problems {
		where := fmt.Sprintf("row %d", p.Row+1)
		if p.Line > 0 {
			where = fmt.Sprintf("line %d", p.Line)
		}
		all = append(all, where+": "+p.Reason)
	}
	return strings.Join(all, "; ")
}

// shownProblems is how many problems are named at once.
const shownProblems = 20

// Check finds rows that have no key or clash with each other. It is nil when
// there are none.
func Check(d *Definition, list []*message.Node) *Errors {
	_, problems := indexOf(d, list)
	return problems
}

func indexOf(d *Definition, list []*message.Node) ([]index, *Errors) {
	keys := make([]index, len(d.Keys))
	for k := range keys {
		keys[k] = index{}
	}
	var problems []Problem
	for n, row := range list {
		places, err := d.Places(row)
		if err != nil {
			if problems = append(problems, Problem{Row: n, Reason: err.Error()}); len(problems) == shownProblems {
				break
			}
			continue
		}
		for k, p := range places {
			if p.Key != "" || len(d.Keys[k]) == 0 {
				keys[k][p.Key] = append(keys[k][p.Key], placed{p, row, n})
			}
		}
	}
	for k, x := range keys {
		for key, all := range x {
			if len(all) < 2 {
				continue
			}
			sort.SliceStable(all, func(i, j int) bool { return all[i].Lo < all[j].Lo })
			for i := 1; i < len(all) && len(problems) < shownProblems; i++ {
				if d.Clash(k, all[i-1].Place, all[i].Place) {
					a, b := min(all[i-1].n, all[i].n), max(all[i-1].n, all[i].n)
					what := fmt.Sprintf("the key %s stands twice: in row %d, too", d.shownKey(k, list[b]), a+1)
					if k == 0 && d.Range != nil {
						what = fmt.Sprintf("its range overlaps that of row %d", a+1)
					}
					problems = append(problems, Problem{Row: b, Reason: what})
				}
			}
			x[key] = all
		}
	}
	if len(problems) == 0 {
		return keys, nil
	}
	slices.SortFunc(problems, func(a, b Problem) int { return a.Row - b.Row })
	return nil, &Errors{problems}
}

// shownKey gives the key of a row for people.
func (d *Definition) shownKey(k int, row *message.Node) string {
	var out []string
	for _, c := range d.Keys[k] {
		out = append(out, fmt.Sprintf("%s %q", c, shown(row.Get(c))))
	}
	return strings.Join(out, ", ")
}

func (t *rows) Definition() *Definition { return t.def }
func (t *rows) Version() int64          { return 0 }

// WithKey gives a guessed table that can be asked by these columns.
func (t *rows) WithKey(columns []string) (Table, error) {
	for _, c := range columns {
		if !slices.Contains(t.def.Columns, c) {
			return nil, fmt.Errorf(
				"the table %q has no column %s; its columns are %s",
				t.def.Name,
				c,
				strings.Join(t.def.Columns, ", "),
			)
		}
	}
	d := *t.def
	d.Keys = [][]string{columns}
	return InMemory(&d, t.rows)
}

func (t *rows) Find(key int, at Place) (*Row, error) {
	all := t.keys[key][at.Key]
	if key > 0 || t.def.Range == nil {
		if len(all) == 0 {
			return nil, nil
		}
		return &Row{N: int64(all[0].n), Value: all[0].row}, nil
	}
	i := sort.Search(len(all), func(i int) bool { return all[i].Lo > at.Lo })
	if i == 0 || !t.def.Covers(all[i-1].Place, at.Lo) {
		return nil, nil
	}
	return &Row{N: int64(all[i-1].n), Value: all[i-1].row}, nil
}

// Keyed gives a table that can be asked by these columns: itself, or one that
// nobody has defined, indexed anew.
func Keyed(t Table, columns []string) (Table, int, error) {
	k, err := t.Definition().KeyOf(columns)
	if err == nil {
		return t, k, nil
	}
	if r, ok := t.(*rows); ok && t.Definition().Guessed && columns != nil {
		other, err := r.WithKey(columns)
		return other, 0, err
	}
	return nil, 0, err
}

// Crossed gives a table that pairs may be written into: itself, or one that
// nobody has defined, whose first two columns are then the keys.
func Crossed(t Table) (Table, error) {
	d := t.Definition()
	r, ok := t.(*rows)
	if d.Cross || !ok || !d.Guessed || len(d.Columns) < 2 {
		return t, nil
	}
	cross := *d
	cross.Cross, cross.Range, cross.Keys = true, nil, [][]string{{d.Columns[0]}, {d.Columns[1]}}
	return InMemory(&cross, r.rows)
}
