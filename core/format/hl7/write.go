package hl7

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"readyferry/core/message"
)

// Writer changes a message place by place, or makes one from nothing. What it
// does not touch stays to the byte.
type Writer struct {
	m     Message
	index map[string][]int // where the segments of each name stand; nil when that must be looked up
	known []string         // the order of segments, of a row: that of the message around it
}

// NewWriter begins with a message, or from nothing: then with a segment MSH
// that holds the usual separators. keep are the escape sequences that stand in texts; see
// Escapes.
func NewWriter(base *Message, keep []string) *Writer {
	if base == nil {
		return &Writer{
			m: Message{
				keep:     keep,
				Sep:      usual,
				Segments: []*Segment{{Name: "MSH", Offset: -1, sep: usual, Raw: "MSH|" + usual.encoding()}},
			},
		}
	}
	w := &Writer{m: *base}
	w.m.keep = keep
	w.m.Segments = slices.Clone(base.Segments)
	return w
}

// Tree gives what was written.
func (w *Writer) Tree() *message.Node {
	t := treeing{}
	m := w.m
	return t.message(&m)
}

// places gives where the segments of a name stand.
func (w *Writer) places(name string) []int {
	if w.index == nil {
		w.index = map[string][]int{}
		for i, s := range w.m.Segments {
			w.index[s.Name] = append(w.index[s.Name], i)
		}
	}
	return w.index[name]
}

func (w *Writer) insert(at int, name string) {
	s := &Segment{Name: name, Offset: -1, sep: w.m.Sep, Raw: name}
	if at == len(w.m.Segments) {
		w.places(name)
		w.index[name] = append(w.index[name], at)
		w.m.Segments = append(w.m.Segments, s)
		return
	}
	w.m.Segments = slices.Insert(w.m.Segments, at, s)
	w.index = nil
}

// Set writes a value to a place. A segment that is not there yet is added
// where the structure of the message has it, or at the end of the message or
// of its group; an index may be one beyond the last.
// raw writes the text without escaping. The error says why the place cannot
// hold the value.
func (w *Writer) Set(p Path, v *message.Node, raw bool) error {
	if p.Index < 0 || p.Repetition < 0 {
		return fmt.Errorf("one place can be written, not all that fit; put a number in place of *")
	}
	if header(p.Segment) && (p.Field == 1 || p.Field == 2) {
		return fmt.Errorf("the separators of a message stand before it is written")
	}
	at, err := w.find(p)
	if err != nil {
		return err
	}
	s := *w.m.Segments[at]
	s.Offset = -1
	if p.Field == 0 {
		made, err := w.m.segment(p.Segment, v)
		if err != nil {
			return err
		}
		w.m.Segments[at] = made
		return nil
	}
	text, err := w.text(p, v, raw)
	if err != nil {
		return err
	}
	sep := w.m.Sep
	field := s.field(p.Field)
	if p.Repetition > 0 || p.Component > 0 {
		rep := max(p.Repetition, 1)
		one := nth(field, sep.Repetition, rep)
		switch {
		case p.Subcomponent > 0:
			one = replace(
				one,
				sep.Component,
				p.Component,
				replace(nth(one, sep.Component, p.Component), sep.Subcomponent, p.Subcomponent, text),
			)
		case p.Component > 0:
			one = replace(one, sep.Component, p.Component, text)
		default:
			one = text
		}
		text = replace(field, sep.Repetition, rep, one)
	}
	s.set(p.Field, text)
	w.m.Segments[at] = &s
	return nil
}

func (w *Writer) text(p Path, v *message.Node, raw bool) (string, error) {
	if text, ok := v.Scalar(); raw && ok {
		if strings.ContainsAny(text, "\r\n") {
			return "", fmt.Errorf("a raw text with a line end would begin a new segment")
		}
		return text, nil
	}
	switch {
	case p.Subcomponent > 0:
		return w.m.writes().parts(v, 0)
	case p.Component > 0:
		return w.m.writes().parts(v, w.m.Sep.Subcomponent)
	case p.Repetition > 0:
		return w.m.writes().parts(v, w.m.Sep.Component)
	}
	return w.m.writes().field(v)
}

// replace puts a text in place of the n-th part, and fills up with empty ones.
func replace(raw string, by byte, n int, text string) string {
	parts := strings.Split(raw, string(by))
	for len(parts) < n {
		parts = append(parts, "")
	}
	parts[n-1] = text
	return strings.Join(parts, string(by))
}

// find gives the number of the segment of a path, and makes it when it is the
// next one.
func (w *Writer) find(p Path) (int, error) {
	places, end := w.places(p.Segment), -1
	if p.Group != "" {
		group := w.m.within(p)
		if group == nil {
			return 0, fmt.Errorf("there is no group %s[%d] to write into", p.Group, p.GroupIndex)
		}
		from := slices.Index(w.m.Segments, group[0])
		end = from + len(group)
		places = nil
		for i := from; i < end; i++ {
			if w.m.Segments[i].Name == p.Segment {
				places = append(places, i)
			}
		}
	}
	if p.Index <= len(places) {
		return places[p.Index-1], nil
	}
	if p.Index != len(places)+1 {
		return 0, fmt.Errorf(
			"%s cannot be written: there are %d segments %s, so the next one is %d",
			p.head(),
			len(places),
			p.Segment,
			len(places)+1,
		)
	}
	switch {
	case len(places) > 0:
		end = places[len(places)-1] + 1 // behind the others of its name
	case end < 0:
		end = w.place(p.Segment)
	}
	w.insert(end, p.Segment)
	return end, nil
}

// The codes of an acknowledgement (table 0008, original mode).
var ackCodes = []string{"AA", "AE", "AR", "CA", "CE", "CR"}

// Ack makes the acknowledgement of a message (chapter 2.9.2): sender and
// receiver change places, MSA-2 names the message that is acknowledged. id is
// the new message's own control id, at most 20 characters.
func Ack(m *Message, code, text, id string, now time.Time) (*message.Node, error) {
	if !slices.Contains(ackCodes, code) {
		return nil, fmt.Errorf("%q is no code of an acknowledgement; there are %s", code, strings.Join(ackCodes, ", "))
	}
	if len(m.Segments) == 0 || m.Segments[0].Name != "MSH" {
		return nil, fmt.Errorf("only a message that begins with MSH can be acknowledged")
	}
	in := m.Segments[0]
	out := &Segment{Name: "MSH", Offset: -1, sep: m.Sep, Raw: "MSH" + string(m.Sep.Field) + m.Sep.encoding()}
	kind := "ACK"
	if event := nth(in.field(9), m.Sep.Component, 2); event != "" {
		kind += string(m.Sep.Component) + event
		if nth(in.field(9), m.Sep.Component, 3) != "" {
			kind += string(m.Sep.Component) + "ACK"
		}
	}
	for n, raw := range map[int]string{
		3: in.field(5), 4: in.field(6), 5: in.field(3), 6: in.field(4), 7: now.UTC().Format("20060102150405") + "+0000",
		9: kind, 10: id, 11: in.field(11), 12: in.field(12), 18: in.field(18),
	} {
		if raw != "" {
			out.set(n, raw)
		}
	}
	msa := &Segment{Name: "MSA", Offset: -1, sep: m.Sep, Raw: "MSA"}
	msa.set(1, code)
	msa.set(2, in.field(10))
	if text != "" {
		msa.set(3, escaping{Separators: m.Sep}.escape(text))
	}
	t := treeing{}
	return t.message(&Message{Segments: []*Segment{out, msa}, Sep: m.Sep}), nil
}
