// Package dictionary knows what the parts of HL7 version 2 messages are called: segments and
// their fields, types and their components, tables of codes, and the order in which the
// segments of each message stand. It has versions 2.1 to 2.7.1; a message of another one is
// read by the nearest that is not later, and version 2.8 by 2.7.1.
//
// Nothing is ever refused by it: senders leave out, add and misuse parts, and a flow says
// itself what it wants. It names things for people, and tells where a new segment belongs.
//
// The data are those of the npm package hl7-dictionary 1.0.1 (MIT licence, Fernando Serrano),
// made compact by generate.mjs.
package dictionary

import (
	_ "embed" // for the data
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"sync"
)

//go:embed dictionary.json
var whole []byte

// Part is a field of a segment, or a component of a type.
type Part struct {
	Name     string
	Type     string // XPN, CX, ST
	Table    int    // of its codes; 0: none
	Repeats  bool
	Required bool
}

// Within gives the name as it stands within a sentence: words that are no abbreviations are
// small.
func (p *Part) Within() string {
	words := strings.Fields(p.Name)
	for i, w := range words {
		if strings.ToUpper(w) != w {
			words[i] = strings.ToLower(w)
		}
	}
	return strings.Join(words, " ")
}

// Segment is a kind of segment, or a type with its components.
type Segment struct {
	Name  string
	Parts []Part // the first has number 1
}

// Part gives a field or component by its number, from 1; nil where it has none.
func (s *Segment) Part(n int) *Part {
	if s == nil || n < 1 || n > len(s.Parts) {
		return nil
	}
	return &s.Parts[n-1]
}

// Message is a kind of message.
type Message struct {
	Name     string
	Segments []string // in their order, each where it stands first
	Once     []string // those that stand once, and must
	Several  []string // those that stand at several places, such as notes
	Tree     []Item
}

// Item is a segment of a message, or a group of some.
type Item struct {
	Segment           string // "": a group
	Items             []Item
	Optional, Repeats bool
}

// First gives the segment that an item begins with.
func (i *Item) First() string {
	for i.Items != nil {
		i = &i.Items[0]
	}
	return i.Segment
}

// Version is what a version of the standard defines.
type Version struct {
	Name     string
	segments map[string]*Segment
	types    map[string]*Segment
	messages map[string]*Message
}

// Segment gives a kind of segment by its name; nil where there is none.
func (v *Version) Segment(name string) *Segment { return v.segments[name] }

// Type gives a type by its name; nil where it has no parts.
func (v *Version) Type(name string) *Segment {
	if t := v.types[name]; t != nil && len(t.Parts) > 1 {
		return t
	}
	return nil
}

// Message gives a kind of message by MSH-9: its type, event and structure, of which the last
// may be missing; nil where there is none.
func (v *Version) Message(kind, event, structure string) *Message {
	for _, name := range []string{structure, kind + "_" + event, kind} {
		if m := v.messages[name]; m != nil {
			return m
		}
	}
	return nil
}

// Segments lists the names of all segments.
func (v *Version) Segments() []string { return sorted(v.segments) }

// Messages lists the names of all messages.
func (v *Version) Messages() []string { return sorted(v.messages) }

func sorted[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for name := range m {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// Table is a list of codes.
type Table struct {
	Name   string
	Values map[string]string // what each means
}

var load = sync.OnceValue(read)

type data struct {
	versions []*Version
	tables   map[int]*Table
}

// Codes gives a table by its number; nil where there is none.
func Codes(number int) *Table { return load().tables[number] }

// Of gives the version that MSH-12 names, or the nearest. What is no version is read by 2.5.1,
// which is the most common one.
func Of(name string) *Version {
	all := load().versions
	name, _, _ = strings.Cut(strings.TrimSpace(name), "^")
	if !strings.HasPrefix(name, "2") {
		name = "2.5.1"
	}
	best := all[0]
	for _, v := range all {
		if v.Name <= name {
			best = v
		}
	}
	return best
}

// read reads the data, which ship with the program: they are whole.
func read() *data {
	out := &data{tables: map[int]*Table{}}
	var file struct {
		Versions []struct {
			Version         string
			Segments, Types map[string]*definition
			Messages        map[string][]string
		}
		Tables map[string]*coded
	}
	if err := json.Unmarshal(whole, &file); err != nil {
		panic("the dictionary of HL7 cannot be read: " + err.Error())
	}
	last := &Version{}
	for _, v := range file.Versions {
		next := &Version{Name: v.Version, segments: changed(last.segments, v.Segments), types: changed(last.types, v.Types),
			messages: map[string]*Message{}}
		for name, m := range last.messages {
			next.messages[name] = m
		}
		for name, m := range v.Messages {
			delete(next.messages, name)
			if len(m) == 2 {
				next.messages[name] = structure(m[0], m[1])
			}
		}
		out.versions = append(out.versions, next)
		last = next
	}
	for number, t := range file.Tables {
		if n, err := strconv.Atoi(number); err == nil {
			out.tables[n] = &Table{t.name, t.values}
		}
	}
	return out
}

// changed gives what a version has that says only how it differs from the last.
func changed(last map[string]*Segment, by map[string]*definition) map[string]*Segment {
	out := map[string]*Segment{}
	for name, s := range last {
		out[name] = s
	}
	for name, d := range by {
		delete(out, name)
		if d != nil {
			out[name] = &d.Segment
		}
	}
	return out
}

// definition is a segment or type as it stands in the file: its name and its parts.
type definition struct{ Segment }

// UnmarshalJSON implements json.Unmarshaler.
func (d *definition) UnmarshalJSON(b []byte) error {
	var parts [][5]json.RawMessage
	if err := json.Unmarshal(b, &[]any{&d.Name, &parts}); err != nil {
		return err
	}
	for _, raw := range parts {
		var p Part
		var repeats, required int
		for i, into := range []any{&p.Name, &p.Type, &p.Table, &repeats, &required} {
			if err := json.Unmarshal(raw[i], into); err != nil {
				return err
			}
		}
		p.Repeats, p.Required = repeats == 1, required == 1
		d.Parts = append(d.Parts, p)
	}
	return nil
}

type coded struct {
	name   string
	values map[string]string
}

// UnmarshalJSON implements json.Unmarshaler.
func (c *coded) UnmarshalJSON(b []byte) error { return json.Unmarshal(b, &[]any{&c.name, &c.values}) }

// structure reads the order of segments: ?*PID in which ? says that it may be missing and *
// that it repeats, and groups in parentheses likewise.
func structure(name, text string) *Message {
	words := strings.Fields(strings.NewReplacer("(", " ( ", ")", " ) ").Replace(text))
	m := &Message{Name: name}
	m.Tree, _ = items(words)
	m.list(m.Tree, false)
	return m
}

// items reads items up to the end of their group, and gives what is left behind it.
func items(words []string) (out []Item, rest []string) {
	next := Item{}
	for len(words) > 0 {
		word := words[0]
		words = words[1:]
		segment := strings.TrimLeft(word, "?*")
		next.Optional = next.Optional || strings.Contains(word, "?")
		next.Repeats = next.Repeats || strings.Contains(word, "*")
		switch segment {
		case "": // the marks of a group, which follows
			continue
		case "(":
			next.Items, words = items(words)
		case ")":
			return out, words
		default:
			next.Segment = segment
		}
		if next.Segment != "" || len(next.Items) > 0 {
			out = append(out, next)
		}
		next = Item{}
	}
	return out, nil
}

// list notes the segments of items in their order.
func (m *Message) list(all []Item, optional bool) {
	for _, one := range all {
		mayLack := optional || one.Optional
		switch {
		case one.Items != nil:
			m.list(one.Items, mayLack || one.Repeats)
		case slices.Contains(m.Segments, one.Segment):
			if !slices.Contains(m.Several, one.Segment) {
				m.Several = append(m.Several, one.Segment)
			}
		default:
			m.Segments = append(m.Segments, one.Segment)
			if !mayLack && !one.Repeats {
				m.Once = append(m.Once, one.Segment)
			}
		}
	}
}
