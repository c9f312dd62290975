package message

import (
	"strings"
	"time"
)

// Message is what travels through a flow: a body and what came with it.
// A message is copied, never changed in place.
type Message struct {
	ID         string    // the transaction's id
	Parent     string    // of a part: the id of the transaction that was split
	ReceivedAt time.Time // when it was accepted, UTC
	Reference  string    // the business reference, or ""

	Format string // json, xml, csv, hl7, form, text or binary
	Layout Layout // how the format is written where it leaves a choice
	// ContentType is what the message came with; "" when nothing was said, or
	// when its body was changed.
	ContentType string
	Raw         []byte // the exact bytes; nil when Body was computed and not yet encoded
	Body        *Node
	Headers     *Node // map of lower-case names to strings
	Params      *Node // map of path parameters
	Query       *Node // map of strings, or lists of strings where a name stands twice

	Size int // bytes as received
}

// Layout says how a format is written where it leaves a choice. Zero values
// are each format's usual way.
type Layout struct {
	Delimiter, Quote rune   // of CSV
	Header           bool   // CSV: the first row names the members of the others
	NoHeader         bool   // CSV: rows that are maps are written without their names
	LineEnd          string // of CSV
	Root             string // XML: the element that a value without one is put into
	Charset          string // of the bytes, as the intake or the Content-Type names it; "": UTF-8
	// Lenient takes quotes inside of fields of CSV as they are, and bytes that are no UTF-8 as
	// Windows-1252.
	Lenient bool
	Columns []Column // of text of fixed width
	// Escapes are the sequences of HL7 that have no text of their own and so stand in texts
	// as they are, without the escape characters: H, N, .br, Z01. They come from the message
	// that was read, and are written again as what they were.
	Escapes []string
	// Prefixes are those that names of XML have, by prefix, whatever the document has; nil:
	// its own.
	Prefixes map[string]string
	Schema   Schema // what a binary format is read and written by; nil: none
}

// Schema reads and writes documents of a binary format, compiled of files of the flow. It is
// safe for concurrent use.
type Schema interface {
	// Decode gives the tree of a document, within bounds of nesting and of values, and the
	// schema that writes the same kind of document again.
	Decode(src []byte, depth, nodes int) (*Node, Schema, error)
	// Encode writes a tree; the error names the path of what the schema does not take.
	Encode(n *Node) ([]byte, error)
	// Shape gives it as a JSON Schema, for showing the lines that a document has.
	Shape() *Node
}

// Column is one of text of fixed width.
type Column struct {
	Name  string
	Width int  // in characters
	Right bool // it stands at the right
	Fill  rune // what fills it up; a blank when 0
}

// IsZero tells whether nothing is said.
func (l *Layout) IsZero() bool {
	return l.Delimiter == 0 && l.Quote == 0 && !l.Header && !l.NoHeader && l.LineEnd == "" && l.Root == "" && l.Charset == "" &&
		!l.Lenient && l.Columns == nil && l.Escapes == nil && l.Prefixes == nil && l.Schema == nil
}

// Header is one header field of a message or a request.
type Header struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// HeaderMap gives headers as a tree: names in lower case, values of a name
// that stands more than once joined with ", " as RFC 9110 section 5.3 allows.
func HeaderMap(headers []Header) *Node {
	n := &Node{Kind: Map, Offset: -1}
	at := map[string]int{}
	for _, h := range headers {
		name := strings.ToLower(h.Name)
		if i, ok := at[name]; ok {
			n.Members[i].Value = NewString(n.Members[i].Value.Text + ", " + h.Value)
			continue
		}
		at[name] = len(n.Members)
		n.Members = append(n.Members, Member{name, NewString(h.Value)})
	}
	n.Seal()
	return n
}

// ListMap gives named values as a tree: one value is a string, several are a
// list. Pairs keep their order.
func ListMap(pairs []Header) *Node {
	n := &Node{Kind: Map, Offset: -1}
	at := map[string]int{}
	for _, p := range pairs {
		i, ok := at[p.Name]
		if !ok {
			at[p.Name] = len(n.Members)
			n.Members = append(n.Members, Member{p.Name, NewString(p.Value)})
			continue
		}
		v := n.Members[i].Value
		if v.Kind != List {
			v = NewList(v)
			n.Members[i].Value = v
		}
		v.Items = append(v.Items, NewString(p.Value)) // nobody has seen it yet
	}
	n.Seal()
	return n
}

// Steps lead from the root of a document to a value: names of members and numbers of items.
type Steps []string

// String gives the way as a JSON Pointer (RFC 6901).
func (s Steps) String() string {
	var b strings.Builder
	for _, one := range s {
		b.WriteByte('/')
		b.WriteString(strings.ReplaceAll(strings.ReplaceAll(one, "~", "~0"), "/", "~1"))
	}
	return b.String()
}
