package xml

import (
	"maps"
	"slices"
	"strings"

	"readyferry/core/message"
)

// DecodeNamed reads a document whose names have the prefixes that are given to their
// namespaces (prefix: namespace), whatever prefixes it uses itself. Elements without a
// namespace have no prefix, nor have those of a namespace that was given the prefix "".
// The error is a *message.SyntaxError.
func DecodeNamed(src []byte, l Limits, prefixes map[string]string) (*message.Node, error) {
	doc, err := Parse(src, l)
	if err != nil {
		return nil, err
	}
	if len(prefixes) > 0 {
		Rename(doc, prefixes)
	}
	return Tree(doc), nil
}

// EncodeNamed writes a tree whose names have the prefixes that are given to their
// namespaces, as DecodeNamed reads it: those that it uses are declared at its root. The
// rules and errors are those of Encode.
func EncodeNamed(n *message.Node, root string, prefixes map[string]string) ([]byte, error) {
	if len(prefixes) == 0 || Of(n) != nil || n.Kind != message.Map || len(n.Members) != 1 || special(n.Members[0].Name) {
		return Encode(n, root)
	}
	top := n.Members[0]
	used := map[string]bool{}
	names(message.NewMap(top), used)
	value := top.Value
	if x := Of(value); x != nil && x.Type == Element && x.Name() == top.Name {
		return Encode(n, root)
	}
	var declared []message.Member
	for _, prefix := range slices.Sorted(maps.Keys(prefixes)) {
		at := "@xmlns:" + prefix
		if prefix == "" {
			at = "@xmlns"
		}
		if used[prefix] && value.Get(at) == nil {
			declared = append(declared, message.Member{Name: at, Value: message.NewString(prefixes[prefix])})
		}
	}
	if len(declared) == 0 || value.Kind == message.List {
		return Encode(n, root)
	}
	if value.Kind != message.Map {
		value = message.NewMap(message.Member{Name: textName, Value: value})
	}
	return Encode(message.NewMap(message.Member{Name: top.Name, Value: message.NewMap(append(declared,
		value.Members...)...)}), root)
}

// names collects the prefixes that a tree uses.
func names(n *message.Node, used map[string]bool) {
	for _, m := range n.Members {
		name, attribute := strings.CutPrefix(m.Name, "@")
		prefix, _, both := strings.Cut(name, ":")
		switch {
		case both:
			used[prefix] = true
		case !attribute && name != textName:
			used[""] = true
		}
		names(m.Value, used)
	}
	for _, item := range n.Items {
		names(item, used)
	}
}

// strange is the prefix of elements whose namespace was given none by anybody.
const strange = "other"

// Rename gives the names in a document the prefixes that are given to their namespaces.
// Where a prefix means something else in the document, it is declared anew; what is declared
// for these namespaces does not stand in the tree.
func Rename(doc *Node, prefixes map[string]string) {
	of := make(map[string]string, len(prefixes))
	for prefix, uri := range prefixes {
		if had, known := of[uri]; !known || prefix < had {
			of[uri] = prefix
		}
	}
	for _, c := range doc.Children {
		if c.Type == Element {
			rename(c, of)
		}
	}
}

func rename(e *Node, of map[string]string) {
	for _, d := range e.Declared {
		_, d.hidden = of[d.Data]
		d.hidden = d.hidden || d.Data == ""
	}
	if prefix, is := of[e.Space]; is && e.Space != "" {
		e.Prefix = prefix
	} else if e.Space != "" && e.Prefix == "" {
		e.Prefix = strange // so that it is not taken for one of a namespace that has none
	}
	declare(e, e.Prefix, e.Space)
	for _, a := range e.Attrs {
		if prefix, is := of[a.Space]; is && a.Space != "" && prefix != "" {
			a.Prefix = prefix
		}
		if a.Prefix != "" {
			declare(e, a.Prefix, a.Space)
		}
	}
	for _, c := range e.Children {
		if c.Type == Element {
			rename(c, of)
		}
	}
}

// declare sees to it that a prefix means a namespace where an element stands.
func declare(e *Node, prefix, uri string) {
	if is, _ := e.Lookup(prefix); is == uri {
		return
	}
	for _, d := range e.Declared {
		if d.Local == prefix {
			d.Data, d.hidden = uri, true
			return
		}
	}
	e.Declared = append(e.Declared, &Node{Type: Namespace, Parent: e, Local: prefix, Data: uri, Offset: e.Offset,
		Order: e.Order, hidden: true})
}
