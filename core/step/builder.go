package step

import (
	"fmt"
	"strconv"
	"strings"

	"readyferry/core/format"
	"readyferry/core/format/hl7"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/format/xml"
	"readyferry/core/message"
	"readyferry/core/pointer"
)

// A place is where a field of a map goes, as its format addresses it.
type place any

// A builder makes a document of one format, field by field.
type builder interface {
	// set writes a value. raw takes a text as a piece of the format itself.
	set(p place, v *message.Node, raw bool) error
	// item begins one more item of a loop; put adds all of them at p when their
	// fields are written, also when there are none. In a template the first item that
	// stands at p is what each begins with, and they stand in place of all that do.
	item(p place) builder
	put(p place, items []builder) error
	tree() *message.Node
}

// parsePlace reads where a field goes. Inside a loop places are those of the item.
func parsePlace(name, to string, inLoop bool) (place, error) {
	switch name {
	case format.XML:
		if inLoop && (to == "" || to == "/") {
			return xml.Path{}, nil
		}
		if inLoop {
			return xml.ParseRelative(to)
		}
		return xml.ParsePath(to)
	case format.HL7:
		return hl7.ParsePath(to)
	case format.CSV, format.Form, format.Fixed:
		if to == "" && !inLoop {
			return nil, fmt.Errorf(
				"a name is expected, such as %s",
				map[string]string{format.CSV: "the name of a column, or its number", format.Form: "the name of a field",
					format.Fixed: "the name of a column"}[name],
			)
		}
		return to, nil
	}
	return pointer.Parse(to)
}

// parseLoop reads where the items of a loop go.
func parseLoop(name, to string, inLoop bool) (place, error) {
	switch name {
	case format.CSV, format.HL7, format.Fixed:
		if to != "" {
			return nil, fmt.Errorf(
				"a loop has no place of its own here: each item is %s",
				map[string]string{format.CSV: "a row", format.HL7: "more segments", format.Fixed: "a row"}[name],
			)
		}
		return nil, nil
	}
	return parsePlace(name, to, inLoop)
}

// newBuilder makes a builder that begins with a document, or with nothing. l is how the
// message was written that the values come from. The rows of a template are patterns.
func newBuilder(name string, start *message.Node, l *message.Layout, template bool) builder {
	switch name {
	case format.XML:
		return &xmlBuilder{start, template}
	case format.CSV, format.Fixed:
		return &csvBuilder{pattern: firstRow(start)}
	case format.HL7:
		return &hl7Builder{hl7.NewWriter(hl7.Of(start), l.Escapes), template}
	case format.Form:
		return &formBuilder{start, template}
	}
	return &jsonBuilder{start, template}
}

type jsonBuilder struct {
	root     *message.Node
	template bool
}

func (b *jsonBuilder) set(p place, v *message.Node, raw bool) (err error) {
	if raw && v.Kind == message.String {
		r, err := jsonfmt.Decode([]byte(v.Text))
		if err != nil {
			return fmt.Errorf("a raw text must be JSON: %w", err)
		}
		v = r.Root
	}
	b.root, err = p.(pointer.Pointer).Set(b.root, v)
	return err
}

// at gives the list at a place, nil where there is none.
func (b *jsonBuilder) at(p place) *message.Node {
	if b.root == nil {
		return nil
	}
	if n, err := p.(pointer.Pointer).Get(b.root); err == nil {
		return n
	}
	return nil
}

func (b *jsonBuilder) item(p place) builder {
	if old := b.at(p); b.template && old != nil && old.Kind == message.List && len(old.Items) > 0 {
		return &jsonBuilder{old.Items[0], true}
	}
	return &jsonBuilder{nil, b.template}
}

func (b *jsonBuilder) put(p place, items []builder) (err error) {
	at, old := p.(pointer.Pointer), b.at(p)
	list := message.NewList()
	switch {
	case old == nil || old.Kind == message.Null || b.template && old.Kind == message.List:
	case old.Kind == message.List:
		list.Items = append(list.Items, old.Items...)
	case len(items) == 0:
		return nil
	case len(at) > 0:
		return fmt.Errorf("%s: a %s is in the way of the list", at, old.Kind)
	}
	list.Items = append(list.Items, trees(items)...)
	b.root, err = at.Set(b.root, list)
	return err
}

func trees(items []builder) []*message.Node {
	out := make([]*message.Node, len(items))
	for i, item := range items {
		out[i] = item.tree()
	}
	return out
}

func (b *jsonBuilder) tree() *message.Node {
	if b.root == nil {
		return message.NewMap()
	}
	return b.root
}

type xmlBuilder struct {
	root     *message.Node
	template bool
}

func (b *xmlBuilder) set(p place, v *message.Node, raw bool) (err error) {
	at := p.(xml.Path)
	if raw && v.Kind == message.String {
		if v, err = xml.Fragment(v.Text, at); err != nil {
			return err
		}
	}
	b.root, err = at.Set(b.root, v)
	return err
}

func (b *xmlBuilder) item(p place) builder {
	if b.template {
		return &xmlBuilder{p.(xml.Path).First(b.root), true}
	}
	return &xmlBuilder{}
}

func (b *xmlBuilder) put(p place, items []builder) (err error) {
	switch at := p.(xml.Path); {
	case b.template && b.root != nil && len(at) > 0:
		b.root, err = at.Replace(b.root, trees(items))
	case len(items) > 0:
		b.root, err = at.Append(b.root, trees(items))
	}
	return err
}

func (b *xmlBuilder) tree() *message.Node {
	if b.root == nil {
		return message.NewMap()
	}
	return b.root
}

// csvBuilder makes one row of the fields that stand outside of loops, and one
// of each item.
type csvBuilder struct {
	pattern *message.Node // of every row; nil: none
	row     *message.Node
	rows    []*message.Node
}

// firstRow gives the row that a template has for all; nil for none.
func firstRow(start *message.Node) *message.Node {
	if start == nil || start.Kind != message.List || len(start.Items) == 0 {
		return nil
	}
	return start.Items[0]
}

func (b *csvBuilder) set(p place, v *message.Node, _ bool) error {
	if _, ok := v.Scalar(); !ok {
		return fmt.Errorf("a %s does not fit into a column", v.Kind)
	}
	if b.row == nil {
		b.row = b.pattern
	}
	name := p.(string)
	n, err := strconv.Atoi(name)
	if err != nil {
		if b.row == nil {
			b.row = message.NewMap()
		}
		if b.row.Kind != message.Map {
			return fmt.Errorf("some columns have numbers and %s is a name", name)
		}
		b.row = b.row.With(name, v)
		return nil
	}
	if b.row == nil {
		b.row = message.NewList()
	}
	if b.row.Kind != message.List || n < 1 || n > 10000 {
		return fmt.Errorf(
			"%s is no number of a column; they count from 1, and all columns have numbers or all have names",
			name,
		)
	}
	items := append([]*message.Node(nil), b.row.Items...)
	for len(items) < n {
		items = append(items, message.NewString(""))
	}
	items[n-1] = v
	b.row = message.NewList(items...)
	return nil
}

func (b *csvBuilder) item(place) builder { return &csvBuilder{pattern: b.pattern} }
func (b *csvBuilder) put(_ place, items []builder) error {
	for _, rows := range trees(items) {
		b.rows = append(b.rows, rows.Items...)
	}
	return nil
}

func (b *csvBuilder) tree() *message.Node {
	rows := b.rows
	if b.row != nil {
		rows = append([]*message.Node{b.row}, rows...)
	}
	return message.NewList(rows...)
}

type formBuilder struct {
	root     *message.Node
	template bool
}

func (b *formBuilder) set(p place, v *message.Node, _ bool) error {
	if p.(string) == "" { // the value of one item
		b.root = v
		return nil
	}
	if b.root == nil {
		b.root = message.NewMap()
	}
	b.root = b.root.With(p.(string), v)
	return nil
}

func (b *formBuilder) item(place) builder { return &formBuilder{nil, b.template} }
func (b *formBuilder) put(p place, added []builder) error {
	if b.root == nil {
		b.root = message.NewMap()
	}
	if len(added) == 0 && !b.template {
		return nil
	}
	old := b.root.Get(p.(string))
	items := []*message.Node{}
	if b.template {
	} else if old != nil && old.Kind == message.List {
		items = append(items, old.Items...)
	} else if old != nil {
		items = append(items, old)
	}
	return b.set(p, message.NewList(append(items, trees(added)...)...), false)
}

func (b *formBuilder) tree() *message.Node {
	if b.root == nil {
		return message.NewMap()
	}
	return b.root
}

// hl7Builder writes one message, or one row of a loop: there indexes count within the row, so
// that OBX-5 is the item's own first OBX.
type hl7Builder struct {
	w        *hl7.Writer
	template bool
}

// hl7Rows are the names of the segments that a loop writes.
type hl7Rows []string

func (b *hl7Builder) set(p place, v *message.Node, raw bool) error {
	return b.w.Set(p.(hl7.Path), v, raw)
}
func (b *hl7Builder) item(p place) builder {
	return &hl7Builder{b.w.Row(p.(hl7Rows), b.template), b.template}
}

func (b *hl7Builder) put(p place, items []builder) error {
	rows := make([]*hl7.Writer, len(items))
	for i, item := range items {
		rows[i] = item.(*hl7Builder).w
	}
	b.w.Put(p.(hl7Rows), rows, b.template)
	return nil
}

func (b *hl7Builder) tree() *message.Node { return b.w.Tree() }

// decodeExample reads what a map starts from: a text in its format, or for JSON
// the document itself.
func decodeExample(name string, n *message.Node, l message.Layout) (*message.Node, error) {
	if name == format.Avro || name == format.Protobuf {
		name = format.JSON // bytes are no text to write an example in
	}
	if n.Kind != message.String {
		if name != format.JSON {
			return nil, fmt.Errorf("an example of %s is a text", strings.ToUpper(name))
		}
		return n, nil
	}
	d, err := format.Decode(name, []byte(n.Text), l, format.Limits{})
	return d.Root, err
}
