package hl7

import (
	"fmt"
	"strings"

	"readyferry/core/message"
)

// Lines shows a message by segments, each value with the expression that reads
// it. At most limit lines are made.
func Lines(m *Message, limit int) []message.Line {
	l := &lines{limit: limit, count: map[string]int{}}
	l.segments(m.Segments, "body")
	for i, p := range m.parts {
		l.count = map[string]int{}
		l.segments(p.Segments, fmt.Sprintf("body.messages[%d]", i))
	}
	return l.out
}

type lines struct {
	out   []message.Line
	limit int
	count map[string]int
}

func (l *lines) segments(list []*Segment, root string) {
	for _, s := range list {
		if len(l.out) >= l.limit {
			return
		}
		l.count[s.Name]++
		name := s.Name
		if n := l.count[s.Name]; n > 1 {
			name = fmt.Sprintf("%s[%d]", name, n)
		}
		line := message.Line{Tokens: []message.Token{{Text: s.Name, Kind: message.TokenName}}}
		put := func(text, path string) {
			if text != "" {
				line.Tokens = append(
					line.Tokens,
					message.Token{
						Text:       text,
						Kind:       message.TokenValue,
						Expression: fmt.Sprintf("hl7(%s, %q)", root, path),
					},
				)
			}
		}
		mark := func(c byte) {
			line.Tokens = append(line.Tokens, message.Token{Text: string(c), Kind: message.TokenMark})
		}
		for i, raw := range s.Fields() {
			place := fmt.Sprintf("%s-%d", name, i+1)
			if header(s.Name) && i == 0 {
				put(raw, place)
				continue
			}
			if !header(s.Name) || i > 1 {
				mark(s.sep.Field)
			}
			if header(s.Name) && i == 1 {
				put(raw, place)
				continue
			}
			for r, rep := range strings.Split(raw, string(s.sep.Repetition)) {
				at := place
				if r > 0 {
					mark(s.sep.Repetition)
					at = fmt.Sprintf("%s[%d]", place, r+1)
				}
				l.components(rep, at, s.sep, put, mark)
			}
		}
		l.out = append(l.out, line)
	}
}

func (l *lines) components(rep, at string, sep Separators, put func(text, path string), mark func(byte)) {
	comps := strings.Split(rep, string(sep.Component))
	for c, comp := range comps {
		here := at
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
				put(sub, fmt.Sprintf("%s.%d", here, s+1))
			} else {
				put(sub, here)
			}
		}
	}
}
