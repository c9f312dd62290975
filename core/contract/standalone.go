package contract

import (
	"fmt"
	"slices"
	"strings"

	"readyferry/core/message"
)

// standalone makes a schema of a part of a document that needs nothing else of
// it: what it refers to is put under $defs.
type standalone struct {
	root  *message.Node
	old   bool // the dialect of OpenAPI 3.0
	defs  map[string]*message.Node
	names map[string]string
	order []string
	notes []string
}

func (s *standalone) note(text string) {
	if !slices.Contains(s.notes, text) {
		s.notes = append(s.notes, text)
	}
}

func (s *standalone) schema(n *message.Node) (*message.Node, error) {
	s.defs, s.names = map[string]*message.Node{}, map[string]string{}
	out, err := s.rewrite(n, 0)
	if err != nil {
		return nil, err
	}
	if out.Kind != message.Map {
		out = message.NewMap()
	}
	if len(s.order) > 0 {
		var defs []message.Member
		for _, name := range s.order {
			defs = append(defs, message.Member{Name: name, Value: s.defs[name]})
		}
		out = out.With("$defs", message.NewMap(defs...))
	}
	return prepend(out.Without("$schema"), "$schema", message.NewString(Dialect)), nil
}

func (s *standalone) rewrite(n *message.Node, depth int) (*message.Node, error) {
	if depth > 200 {
		return nil, fmt.Errorf("the schema is nested too deep")
	}
	switch n.Kind {
	case message.List:
		out := message.NewList()
		for _, item := range n.Items {
			v, err := s.rewrite(item, depth+1)
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, v)
		}
		return out, nil
	case message.Map:
	default:
		return n, nil
	}
	if ref := n.Get("$ref"); ref != nil && ref.Kind == message.String {
		name, err := s.reference(ref.Text, depth)
		if err != nil {
			return nil, err
		}
		return message.NewMap(message.Member{Name: "$ref", Value: message.NewString("#/$defs/" + name)}), nil
	}
	var members []message.Member
	for _, m := range n.Members {
		switch m.Name {
		case "enum", "const", "default", "examples", "example":
			if m.Name == "example" {
				m.Name, m.Value = "examples", message.NewList(m.Value)
			}
			members = append(members, m)
			continue
		case "discriminator", "externalDocs", "xml":
			s.note(m.Name + " says nothing to a JSON Schema and was left out")
			continue
		}
		v, err := s.rewrite(m.Value, depth+1)
		if err != nil {
			return nil, err
		}
		members = append(members, message.Member{Name: m.Name, Value: v})
	}
	out := message.NewMap(members...)
	if s.old {
		out = modern(out)
	}
	return out, nil
}

func (s *standalone) reference(ref string, depth int) (string, error) {
	if name, known := s.names[ref]; known {
		return name, nil
	}
	if !strings.HasPrefix(ref, "#/") {
		return "", fmt.Errorf(
			"the reference %s leads to another document; nothing is fetched, so put that part in here",
			ref,
		)
	}
	target, err := get(s.root, ref)
	if err != nil {
		return "", err
	}
	base := strings.Map(func(r rune) rune {
		if r == '/' || r == '~' || r == '%' || r == ' ' {
			return '-'
		}
		return r
	}, ref[strings.LastIndexByte(ref, '/')+1:])
	name := base
	for i := 2; s.defs[name] != nil; i++ {
		name = fmt.Sprintf("%s-%d", base, i)
	}
	s.names[ref], s.defs[name] = name, message.NewMap()
	s.order = append(s.order, name)
	v, err := s.rewrite(target, depth+1)
	s.defs[name] = v
	return name, err
}

// modern brings a schema of OpenAPI 3.0 to JSON Schema 2020-12: nullable, and
// exclusive bounds that are booleans there.
func modern(n *message.Node) *message.Node {
	if v := n.Get("nullable"); v != nil && v.Kind == message.Bool {
		n = n.Without("nullable")
		if t := n.Get("type"); t != nil && v.Text == "true" && t.Kind == message.String {
			n = n.With("type", message.NewList(t, message.NewString("null")))
			if e := n.Get("enum"); e != nil {
				n = n.With("enum", message.NewList(append(slices.Clone(e.Items), message.NewNull())...))
			}
		}
	}
	for _, bound := range [][2]string{{"exclusiveMinimum", "minimum"}, {"exclusiveMaximum", "maximum"}} {
		v := n.Get(bound[0])
		if v == nil || v.Kind != message.Bool {
			continue
		}
		n = n.Without(bound[0])
		if limit := n.Get(bound[1]); v.Text == "true" && limit != nil {
			n = n.Without(bound[1]).With(bound[0], limit)
		}
	}
	return n
}
