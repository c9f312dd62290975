// Package hl7 reads and writes HL7 version 2 messages in their ER7 encoding
// (HL7 v2.5.1, chapter 2), over the document tree of core/message.
//
//	MSH|^~\&|LAB|NORTH|…
//	PID|1||4711^^^NORTH~0815||Jones^Ann&van
//
// is a map of segments by name; a segment that stands more than once is a list.
// A segment is a map of its fields by number, a field is a text or a map of its
// components by number, a component a text or a map of sub-components; a field
// that repeats is a list. What is empty is left out; the null that a sender
// writes as "" is null. Where segments of one name do not stand together,
// "#order" lists the names as they stood.
//
// A batch (FHS or BHS in front) is a map of its envelope's segments, with the
// messages in it as a list under "messages".
//
// Separators are read from the message. A segment that nobody changed is
// written as it was, to the byte; all end with CR, as the standard has it, whatever ended
// them where they came from.
package hl7

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"readyferry/core/message"
)

// Separators are the characters that a message uses (chapter 2.5.4).
type Separators struct {
	Field, Component, Repetition, Escape, Subcomponent byte
}

// Usual are the separators that the standard recommends.
var usual = Separators{'|', '^', '~', '\\', '&'}

// encoding gives MSH-2.
func (s Separators) encoding() string {
	return string([]byte{s.Component, s.Repetition, s.Escape, s.Subcomponent})
}

// Segment is one line of a message.
type Segment struct {
	Name   string
	Offset int    // byte at which it began; -1 when it was made
	Raw    string // as it stands, without its end
	sep    Separators
}

// Message is a sequence of segments: a message, a group of one, or an envelope.
type Message struct {
	Segments []*Segment
	Sep      Separators
	parts    []*Message
	keep     []string // see Escapes; of a message that is written
}

// Limits of a decoder. Zero values are no limits.
type Limits struct{ MaxNodes int }

// Messages are those inside the envelope of a batch, in order.
func (m *Message) Messages() []*Message { return m.parts }

// header tells whether a segment defines separators.
func header(name string) bool { return name == "MSH" || name == "BHS" || name == "FHS" }

// Decode reads a message or a batch. The error is a *message.SyntaxError that
// names the segment.
func Decode(src []byte, l Limits) (*message.Node, error) {
	src = Text(src)
	m, err := Parse(src)
	if err != nil {
		return nil, err
	}
	t := treeing{max: l.MaxNodes, src: src}
	root := t.message(m)
	return root, t.err
}

// Parse reads a message or a batch into segments.
func Parse(src []byte) (*Message, error) {
	fail := func(n, at int, problem string) error {
		line, column := message.Position(src, at)
		return &message.SyntaxError{
			Format:  "HL7",
			Line:    line,
			Column:  column,
			Offset:  at,
			Problem: fmt.Sprintf("segment %d: %s", n, problem),
		}
	}
	if i := invalidAt(src); i >= 0 {
		return nil, fail(1, i, "the text is not UTF-8")
	}
	m := &Message{}
	var sep *Separators
	var current *Message // the message inside a batch
	n := 0
	for at := 0; at < len(src); {
		line, end := cut(src[at:])
		start := at
		at += len(line) + len(end)
		if len(line) == 0 {
			continue
		}
		if n++; n == 1 {
			start += len(line) - len(strings.TrimPrefix(string(line), "\uFEFF"))
			line = src[start : at-len(end)]
		}
		if len(line) < 3 || !segmentName(line[:3]) {
			return nil, fail(n, start, "a segment begins with its name, three capital letters or digits")
		}
		s := &Segment{Name: string(line[:3]), Offset: start, Raw: string(line)}
		switch {
		case header(s.Name):
			own, problem := separators(line)
			if problem != "" {
				return nil, fail(n, start+min(3, len(line)), problem)
			}
			if sep == nil {
				m.Sep = own
			}
			sep = &own
		case sep == nil:
			return nil, fail(
				n,
				start,
				fmt.Sprintf("a message begins with MSH, a batch with FHS or BHS, not with %s", s.Name),
			)
		case len(line) > 3 && line[3] != sep.Field:
			return nil, fail(
				n,
				start+3,
				fmt.Sprintf("behind the name %s stands %q instead of the separator %q", s.Name, line[3], sep.Field),
			)
		}
		s.sep = *sep
		switch {
		case s.Name == "MSH" && (current != nil || len(m.Segments) > 0):
			if current == nil && m.Segments[0].Name == "MSH" { // a second message without an envelope
				m.parts = []*Message{{Segments: m.Segments, Sep: m.Sep}}
				m.Segments = nil
			}
			current = &Message{Segments: []*Segment{s}, Sep: *sep}
			m.parts = append(m.parts, current)
		case current != nil && !envelope(s.Name):
			current.Segments = append(current.Segments, s)
		default:
			m.Segments = append(m.Segments, s)
		}
	}
	if n == 0 {
		return nil, fail(1, 0, "there is no message")
	}
	return m, nil
}

func envelope(name string) bool {
	return name == "FHS" || name == "BHS" || name == "BTS" || name == "FTS"
}

func invalidAt(src []byte) int {
	for i := 0; i < len(src); {
		r, size := utf8.DecodeRune(src[i:])
		if r == utf8.RuneError && size <= 1 {
			return i
		}
		i += size
	}
	return -1
}

// cut gives the first line and what ends it. The standard ends segments with
// CR; files that passed through other hands have LF or CRLF.
func cut(src []byte) (line []byte, end string) {
	for i, c := range src {
		switch {
		case c == '\r' && i+1 < len(src) && src[i+1] == '\n':
			return src[:i], "\r\n"
		case c == '\r' || c == '\n':
			return src[:i], string(c)
		}
	}
	return src, ""
}

func segmentName(b []byte) bool {
	for i, c := range b {
		if !(c >= 'A' && c <= 'Z' || i > 0 && c >= '0' && c <= '9') {
			return false
		}
	}
	return true
}

// separators reads those of a header segment: MSH-1 and MSH-2.
func separators(line []byte) (s Separators, problem string) {
	if len(line) < 8 {
		return s, "the separators are missing: a header begins like MSH|^~\\&|"
	}
	s = Separators{line[3], line[4], line[5], line[6], line[7]}
	if line[6] == s.Field || line[7] == s.Field { // older senders leave the last ones out
		return s, "MSH-2 must name four separators, such as ^~\\&"
	}
	seen := map[byte]bool{}
	for _, c := range line[3:8] {
		if c < 0x20 || c >= 0x7F || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' {
			return s, fmt.Sprintf("%q cannot be a separator", c)
		}
		if seen[c] {
			return s, fmt.Sprintf("the separator %q is used for two things", c)
		}
		seen[c] = true
	}
	return s, ""
}

// Fields gives the raw text of the fields, field 1 first. Those of a header
// are counted from the separator itself, as the standard does.
func (s *Segment) Fields() []string {
	if len(s.Raw) <= 3 {
		return nil
	}
	if header(s.Name) {
		return append([]string{string(s.sep.Field)}, strings.Split(s.Raw[4:], string(s.sep.Field))...)
	}
	return strings.Split(s.Raw[4:], string(s.sep.Field))
}

// field gives the raw text of a field, "" beyond the last one.
func (s *Segment) field(n int) string {
	if fields := s.Fields(); n >= 1 && n <= len(fields) {
		return fields[n-1]
	}
	return ""
}

type treeing struct {
	max, nodes int
	src        []byte
	err        error
}

func (t *treeing) node(kind message.Kind, offset int) *message.Node {
	if t.nodes++; t.max > 0 && t.nodes > t.max && t.err == nil {
		line, column := message.Position(t.src, offset)
		t.err = &message.SyntaxError{
			Format:  "HL7",
			Line:    line,
			Column:  column,
			Offset:  offset,
			Problem: fmt.Sprintf("the message has more than %d values", t.max),
		}
	}
	return &message.Node{Kind: kind, Offset: offset}
}

// message gives the tree of a message or batch.
func (t *treeing) message(m *Message) *message.Node {
	root := t.node(message.Map, 0)
	root.Native = m
	at := map[string]int{}
	last, scattered := "", false
	for _, s := range m.Segments {
		if t.err != nil {
			return root
		}
		n := t.segment(s)
		i, known := at[s.Name]
		if !known {
			at[s.Name] = len(root.Members)
			root.Members = append(root.Members, message.Member{Name: s.Name, Value: n})
		} else {
			v := root.Members[i].Value
			if v.Kind != message.List {
				v = &message.Node{Kind: message.List, Offset: v.Offset, Items: []*message.Node{v}}
				root.Members[i].Value = v
			}
			v.Items = append(v.Items, n)
			scattered = scattered || last != s.Name
		}
		last = s.Name
	}
	if scattered {
		order := message.NewList()
		for _, s := range m.Segments {
			order.Items = append(order.Items, message.NewString(s.Name))
		}
		root.Members = append(root.Members, message.Member{Name: orderName, Value: order})
	}
	if m.parts != nil {
		list := t.node(message.List, 0)
		for _, p := range m.parts {
			list.Items = append(list.Items, t.message(p))
		}
		root.Members = append(root.Members, message.Member{Name: messagesName, Value: list})
	}
	root.Seal()
	return root
}

// The names in a tree that are no segments.
const (
	orderName    = "#order"
	messagesName = "messages"
)

func (t *treeing) segment(s *Segment) *message.Node {
	n := t.node(message.Map, s.Offset)
	n.Native = s
	if t.tooMany(s) {
		return n
	}
	for i, raw := range s.Fields() {
		var v *message.Node
		switch {
		case header(s.Name) && i < 2:
			v = message.NewString(raw)
		default:
			if v = t.field(raw, s); empty(v) {
				continue
			}
		}
		n.Members = append(n.Members, message.Member{Name: strconv.Itoa(i + 1), Value: v})
	}
	n.Seal()
	return n
}

// tooMany looks how many values a segment can have before it is cut into them.
func (t *treeing) tooMany(s *Segment) bool {
	if t.max == 0 {
		return false
	}
	most := t.nodes
	for _, by := range []byte{s.sep.Field, s.sep.Repetition, s.sep.Component, s.sep.Subcomponent} {
		most += strings.Count(s.Raw, string(by))
	}
	if most <= t.max {
		return false
	}
	t.nodes = t.max
	t.node(message.Null, s.Offset) // says so
	return true
}

func (t *treeing) field(raw string, s *Segment) *message.Node {
	reps := split(raw, s.sep.Repetition)
	if len(reps) == 1 {
		return t.parts(raw, s, s.sep.Component)
	}
	list := t.node(message.List, s.Offset)
	for _, r := range reps {
		list.Items = append(list.Items, t.parts(r, s, s.sep.Component))
	}
	return list
}

// parts gives components or sub-components: a text when there is one, else a
// map by number.
func (t *treeing) parts(raw string, s *Segment, by byte) *message.Node {
	parts := split(raw, by)
	if len(parts) == 1 {
		raw = parts[0]
		if by == s.sep.Component {
			return t.parts(raw, s, s.sep.Subcomponent)
		}
		if raw == `""` {
			return t.node(message.Null, s.Offset)
		}
		n := t.node(message.String, s.Offset)
		n.Text = unescape(raw, s.sep)
		return n
	}
	n := t.node(message.Map, s.Offset)
	for i, p := range parts {
		v := t.parts(p, s, s.sep.Subcomponent)
		if empty(v) {
			continue
		}
		n.Members = append(n.Members, message.Member{Name: strconv.Itoa(i + 1), Value: v})
	}
	n.Seal()
	return n
}

// split cuts a text into parts and drops the empty ones at the end, which say
// nothing (chapter 2.6). There is always one.
func split(raw string, by byte) []string {
	parts := strings.Split(raw, string(by))
	for len(parts) > 1 && parts[len(parts)-1] == "" {
		parts = parts[:len(parts)-1]
	}
	return parts
}

// empty tells whether a value has nothing in it.
func empty(n *message.Node) bool {
	return n.Kind == message.String && n.Text == "" || n.Kind == message.Map && len(n.Members) == 0
}
