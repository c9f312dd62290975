package hl7

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"readyferry/core/message"
)

// Encode writes a tree as a message or batch. A tree that was read, and parts
// of it that nobody changed, are written as they were; "" in MSH-1 and MSH-2
// stands for the usual separators. The error names the segment that cannot be
// written. keep are the escape sequences that stand in texts; see Escapes.
func Encode(n *message.Node, keep []string) ([]byte, error) {
	m, err := from(n, keep)
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	m.write(&b)
	return Bytes(b.String())
}

func (m *Message) write(b *strings.Builder) {
	segments := m.Segments
	trailer := len(segments)
	if m.parts != nil { // the messages stand behind FHS and BHS, before BTS and FTS
		trailer = slices.IndexFunc(segments, func(s *Segment) bool { return s.Name == "BTS" || s.Name == "FTS" })
		if trailer < 0 {
			trailer = len(segments)
		}
	}
	put := func(list []*Segment) {
		for _, s := range list {
			b.WriteString(s.Raw + "\r")
		}
	}
	put(segments[:trailer])
	for _, p := range m.parts {
		p.write(b)
	}
	put(segments[trailer:])
}

// From gives the segments of a tree.
func From(n *message.Node) (*Message, error) { return from(n, nil) }

func from(n *message.Node, keep []string) (*Message, error) {
	if m := Of(n); m != nil {
		return m, nil
	}
	if n == nil || n.Kind != message.Map {
		kind := "nothing"
		if n != nil {
			kind = "a " + n.Kind.String()
		}
		return nil, fmt.Errorf("HL7: a message is a map of segments, not %s", kind)
	}
	m := &Message{Sep: usual, keep: keep}
	if h := firstHeader(n); h != nil {
		sep, err := separatorsOf(h)
		if err != nil {
			return nil, err
		}
		m.Sep = sep
	}
	segments := map[string][]*message.Node{}
	var order []string
	for _, member := range n.Members {
		switch {
		case member.Name == orderName:
			continue
		case member.Name == messagesName:
			for i, item := range many(member.Value) {
				p, err := from(item, keep)
				if err != nil {
					return nil, fmt.Errorf("message %d: %w", i+1, err)
				}
				m.parts = append(m.parts, p)
			}
			continue
		case len(member.Name) != 3 || !segmentName([]byte(member.Name)):
			return nil, fmt.Errorf(
				"HL7: %q is no name of a segment, which has three capital letters or digits",
				member.Name,
			)
		}
		segments[member.Name] = many(member.Value)
		for range segments[member.Name] {
			order = append(order, member.Name)
		}
	}
	if o := n.Get(orderName); o != nil {
		order = order[:0]
		for _, item := range o.Items {
			order = append(order, item.Text)
		}
	}
	at := map[string]int{}
	for _, name := range order {
		if at[name] >= len(segments[name]) {
			return nil, fmt.Errorf("HL7: %s lists more segments %s than there are", orderName, name)
		}
		s, err := m.segment(name, segments[name][at[name]])
		if err != nil {
			return nil, fmt.Errorf("HL7, %s: %w", Path{Segment: name, Index: at[name] + 1}.head(), err)
		}
		at[name]++
		m.Segments = append(m.Segments, s)
	}
	for name, all := range segments {
		if at[name] != len(all) {
			return nil, fmt.Errorf("HL7: %s leaves out a segment %s", orderName, name)
		}
	}
	if len(m.Segments) == 0 && m.parts == nil {
		return nil, fmt.Errorf("HL7: a message has at least a segment MSH")
	}
	if len(m.Segments) > 0 && !header(m.Segments[0].Name) {
		return nil, fmt.Errorf("HL7: a message begins with MSH, not with %s", m.Segments[0].Name)
	}
	return m, nil
}

func many(n *message.Node) []*message.Node {
	if n.Kind == message.List {
		return n.Items
	}
	return []*message.Node{n}
}

func firstHeader(n *message.Node) *message.Node {
	for _, name := range []string{"FHS", "BHS", "MSH"} {
		if h := n.Get(name); h != nil {
			return many(h)[0]
		}
	}
	return nil
}

func separatorsOf(h *message.Node) (Separators, error) {
	one, two := "|", usual.encoding()
	if v := h.Get("1"); v != nil && v.Text != "" {
		one = v.Text
	}
	if v := h.Get("2"); v != nil && v.Text != "" {
		two = v.Text
	}
	sep, problem := separators([]byte("MSH" + one + two + "    "))
	if problem != "" || len(one) != 1 {
		return sep, fmt.Errorf("HL7: the header's fields 1 and 2 name no separators: %s", problem)
	}
	return sep, nil
}

// segment writes the tree of one segment.
func (m *Message) segment(name string, n *message.Node) (*Segment, error) {
	if s, ok := n.Native.(*Segment); ok && s.sep == m.Sep && s.Name == name {
		return s, nil
	}
	if n.Kind != message.Map {
		return nil, fmt.Errorf("a segment is a map of fields by number, not a %s", n.Kind)
	}
	s := &Segment{Name: name, Offset: -1, sep: m.Sep, Raw: name}
	if header(name) {
		s.Raw = name + string(m.Sep.Field) + m.Sep.encoding()
	}
	for _, f := range n.Members {
		i, err := strconv.Atoi(f.Name)
		if err != nil || i < 1 || i > 999 {
			return nil, fmt.Errorf("%q is no number of a field", f.Name)
		}
		if header(name) && i <= 2 {
			continue
		}
		raw, err := m.writes().field(f.Value)
		if err != nil {
			return nil, fmt.Errorf("field %d: %w", i, err)
		}
		s.set(i, raw)
	}
	return s, nil
}

func (m *Message) writes() escaping { return escaping{m.Sep, m.keep} }

// set puts the raw text of a field into a segment that is being made.
func (s *Segment) set(n int, raw string) {
	fields := s.Fields()
	for len(fields) < n {
		fields = append(fields, "")
	}
	fields[n-1] = raw
	if header(s.Name) {
		s.Raw = s.Name + fields[0] + strings.Join(fields[1:], fields[0])
		return
	}
	s.Raw = s.Name + string(s.sep.Field) + strings.Join(fields, string(s.sep.Field))
}

// field writes a value as a field: a list repeats, maps hold components by
// number and these sub-components.
func (sep escaping) field(n *message.Node) (string, error) {
	if n.Kind != message.List {
		return sep.parts(n, sep.Component)
	}
	reps := make([]string, len(n.Items))
	for i, item := range n.Items {
		var err error
		if reps[i], err = sep.parts(item, sep.Component); err != nil {
			return "", err
		}
	}
	return strings.Join(reps, string(sep.Repetition)), nil
}

func (sep escaping) parts(n *message.Node, by byte) (string, error) {
	switch n.Kind {
	case message.Null:
		return `""`, nil
	case message.Map:
		if by == 0 {
			return "", fmt.Errorf("a sub-component has no parts")
		}
	case message.List:
		return "", fmt.Errorf("only a whole field repeats")
	default:
		text, _ := n.Scalar()
		return sep.escape(text), nil
	}
	inner := byte(0)
	if by == sep.Component {
		inner = sep.Subcomponent
	}
	var parts []string
	for _, m := range n.Members {
		i, err := strconv.Atoi(m.Name)
		if err != nil || i < 1 || i > 999 {
			return "", fmt.Errorf("%q is no number of a component", m.Name)
		}
		for len(parts) < i {
			parts = append(parts, "")
		}
		if parts[i-1], err = sep.parts(m.Value, inner); err != nil {
			return "", err
		}
	}
	return strings.Join(parts, string(by)), nil
}
