package contract

import (
	"regexp/syntax"
	"strconv"
	"strings"

	"readyferry/core/message"
	"readyferry/core/pointer"
)

// Sample makes up a document that fits a schema, the same on every run: the
// first example, default, constant or value of an enumeration where there is
// one, else a value by type, format, pattern and bounds. References lead only
// inside the schema. A sample of an odd schema may not fit it; whoever shows it
// checks.
func Sample(schema *message.Node) *message.Node {
	return (&maker{root: schema}).value(schema, 0)
}

// deepest keeps a schema that contains itself from going on for ever.
const deepest = 12

type maker struct{ root *message.Node }

func (m *maker) value(s *message.Node, depth int) *message.Node {
	if s == nil || s.Kind != message.Map || depth > deepest {
		return message.NewString("text")
	}
	if ref := s.Get("$ref"); ref != nil {
		if target := m.resolve(ref.Text); target != nil {
			return m.value(target, depth+1)
		}
	}
	for _, name := range []string{"const", "default", "example"} {
		if v := s.Get(name); v != nil {
			return v
		}
	}
	for _, name := range []string{"examples", "enum"} {
		if v := s.Get(name); v != nil && v.Kind == message.List && len(v.Items) > 0 {
			return v.Items[0]
		}
	}
	if all := s.Get("allOf"); all != nil {
		return m.merged(s, all, depth)
	}
	for _, name := range []string{"oneOf", "anyOf"} {
		if v := s.Get(name); v != nil && len(v.Items) > 0 && s.Get("type") == nil && s.Get("properties") == nil {
			return m.value(v.Items[0], depth+1)
		}
	}
	switch kind(s) {
	case "object":
		return m.object(s, depth)
	case "array":
		return m.array(s, depth)
	case "integer", "number":
		return number(s)
	case "boolean":
		return message.NewBool(true)
	case "null":
		return message.NewNull()
	}
	return text(s)
}

// kind gives the first type, or what the keywords speak of.
func kind(s *message.Node) string {
	if t := s.Get("type"); t != nil {
		if t.Kind == message.List {
			for _, item := range t.Items {
				if item.Text != "null" {
					return item.Text
				}
			}
			return "null"
		}
		return t.Text
	}
	switch {
	case s.Get("properties") != nil, s.Get("required") != nil:
		return "object"
	case s.Get("items") != nil, s.Get("prefixItems") != nil:
		return "array"
	case s.Get("minimum") != nil, s.Get("maximum") != nil:
		return "number"
	}
	return "string"
}

func (m *maker) resolve(ref string) *message.Node {
	ptr, ok := strings.CutPrefix(ref, "#")
	if !ok {
		return nil
	}
	p, err := pointer.Parse(ptr)
	if err != nil {
		return nil
	}
	n, err := p.Get(m.root)
	if err != nil {
		return nil
	}
	return n
}

// merged puts the members of all parts together.
func (m *maker) merged(s, all *message.Node, depth int) *message.Node {
	out := message.NewMap()
	var other *message.Node
	for _, part := range append([]*message.Node{s.Without("allOf")}, all.Items...) {
		if len(part.Members) == 0 {
			continue
		}
		v := m.value(part, depth+1)
		if v.Kind != message.Map {
			other = v
			continue
		}
		for _, x := range v.Members {
			out = out.With(x.Name, x.Value)
		}
	}
	if len(out.Members) == 0 && other != nil {
		return other
	}
	return out
}

func (m *maker) object(s *message.Node, depth int) *message.Node {
	var out []message.Member
	required := map[string]bool{}
	if r := s.Get("required"); r != nil {
		for _, item := range r.Items {
			required[item.Text] = true
		}
	}
	if p := s.Get("properties"); p != nil {
		for _, x := range p.Members {
			if depth < deepest-4 || required[x.Name] { // what nests in itself ends where it may
				out = append(out, message.Member{Name: x.Name, Value: m.value(x.Value, depth+1)})
			}
			delete(required, x.Name)
		}
	}
	if r := s.Get("required"); r != nil {
		for _, item := range r.Items {
			if required[item.Text] {
				out = append(out, message.Member{Name: item.Text, Value: message.NewString("text")})
			}
		}
	}
	return message.NewMap(out...)
}

func (m *maker) array(s *message.Node, depth int) *message.Node {
	out := message.NewList()
	if p := s.Get("prefixItems"); p != nil {
		for _, item := range p.Items {
			out.Items = append(out.Items, m.value(item, depth+1))
		}
	}
	least := whole(s.Get("minItems"), 1)
	if depth >= deepest-4 {
		least = whole(s.Get("minItems"), 0)
	}
	for len(out.Items) < min(least, 100) {
		out.Items = append(out.Items, m.value(s.Get("items"), depth+1))
	}
	return out
}

func whole(n *message.Node, otherwise int) int {
	if n == nil {
		return otherwise
	}
	f, err := strconv.ParseFloat(n.Text, 64)
	if err != nil {
		return otherwise
	}
	return int(f)
}

func number(s *message.Node) *message.Node {
	low, high := s.Get("minimum"), s.Get("maximum")
	step := s.Get("multipleOf")
	switch {
	case step != nil && low == nil:
		return message.NewNumber(step.Text)
	case low != nil && step == nil:
		return message.NewNumber(low.Text)
	case s.Get("exclusiveMinimum") != nil:
		f, _ := strconv.ParseFloat(s.Get("exclusiveMinimum").Text, 64)
		return message.NewNumber(strconv.FormatFloat(f+1, 'f', -1, 64))
	case high != nil:
		return message.NewNumber(high.Text)
	}
	if kind(s) == "number" {
		return message.NewNumber("1.5")
	}
	return message.NewNumber("1")
}

// formats are made-up values of the formats that JSON Schema names (7.3).
var formats = map[string]string{
	"date-time": "2026-03-17T09:41:07Z", "date": "2026-03-17", "time": "09:41:07Z", "duration": "P1D",
	"email": "desk@larkfield.invalid", "idn-email": "desk@larkfield.invalid",
	"hostname": "larkfield.invalid", "idn-hostname": "larkfield.invalid", "ipv4": "192.0.2.1", "ipv6": "2001:db8::1",
	"uri": "https://larkfield.invalid/x", "uri-reference": "/x", "iri": "https://larkfield.invalid/x",
	"iri-reference": "/x",
	"uuid":          "019cf2b1-77a4-7c31-8000-0123456789ab", "json-pointer": "/a", "relative-json-pointer": "0/a",
	"regex":        "a+",
	"uri-template": "/x/{id}", "byte": "dGV4dA==", "binary": "text", "password": "text",
}

func text(s *message.Node) *message.Node {
	if f := s.Get("format"); f != nil {
		if v, known := formats[f.Text]; known {
			return message.NewString(v)
		}
	}
	v := "text"
	if p := s.Get("pattern"); p != nil {
		if made, ok := fromPattern(p.Text); ok {
			v = made
		}
	}
	r := []rune(v)
	if least := whole(s.Get("minLength"), 0); len(r) < least && s.Get("pattern") == nil {
		v += strings.Repeat("x", min(least, 10000)-len(r))
	}
	if most := whole(s.Get("maxLength"), -1); most >= 0 && len([]rune(v)) > most {
		v = string([]rune(v)[:most])
	}
	return message.NewString(v)
}

// fromPattern makes a text that a regular expression fits: of every choice the
// first, of every repetition as few as allowed, but one rather than none.
func fromPattern(pattern string) (string, bool) {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return "", false
	}
	var b strings.Builder
	var walk func(re *syntax.Regexp)
	walk = func(re *syntax.Regexp) {
		if b.Len() > 1000 {
			return
		}
		switch re.Op {
		case syntax.OpLiteral:
			b.WriteString(string(re.Rune))
		case syntax.OpCharClass:
			b.WriteRune(friendly(re.Rune))
		case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
			b.WriteByte('x')
		case syntax.OpConcat, syntax.OpCapture:
			for _, sub := range re.Sub {
				walk(sub)
			}
		case syntax.OpAlternate, syntax.OpQuest, syntax.OpPlus, syntax.OpStar:
			walk(re.Sub[0])
		case syntax.OpRepeat:
			n := re.Min
			if n == 0 && re.Max != 0 {
				n = 1
			}
			for range n {
				walk(re.Sub[0])
			}
		}
	}
	walk(re.Simplify())
	return b.String(), true
}

// friendly picks a character of a class that people like to read.
func friendly(class []rune) rune {
	for _, want := range "1AaX0-_ " {
		for i := 0; i+1 < len(class); i += 2 {
			if want >= class[i] && want <= class[i+1] {
				return want
			}
		}
	}
	if len(class) > 0 {
		return class[0]
	}
	return 'x'
}
