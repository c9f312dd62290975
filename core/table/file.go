package table

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"readyferry/core/format/csv"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// File is a table's rows as a file holds them.
type File struct {
	Columns []string
	Rows    []*message.Node
	src     []byte
}

// ReadFile reads rows: CSV (RFC 4180) whose first row names the columns, or
// JSON (RFC 8259): a list of maps. format is csv, json or "" to tell by the
// first character.
func ReadFile(format string, src []byte) (*File, error) {
	if len(src) > MaxFile {
		return nil, fmt.Errorf("the file has %d bytes; a table takes at most %d", len(src), MaxFile)
	}
	begin := bytes.TrimLeft(bytes.TrimPrefix(src, []byte("\xEF\xBB\xBF")), " \t\r\n")
	if len(begin) == 0 {
		return nil, errors.New("it is empty; the first row names the columns")
	}
	if format == "" {
		format = "csv"
		if begin[0] == '[' {
			format = "json"
		}
	}
	f := &File{src: src}
	switch format {
	case "csv":
		r, err := csv.Decode(src, csv.Options{Header: true, MaxNodes: 8_000_000})
		if err != nil {
			return nil, err
		}
		f.Rows = r.Root.Items
		if len(f.Rows) == 0 {
			head, err := csv.Decode(src, csv.Options{})
			if err != nil {
				return nil, err
			}
			for _, c := range head.Root.Items[0].Items {
				f.Columns = append(f.Columns, c.Text)
			}
		}
	case "json":
		r, err := jsonfmt.Decode(src)
		if err != nil {
			return nil, err
		}
		if r.Root.Kind != message.List {
			return nil, fmt.Errorf("it is a %s, not a list of rows", r.Root.Kind)
		}
		f.Rows = r.Root.Items
	default:
		return nil, fmt.Errorf("a table is read from csv or json, not from %s", format)
	}
	if len(f.Rows) > MaxRows {
		return nil, fmt.Errorf("it has %d rows; a table takes at most %d", len(f.Rows), MaxRows)
	}
	for i, row := range f.Rows {
		if row.Kind != message.Map {
			return nil, fmt.Errorf("line %d: row %d is a %s, not a map of columns", f.Line(i), i+1, row.Kind)
		}
		for _, name := range row.Names() {
			if name == "" {
				return nil, fmt.Errorf("line %d: a column has no name", f.Line(i))
			}
			if !slices.Contains(f.Columns, name) {
				f.Columns = append(f.Columns, name)
			}
			if v := row.Get(name); v.Kind == message.List || v.Kind == message.Map {
				return nil, fmt.Errorf(
					"line %d: the column %s holds a %s; a table holds texts, numbers, true, false and null",
					f.Line(i),
					name,
					v.Kind,
				)
			}
		}
		if len(f.Columns) > MaxColumns {
			return nil, fmt.Errorf("it has more than %d columns", MaxColumns)
		}
	}
	return f, nil
}

// Line gives the line of a row, from 1.
func (f *File) Line(row int) int {
	n := f.Rows[row]
	at := n.Offset
	if at < 0 && len(n.Members) > 0 {
		at = n.Members[0].Value.Offset
	}
	if at < 0 {
		return 0
	}
	line, _ := message.Position(f.src, at)
	return line
}

// Fit says what keeps a file from being the rows of a table: columns of a key
// that it lacks, rows without a key, rows that clash. nil when nothing does.
func (f *File) Fit(d *Definition) error {
	for _, k := range d.Keys {
		for _, c := range k {
			if len(f.Rows) > 0 && !slices.Contains(f.Columns, c) {
				return fmt.Errorf(
					"the column %s, which is part of the key, is not in the file; its columns are %s",
					c,
					strings.Join(f.Columns, ", "),
				)
			}
		}
	}
	if d.Range != nil {
		for _, c := range []string{d.Range.From, d.Range.To} {
			if len(f.Rows) > 0 && !slices.Contains(f.Columns, c) {
				return fmt.Errorf(
					"the column %s, which is an end of the range, is not in the file; its columns are %s",
					c,
					strings.Join(f.Columns, ", "),
				)
			}
		}
	}
	problems := Check(d, f.Rows)
	if problems == nil {
		return nil
	}
	for i := range problems.Problems {
		problems.Problems[i].Line = f.Line(problems.Problems[i].Row)
	}
	return problems
}

// FromFile makes a table of a file of which nothing else is known.
func FromFile(name, format string, src []byte) (Table, error) {
	f, err := ReadFile(format, src)
	if err != nil {
		return nil, fmt.Errorf("the table %q cannot be read: %w", name, err)
	}
	d := Guess(name, f.Columns)
	if err := f.Fit(d); err != nil {
		return nil, fmt.Errorf("the table %q: %w", name, err)
	}
	return InMemory(d, f.Rows)
}

// WriteFile writes rows as csv or json, with the columns in order.
func WriteFile(format string, columns []string, rows []*message.Node) ([]byte, error) {
	list := message.NewList()
	for _, row := range rows {
		var all []message.Member
		for _, c := range columns {
			v := row.Get(c)
			if v == nil {
				if format != "csv" {
					continue
				}
				v = message.NewString("")
			}
			if v.Kind == message.Null && format == "csv" {
				v = message.NewString("")
			}
			all = append(all, message.Member{Name: c, Value: v})
		}
		list.Items = append(list.Items, message.NewMap(all...))
	}
	if format == "json" {
		return append(jsonfmt.EncodeIndent(list), '\n'), nil
	}
	if len(rows) == 0 {
		var head []string
		for _, c := range columns {
			head = append(head, csv.Field(c))
		}
		return []byte(strings.Join(head, ",") + "\r\n"), nil
	}
	return csv.Encode(list, csv.Layout{})
}
