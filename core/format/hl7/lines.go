package hl7

import (
	"fmt"
	"strings"

	"readyferry/core/format/hl7/dictionary"
	"readyferry/core/message"
)

// Lines shows a message by segments, each value with the expression that reads
// it. At most limit lines are made.
func Lines(m *Message, limit int) []message.Line {
	l := &lines{limit: limit, count: map[string]int{}, version: m.version()}
	l.segments(m.Segments, "body")
	for i, p := range m.parts {
		l.count = map[string]int{}
		l.segments(p.Segments, fmt.Sprintf("body.messages[%d]", i))
	}
	return l.out
}

type lines struct {
	out     []message.Line
	limit   int
	count   map[string]int
	version *dictionary.Version
}

// version gives the version of the standard that MSH-12 names.
func (m *Message) version() *dictionary.Version {
	for _, s := range m.Segments {
		if s.Name == "MSH" {
			return dictionary.Of(s.field(12))
		}
	}
	if len(m.parts) > 0 {
		return m.parts[0].version()
	}
	return dictionary.Of("")
}

// called gives the name of a field or of a component of it, and what its code means.
func (l *lines) called(segment string, field, component int, text string) (title, meaning string) {
	p := l.version.Segment(segment).Part(field)
	if p == nil {
		return "", ""
	}
	title, table := p.Name, p.Table
	if kind := l.version.Type(p.Type); kind != nil && component > 0 {
		if c := kind.Part(component); c != nil {
			title, table = title+", "+c.Within(), c.Table
		}
	}
	if t := dictionary.Codes(table); t != nil {
		meaning = t.Values[text]
	}
	return title, meaning
}

func (l *lines) segments(list []*Segment, root string) {
	all := map[string]int{}
	for _, s := range list {
		all[s.Name]++
	}
	for _, s := range list {
		if len(l.out) >= l.limit {
			return
		}
		l.count[s.Name]++
		name := s.Name
		if n := l.count[s.Name]; n > 1 {
			name = fmt.Sprintf("%s[%d]", name, n)
		}
		line := message.Line{Tokens: []message.Token{l.heads(s, root, all[s.Name] > 1)}}
		put := func(text, path string, field, component int) {
			if text == "" {
				return
			}
			t := message.Token{Text: text, Kind: message.TokenValue, Expression: fmt.Sprintf("hl7(%s, %q)", root, path)}
			t.Title, t.Meaning = l.called(s.Name, field, component, text)
			line.Tokens = append(line.Tokens, t)
		}
		mark := func(c byte) {
			line.Tokens = append(line.Tokens, message.Token{Text: string(c), Kind: message.TokenMark})
		}
		for i, raw := range s.Fields() {
			place := fmt.Sprintf("%s-%d", name, i+1)
			if header(s.Name) && i == 0 {
				put(raw, place, i+1, 0)
				continue
			}
			if !header(s.Name) || i > 1 {
				mark(s.sep.Field)
			}
			if header(s.Name) && i == 1 {
				put(raw, place, i+1, 0)
				continue
			}
			for r, rep := range strings.Split(raw, string(s.sep.Repetition)) {
				at := place
				if r > 0 {
					mark(s.sep.Repetition)
					at = fmt.Sprintf("%s[%d]", place, r+1)
				}
				l.components(rep, at, i+1, s.sep, put, mark)
			}
		}
		l.out = append(l.out, line)
	}
}

// heads gives the name of a segment, which picks it as a whole: of one that stands several
// times all of them, each with what stands behind it.
func (l *lines) heads(s *Segment, root string, several bool) message.Token {
	t := message.Token{Text: s.Name, Kind: message.TokenName, Expression: root + "." + s.Name}
	if several {
		t.Expression = fmt.Sprintf("hl7Groups(%s, %q)", root, s.Name)
	}
	if known := l.version.Segment(s.Name); known != nil {
		t.Title = known.Name
	}
	return t
}

func (l *lines) components(rep, at string, field int, sep Separators, put func(text, path string, field,
	component int), mark func(byte)) {
	comps := strings.Split(rep, string(sep.Component))
	for c, comp := range comps {
		here, component := at, c+1
		if len(comps) == 1 {
			component = 0
		}
		if c > 0 {
			mark(sep.Component)
		}
		subs := strings.Split(comp, string(sep.Subcomponent))
		if len(comps) > 1 || len(subs) > 1 {
			here = fmt.Sprintf("%s.%d", at, c+1)
		}
		for s, sub := range subs {
			if s > 0 {
				mark(sep.Subcomponent)
			}
			if len(subs) > 1 {
				put(sub, fmt.Sprintf("%s.%d", here, s+1), field, component)
			} else {
				put(sub, here, field, component)
			}
		}
	}
}
