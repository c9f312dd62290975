// Package contract turns what partners send about their messages into JSON
// Schemas and made-up samples: samples themselves, a JSON Schema, an OpenAPI 3
// operation, an AsyncAPI 3 message, an element of an XSD or of a WSDL 1.1.
// What it does not understand it says by name; nothing is fetched.
package contract

import (
	"maps"
	"net/mail"
	"sort"
	"strings"
	"time"

	"readyferry/core/message"
)

// Dialect is the JSON Schema draft of every schema that is made here.
const Dialect = "https://json-schema.org/draft/2020-12/schema"

// Inferring says what is inferred besides types and required members.
type Inferring struct {
	Enums   bool // the values of a text, when few different ones came up again and again
	Formats bool // date-time, date and email, where every text is one
	XML     bool // samples are of XML: one element of a name is none of a list, several are one
}

// Infer makes a schema that all samples fit: the types that were seen, null beside others,
// and members that every map had as required. Declarations of namespaces never are, as each
// sender writes its own.
func Infer(samples []*message.Node, how Inferring) *message.Node {
	s := &seen{}
	for _, n := range samples {
		s.add(n)
	}
	out := s.schema(how)
	return prepend(out, "$schema", message.NewString(Dialect))
}

func prepend(n *message.Node, name string, v *message.Node) *message.Node {
	return message.NewMap(append([]message.Member{{Name: name, Value: v}}, n.Members...)...)
}

// seen is what was seen at one place.
type seen struct {
	types   map[string]bool
	maps    int // how many were maps
	names   []string
	members map[string]*member
	items   *seen
	texts   map[string]int
	n       int
}

type member struct {
	*seen
	in int // in how many maps it stood
}

func typeOf(n *message.Node) string {
	switch n.Kind {
	case message.Null:
		return "null"
	case message.Bool:
		return "boolean"
	case message.Number:
		if strings.ContainsAny(n.Text, ".eE") {
			return "number"
		}
		return "integer"
	case message.List:
		return "array"
	case message.Map:
		return "object"
	}
	return "string"
}

func (s *seen) add(n *message.Node) {
	if s.types == nil {
		s.types, s.members, s.texts = map[string]bool{}, map[string]*member{}, map[string]int{}
	}
	s.types[typeOf(n)] = true
	s.n++
	switch n.Kind {
	case message.Map:
		s.maps++
		for _, m := range n.Members {
			if s.members[m.Name] == nil {
				s.members[m.Name] = &member{seen: &seen{}}
				s.names = append(s.names, m.Name)
			}
			s.members[m.Name].in++
			s.members[m.Name].add(m.Value)
		}
	case message.List:
		for _, item := range n.Items {
			if s.items == nil {
				s.items = &seen{}
			}
			s.items.add(item)
		}
	case message.String:
		if len(s.texts) < 50 {
			s.texts[n.Text]++
		}
	}
}

// Few different values that came at least twice each on average are taken for
// all there are.
const (
	mostEnum  = 8
	leastSeen = 2
)

// merged takes in what was seen of another place.
func (s *seen) merged(o *seen) {
	if o == nil {
		return
	}
	if s.types == nil {
		s.types, s.members, s.texts = map[string]bool{}, map[string]*member{}, map[string]int{}
	}
	for t := range o.types {
		s.types[t] = true
	}
	s.maps, s.n = s.maps+o.maps, s.n+o.n
	for _, name := range o.names {
		if s.members[name] == nil {
			s.members[name] = &member{seen: &seen{}}
			s.names = append(s.names, name)
		}
		s.members[name].in += o.members[name].in
		s.members[name].merged(o.members[name].seen)
	}
	for t, n := range o.texts {
		s.texts[t] += n
	}
	if o.items != nil {
		if s.items == nil {
			s.items = &seen{}
		}
		s.items.merged(o.items)
	}
}

// either is the schema of an element that stood several times somewhere: one or a list.
func (s *seen) either(how Inferring) *message.Node {
	one := &seen{}
	alone := *s
	alone.types, alone.items = maps.Clone(s.types), nil
	delete(alone.types, "array")
	one.merged(&alone)
	one.merged(s.items)
	of := one.schema(how)
	return any1(of, message.NewMap(message.Member{Name: "type", Value: message.NewString("array")},
		message.Member{Name: "items", Value: of}))
}

func (s *seen) schema(how Inferring) *message.Node {
	if how.XML && s.types["array"] {
		return s.either(how)
	}
	enums := how.Enums
	var names []string
	for t := range s.types {
		if t == "integer" && s.types["number"] {
			continue // every whole number is a number
		}
		names = append(names, t)
	}
	sort.Strings(names)
	var out []message.Member
	put := func(name string, v *message.Node) { out = append(out, message.Member{Name: name, Value: v}) }
	switch len(names) {
	case 0:
	case 1:
		put("type", message.NewString(names[0]))
	default:
		put("type", texts(names))
	}
	if s.maps > 0 {
		var required []string
		var properties []message.Member
		for _, name := range s.names {
			m := s.members[name]
			if m.in == s.maps && !isDeclaration(name) {
				required = append(required, name)
			}
			properties = append(properties, message.Member{Name: name, Value: m.schema(how)})
		}
		if required != nil {
			put("required", texts(required))
		}
		put("properties", message.NewMap(properties...))
	}
	if s.items != nil {
		put("items", s.items.schema(how))
	}
	if enums && len(names) == 1 && names[0] == "string" && len(s.texts) <= mostEnum && s.n >= leastSeen*len(s.texts) &&
		s.n > 1 {
		var values []string
		for t := range s.texts {
			values = append(values, t)
		}
		sort.Strings(values)
		put("enum", texts(values))
	}
	if f := s.format(); how.Formats && len(names) == 1 && names[0] == "string" && f != "" {
		put("format", message.NewString(f))
	}
	return message.NewMap(out...)
}

// isDeclaration tells whether a member declares a namespace.
func isDeclaration(name string) bool { return name == "@xmlns" || strings.HasPrefix(name, "@xmlns:") }

// textFormats are those that are told from texts (JSON Schema validation 7.3).
var textFormats = []struct {
	name string
	is   func(text string) bool
}{
	{"date-time", func(t string) bool { _, err := time.Parse(time.RFC3339Nano, t); return err == nil }},
	{"date", func(t string) bool { _, err := time.Parse(time.DateOnly, t); return err == nil }},
	{"email", func(t string) bool {
		a, err := mail.ParseAddress(t)
		return err == nil && a.Address == t && strings.Contains(t, ".")
	}},
}

// format gives the format that every text has, or "".
func (s *seen) format() string {
	for _, f := range textFormats {
		all := len(s.texts) > 0
		for t := range s.texts {
			all = all && f.is(t)
		}
		if all {
			return f.name
		}
	}
	return ""
}

func texts(list []string) *message.Node {
	out := message.NewList()
	for _, s := range list {
		out.Items = append(out.Items, message.NewString(s))
	}
	return out
}
