package sql

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"readyferry/connect"
)

// The comparisons of a selection, as SQL has them.
var comparisons = map[string]string{"=": "=", "<>": "<>", "<": "<", "<=": "<=", ">": ">", ">=": ">=", "like": "LIKE",
	"null": "IS NULL", "not null": "IS NOT NULL"}

// most of each that a selection may have.
const mostSelected = 50

// Query implements connect.Describer: it writes the statement of a selection. Each table
// has its own name as alias, with a number where it stands twice; a column whose name an
// earlier one has is called table_column.
func (l *link) Query(s *connect.Selection) (text string, params []string, err error) {
	w := &selecting{driver: l.driver, s: s}
	switch {
	case len(s.Tables) == 0:
		return "", nil, errors.New("tables: there is none")
	case len(s.Tables) > mostSelected || len(s.Where) > mostSelected || len(s.Order) > mostSelected:
		return "", nil, fmt.Errorf("a selection has at most %d tables, conditions and columns to order by", mostSelected)
	case s.Most < 0:
		return "", nil, errors.New("most: must be 0 or more")
	}
	w.names()
	columns, err1 := w.columns()
	from, err2 := w.from()
	where, err3 := w.where()
	order, err4 := w.order()
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		return "", nil, err
	}
	return "SELECT " + columns + "\nFROM " + from + where + order, w.params, nil
}

// selecting writes one statement.
type selecting struct {
	driver  string
	s       *connect.Selection
	aliases []string
	params  []string
}

var plainName = regexp.MustCompile(`[^A-Za-z0-9_]+`)

func (w *selecting) names() {
	for _, t := range w.s.Tables {
		_, last, found := strings.Cut(t.Table, ".")
		if !found {
			last = t.Table
		}
		last = strings.Trim(plainName.ReplaceAllString(last, "_"), "_")
		if last == "" || last[0] >= '0' && last[0] <= '9' {
			last = "t" + last
		}
		alias := last
		for n := 2; slices.Contains(w.aliases, alias); n++ {
			alias = fmt.Sprint(last, n)
		}
		w.aliases = append(w.aliases, alias)
	}
}

// column writes a column of a table.
func (w *selecting) column(table int, column string) (string, error) {
	if table < 0 || table >= len(w.aliases) {
		return "", fmt.Errorf("there is no table %d in the selection", table)
	}
	if !name.MatchString(column) {
		return "", fmt.Errorf("%q is no name of a column", column)
	}
	return Quoted(w.driver, w.aliases[table]) + "." + Quoted(w.driver, column), nil
}

func (w *selecting) columns() (string, error) {
	var out, called []string
	for i, t := range w.s.Tables {
		for _, c := range t.Columns {
			one, err := w.column(i, c)
			if err != nil {
				return "", err
			}
			if as := c; slices.Contains(called, as) {
				as = w.aliases[i] + "_" + c
				one += " AS " + Quoted(w.driver, as)
				called = append(called, as)
			} else {
				called = append(called, c)
			}
			out = append(out, one)
		}
	}
	if len(out) == 0 {
		return Quoted(w.driver, w.aliases[0]) + ".*", nil
	}
	return strings.Join(out, ", "), nil
}

func (w *selecting) from() (string, error) {
	out := ""
	for i, t := range w.s.Tables {
		if !name.MatchString(t.Table) {
			return "", fmt.Errorf("%q is no name of a table", t.Table)
		}
		one := QuotedTable(w.driver, t.Table) + " AS " + Quoted(w.driver, w.aliases[i])
		if i == 0 {
			out = one
			continue
		}
		if t.With < 0 || t.With >= i || len(t.On) == 0 || len(t.On) != len(t.To) {
			return "", fmt.Errorf("the table %s must be joined to one before it, over as many columns of each", t.Table)
		}
		var on []string
		for n := range t.On {
			mine, err1 := w.column(i, t.On[n])
			other, err2 := w.column(t.With, t.To[n])
			if err := errors.Join(err1, err2); err != nil {
				return "", err
			}
			on = append(on, mine+" = "+other)
		}
		join := "\nJOIN "
		if t.Missing {
			join = "\nLEFT JOIN "
		}
		out += join + one + " ON " + strings.Join(on, " AND ")
	}
	return out, nil
}

func (w *selecting) where() (string, error) {
	var out []string
	for _, c := range w.s.Where {
		column, err := w.column(c.Table, c.Column)
		if err != nil {
			return "", err
		}
		is, known := comparisons[c.Is]
		switch {
		case !known:
			return "", fmt.Errorf("%q is no comparison", c.Is)
		case strings.HasSuffix(c.Is, "null"):
			out = append(out, column+" "+is)
		default:
			out = append(out, column+" "+is+" :"+w.param(c.Column))
		}
	}
	if len(out) == 0 {
		return "", nil
	}
	return "\nWHERE " + strings.Join(out, " AND "), nil
}

// param names a parameter after its column.
func (w *selecting) param(column string) string {
	begin := strings.Trim(plainName.ReplaceAllString(column, "_"), "_")
	if begin == "" || begin[0] >= '0' && begin[0] <= '9' {
		begin = "p" + begin
	}
	out := begin
	for n := 2; slices.Contains(w.params, out); n++ {
		out = fmt.Sprint(begin, n)
	}
	w.params = append(w.params, out)
	return out
}

func (w *selecting) order() (string, error) {
	var out []string
	for _, o := range w.s.Order {
		column, err := w.column(o.Table, o.Column)
		if err != nil {
			return "", err
		}
		if o.Down {
			column += " DESC"
		}
		out = append(out, column)
	}
	text := ""
	if len(out) > 0 {
		text = "\nORDER BY " + strings.Join(out, ", ")
	}
	if w.s.Most == 0 {
		return text, nil
	}
	if text == "" && w.driver == DriverSQLServer { // which limits only what is ordered
		text = "\nORDER BY (SELECT NULL)"
	}
	return text + strings.Replace(Limit(w.driver, w.s.Most), " ", "\n", 1), nil
}
