package expr

import (
	"errors"
	"fmt"
	"net/url"
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

// Template is text with ${expression} holes. "$${" stands for a plain "${".
type Template struct {
	Source string
	Reads  []Path

	place Place
	parts []part
}

// Differs lists how its expressions may come to something else than under older rules.
func (t *Template) Differs() (out []Differs) {
	for _, p := range t.parts {
		if p.hole != nil && p.hole.Differs != (Differs{}) {
			out = append(out, p.hole.Differs)
		}
	}
	return out
}

type part struct {
	text   string
	hole   *Program // nil for text
	quoted bool     // JSONText: the hole stands inside a string
	query  bool     // URLPath: the hole stands after the question mark
}

// CompileTemplate reads a template. The error is a *CompileError whose
// position counts within the template.
func (env *Env) CompileTemplate(source string, place Place) (*Template, error) {
	t := &Template{Source: source, place: place}
	rest, at := source, 0
	var text strings.Builder
	quoted, query := false, false
	literal := func(s string) {
		text.WriteString(s)
		switch place {
		case JSONText:
			quoted = inString(s, quoted)
		case CSVText:
			quoted = quoted != (strings.Count(s, `"`)%2 == 1)
		}
		query = query || strings.Contains(s, "?")
	}
	for {
		open := strings.Index(rest, "${")
		if open < 0 {
			literal(rest)
			break
		}
		if open > 0 && rest[open-1] == '$' {
			literal(rest[:open-1] + "${")
			rest, at = rest[open+2:], at+open+2
			continue
		}
		literal(rest[:open])
		inner, size, ok := hole(rest[open+2:])
		line, col := message.Position([]byte(source), at+open)
		if !ok {
			return nil, &CompileError{
				line,
				col,
				"the hole that begins here is not closed",
				"end it with }, or write $${ for a plain ${",
			}
		}
		p, err := env.Compile(inner)
		if err != nil {
			var bad *CompileError
			if errors.As(err, &bad) {
				moved := *bad
				if moved.Line == 1 {
					moved.Column += col + 1
				}
				moved.Line += line - 1
				err = &moved
			}
			return nil, err
		}
		if text.Len() > 0 {
			t.parts = append(t.parts, part{text: text.String()})
			text.Reset()
		}
		t.parts = append(t.parts, part{hole: p, quoted: quoted, query: query})
		t.Reads = append(t.Reads, p.Reads...)
		rest, at = rest[open+2+size:], at+open+2+size
	}
	if text.Len() > 0 {
		t.parts = append(t.parts, part{text: text.String()})
	}
	return t, nil
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
	var b strings.Builder
	memory := s.Memory.Within("a template", EvalMemory)
	for _, p := range t.parts {
		if p.hole == nil {
			b.WriteString(p.text)
			continue
		}
		n, err := p.hole.Eval(s)
		if err != nil {
			return "", err
		}
		text, err := t.fill(p, n)
		if err != nil {
			return "", fmt.Errorf("${%s}: %w", p.hole.Source, err)
		}
		if err := memory.Take(int64(len(text))); err != nil {
			return "", fmt.Errorf("${%s}: %w", p.hole.Source, err)
		}
		b.WriteString(text)
	}
	return b.String(), nil
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
