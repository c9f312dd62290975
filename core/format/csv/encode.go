package csv

import (
	"fmt"
	"strings"
	"unicode"

	"readyferry/core/message"
)

// Layout says how a text is written. Zero values are RFC 4180's.
type Layout struct {
	Delimiter rune   // ',' when 0
	Quote     rune   // '"' when 0
	LineEnd   string // "\r\n" when ""
	NoHeader  bool   // rows that are maps are written without their names
}

// Encode writes a tree: a list of rows, each a list of values or a map. Maps
// get a header row of all names, in the order in which they first stand; a
// value that a row lacks is empty. One row alone may stand for a list of it.
// Values are written as texts; null is empty. The error names the row and
// column that cannot be written.
func Encode(n *message.Node, l Layout) ([]byte, error) {
	o := Options{Delimiter: l.Delimiter, Quote: l.Quote}
	if err := o.Check(); err != nil {
		return nil, err
	}
	o = o.filled()
	if l.LineEnd == "" {
		l.LineEnd = "\r\n"
	}
	rows := []*message.Node{n}
	if n.Kind == message.List {
		rows = n.Items
		if len(rows) > 0 && rows[0].Kind != message.List && rows[0].Kind != message.Map {
			rows = []*message.Node{n}
		}
	} else if n.Kind != message.Map {
		return nil, fmt.Errorf("CSV is a list of rows, not a %s", n.Kind)
	}
	w := writer{o: o, end: l.LineEnd}
	names := header(rows)
	if names != nil && !l.NoHeader {
		fields := make([]*message.Node, len(names))
		for i, name := range names {
			fields[i] = message.NewString(name)
		}
		if err := w.row(fields, "the header"); err != nil {
			return nil, err
		}
	}
	for i, row := range rows {
		fields, where := row.Items, fmt.Sprintf("row %d", i+1)
		switch {
		case row.Kind == message.Map:
			fields = make([]*message.Node, len(names))
			for j, name := range names {
				if fields[j] = row.Get(name); fields[j] == nil {
					fields[j] = message.NewString("")
				}
			}
		case row.Kind != message.List:
			return nil, fmt.Errorf("CSV, %s: a row is a list or a map, not a %s", where, row.Kind)
		case names != nil:
			return nil, fmt.Errorf("CSV, %s: some rows are maps and this one is a list", where)
		}
		if err := w.row(fields, where); err != nil {
			return nil, err
		}
	}
	return []byte(w.b.String()), nil
}

// header gives all names of the rows that are maps; nil when none is.
func header(rows []*message.Node) []string {
	var names []string
	known := map[string]bool{}
	for _, row := range rows {
		for _, m := range row.Members {
			if !known[m.Name] {
				known[m.Name] = true
				names = append(names, m.Name)
			}
		}
	}
	return names
}

type writer struct {
	b   strings.Builder
	o   Options
	end string
}

func (w *writer) row(fields []*message.Node, where string) error {
	for i, f := range fields {
		if f.Kind == message.List || f.Kind == message.Map {
			return fmt.Errorf("CSV, %s, column %d: a %s does not fit into a field", where, i+1, f.Kind)
		}
		if i > 0 {
			w.b.WriteRune(w.o.Delimiter)
		}
		text, _ := f.Scalar()
		// A row of one empty field would read as an empty line, which is no row.
		if !w.needsQuotes(text) && (text != "" || len(fields) > 1) {
			w.b.WriteString(text)
			continue
		}
		w.b.WriteRune(w.o.Quote)
		w.b.WriteString(strings.ReplaceAll(text, string(w.o.Quote), string([]rune{w.o.Quote, w.o.Quote})))
		w.b.WriteRune(w.o.Quote)
	}
	w.b.WriteString(w.end)
	return nil
}

// needsQuotes follows RFC 4180, 2.6, and quotes a blank in front as well,
// which some readers drop.
func (w *writer) needsQuotes(s string) bool {
	return strings.ContainsRune(s, w.o.Delimiter) || strings.ContainsRune(s, w.o.Quote) || strings.ContainsAny(s,
		"\r\n") ||
		strings.HasPrefix(s, " ") || strings.HasPrefix(s, "\t") ||
		strings.HasPrefix(s, "\uFEFF")
}

// Field writes one field for a text that is written by hand: in quotes as soon
// as it holds anything that might part fields there, whatever parts them.
func Field(text string) string {
	plain := strings.IndexFunc(text, func(r rune) bool {
		return !(r == ' ' || r == '.' || r == '-' || r == '+' || r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r))
	}) < 0 && !strings.HasPrefix(text, " ")
	if plain {
		return text
	}
	return `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
}
