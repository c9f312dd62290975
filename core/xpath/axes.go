package xpath

import (
	"slices"

	"readyferry/core/format/xml"
)

// axes are those of section 2.2, each in its own order: reverse axes begin at
// the node.
var axes = map[string]func(*xml.Node) []*xml.Node{
	"self":               func(n *xml.Node) []*xml.Node { return []*xml.Node{n} },
	"child":              func(n *xml.Node) []*xml.Node { return n.Children },
	"attribute":          func(n *xml.Node) []*xml.Node { return n.Attrs },
	"namespace":          namespaces,
	"parent":             func(n *xml.Node) []*xml.Node { return ancestors(n, 1) },
	"ancestor":           func(n *xml.Node) []*xml.Node { return ancestors(n, -1) },
	"ancestor-or-self":   func(n *xml.Node) []*xml.Node { return append([]*xml.Node{n}, ancestors(n, -1)...) },
	"descendant":         func(n *xml.Node) []*xml.Node { return descendants(nil, n) },
	"descendant-or-self": func(n *xml.Node) []*xml.Node { return descendants([]*xml.Node{n}, n) },
	"following-sibling": func(n *xml.Node) []*xml.Node {
		all, i := siblings(n)
		if i < 0 {
			return nil
		}
		return all[i+1:]
	},
	"preceding-sibling": func(n *xml.Node) []*xml.Node {
		all, i := siblings(n)
		if i < 0 {
			return nil
		}
		return reversed(all[:i])
	},
	"following": following,
	"preceding": preceding,
}

func ancestors(n *xml.Node, most int) []*xml.Node {
	var out []*xml.Node
	for p := n.Parent; p != nil && len(out) != most; p = p.Parent {
		out = append(out, p)
	}
	return out
}

func descendants(out []*xml.Node, n *xml.Node) []*xml.Node {
	for _, c := range n.Children {
		out = descendants(append(out, c), c)
	}
	return out
}

// siblings gives the children that a node is one of, and its place; attributes
// and namespaces have no siblings.
func siblings(n *xml.Node) ([]*xml.Node, int) {
	if n.Parent == nil || n.Type == xml.Attribute || n.Type == xml.Namespace {
		return nil, -1
	}
	return n.Parent.Children, slices.Index(n.Parent.Children, n)
}

func reversed(nodes []*xml.Node) []*xml.Node {
	out := slices.Clone(nodes)
	slices.Reverse(out)
	return out
}

func following(n *xml.Node) []*xml.Node {
	var out []*xml.Node
	if n.Type == xml.Attribute || n.Type == xml.Namespace {
		out = descendants(nil, n.Parent)
		n = n.Parent
	}
	for ; n != nil; n = n.Parent {
		if all, i := siblings(n); i >= 0 {
			for _, s := range all[i+1:] {
				out = descendants(append(out, s), s)
			}
		}
	}
	return out
}

func preceding(n *xml.Node) []*xml.Node {
	var out []*xml.Node
	if n.Type == xml.Attribute || n.Type == xml.Namespace {
		n = n.Parent
	}
	for ; n != nil; n = n.Parent {
		if all, i := siblings(n); i >= 0 {
			for _, s := range reversed(all[:i]) {
				out = append(out, reversed(descendants([]*xml.Node{s}, s))...)
			}
		}
	}
	return out
}

// namespaces gives those in scope of an element (section 5.4), xml included.
func namespaces(n *xml.Node) []*xml.Node {
	if n.Type != xml.Element {
		return nil
	}
	known := map[string]bool{"xml": true}
	out := []*xml.Node{
		{Type: xml.Namespace, Parent: n, Local: "xml", Data: "http://www.w3.org/XML/1998/namespace", Order: n.Order},
	}
	for e := n; e != nil; e = e.Parent {
		for _, d := range e.Declared {
			if known[d.Local] {
				continue
			}
			known[d.Local] = true
			if d.Data != "" {
				out = append(
					out,
					&xml.Node{Type: xml.Namespace, Parent: n, Local: d.Local, Data: d.Data, Order: n.Order},
				)
			}
		}
	}
	return out
}
