// Package table holds the rules of reference data: what a table is, which row
// a key finds, which ranges a row applies for, and what makes two rows clash.
//
// A table is a document of its own:
//
//	readyferry: table/1
//	name: runs
//	title: Van runs
//	keys: [[branch]]                       # each key is a list of columns; its values are unique
//	range: {from: since, to: until}        # of the first key: the row applies from … to, both included
//	default: {run: "0"}                    # the row for what is not there, where a step asks for it
//
// Values of a key are compared as texts, so 7 and "7" are the same key and "7"
// and "07" are not. The ends of a range are compared as exact decimals where
// both are numbers, as texts otherwise: dates in ISO 8601 therefore sort as
// they should. A cross-reference table has two keys, one for each system, and
// flows may write it.
package table

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/schema"
)

// Definition says what the rows of a table are.
type Definition struct {
	Name, Title, Note string
	Area              string     // by which rights are given; "" for none
	Cross             bool       // a cross-reference: it pairs two keys, and flows may write it
	Columns           []string   // in the order in which people see them; others may follow
	Keys              [][]string // lists of columns; values of each are unique
	Range             *Range     // of the first key, or nil
	Default           *message.Node
	Keep              flow.Keep // how long versions are kept that others have followed
	// Guessed tells that nobody has defined the table: any columns may be asked
	// for as long as their values are unique.
	Guessed bool
}

// Range names the columns that hold the ends for which a row applies. An empty
// end is open.
type Range struct {
	From, To string
	Excluded bool // the upper end does not belong to the range
}

// The largest that a table may be.
const (
	MaxRows    = 1_000_000
	MaxColumns = 200
	MaxRow     = 64 << 10 // bytes of one row as JSON
	MaxFile    = 64 << 20 // bytes of one import
)

// Schema is the JSON Schema of a table document.
const Schema = `{
	"$schema": "https://json-schema.org/draft/2020-12/schema",
	"title": "Ready Ferry table document",
	"type": "object", "additionalProperties": false, "required": ["readyferry", "name"],
	"properties": {
		"readyferry": {"const": "table/1"},
		"name": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$", "maxLength": 100},
		"title": {"type": "string", "maxLength": 200},
		"note": {"type": "string"},
		"area": {"type": "string", "pattern": "^[a-z0-9][a-z0-9-]*$", "maxLength": 60, "description":
			"the label by which rights are given"},
		"retain": {"type": "object", "additionalProperties": false, "description":
			"how long versions are kept that others have followed", "properties": {
			"days": {"anyOf": [{"type": "integer", "minimum": 1, "maximum": 36500}, {"const": "forever"}], "description":
				"days, 30 by default, or forever"}}},
		"kind": {"enum": ["reference", "cross-reference"], "description":
			"reference (default): flows read it; cross-reference: it pairs keys of two systems, and flows may write it"},
		"columns": {"type": "array", "maxItems": 200, "items": {"type": "string", "minLength": 1}},
		"keys": {"type": "array", "minItems": 1, "maxItems": 8, "items": {"type": "array", "minItems": 0, "maxItems": 8,
			"items": {"type": "string", "minLength": 1}}},
		"range": {"type": "object", "additionalProperties": false, "required": ["from", "to"], "properties": {
			"from": {"type": "string", "minLength": 1}, "to": {"type": "string", "minLength": 1}, "ends": {"enum": ["included",
				"excluded"], "description": "whether the upper end belongs to the range; included by default"}}},
		"default": {"type": "object", "description": "the row for a key that is not there"}
	}
}`

// Read reads a table document, YAML or JSON. The definition is nil when the
// findings hold an error.
func Read(src []byte) (*Definition, []flow.Finding) {
	source, bad := flow.Parse(src)
	if bad != nil {
		return nil, []flow.Finding{*bad}
	}
	var findings []flow.Finding
	found := func(ptr, msg, repair string) {
		p := source.Value(ptr)
		findings = append(
			findings,
			flow.Finding{
				Level:   flow.Error,
				Code:    "wrong-value",
				Pointer: ptr,
				Line:    p.Line,
				Column:  p.Column,
				Message: msg,
				Repair:  repair,
			},
		)
	}
	r, err := jsonfmt.Decode([]byte(Schema))
	if err != nil {
		found("", err.Error(), "")
		return nil, findings
	}
	shape, err := schema.Compile(r.Root, nil)
	if err != nil {
		found("", err.Error(), "")
		return nil, findings
	}
	failures, err := shape.Validate(source.Root)
	if err != nil {
		found("", err.Error(), "")
	}
	for _, f := range failures {
		found(f.Pointer, strings.TrimSpace(strings.TrimPrefix(f.Pointer, "/")+" "+f.Reason), "")
	}
	if len(findings) > 0 {
		return nil, findings
	}
	d := define(source.Root)
	for _, w := range d.check() {
		found(w.ptr, w.msg, w.repair)
	}
	if len(findings) > 0 {
		return nil, findings
	}
	return d, nil
}

func define(n *message.Node) *Definition {
	text := func(n *message.Node, name string) string {
		if v := n.Get(name); v != nil {
			return v.Text
		}
		return ""
	}
	d := &Definition{
		Name:    text(n, "name"),
		Title:   text(n, "title"),
		Note:    text(n, "note"),
		Area:    text(n, "area"),
		Cross:   text(n, "kind") == "cross-reference",
		Default: n.Get("default"),
	}
	d.Keep, _ = flow.ReadKeep(n.Get("retain"))
	if d.Title == "" {
		d.Title = d.Name
	}
	if list := n.Get("columns"); list != nil {
		for _, c := range list.Items {
			d.Columns = append(d.Columns, c.Text)
		}
	}
	if list := n.Get("keys"); list != nil {
		for _, k := range list.Items {
			key := []string{}
			for _, c := range k.Items {
				key = append(key, c.Text)
			}
			d.Keys = append(d.Keys, key)
		}
	}
	if r := n.Get("range"); r != nil {
		d.Range = &Range{From: text(r, "from"), To: text(r, "to"), Excluded: text(r, "ends") == "excluded"}
	}
	d.fill()
	return d
}

// fill adds what follows from the rest: the first column is the key of a table
// that names none.
func (d *Definition) fill() {
	if len(d.Keys) == 0 && len(d.Columns) > 0 && !d.Cross {
		d.Keys = [][]string{{d.Columns[0]}}
	}
	add := func(c string) {
		if !slices.Contains(d.Columns, c) {
			d.Columns = append(d.Columns, c)
		}
	}
	for _, k := range d.Keys {
		for _, c := range k {
			add(c)
		}
	}
	if d.Range != nil {
		add(d.Range.From)
		add(d.Range.To)
	}
}

type wrong struct{ ptr, msg, repair string }

func (d *Definition) check() []wrong {
	var out []wrong
	seen := map[string]bool{}
	for i, c := range d.Columns {
		if seen[c] {
			out = append(
				out,
				wrong{
					fmt.Sprintf("/columns/%d", i),
					fmt.Sprintf("the column %q stands twice", c),
					"give each column its own name",
				},
			)
		}
		seen[c] = true
	}
	for i, k := range d.Keys {
		if len(k) == 0 && (i > 0 || d.Range == nil) {
			out = append(
				out,
				wrong{
					fmt.Sprintf("/keys/%d", i),
					"a key needs at least one column",
					"only the first key of a table with a range may be empty",
				},
			)
		}
		for j := range k {
			if slices.Contains(k[:j], k[j]) {
				out = append(
					out,
					wrong{
						fmt.Sprintf("/keys/%d/%d", i, j),
						fmt.Sprintf("the column %q stands twice in the key", k[j]),
						"remove one of them",
					},
				)
			}
		}
		for j := range d.Keys[:i] {
			if sameColumns(d.Keys[j], k) {
				out = append(
					out,
					wrong{
						fmt.Sprintf("/keys/%d", i),
						"the key " + strings.Join(k, ", ") + " stands twice",
						"remove one of them",
					},
				)
			}
		}
	}
	if d.Cross && (len(d.Keys) != 2 || d.Range != nil) {
		out = append(
			out,
			wrong{
				"/keys",
				fmt.Sprintf("a cross-reference table pairs two keys and has no range; this one has %d", len(d.Keys)),
				"write keys: [[one-system], [the-other]]",
			},
		)
	}
	return out
}

func sameColumns(a, b []string) bool {
	x, y := slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	return slices.Equal(x, y)
}

// Guess defines a table of which only the columns are known: the first is the
// key, and columns named from and to are a range.
func Guess(name string, columns []string) *Definition {
	d := &Definition{Name: name, Title: name, Columns: slices.Clone(columns), Guessed: true}
	if slices.Contains(columns, "from") && slices.Contains(columns, "to") {
		d.Range = &Range{From: "from", To: "to"}
		if len(columns) > 0 && (columns[0] == "from" || columns[0] == "to") {
			d.Keys = [][]string{{}}
		}
	}
	d.fill()
	return d
}

// ErrNoTable is wrapped by the error for a table that is not there.
var ErrNoTable = errors.New("there is no table")

// KeyOf gives the number of the key with these columns; nil columns stand for
// the first key.
func (d *Definition) KeyOf(columns []string) (int, error) {
	if len(d.Keys) == 0 {
		return 0, fmt.Errorf("the table %q has no key yet; define it, or load a file into it", d.Name)
	}
	if columns == nil {
		if len(d.Keys[0]) > 1 {
			return 0, fmt.Errorf(
				"the key of the table %q has several columns: write key as {%s: …}",
				d.Name,
				strings.Join(d.Keys[0], ": …, "),
			)
		}
		return 0, nil
	}
	for i, k := range d.Keys {
		if sameColumns(k, columns) {
			return i, nil
		}
	}
	var keys []string
	for _, k := range d.Keys {
		keys = append(keys, "{"+strings.Join(k, ", ")+"}")
	}
	return 0, fmt.Errorf(
		"the table %q has no key of the columns %s; its keys are %s",
		d.Name,
		strings.Join(columns, ", "),
		strings.Join(keys, " and "),
	)
}

// Tree gives the definition as a document.
func (d *Definition) Tree() *message.Node {
	texts := func(list []string) *message.Node {
		out := message.NewList()
		for _, s := range list {
			out.Items = append(out.Items, message.NewString(s))
		}
		return out
	}
	n := message.NewMap(
		message.Member{Name: "readyferry", Value: message.NewString("table/1")},
		message.Member{Name: "name", Value: message.NewString(d.Name)},
	)
	if d.Title != d.Name {
		n = n.With("title", message.NewString(d.Title))
	}
	if d.Note != "" {
		n = n.With("note", message.NewString(d.Note))
	}
	if d.Cross {
		n = n.With("kind", message.NewString("cross-reference"))
	}
	if len(d.Columns) > 0 {
		n = n.With("columns", texts(d.Columns))
	}
	if len(d.Keys) > 0 {
		keys := message.NewList()
		for _, k := range d.Keys {
			keys.Items = append(keys.Items, texts(k))
		}
		n = n.With("keys", keys)
	}
	if r := d.Range; r != nil {
		m := message.NewMap(
			message.Member{Name: "from", Value: message.NewString(r.From)},
			message.Member{Name: "to", Value: message.NewString(r.To)},
		)
		if r.Excluded {
			m = m.With("ends", message.NewString("excluded"))
		}
		n = n.With("range", m)
	}
	if d.Default != nil {
		n = n.With("default", d.Default)
	}
	if d.Area != "" {
		n = n.With("area", message.NewString(d.Area))
	}
	if d.Keep != (flow.Keep{}) {
		n = n.With("retain", d.Keep.Tree())
	}
	return n
}
