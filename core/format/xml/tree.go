package xml

import (
	"slices"
	"strings"

	"readyferry/core/message"
)

// Of gives the node of the whole document that a value was read from, or nil.
func Of(n *message.Node) *Node {
	if n == nil {
		return nil
	}
	x, _ := n.Native.(*Node)
	return x
}

// Tree gives the tree of a document, or of an element inside one.
func Tree(n *Node) *message.Node {
	if n.Type != Document {
		return element(n)
	}
	root := &message.Node{Kind: message.Map, Native: n}
	for _, c := range n.Children {
		if c.Type == Element {
			root.Members = append(root.Members, message.Member{Name: c.Name(), Value: element(c)})
		}
	}
	root.Seal()
	return root
}

func element(e *Node) *message.Node {
	var text strings.Builder
	elements := 0
	for _, c := range e.Children {
		switch c.Type {
		case Text:
			text.WriteString(c.Data)
		case Element:
			elements++
		}
	}
	shown := slices.ContainsFunc(e.Declared, func(d *Node) bool { return !d.hidden })
	if elements == 0 && len(e.Attrs) == 0 && !shown {
		return &message.Node{Kind: message.String, Offset: e.Offset, Text: text.String(), Native: e}
	}
	n := &message.Node{Kind: message.Map, Offset: e.Offset, Native: e}
	put := func(name string, v *message.Node) {
		n.Members = append(n.Members, message.Member{Name: name, Value: v})
	}
	str := func(s string) *message.Node { return &message.Node{Kind: message.String, Offset: e.Offset, Text: s} }
	for _, d := range e.Declared {
		if d.hidden {
			continue
		}
		name := "@xmlns"
		if d.Local != "" {
			name += ":" + d.Local
		}
		put(name, str(d.Data))
	}
	for _, a := range e.Attrs {
		put("@"+a.Name(), str(a.Data))
	}
	if s := text.String(); elements == 0 && s != "" || strings.Trim(s, " \t\r\n") != "" {
		put(textName, str(s))
	}
	at := map[string]int{}
	for _, c := range e.Children {
		if c.Type != Element {
			continue
		}
		name, v := c.Name(), element(c)
		i, known := at[name]
		if !known {
			at[name] = len(n.Members)
			put(name, v)
			continue
		}
		list := n.Members[i].Value
		if list.Kind != message.List {
			list = &message.Node{Kind: message.List, Offset: list.Offset, Items: []*message.Node{list}}
			n.Members[i].Value = list
		}
		list.Items = append(list.Items, v)
	}
	n.Seal()
	return n
}

const textName = "#text"
