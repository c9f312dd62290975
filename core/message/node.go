// Package message holds what every other package of the core works on: the
// document tree that all formats decode into, and the message that carries it.
//
// The tree keeps what was written. Members keep their order, numbers keep
// their digits, and every node knows the byte at which it began, so that an
// error can point at it and a message that nobody changed leaves as it came.
//
// Nodes are immutable once built: a step that changes a document builds a new
// one and shares the parts that stayed the same.
package message

import (
	"encoding/base64"
	"fmt"
)

// Kind says what a Node is.
type Kind uint8

// The kinds of node. Null is the zero value.
const (
	Null Kind = iota
	Bool
	Number
	String
	List
	Map
	Bytes
)

var kindNames = [...]string{"null", "boolean", "number", "string", "list", "map", "bytes"}

// String gives the word that errors use for the kind.
func (k Kind) String() string { return kindNames[k] }

// Node is one value of a document.
type Node struct {
	Kind Kind
	// Offset is the byte of the source at which the value began, counted
	// from 0; -1 when the value was computed.
	Offset int
	// Text is the string of a String, the exact literal of a Number (RFC 8259
	// grammar), "true" or "false" of a Bool, the raw bytes of Bytes.
	Text string
	// Items are the elements of a List.
	Items []*Node
	// Members are those of a Map, in the order in which they were written.
	Members []Member
	// Native is what a format's decoder read the value from. An encoder of the
	// same format writes the value from it as it was, and functions of the
	// format look into it. A changed node has none.
	Native any

	index map[string]int
}

// Member is one named value of a Map.
type Member struct {
	Name  string
	Value *Node
}

// indexFrom is the size from which a map is searched by hash and not in a row.
const indexFrom = 12

// NewNull gives a null.
func NewNull() *Node { return &Node{Kind: Null, Offset: -1} }

// NewBool gives a boolean.
func NewBool(b bool) *Node {
	if b {
		return &Node{Kind: Bool, Offset: -1, Text: "true"}
	}
	return &Node{Kind: Bool, Offset: -1, Text: "false"}
}

// NewNumber gives a number from its literal, which must follow RFC 8259.
func NewNumber(literal string) *Node { return &Node{Kind: Number, Offset: -1, Text: literal} }

// NewString gives a string.
func NewString(s string) *Node { return &Node{Kind: String, Offset: -1, Text: s} }

// NewBytes gives a value of raw bytes.
func NewBytes(b []byte) *Node { return &Node{Kind: Bytes, Offset: -1, Text: string(b)} }

// NewList gives a list of the given items.
func NewList(items ...*Node) *Node { return &Node{Kind: List, Offset: -1, Items: items} }

// NewMap gives a map of the given members. Of members with the same name the
// last one counts and the earlier ones are dropped.
func NewMap(members ...Member) *Node {
	n := &Node{Kind: Map, Offset: -1, Members: members}
	n.Seal()
	return n
}

// Seal finishes a Map whose Members were filled in directly: it drops earlier
// members of the same name and prepares look-ups. It returns the names that
// stood more than once. A decoder calls it once, before the node is shared.
func (n *Node) Seal() (duplicates []string) {
	if len(n.Members) < indexFrom {
		for i := 1; i < len(n.Members); i++ {
			for j := 0; j < i; j++ {
				if n.Members[j].Name == n.Members[i].Name {
					duplicates = append(duplicates, n.Members[i].Name)
					n.Members[j].Value = n.Members[i].Value
					n.Members = append(n.Members[:i], n.Members[i+1:]...)
					i--
					break
				}
			}
		}
		return duplicates
	}
	n.index = make(map[string]int, len(n.Members))
	kept := n.Members[:0]
	for _, m := range n.Members {
		if at, ok := n.index[m.Name]; ok {
			duplicates = append(duplicates, m.Name)
			kept[at].Value = m.Value
			continue
		}
		n.index[m.Name] = len(kept)
		kept = append(kept, m)
	}
	n.Members = kept
	return duplicates
}

// Get gives the member of a Map by name, or nil.
func (n *Node) Get(name string) *Node {
	if n == nil || n.Kind != Map {
		return nil
	}
	if n.index != nil {
		if at, ok := n.index[name]; ok {
			return n.Members[at].Value
		}
		return nil
	}
	for i := range n.Members {
		if n.Members[i].Name == name {
			return n.Members[i].Value
		}
	}
	return nil
}

// Names gives the member names of a Map in order.
func (n *Node) Names() []string {
	if n == nil {
		return nil
	}
	names := make([]string, len(n.Members))
	for i, m := range n.Members {
		names[i] = m.Name
	}
	return names
}

// With gives a copy of a Map in which the member has the value; a new member
// goes to the end.
func (n *Node) With(name string, v *Node) *Node {
	out := &Node{Kind: Map, Offset: n.Offset, Members: make([]Member, 0, len(n.Members)+1)}
	found := false
	for _, m := range n.Members {
		if m.Name == name {
			m.Value, found = v, true
		}
		out.Members = append(out.Members, m)
	}
	if !found {
		out.Members = append(out.Members, Member{name, v})
	}
	out.Seal()
	return out
}

// Without gives a copy of a Map that lacks the member.
func (n *Node) Without(name string) *Node {
	out := &Node{Kind: Map, Offset: n.Offset, Members: make([]Member, 0, len(n.Members))}
	for _, m := range n.Members {
		if m.Name != name {
			out.Members = append(out.Members, m)
		}
	}
	out.Seal()
	return out
}

// Scalar gives a value as it stands in a text: strings as they are, numbers
// with their digits, null as nothing, bytes as base64. ok is false for maps
// and lists.
func (n *Node) Scalar() (s string, ok bool) {
	switch n.Kind {
	case Null:
		return "", true
	case Bytes:
		return base64.StdEncoding.EncodeToString([]byte(n.Text)), true
	case List, Map:
		return "", false
	}
	return n.Text, true
}

// Position turns a byte offset of a source into a line and a column, both
// counted from 1; the column counts characters, not bytes.
func Position(src []byte, offset int) (line, column int) {
	if offset > len(src) {
		offset = len(src)
	}
	line, column = 1, 1
	for i := 0; i < offset; i++ {
		switch {
		case src[i] == '\n':
			line++
			column = 1
		case src[i]&0xC0 != 0x80:
			column++
		}
	}
	return line, column
}

// SyntaxError says where a document breaks the rules of its format.
type SyntaxError struct {
	Format       string // the format that was read
	Line, Column int    // counted from 1
	Offset       int    // bytes from the start
	Problem      string // what is wrong, and what was expected
}

// Error gives the position first, as people look for it.
func (e *SyntaxError) Error() string {
	return fmt.Sprintf("%s, line %d, column %d: %s", e.Format, e.Line, e.Column, e.Problem)
}
