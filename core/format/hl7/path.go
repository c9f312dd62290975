package hl7

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"readyferry/core/message"
)

// Path is a place in a message: PID-5.1, PID-3[2].4.2, OBX[2]-5, or below a
// group OBR[2]/OBX[1]-5: the first OBX behind the second OBR and before the
// next. Indexes count from 1; none means the first, [*] all of them.
type Path struct {
	Group        string // name of the segment that begins the group, ""
	GroupIndex   int
	Segment      string
	Index        int // of the segment, -1 for all
	Field        int // 0: the whole segment
	Repetition   int // -1 for all; 0 when none is written
	Component    int // 0: the whole field
	Subcomponent int // 0: the whole component
}

var pathForm = regexp.MustCompile(
	`^(?:([A-Z][A-Z0-9]{2})(?:\[(\d{1,6})\])?/)?([A-Z][A-Z0-9]{2})(?:\[(\d{1,6}|\*)\])?(?:-(\d{1,4})(?:\[(\d{1,` +
		`6}|\*)\])?(?:\.(\d{1,4})(?:\.(\d{1,4}))?)?)?$`,
)

// ParsePath reads a path. The error says how one is written.
func ParsePath(s string) (Path, error) {
	m := pathForm.FindStringSubmatch(s)
	if m == nil {
		return Path{}, fmt.Errorf("%q is no place in an HL7 message; write it as PID-5.1, PID-3[2].1 or OBX[2]-5", s)
	}
	bad := false
	number := func(s string, otherwise int) int {
		if s == "*" {
			return -1
		}
		if s == "" {
			return otherwise
		}
		n, _ := strconv.Atoi(s)
		bad = bad || n == 0
		return n
	}
	p := Path{
		Group: m[1], GroupIndex: number(m[2], 1), Segment: m[3], Index: number(m[4], 1),
		Field: number(m[5], 0), Repetition: number(m[6], 0), Component: number(m[7], 0), Subcomponent: number(m[8], 0),
	}
	if bad {
		return Path{}, fmt.Errorf("%q counts from 0; segments, fields and parts of an HL7 message count from 1", s)
	}
	return p, nil
}

// AbsentError says that a segment is not there.
type AbsentError struct {
	Path  string
	Names []string // of the segments that are there
}

func (e *AbsentError) Error() string {
	return fmt.Sprintf("%s is missing; the message has %s", e.Path, strings.Join(e.Names, ", "))
}

// Of gives the message that a tree was read from or written as, or nil.
func Of(n *message.Node) *Message {
	if n == nil {
		return nil
	}
	m, _ := n.Native.(*Message)
	return m
}

// within gives the segments that a path may mean: all, or those of its group.
func (m *Message) within(p Path) []*Segment {
	if p.Group == "" {
		return m.Segments
	}
	from, count := -1, 0
	for i, s := range m.Segments {
		if s.Name != p.Group {
			continue
		}
		if from >= 0 {
			return m.Segments[from:i]
		}
		if count++; count == p.GroupIndex {
			from = i
		}
	}
	if from < 0 {
		return nil
	}
	return m.Segments[from:]
}

// Groups cuts a message into groups: each begins with a segment of that name.
func (m *Message) Groups(name string) []*message.Node {
	var out []*message.Node
	for i := 1; ; i++ {
		segments := m.within(Path{Group: name, GroupIndex: i})
		if segments == nil {
			return out
		}
		t := treeing{}
		out = append(out, t.message(&Message{Segments: segments, Sep: m.Sep}))
	}
}

// Get reads a place. What is empty or beyond the end is an empty text, the
// null "" is null. A segment that is not there is an *AbsentError. With [*] it
// is a list.
func (m *Message) Get(p Path) (*message.Node, error) {
	var found []*Segment
	names, known := []string{}, map[string]bool{}
	for _, s := range m.within(p) {
		if s.Name == p.Segment {
			found = append(found, s)
		}
	}
	for _, s := range m.Segments {
		if !known[s.Name] {
			known[s.Name] = true
			names = append(names, s.Name)
		}
	}
	if p.Index < 0 {
		out := message.NewList()
		for _, s := range found {
			v := s.get(p)
			if p.Repetition < 0 {
				out.Items = append(out.Items, v.Items...)
				continue
			}
			out.Items = append(out.Items, v)
		}
		return out, nil
	}
	if p.Index > len(found) {
		return nil, &AbsentError{p.head(), names}
	}
	return found[p.Index-1].get(p), nil
}

// Raw reads a place as it stands, with separators and escape sequences. A segment that is not
// there is an *AbsentError.
func (m *Message) Raw(p Path) (string, error) {
	if p.Index < 0 || p.Repetition < 0 {
		return "", fmt.Errorf("one place can be read as it stands, not all that fit; put a number in place of *")
	}
	for _, s := range m.within(p) {
		if s.Name != p.Segment {
			continue
		}
		if p.Index--; p.Index > 0 {
			continue
		}
		raw := s.Raw
		if p.Field > 0 {
			raw = s.field(p.Field)
		}
		if p.Repetition > 0 || p.Component > 0 {
			raw = nth(raw, s.sep.Repetition, max(p.Repetition, 1))
		}
		if p.Component > 0 {
			raw = nth(raw, s.sep.Component, p.Component)
		}
		if p.Subcomponent > 0 {
			raw = nth(raw, s.sep.Subcomponent, p.Subcomponent)
		}
		return raw, nil
	}
	_, err := m.Get(p)
	return "", err
}

// head names the segment of a path.
func (p Path) head() string {
	s := p.Segment
	if p.Index > 1 {
		s += fmt.Sprintf("[%d]", p.Index)
	}
	if p.Group != "" {
		s = fmt.Sprintf("%s[%d]/%s", p.Group, p.GroupIndex, s)
	}
	return s
}

func (s *Segment) get(p Path) *message.Node {
	t := treeing{}
	if p.Field == 0 {
		return t.segment(s)
	}
	raw := s.field(p.Field)
	if header(s.Name) && p.Field <= 2 {
		return message.NewString(raw)
	}
	reps := strings.Split(raw, string(s.sep.Repetition))
	if p.Repetition < 0 {
		out := message.NewList()
		for _, r := range reps {
			if r != "" {
				out.Items = append(out.Items, t.part(r, s, p))
			}
		}
		return out
	}
	i := max(p.Repetition, 1) - 1
	if i >= len(reps) {
		return message.NewString("")
	}
	return t.part(reps[i], s, p)
}

// part gives the component and sub-component of one repetition.
func (t *treeing) part(raw string, s *Segment, p Path) *message.Node {
	if p.Component > 0 {
		raw = nth(raw, s.sep.Component, p.Component)
	}
	if p.Subcomponent > 0 {
		raw = nth(raw, s.sep.Subcomponent, p.Subcomponent)
	}
	if p.Component > 0 {
		return t.parts(raw, s, s.sep.Subcomponent)
	}
	return t.parts(raw, s, s.sep.Component)
}

func nth(raw string, by byte, n int) string {
	parts := strings.Split(raw, string(by))
	if n > len(parts) {
		return ""
	}
	return parts[n-1]
}

// Each gives every segment of a name as a message of its own.
func (m *Message) Each(name string) []*message.Node {
	var out []*message.Node
	for _, s := range m.Segments {
		if s.Name == name {
			t := treeing{}
			out = append(out, t.message(&Message{Segments: []*Segment{s}, Sep: m.Sep}))
		}
	}
	return out
}
