package hl7

import (
	"fmt"
	"strconv"
	"strings"

	"readyferry/core/message"
)

// XMLTree names the parts of a message as the XML encoding of HL7 v2 does
// (HL7 v2 XML Encoding Syntax, release 2): fields PID.5, components PID.5.1,
// sub-components PID.5.1.2, below an element named by the message's structure.
// Components are numbered by their place, since the tables that would name
// their types are not part of the message.
func XMLTree(n *message.Node) (*message.Node, error) {
	m, err := From(n)
	if err != nil {
		return nil, err
	}
	if m.parts != nil {
		return nil, fmt.Errorf("HL7: a batch holds several messages; split it into body.messages first")
	}
	t := treeing{}
	var members []message.Member
	lists := map[string]int{}
	for _, s := range m.Segments {
		v := renamed(t.segment(s), s.Name)
		if i, known := lists[s.Name]; known {
			old := members[i].Value
			if old.Kind != message.List {
				old = message.NewList(old)
			}
			members[i].Value = message.NewList(append(old.Items, v)...)
			continue
		}
		lists[s.Name] = len(members)
		members = append(members, message.Member{Name: s.Name, Value: v})
	}
	root := message.NewMap(members...)
	if o := t.message(m).Get(orderName); o != nil {
		names := make([]string, len(o.Items))
		for i, item := range o.Items {
			names[i] = item.Text
		}
		root = message.NewMap(
			append(
				[]message.Member{{Name: "@order", Value: message.NewString(strings.Join(names, " "))}},
				root.Members...)...)
	}
	name := "HL7"
	if head := m.Segments[0]; head.Name == "MSH" {
		kind := strings.Split(head.field(9), string(m.Sep.Component))
		if len(kind) > 2 && kind[2] != "" {
			name = kind[2]
		} else if kind[0] != "" {
			name = strings.Join(kind, "_")
		}
	}
	return message.NewMap(message.Member{Name: strings.Map(nameRune, name), Value: root}), nil
}

func nameRune(r rune) rune {
	if r == '_' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
		return r
	}
	return '_'
}

func renamed(n *message.Node, prefix string) *message.Node {
	switch n.Kind {
	case message.List:
		out := message.NewList()
		for _, item := range n.Items {
			out.Items = append(out.Items, renamed(item, prefix))
		}
		return out
	case message.Null:
		return message.NewString(`""`) // as the standard writes the null in XML
	case message.Map:
		var members []message.Member
		for _, m := range n.Members {
			name := prefix + "." + m.Name
			members = append(members, message.Member{Name: name, Value: renamed(m.Value, name)})
		}
		return message.NewMap(members...)
	}
	return message.NewString(n.Text)
}

// FromXMLTree is the reverse of XMLTree.
func FromXMLTree(n *message.Node) (*message.Node, error) {
	if n.Kind != message.Map || len(n.Members) != 1 || n.Members[0].Value.Kind != message.Map {
		return nil, fmt.Errorf("HL7: the document holds no segments")
	}
	var out []message.Member
	for _, m := range n.Members[0].Value.Members {
		if m.Name == "@order" {
			order := message.NewList()
			for _, name := range strings.Fields(m.Value.Text) {
				order.Items = append(order.Items, message.NewString(name))
			}
			out = append(out, message.Member{Name: orderName, Value: order})
			continue
		}
		if strings.HasPrefix(m.Name, "@") {
			continue // namespaces
		}
		v, err := numbered(m.Value, m.Name)
		if err != nil {
			return nil, err
		}
		out = append(out, message.Member{Name: m.Name, Value: v})
	}
	root := message.NewMap(out...)
	_, err := From(root)
	return root, err
}

func numbered(n *message.Node, prefix string) (*message.Node, error) {
	switch n.Kind {
	case message.List:
		out := message.NewList()
		for _, item := range n.Items {
			v, err := numbered(item, prefix)
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, v)
		}
		return out, nil
	case message.Map:
		var out []message.Member
		for _, m := range n.Members {
			number, ok := strings.CutPrefix(m.Name, prefix+".")
			if _, err := strconv.Atoi(number); !ok || err != nil {
				return nil, fmt.Errorf(
					"HL7: in %s stands %s; its parts are named %s.1, %s.2 and so on",
					prefix,
					m.Name,
					prefix,
					prefix,
				)
			}
			v, err := numbered(m.Value, m.Name)
			if err != nil {
				return nil, err
			}
			out = append(out, message.Member{Name: number, Value: v})
		}
		return message.NewMap(out...), nil
	}
	if n.Text == `""` {
		return message.NewNull(), nil
	}
	return message.NewString(n.Text), nil
}
