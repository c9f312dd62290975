package table

import (
	"errors"
	"fmt"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/message"
)

// Question is what a table is asked for.
type Question struct {
	Columns []string          // of the key; nil: the one column of the first key
	Values  map[string]string // by column; under "" that of the one column
	At      *string           // the value that must lie in the row's range; nil in a table without one
}

// Found is what a question came to.
type Found struct {
	Version int64         // of the table, then
	Key     string        // in words: code "MARL", at 2026-05-01
	Row     *message.Node // nil: there is none
}

// UnfitError says why a table cannot be asked so.
type UnfitError struct {
	Setting string // in: there is no such table; key: it has other keys; at: it has ranges, or has none
	Reason  string
}

func (e *UnfitError) Error() string { return e.Reason }

// Look finds a row by its key. An *UnfitError is a fault of who asks; any other error is one
// of the store.
func Look(tables Tables, name string, q Question) (Found, error) {
	var out Found
	t, err := tables.Table(name)
	if errors.Is(err, ErrNoTable) {
		return out, &UnfitError{"in", err.Error()}
	}
	if err != nil {
		return out, err
	}
	t, k, err := Keyed(t, q.Columns)
	if err != nil {
		return out, &UnfitError{"key", err.Error()}
	}
	d := t.Definition()
	out.Version = t.Version()
	var key []string
	for _, c := range d.Keys[k] {
		v, named := q.Values[c]
		if !named {
			v = q.Values[""]
		}
		key = append(key, v)
		out.Key += fmt.Sprintf(", %s %q", c, v)
	}
	place := Place{Key: EncodeKey(key)}
	if err := d.ranged(k, q.At != nil); err != nil {
		return out, err
	}
	if q.At != nil {
		out.Key += ", at " + *q.At
		place.Lo = SortKey(*q.At)
	}
	out.Key = strings.TrimPrefix(out.Key, ", ")
	row, err := t.Find(k, place)
	if err != nil || row == nil {
		return out, err
	}
	out.Row = row.Value
	return out, nil
}

// ranged says what is wrong with asking by the key with number k, with a value or without one.
func (d *Definition) ranged(k int, at bool) error {
	ranged := d.Range != nil && k == 0
	switch {
	case ranged && !at:
		return &UnfitError{"at", fmt.Sprintf(
			"the rows of the table %q apply for a range from %s to %s: say with at for which value",
			d.Name, d.Range.From, d.Range.To,
		)}
	case at && !ranged:
		return &UnfitError{
			"at",
			fmt.Sprintf("the table %q has no ranges for this key, so there is nothing to look for at", d.Name),
		}
	}
	return nil
}

// QuestionOf reads a key as an expression gives it: a text or number, or a map from column
// to one. An *UnfitError says what else it is.
func QuestionOf(name string, key *message.Node) (Question, error) {
	if key.Kind != message.Map {
		text, ok := key.Scalar()
		if !ok {
			return Question{}, unfitKey(name, "", key)
		}
		return Question{Values: map[string]string{"": text}}, nil
	}
	q := Question{Columns: []string{}, Values: map[string]string{}}
	for _, m := range key.Members {
		text, ok := m.Value.Scalar()
		if !ok {
			return q, unfitKey(name, m.Name, m.Value)
		}
		q.Columns = append(q.Columns, m.Name)
		q.Values[m.Name] = text
	}
	return q, nil
}

func unfitKey(name, column string, value *message.Node) error {
	of := ""
	if column != "" {
		of = " in " + column
	}
	return &UnfitError{"key", fmt.Sprintf("the key for the table %q is%s a %s, not a text or number", name, of,
		value.Kind)}
}

// Live finds rows in tables as they are now, for expressions that are tried out. Expressions
// of a flow do not see it: what they find is recorded.
func Live(t Tables) expr.Rows { return live{t} }

type live struct{ tables Tables }

// Row implements expr.Rows.
func (l live) Row(name string, key *message.Node) (*message.Node, error) {
	q, err := QuestionOf(name, key)
	if err != nil {
		return nil, err
	}
	found, err := Look(l.tables, name, q)
	return found.Row, err
}
