package expr

import (
	"fmt"
	"maps"
	"net/url"
	"strconv"
	"strings"

	"readyferry/core/format/csv"
	"readyferry/core/format/hl7"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/format/xml"
	"readyferry/core/message"
)

// Place says where a template's text goes, and so how its holes are escaped.
type Place int

// The places of a template.
const (
	PlainText   Place = iota // as it is: reasons, log lines
	URLPath                  // a path and query: holes are escaped as one segment or one value (RFC 3986)
	HeaderValue              // a header: line breaks and control characters are refused (RFC 9110, 5.5)
	JSONText                 // JSON: inside quotes the hole is escaped, outside it is written as a JSON value
	XMLText                  // XML: texts and attributes are escaped
	CSVText                  // CSV: inside quotes the hole's quotes are doubled, outside it is put into quotes where it needs them
	HL7Text                  // HL7 v2 with the usual separators
	FormText                 // a form: names and values are escaped
)

// Template is text with ${expression} holes. "$${" stands for a plain "${". In the text of a
// document ${for x in list} … ${end} writes what is between once for each item, with index
// and last beside x, and ${if condition} … ${else} … ${end} writes one of the two.
type Template struct {
	Source string
	Reads  []Path
	Looks  []Look // as those of a Program

	place    Place
	parts    []part
	programs []*Program
}

// Differs lists how its expressions may come to something else than under older rules.
func (t *Template) Differs() (out []Differs) {
	for _, p := range t.programs {
		if p.Differs != (Differs{}) {
			out = append(out, p.Differs)
		}
	}
	return out
}

type part struct {
	text   string
	hole   *Program // nil for text
	quoted bool     // JSONText: the hole stands inside a string
	query  bool     // URLPath: the hole stands after the question mark

	each        *Program // of a loop over body
	name        string   // of its item
	when        *Program // of a choice between body and other
	body, other []part
}

// hole finds the end of a hole: the closing brace that is not inside a string
// or an inner pair of braces. size includes the brace.
func hole(s string) (inner string, size int, ok bool) {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch c := s[i]; c {
		case '"', '\'':
			for i++; i < len(s) && s[i] != c; i++ {
				if s[i] == '\\' {
					i++
				}
			}
		case '{':
			depth++
		case '}':
			if depth == 0 {
				return s[:i], i + 1, true
			}
			depth--
		}
	}
	return "", 0, false
}

// inString tells whether a JSON text is inside a string after s, given whether
// it was before.
func inString(s string, quoted bool) bool {
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '"':
			quoted = !quoted
		case s[i] == '\\' && quoted:
			i++
		}
	}
	return quoted
}

// Constant gives the text of a template without holes.
func (t *Template) Constant() (string, bool) {
	switch {
	case len(t.parts) == 0:
		return "", true
	case len(t.parts) == 1 && t.parts[0].hole == nil:
		return t.parts[0].text, true
	}
	return "", false
}

// Eval fills the holes in.
func (t *Template) Eval(s *Scope) (string, error) {
	w := &filling{t: t, memory: s.Memory.Within("a template", EvalMemory)}
	if err := w.write(t.parts, s); err != nil {
		return "", err
	}
	return w.text.String(), nil
}

// filling is a template that is being written.
type filling struct {
	t      *Template
	text   strings.Builder
	memory *message.Memory
}

func (w *filling) write(parts []part, s *Scope) error {
	for _, p := range parts {
		var err error
		switch {
		case p.each != nil:
			err = w.loop(p, s)
		case p.when != nil:
			err = w.choose(p, s)
		default:
			err = w.one(p, s)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// one writes a text or a hole.
func (w *filling) one(p part, s *Scope) error {
	text := p.text
	if p.hole != nil {
		n, err := p.hole.Eval(s)
		if err != nil {
			return err
		}
		if text, err = w.t.fill(p, n); err != nil {
			return fmt.Errorf("${%s}: %w", p.hole.Source, err)
		}
	}
	if err := w.memory.Take(int64(len(text))); err != nil {
		if p.hole != nil {
			err = fmt.Errorf("${%s}: %w", p.hole.Source, err)
		}
		return err
	}
	w.text.WriteString(text)
	return nil
}

func (w *filling) loop(p part, s *Scope) error {
	list, err := p.each.Eval(s)
	if err != nil {
		return fmt.Errorf("${for %s}: %w", p.name, err)
	}
	items := list.Items
	switch list.Kind {
	case message.List:
	case message.Null:
		return nil
	default:
		items = []*message.Node{list} // one element of XML is no list; it is one item
	}
	for i, v := range items {
		if err := w.memory.Take(ofItem); err != nil {
			return fmt.Errorf("${for %s}: %w", p.name, err)
		}
		inner := *s
		inner.Locals = maps.Clone(s.Locals)
		if inner.Locals == nil {
			inner.Locals = map[string]*message.Node{}
		}
		inner.Locals[p.name], inner.Locals["index"] = v, message.NewNumber(strconv.Itoa(i))
		inner.Locals["last"] = message.NewBool(i == len(items)-1)
		if err := w.write(p.body, &inner); err != nil {
			return err
		}
	}
	return nil
}

// ofItem is what an item of a loop counts for, in bytes, also where nothing is written of it.
const ofItem = 256

func (w *filling) choose(p part, s *Scope) error {
	holds, err := p.when.EvalBool(s)
	if err != nil {
		return fmt.Errorf("${if}: %w", err)
	}
	if holds {
		return w.write(p.body, s)
	}
	return w.write(p.other, s)
}

func (t *Template) fill(p part, n *message.Node) (string, error) {
	if t.place == JSONText && !p.quoted {
		return string(jsonfmt.Encode(n)), nil
	}
	text, ok := n.Scalar()
	if !ok {
		text = string(jsonfmt.Encode(n))
	}
	switch t.place {
	case JSONText:
		quoted := jsonfmt.AppendString(nil, text)
		return string(quoted[1 : len(quoted)-1]), nil
	case XMLText:
		return xml.Escape(text)
	case CSVText:
		if p.quoted {
			return strings.ReplaceAll(text, `"`, `""`), nil
		}
		return csv.Field(text), nil
	case HL7Text:
		return hl7.Escape(text), nil
	case FormText:
		return url.QueryEscape(text), nil
	case HeaderValue:
		if i := strings.IndexFunc(text, func(r rune) bool { return r < 0x20 && r != '\t' || r == 0x7F }); i >= 0 {
			return "", fmt.Errorf("a header cannot hold the control character %q", text[i])
		}
	case URLPath:
		if p.query {
			return url.QueryEscape(text), nil
		}
		// An empty or dotted segment would name another resource than the one that was meant.
		if text == "" || text == "." || text == ".." {
			return "", fmt.Errorf("a segment of a path cannot be %q", text)
		}
		return url.PathEscape(text), nil
	}
	return text, nil
}
