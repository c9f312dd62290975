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
	// fields are written. none says that the loop had no items.
	item(p place) builder
	put(p place, items []builder) error
	none(p place) error
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
	case format.CSV, format.Form:
		if to == "" && !inLoop {
			return nil, fmt.Errorf(
				"a name is expected, such as %s",
				map[string]string{format.CSV: "the name of a column, or its number", format.Form: "the name of a field"}[name],
			)
		}
		return to, nil
	}
	return pointer.Parse(to)
}

// parseLoop reads where the items of a loop go.
func parseLoop(name, to string, inLoop bool) (place, error) {
	switch name {
	case format.CSV, format.HL7:
		if to != "" {
			return nil, fmt.Errorf(
				"a loop has no place of its own here: each item is %s",
				map[string]string{format.CSV: "a row", format.HL7: "more segments at the end"}[name],
			)
		}
		return nil, nil
	}
	return parsePlace(name, to, inLoop)
}

// newBuilder makes a builder that begins with a document, or with nothing.
func newBuilder(name string, start *message.Node) builder {
	switch name {
	case format.XML:
		return &xmlBuilder{start}
	case format.CSV:
		return &csvBuilder{}
	case format.HL7:
		return &hl7Builder{w: hl7.NewWriter(hl7.Of(start)), before: map[string]int{}}
	case format.Form:
		return &formBuilder{start}
	}
	return &jsonBuilder{start}
}

type jsonBuilder struct{ root *message.Node }

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

func (b *jsonBuilder) item(place) builder { return &jsonBuilder{} }
func (b *jsonBuilder) put(p place, items []builder) (err error) {
	at := p.(pointer.Pointer)
	list := message.NewList()
	if b.root != nil {
		if old, err := at.Get(b.root); err == nil && old.Kind == message.List {
			list.Items = append(list.Items, old.Items...)
		} else if err == nil && old.Kind != message.Null && len(at) > 0 {
			return fmt.Errorf("%s: a %s is in the way of the list", at, old.Kind)
		}
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

func (b *jsonBuilder) none(p place) (err error) {
	at := p.(pointer.Pointer)
	if b.root != nil {
		if _, err := at.Get(b.root); err == nil {
			return nil
		}
	}
	b.root, err = at.Set(b.root, message.NewList())
	return err
}

func (b *jsonBuilder) tree() *message.Node {
	if b.root == nil {
		return message.NewMap()
	}
	return b.root
}

type xmlBuilder struct{ root *message.Node }

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

func (b *xmlBuilder) item(place) builder { return &xmlBuilder{} }
func (b *xmlBuilder) put(p place, items []builder) (err error) {
	b.root, err = p.(xml.Path).Append(b.root, trees(items))
	return err
}
func (b *xmlBuilder) none(place) error { return nil }

func (b *xmlBuilder) tree() *message.Node {
	if b.root == nil {
		return message.NewMap()
	}
	return b.root
}

// csvBuilder makes one row of the fields that stand outside of loops, and one
// of each item.
type csvBuilder struct {
	row  *message.Node
	rows []*message.Node
}

func (b *csvBuilder) set(p place, v *message.Node, _ bool) error {
	if _, ok := v.Scalar(); !ok {
		return fmt.Errorf("a %s does not fit into a column", v.Kind)
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

func (b *csvBuilder) item(place) builder { return &csvBuilder{} }
func (b *csvBuilder) put(_ place, items []builder) error {
	for _, rows := range trees(items) {
		b.rows = append(b.rows, rows.Items...)
	}
	return nil
}
func (b *csvBuilder) none(place) error { return nil }

func (b *csvBuilder) tree() *message.Node {
	rows := b.rows
	if b.row != nil {
		rows = append([]*message.Node{b.row}, rows...)
	}
	return message.NewList(rows...)
}

type formBuilder struct{ root *message.Node }

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

func (b *formBuilder) item(place) builder { return &formBuilder{} }
func (b *formBuilder) put(p place, added []builder) error {
	if b.root == nil {
		b.root = message.NewMap()
	}
	old := b.root.Get(p.(string))
	items := []*message.Node{}
	if old != nil && old.Kind == message.List {
		items = append(items, old.Items...)
	} else if old != nil {
		items = append(items, old)
	}
	return b.set(p, message.NewList(append(items, trees(added)...)...), false)
}
func (b *formBuilder) none(place) error { return nil }

func (b *formBuilder) tree() *message.Node {
	if b.root == nil {
		return message.NewMap()
	}
	return b.root
}

// hl7Builder writes all items into one message. Inside a loop indexes count
// from the segments that were there when the item began, so that OBX-5 is the
// item's own first OBX.
type hl7Builder struct {
	w      *hl7.Writer
	before map[string]int
	inLoop bool
}

func (b *hl7Builder) set(p place, v *message.Node, raw bool) error {
	at := p.(hl7.Path)
	if at.Index > 0 && at.Group == "" {
		at.Index += b.before[at.Segment]
		if b.inLoop && at.Index == b.w.Count(at.Segment)+1 {
			b.w.Add(at.Segment)
		}
	}
	return b.w.Set(at, v, raw)
}

func (b *hl7Builder) item(place) builder         { return &hl7Builder{b.w, b.w.Counts(), true} }
func (b *hl7Builder) put(place, []builder) error { return nil }
func (b *hl7Builder) none(place) error           { return nil }
func (b *hl7Builder) tree() *message.Node        { return b.w.Tree() }

// decodeExample reads what a map starts from: a text in its format, or for JSON
// the document itself.
func decodeExample(name string, n *message.Node) (*message.Node, error) {
	if n.Kind != message.String {
		if name != format.JSON {
			return nil, fmt.Errorf("an example of %s is a text", strings.ToUpper(name))
		}
		return n, nil
	}
	d, err := format.Decode(name, []byte(n.Text), message.Layout{}, format.Limits{})
	return d.Root, err
}
