package shape

import (
	"slices"
	"strings"

	"readyferry/core/message"
	"readyferry/core/pointer"
)

// deepest is how many levels of a schema are followed, so that one that contains itself ends.
const deepest = 12

// FromSchema gives the lines that a JSON Schema describes. References lead into it and into
// files, by name, which are schemas too. Of several possibilities the first is taken.
func FromSchema(root *message.Node, files func(name string) *message.Node) []Line {
	m := &schemas{root: root, files: files}
	return m.lines(root, root, "", "", false, 0)
}

type schemas struct {
	maker
	root  *message.Node
	files func(name string) *message.Node
}

// resolve follows a reference; in is the schema that it stands in.
func (m *schemas) resolve(s, in *message.Node) (*message.Node, *message.Node) {
	for range deepest {
		ref := s.Get("$ref")
		if ref == nil || ref.Kind != message.String {
			return s, in
		}
		file, at, _ := strings.Cut(ref.Text, "#")
		if file != "" {
			next := (*message.Node)(nil)
			if m.files != nil {
				next = m.files(file)
			}
			if next == nil {
				return s, in
			}
			in = next
		}
		p, err := pointer.Parse(at)
		if err != nil {
			return s, in
		}
		next, err := p.Get(in)
		if err != nil || next.Kind != message.Map {
			return s, in
		}
		s = next
	}
	return s, in
}

// member is one of an object, with the schema that it stands in.
type member struct {
	name     string
	schema   *message.Node
	in       *message.Node
	required bool
}

// members gives those of an object, also of its parts under allOf, and of the first of oneOf.
func (m *schemas) members(s, in *message.Node, depth int) (out []member) {
	s, in = m.resolve(s, in)
	if depth > deepest {
		return nil
	}
	var required []string
	if r := s.Get("required"); r != nil {
		for _, one := range r.Items {
			required = append(required, one.Text)
		}
	}
	if p := s.Get("properties"); p != nil {
		for _, one := range p.Members {
			out = append(out, member{one.Name, one.Value, in, slices.Contains(required, one.Name)})
		}
	}
	for _, part := range parts(s) {
		for _, one := range m.members(part, in, depth+1) {
			if !slices.ContainsFunc(out, func(o member) bool { return o.name == one.name }) {
				one.required = one.required || slices.Contains(required, one.name)
				out = append(out, one)
			}
		}
	}
	return out
}

func parts(s *message.Node) (out []*message.Node) {
	if all := s.Get("allOf"); all != nil {
		out = append(out, all.Items...)
	}
	for _, name := range []string{"oneOf", "anyOf"} {
		if some := s.Get(name); some != nil && len(some.Items) > 0 {
			out = append(out, some.Items[0])
		}
	}
	return out
}

// lines gives those of a value.
func (m *schemas) lines(s, in *message.Node, to, name string, required bool, depth int) (out []Line) {
	s, in = m.resolve(s, in)
	if depth > deepest || m.full() || s.Kind != message.Map {
		return nil
	}
	title := text(s, "title")
	if title == "" {
		title = text(s, "description")
	}
	kind := typeOf(s)
	if items := s.Get("items"); kind == "array" || kind == "" && items != nil {
		line := Line{To: to, Name: name, Title: title, Type: "list", List: true, Required: required}
		if items != nil {
			line.Lines = m.lines(items, in, "", "", false, depth+1)
		}
		return []Line{line}
	}
	if all := m.members(s, in, 0); len(all) > 0 {
		for _, one := range all {
			needed := one.required && (required || to == "")
			out = append(out, m.lines(one.schema, one.in, to+"/"+escaped(one.name), one.name, needed, depth+1)...)
		}
		return out
	}
	line := Line{To: to, Name: name, Title: title, Type: kind, Required: required}
	if values := s.Get("enum"); values != nil && len(values.Items) <= 20 {
		for _, v := range values.Items {
			if one, is := v.Scalar(); is {
				line.Values = append(line.Values, one)
			}
		}
	}
	return []Line{line}
}

func text(s *message.Node, name string) string {
	if v := s.Get(name); v != nil && v.Kind == message.String {
		return v.Text
	}
	return ""
}

// typeOf gives the type of a schema, of several the first that is not null.
func typeOf(s *message.Node) string {
	t := s.Get("type")
	if t == nil {
		return ""
	}
	for _, one := range t.Items {
		if one.Text != "null" {
			return one.Text
		}
	}
	return t.Text
}
