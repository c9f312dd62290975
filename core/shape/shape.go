// Package shape says of a target document which lines it has: where each stands, in the words
// that a map writes it by, what it is called, and whether it must be there. A map shows them
// as the document itself and marks the ones that are not written yet.
//
// A shape comes from an example, a JSON Schema, a kind of HL7 message, or the columns of a
// table. It promises nothing of what a partner accepts: it is what is known of it.
package shape

import (
	"strconv"
	"strings"

	"readyferry/core/format"
	"readyferry/core/message"
)

// Line is one line of a target.
type Line struct {
	// To is the place as a map writes it: a JSON Pointer, a path of XML, a column, PID-5.1.
	// Below a list it is that within an item.
	To       string   `json:"to"`
	Name     string   `json:"name"`            // the last part of it, for people
	Title    string   `json:"title,omitempty"` // what it is called
	Type     string   `json:"type,omitempty"`
	Required bool     `json:"required,omitempty"`
	Values   []string `json:"values,omitempty"` // the only ones there are, where they are few
	List     bool     `json:"list,omitempty"`   // a loop writes it, an item at a time
	Lines    []Line   `json:"lines,omitempty"`  // of each item
}

// most is how many lines a shape has at most; a schema may describe more than anybody reads.
const most = 20_000

// FromExample gives the lines of a document in a format. What stands several times in it is a
// list, whose first item says what each has.
func FromExample(name string, root *message.Node) []Line {
	m := &maker{}
	switch name {
	case format.XML:
		return m.elements(root, "")
	case format.CSV, format.Fixed:
		return m.rows(root)
	case format.HL7:
		return m.segments(root)
	case format.Form:
		return m.fields(root)
	}
	return m.json(root, "", "")
}

type maker struct{ n int }

func (m *maker) full() bool { m.n++; return m.n > most }

// escaped writes a name as a part of a JSON Pointer (RFC 6901).
func escaped(name string) string {
	return strings.NewReplacer("~", "~0", "/", "~1").Replace(name)
}

// json gives the lines of a value: maps fall into those of their members.
func (m *maker) json(n *message.Node, to, name string) []Line {
	if m.full() || n == nil {
		return nil
	}
	switch n.Kind {
	case message.Map:
		var out []Line
		for _, one := range n.Members {
			out = append(out, m.json(one.Value, to+"/"+escaped(one.Name), one.Name)...)
		}
		return out
	case message.List:
		line := Line{To: to, Name: name, Type: "list", List: true}
		if len(n.Items) > 0 {
			line.Lines = m.json(n.Items[0], "", "")
		}
		return []Line{line}
	}
	return []Line{{To: to, Name: name, Type: n.Kind.String()}}
}

// elements gives the lines of elements: attributes, texts, and elements below.
func (m *maker) elements(n *message.Node, to string) (out []Line) {
	if m.full() || n == nil || n.Kind != message.Map {
		return nil
	}
	for _, one := range n.Members {
		if strings.HasPrefix(one.Name, "@xmlns") {
			continue
		}
		place := to + "/" + one.Name
		switch {
		case one.Name == "#text":
			if to != "" {
				out = append(out, Line{To: to, Name: to[strings.LastIndexByte(to, '/')+1:], Type: "string"})
			} else {
				out = append(out, Line{To: "", Type: "string"})
			}
		case one.Value.Kind == message.List:
			line := Line{To: place, Name: one.Name, Type: "list", List: true}
			if len(one.Value.Items) > 0 {
				line.Lines = m.element(one.Value.Items[0])
			}
			out = append(out, line)
		case one.Value.Kind == message.Map:
			out = append(out, m.elements(one.Value, place)...)
		default:
			out = append(out, Line{To: place, Name: one.Name, Type: "string"})
		}
	}
	return out
}

// element gives the lines of an element that stands several times.
func (m *maker) element(n *message.Node) []Line {
	if n.Kind == message.Map {
		return m.elements(n, "")
	}
	return []Line{{To: "", Type: "string"}}
}

// rows gives the columns of CSV, of each row.
func (m *maker) rows(n *message.Node) []Line {
	line := Line{Name: "rows", Type: "list", List: true}
	if n != nil && n.Kind == message.List && len(n.Items) > 0 {
		first := n.Items[0]
		for _, c := range first.Members {
			line.Lines = append(line.Lines, Line{To: c.Name, Name: c.Name, Type: "string"})
		}
		for i := range first.Items {
			to := strconv.Itoa(i + 1)
			line.Lines = append(line.Lines, Line{To: to, Name: "column " + to, Type: "string"})
		}
	}
	return []Line{line}
}

func (m *maker) fields(n *message.Node) (out []Line) {
	if n == nil {
		return nil
	}
	for _, one := range n.Members {
		line := Line{To: one.Name, Name: one.Name, Type: "string"}
		if one.Value.Kind == message.List {
			line.Type, line.List, line.Lines = "list", true, []Line{{Type: "string"}}
		}
		out = append(out, line)
	}
	return out
}

// FromColumns gives the columns of CSV or of a table, of each row.
func FromColumns(names []string) []Line {
	line := Line{Name: "rows", Type: "list", List: true}
	for _, name := range names {
		line.Lines = append(line.Lines, Line{To: name, Name: name, Type: "string"})
	}
	return []Line{line}
}
