package xml

import (
	"fmt"
	"strconv"
	"strings"

	"readyferry/core/message"
)

// Path is a place in a document: /order/line[2]/@sku. Indexes count from 1,
// none means the first; an attribute comes last.
type Path []Step

// Step is one part of a path.
type Step struct {
	Name  string // as it is written; of an attribute without the @
	Index int    // from 1, of elements
	Attr  bool
}

// String writes the path.
func (p Path) String() string {
	var b strings.Builder
	for _, s := range p {
		b.WriteByte('/')
		if s.Attr {
			b.WriteByte('@')
		}
		b.WriteString(s.Name)
		if s.Index > 1 {
			fmt.Fprintf(&b, "[%d]", s.Index)
		}
	}
	return b.String()
}

// ParsePath reads a path. The error says how one is written.
func ParsePath(s string) (Path, error) { return parsePath(s, 1) }

// ParseRelative reads a path below an element, which may be an attribute of it:
// /@sku.
func ParseRelative(s string) (Path, error) { return parsePath(s, 0) }

func parsePath(s string, least int) (Path, error) {
	bad := fmt.Errorf("%q is no place in an XML document; write it as /order/line[2]/@sku", s)
	rest, ok := strings.CutPrefix(s, "/")
	if !ok || rest == "" {
		return nil, bad
	}
	var p Path
	parts := strings.Split(rest, "/")
	for i, part := range parts {
		step := Step{Index: 1}
		if name, is := strings.CutPrefix(part, "@"); is {
			if i != len(parts)-1 || i < least {
				return nil, fmt.Errorf("%q: an attribute stands at the end of a path, behind its element", s)
			}
			step.Attr, part = true, name
		} else if name, index, is := strings.Cut(part, "["); is {
			n, err := strconv.Atoi(strings.TrimSuffix(index, "]"))
			if err != nil || !strings.HasSuffix(index, "]") || n < 1 || n > 100000 {
				return nil, fmt.Errorf("%q: an index is a number from 1, in brackets", s)
			}
			step.Index, part = n, name
		}
		prefix, local, both := strings.Cut(part, ":")
		if !both {
			prefix, local = "x", prefix
		}
		if !validName(prefix) || !validName(local) {
			return nil, bad
		}
		step.Name = part
		p = append(p, step)
	}
	return p, nil
}

// Set gives a tree in which the value stands at the path. Elements on the way
// are made where they are missing; an index may be one beyond the last. root
// may be nil. The error says why the place cannot hold the value.
func (p Path) Set(root, v *message.Node) (*message.Node, error) { return p.set(root, 0, v) }

func (p Path) set(n *message.Node, at int, v *message.Node) (*message.Node, error) {
	if at == len(p) {
		if n != nil && n.Kind == message.Map && v.Kind != message.Map && v.Kind != message.List {
			return keepAttributes(n, v), nil
		}
		return v, nil
	}
	s := p[at]
	switch {
	case n == nil:
		n = message.NewMap()
	case n.Kind == message.List:
		return nil, fmt.Errorf("%s: there are several elements; write which one as [n]", p[:at])
	case n.Kind != message.Map: // an element with a text gets attributes or elements beside it
		if text, _ := n.Scalar(); text != "" {
			n = message.NewMap(message.Member{Name: textName, Value: message.NewString(text)})
		} else {
			n = message.NewMap()
		}
	}
	if s.Attr {
		if _, ok := v.Scalar(); !ok {
			return nil, fmt.Errorf("%s: an attribute cannot hold a %s", p, v.Kind)
		}
		return attributesFirst(n.With("@"+s.Name, v)), nil
	}
	old := n.Get(s.Name)
	var items []*message.Node
	switch {
	case old == nil:
	case old.Kind == message.List:
		items = old.Items
	default:
		items = []*message.Node{old}
	}
	if s.Index > len(items)+1 {
		return nil, fmt.Errorf(
			"%s: there are %d elements %s, so the next one is %d",
			p[:at+1],
			len(items),
			s.Name,
			len(items)+1,
		)
	}
	var inner *message.Node
	if s.Index <= len(items) {
		inner = items[s.Index-1]
	}
	next, err := p.set(inner, at+1, v)
	if err != nil {
		return nil, err
	}
	if inner == nil && len(items) == 0 || len(items) == 1 && s.Index == 1 {
		return n.With(s.Name, next), nil
	}
	items = append([]*message.Node(nil), items...)
	if s.Index > len(items) {
		items = append(items, next)
	} else {
		items[s.Index-1] = next
	}
	return n.With(s.Name, message.NewList(items...)), nil
}

// keepAttributes gives an element another text and leaves its attributes.
func keepAttributes(n, v *message.Node) *message.Node {
	var members []message.Member
	for _, m := range n.Members {
		if strings.HasPrefix(m.Name, "@") {
			members = append(members, m)
		}
	}
	if members == nil {
		return v
	}
	return message.NewMap(append(members, message.Member{Name: textName, Value: v})...)
}

func attributesFirst(n *message.Node) *message.Node {
	var first, rest []message.Member
	for _, m := range n.Members {
		if strings.HasPrefix(m.Name, "@") {
			first = append(first, m)
		} else {
			rest = append(rest, m)
		}
	}
	return message.NewMap(append(first, rest...)...)
}

// Append adds elements behind the last of their name at a path without an
// index at its end.
func (p Path) Append(root *message.Node, added []*message.Node) (*message.Node, error) {
	if len(p) == 0 || p[len(p)-1].Attr {
		return nil, fmt.Errorf("%s: only an element can stand several times", p)
	}
	holder, name := p[:len(p)-1], p[len(p)-1].Name
	parent := holder.get(root)
	if parent == nil || parent.Kind != message.Map {
		parent = message.NewMap()
		if old := holder.get(root); old != nil && old.Text != "" {
			parent = message.NewMap(message.Member{Name: textName, Value: message.NewString(old.Text)})
		}
	}
	items := added
	if old := parent.Get(name); old != nil && old.Kind == message.List {
		items = append(append([]*message.Node(nil), old.Items...), added...)
	} else if old != nil {
		items = append([]*message.Node{old}, added...)
	}
	next := parent.With(name, message.NewList(items...))
	if len(items) == 1 {
		next = parent.With(name, items[0])
	}
	if len(holder) == 0 {
		return next, nil
	}
	return holder.Set(root, next)
}

// First gives the first element at a path without an index at its end; nil where none is.
func (p Path) First(root *message.Node) *message.Node {
	if len(p) == 0 || root == nil {
		return nil
	}
	return p.get(root)
}

// Replace puts elements in place of all of their name at a path without an index at its end;
// without any of them there is none.
func (p Path) Replace(root *message.Node, by []*message.Node) (*message.Node, error) {
	holder, name := p[:len(p)-1], p[len(p)-1].Name
	parent := holder.get(root)
	if parent == nil || parent.Kind != message.Map || parent.Get(name) == nil {
		return p.Append(root, by)
	}
	next := &message.Node{Kind: message.Map, Offset: -1}
	for _, m := range parent.Members {
		switch {
		case m.Name != name:
			next.Members = append(next.Members, m)
		case len(by) == 1:
			next.Members = append(next.Members, message.Member{Name: name, Value: by[0]})
		case len(by) > 1:
			next.Members = append(next.Members, message.Member{Name: name, Value: message.NewList(by...)})
		}
	}
	next.Seal()
	if len(holder) == 0 {
		return next, nil
	}
	return holder.Set(root, next)
}

// get gives what stands at a path, or nil.
func (p Path) get(n *message.Node) *message.Node {
	for _, s := range p {
		if n = n.Get(s.Name); n == nil {
			return nil
		}
		if n.Kind == message.List {
			if s.Index > len(n.Items) {
				return nil
			}
			n = n.Items[s.Index-1]
		} else if s.Index > 1 {
			return nil
		}
	}
	return n
}

// Fragment reads a piece of XML as the content of the element at a path.
func Fragment(text string, at Path) (*message.Node, error) {
	if len(at) > 0 && at[len(at)-1].Attr {
		return nil, fmt.Errorf("%s: an attribute holds no raw XML", at)
	}
	doc, err := Parse([]byte("<x>"+text+"</x>"), Limits{})
	if err != nil {
		return nil, fmt.Errorf("a raw text must be well-formed XML: %w", err)
	}
	e := doc.Children[0]
	if len(at) > 0 {
		e.Local, e.bound = at[len(at)-1].Name, true
		if prefix, local, both := strings.Cut(e.Local, ":"); both {
			e.Prefix, e.Local = prefix, local
		}
	}
	return Tree(e), nil
}
