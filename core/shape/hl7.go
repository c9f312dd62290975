package shape

import (
	"fmt"
	"strings"

	"readyferry/core/format/hl7"
	"readyferry/core/format/hl7/dictionary"
	"readyferry/core/message"
)

// segments gives the fields of an example of HL7, with their names: segments that stand
// several times, and those between them, are the rows of a loop.
func (m *maker) segments(root *message.Node) []Line {
	msg := hl7.Of(root)
	if msg == nil {
		return nil
	}
	version := dictionary.Of(textAt(msg, "MSH-12"))
	count := map[string]int{}
	for _, s := range msg.Segments {
		count[s.Name]++
	}
	var out []Line
	done := map[string]bool{}
	for _, s := range msg.Segments {
		switch {
		case done[s.Name]:
			continue
		case count[s.Name] > 1:
			out = append(out, Line{Name: s.Name, Title: named(version, s.Name), Type: "list", List: true,
				Lines: m.filled(version, s)})
		default:
			out = append(out, m.filled(version, s)...)
		}
		done[s.Name] = true
	}
	return out
}

// filled gives the fields and components of a segment that something stands in.
func (m *maker) filled(v *dictionary.Version, s *hl7.Segment) (out []Line) {
	for i, raw := range s.Fields() {
		n := i + 1
		if raw == "" || s.Name == "MSH" && n < 3 || m.full() {
			continue
		}
		to, part := fmt.Sprintf("%s-%d", s.Name, n), v.Segment(s.Name).Part(n)
		line := fieldLine(to, part)
		parts := strings.Split(raw, "^")
		if len(parts) == 1 {
			out = append(out, line)
			continue
		}
		kind := (*dictionary.Segment)(nil)
		if part != nil {
			kind = v.Type(part.Type)
		}
		for c, text := range parts {
			if text != "" {
				out = append(out, componentLine(to, c+1, line, kind))
			}
		}
	}
	return out
}

func fieldLine(to string, p *dictionary.Part) Line {
	line := Line{To: to, Name: to}
	if p != nil {
		line.Title, line.Type, line.Required = p.Name, p.Type, p.Required
	}
	return line
}

func componentLine(to string, n int, of Line, kind *dictionary.Segment) Line {
	line := Line{To: fmt.Sprintf("%s.%d", to, n), Name: fmt.Sprintf("%s.%d", to, n), Title: of.Title}
	if p := kind.Part(n); p != nil {
		line.Title, line.Type = of.Title+", "+p.Within(), p.Type
	}
	line.Required = of.Required && n == 1
	return line
}

func named(v *dictionary.Version, segment string) string {
	if s := v.Segment(segment); s != nil {
		return s.Name
	}
	return ""
}

func textAt(m *hl7.Message, path string) string {
	p, err := hl7.ParsePath(path)
	if err != nil {
		return ""
	}
	text, err := m.Raw(p)
	if err != nil {
		return ""
	}
	return text
}

// FromHL7 gives the lines of a kind of message, written as ORU^R01 or ORU_R01, in a version of
// the standard. Segments that may repeat are loops; those that belong to one, such as the
// observations of an order, stand in it. The error says that there is no such message.
func FromHL7(kind, version string) ([]Line, error) {
	v := dictionary.Of(version)
	parts := append(strings.FieldsFunc(kind, func(r rune) bool { return r == '^' || r == '_' }), "", "", "")
	structure := parts[0] + "_" + parts[1]
	if parts[2] != "" {
		structure = parts[2] + "_" + parts[3]
	}
	msg := v.Message(parts[0], parts[1], strings.TrimSuffix(structure, "_"))
	if msg == nil {
		return nil, fmt.Errorf("HL7 %s has no message %q; write it as ORU^R01", v.Name, kind)
	}
	m := &maker{}
	return m.parts(v, msg.Tree), nil
}

// parts gives the lines of a structure: segments that stand once fall into their fields, a
// segment or group that repeats is a loop over what is in it.
func (m *maker) parts(v *dictionary.Version, list []dictionary.Item) (out []Line) {
	for _, one := range list {
		var lines []Line
		if one.Items != nil {
			lines = m.parts(v, one.Items)
		} else {
			lines = m.all(v, one.Segment)
		}
		if !one.Optional {
			out = append(out, listed(v, one, lines)...)
			continue
		}
		for i := range lines { // nothing of what may be left out must be there
			lines[i].Required = false
		}
		out = append(out, listed(v, one, lines)...)
	}
	return out
}

func listed(v *dictionary.Version, one dictionary.Item, lines []Line) []Line {
	if !one.Repeats {
		return lines
	}
	name := one.First()
	return []Line{{Name: name, Title: named(v, name), Type: "list", List: true, Lines: lines}}
}

// all gives every field of a segment, and the components of those that have some.
func (m *maker) all(v *dictionary.Version, segment string) (out []Line) {
	s := v.Segment(segment)
	if s == nil {
		return nil
	}
	for i := range s.Parts {
		if m.full() || segment == "MSH" && i < 2 {
			continue
		}
		to := fmt.Sprintf("%s-%d", segment, i+1)
		line := fieldLine(to, &s.Parts[i])
		kind := v.Type(s.Parts[i].Type)
		if kind == nil || s.Parts[i].Type == "TS" {
			out = append(out, line)
			continue
		}
		for c := range kind.Parts {
			out = append(out, componentLine(to, c+1, line, kind))
		}
	}
	return out
}
