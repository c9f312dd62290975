package pointer

import (
	"fmt"
	"math/big"

	"readyferry/core/format/json"
	"readyferry/core/message"
)

// Patch is a JSON Patch (RFC 6902): operations applied in order, all or none.
type Patch []operation

type operation struct {
	op         string
	path, from Pointer
	value      *message.Node
}

// ParsePatch reads a patch from its JSON text. The error names the operation,
// counted from 0, and what it lacks. Two members of the same name are refused
// (RFC 6902, A.13).
func ParsePatch(src []byte) (Patch, error) {
	r, err := json.Decode(src)
	if err != nil {
		return nil, err
	}
	if len(r.Duplicates) > 0 {
		return nil, fmt.Errorf("the member %q stands twice in one map", r.Duplicates[0])
	}
	doc := r.Root
	if doc.Kind != message.List {
		return nil, fmt.Errorf("a JSON Patch is a list of operations")
	}
	patch := make(Patch, 0, len(doc.Items))
	for i, item := range doc.Items {
		o, err := parseOperation(item)
		if err != nil {
			return nil, fmt.Errorf("operation %d: %w", i, err)
		}
		patch = append(patch, o)
	}
	return patch, nil
}

func parseOperation(item *message.Node) (operation, error) {
	var o operation
	text := func(name string) (string, error) {
		v := item.Get(name)
		if v == nil || v.Kind != message.String {
			return "", fmt.Errorf("%q must be given as a string", name)
		}
		return v.Text, nil
	}
	if item.Kind != message.Map {
		return o, fmt.Errorf("an operation is a map, not a %s", item.Kind)
	}
	var err error
	if o.op, err = text("op"); err != nil {
		return o, err
	}
	s, err := text("path")
	if err != nil {
		return o, err
	}
	if o.path, err = Parse(s); err != nil {
		return o, err
	}
	switch o.op {
	case "add", "replace", "test":
		if o.value = item.Get("value"); o.value == nil {
			return o, fmt.Errorf("%q needs a value", o.op)
		}
	case "move", "copy":
		if s, err = text("from"); err != nil {
			return o, err
		}
		if o.from, err = Parse(s); err != nil {
			return o, err
		}
	case "remove":
	default:
		return o, fmt.Errorf("%q is no operation; there are add, remove, replace, move, copy and test", o.op)
	}
	return o, nil
}

// Apply gives the patched document; the given one stays as it is.
func (p Patch) Apply(doc *message.Node) (*message.Node, error) {
	for i, o := range p {
		next, err := o.apply(doc)
		if err != nil {
			return nil, fmt.Errorf("operation %d (%s %s): %w", i, o.op, o.path, err)
		}
		doc = next
	}
	return doc, nil
}

func (o operation) apply(doc *message.Node) (*message.Node, error) {
	switch o.op {
	case "add":
		return edit(doc, o.path, insert(o.value))
	case "remove":
		return edit(doc, o.path, remove)
	case "replace":
		if _, err := o.path.Get(doc); err != nil {
			return nil, err
		}
		return o.path.Set(doc, o.value)
	case "test":
		v, err := o.path.Get(doc)
		if err != nil {
			return nil, err
		}
		if !Equal(v, o.value) {
			return nil, fmt.Errorf("the value is not the expected one")
		}
		return doc, nil
	}
	v, err := o.from.Get(doc)
	if err != nil {
		return nil, err
	}
	if o.op == "move" {
		if len(o.path) > len(o.from) && o.path[:len(o.from)].String() == o.from.String() {
			return nil, fmt.Errorf("a value cannot be moved into itself")
		}
		if doc, err = edit(doc, o.from, remove); err != nil {
			return nil, err
		}
	}
	return edit(doc, o.path, insert(v))
}

// change gives the container with the place named by token changed; container
// is nil when the place is the whole document.
type change func(container *message.Node, token string) (*message.Node, error)

func insert(v *message.Node) change {
	return func(c *message.Node, token string) (*message.Node, error) {
		if c == nil {
			return v, nil
		}
		if c.Kind == message.Map {
			return c.With(token, v), nil
		}
		i, ok := Index(token)
		if token == "-" {
			i, ok = len(c.Items), true
		}
		if !ok || i > len(c.Items) {
			return nil, fmt.Errorf("%q is no place in a list of %d", token, len(c.Items))
		}
		items := make([]*message.Node, 0, len(c.Items)+1)
		items = append(append(append(items, c.Items[:i]...), v), c.Items[i:]...)
		return message.NewList(items...), nil
	}
}

func remove(c *message.Node, token string) (*message.Node, error) {
	if c == nil {
		return message.NewNull(), nil
	}
	if _, err := child(c, token); err != nil {
		return nil, err
	}
	if c.Kind == message.Map {
		return c.Without(token), nil
	}
	i, _ := Index(token)
	items := append(append([]*message.Node(nil), c.Items[:i]...), c.Items[i+1:]...)
	return message.NewList(items...), nil
}

// edit walks to the container of the pointer's last token and changes it.
func edit(doc *message.Node, p Pointer, f change) (*message.Node, error) {
	if len(p) == 0 {
		return f(nil, "")
	}
	holder := p[:len(p)-1]
	c, err := holder.Get(doc)
	if err != nil {
		return nil, err
	}
	if c.Kind != message.Map && c.Kind != message.List {
		return nil, fmt.Errorf("%s is a %s and has no members", holder, c.Kind)
	}
	next, err := f(c, p[len(p)-1])
	if err != nil {
		return nil, err
	}
	return holder.Set(doc, next)
}

// Equal compares as RFC 6902 section 4.6 says: numbers by value, lists in
// order, maps without.
func Equal(a, b *message.Node) bool {
	if a.Kind != b.Kind {
		return false
	}
	switch a.Kind {
	case message.Number:
		return a.Text == b.Text || equalNumbers(a.Text, b.Text)
	case message.List:
		if len(a.Items) != len(b.Items) {
			return false
		}
		for i := range a.Items {
			if !Equal(a.Items[i], b.Items[i]) {
				return false
			}
		}
		return true
	case message.Map:
		if len(a.Members) != len(b.Members) {
			return false
		}
		for _, m := range a.Members {
			v := b.Get(m.Name)
			if v == nil || !Equal(m.Value, v) {
				return false
			}
		}
		return true
	}
	return a.Text == b.Text
}

// equalNumbers compares by value at a bounded precision; literals too long for
// that are equal only when they are written the same.
func equalNumbers(a, b string) bool {
	if len(a) < 64 && len(b) < 64 {
		x, _, err1 := big.ParseFloat(a, 10, 512, big.ToNearestEven)
		y, _, err2 := big.ParseFloat(b, 10, 512, big.ToNearestEven)
		return err1 == nil && err2 == nil && x.Cmp(y) == 0
	}
	return false
}

// Touches gives the places that a patch looks at or changes, as JSON Pointers.
func (p Patch) Touches() (out []string) {
	for _, o := range p {
		out = append(out, o.path.String())
		if o.op == "move" || o.op == "copy" {
			out = append(out, o.from.String())
		}
	}
	return out
}
