// Package json reads and writes JSON as RFC 8259 defines it, over the
// document tree of core/message.
//
// It differs from a general-purpose reader in what it keeps: member order,
// the digits of every number, and where each value stood.
//
//	{"id": 12345678901234567890, "price": 0.10}
//
// comes out again with the same digits. Of members with the same name the last
// one counts; Decode reports the names so that the reader can be told.
// Input must be UTF-8. A lone surrogate escape is replaced by U+FFFD.
package json

import (
	"fmt"
	"unicode/utf16"
	"unicode/utf8"

	"readyferry/core/message"
)

// MaxDepth is the nesting that Decode accepts unless told otherwise.
const MaxDepth = 512

// Result is what decoding finds besides the tree.
type Result struct {
	Root       *message.Node
	Duplicates []string // names of members that stood more than once
}

// Limits of a decoder.
type Limits struct {
	MaxDepth int // nesting, MaxDepth when 0
	MaxNodes int // values in all, 0 for no limit
}

// Decode reads one JSON text. The error is a *message.SyntaxError.
func Decode(src []byte) (Result, error) { return DecodeWithin(src, Limits{}) }

// DecodeWithin is Decode with limits.
func DecodeWithin(src []byte, l Limits) (res Result, err error) {
	d := decoder{src: src, max: l.MaxDepth, maxNodes: l.MaxNodes}
	if len(src) <= shared {
		d.text = string(src)
	}
	if d.max == 0 {
		d.max = MaxDepth
	}
	defer func() {
		if r := recover(); r != nil {
			bad, ok := r.(*message.SyntaxError)
			if !ok {
				panic(r)
			}
			res, err = Result{}, bad
		}
	}()
	if len(src) >= 3 && src[0] == 0xEF && src[1] == 0xBB && src[2] == 0xBF {
		d.at = 3 // RFC 8259 8.1: a reader may ignore a byte order mark
	}
	d.space()
	root := d.value(0)
	d.space()
	if d.at < len(src) {
		d.fail(d.at, "nothing may follow the value, but "+d.found()+" does")
	}
	return Result{Root: root, Duplicates: d.duplicates}, nil
}

type decoder struct {
	src        []byte
	at         int
	max        int
	maxNodes   int
	nodes      int
	duplicates []string

	text    string           // src, whose parts are the texts of small documents; "" for large ones
	slab    []message.Node   // the next nodes
	members []message.Member // of the maps that are being read, the innermost last
	items   []*message.Node  // of the lists
}

// shared is the size up to which the texts of a document share one copy of it, in bytes: a
// text of a large one that lives longer would keep all of it.
const shared = 64 << 10

// slabSize is how many nodes of a document are made at once, at most.
const slabSize = 32

// node gives a new node.
func (d *decoder) node(kind message.Kind, offset int) *message.Node {
	if len(d.slab) == 0 {
		// A document of one value needs one, and larger ones are made of more values.
		d.slab = make([]message.Node, min(slabSize, 2+d.nodes))
	}
	n := &d.slab[0]
	d.slab = d.slab[1:]
	n.Kind, n.Offset = kind, offset
	return n
}

// between gives a text of the document.
func (d *decoder) between(start, end int) string {
	if d.text != "" {
		return d.text[start:end]
	}
	return string(d.src[start:end])
}

// fail ends decoding; Decode turns the panic into its error.
func (d *decoder) fail(at int, problem string) {
	line, col := message.Position(d.src, at)
	panic(&message.SyntaxError{Format: "JSON", Line: line, Column: col, Offset: at, Problem: problem})
}

// found names what stands at the reading position, for errors.
func (d *decoder) found() string {
	if d.at >= len(d.src) {
		return "the end"
	}
	r, size := utf8.DecodeRune(d.src[d.at:])
	if r == utf8.RuneError && size <= 1 {
		return fmt.Sprintf("the byte 0x%02X, which is not UTF-8,", d.src[d.at])
	}
	return fmt.Sprintf("%q", r)
}

func (d *decoder) space() {
	for d.at < len(d.src) {
		switch d.src[d.at] {
		case ' ', '\t', '\r', '\n':
			d.at++
		default:
			return
		}
	}
}

func (d *decoder) value(depth int) *message.Node {
	if depth > d.max {
		d.fail(d.at, fmt.Sprintf("the document is nested deeper than %d levels", d.max))
	}
	if d.nodes++; d.maxNodes > 0 && d.nodes > d.maxNodes {
		d.fail(d.at, fmt.Sprintf("the document has more than %d values", d.maxNodes))
	}
	if d.at >= len(d.src) {
		d.fail(d.at, "a value is expected, but the document ends here")
	}
	start := d.at
	switch c := d.src[d.at]; {
	case c == '{':
		return d.object(depth)
	case c == '[':
		return d.array(depth)
	case c == '"':
		n := d.node(message.String, start)
		n.Text = d.str()
		return n
	case c == '-' || c >= '0' && c <= '9':
		d.number()
		n := d.node(message.Number, start)
		n.Text = d.between(start, d.at)
		return n
	case d.word("true"):
		n := d.node(message.Bool, start)
		n.Text = "true"
		return n
	case d.word("false"):
		n := d.node(message.Bool, start)
		n.Text = "false"
		return n
	case d.word("null"):
		return d.node(message.Null, start)
	}
	d.fail(d.at, "a value is expected, not "+d.found())
	return nil
}

func (d *decoder) word(w string) bool {
	if len(d.src)-d.at < len(w) || string(d.src[d.at:d.at+len(w)]) != w {
		return false
	}
	d.at += len(w)
	return true
}

func (d *decoder) object(depth int) *message.Node {
	n := d.node(message.Map, d.at)
	d.at++
	d.space()
	if d.take('}') {
		return n
	}
	own := len(d.members)
	for {
		if d.at >= len(d.src) || d.src[d.at] != '"' {
			d.fail(d.at, "a member name in double quotes is expected, not "+d.found())
		}
		name := d.str()
		d.space()
		if !d.take(':') {
			d.fail(d.at, fmt.Sprintf("a colon is expected after the name %q, not %s", name, d.found()))
		}
		d.space()
		v := d.value(depth + 1)
		d.members = append(d.members, message.Member{Name: name, Value: v})
		d.space()
		if d.take(',') {
			d.space()
			continue
		}
		if d.take('}') {
			n.Members = append(make([]message.Member, 0, len(d.members)-own), d.members[own:]...)
			d.members = d.members[:own]
			d.duplicates = append(d.duplicates, n.Seal()...)
			return n
		}
		d.fail(d.at, "a comma or } is expected, not "+d.found())
	}
}

func (d *decoder) array(depth int) *message.Node {
	n := d.node(message.List, d.at)
	d.at++
	d.space()
	if d.take(']') {
		return n
	}
	own := len(d.items)
	for {
		v := d.value(depth + 1)
		d.items = append(d.items, v)
		d.space()
		if d.take(',') {
			d.space()
			continue
		}
		if d.take(']') {
			n.Items = append(make([]*message.Node, 0, len(d.items)-own), d.items[own:]...)
			d.items = d.items[:own]
			return n
		}
		d.fail(d.at, "a comma or ] is expected, not "+d.found())
	}
}

func (d *decoder) take(c byte) bool {
	if d.at < len(d.src) && d.src[d.at] == c {
		d.at++
		return true
	}
	return false
}

func (d *decoder) digits(what string) {
	if d.at >= len(d.src) || d.src[d.at] < '0' || d.src[d.at] > '9' {
		d.fail(d.at, "a digit is expected "+what+", not "+d.found())
	}
	for d.at < len(d.src) && d.src[d.at] >= '0' && d.src[d.at] <= '9' {
		d.at++
	}
}

// number follows RFC 8259 section 6.
func (d *decoder) number() {
	d.take('-')
	if d.take('0') {
		if d.at < len(d.src) && d.src[d.at] >= '0' && d.src[d.at] <= '9' {
			d.fail(d.at, "a number does not begin with 0 unless it is followed by a point")
		}
	} else {
		d.digits("in a number")
	}
	if d.take('.') {
		d.digits("after the point")
	}
	if d.at < len(d.src) && (d.src[d.at] == 'e' || d.src[d.at] == 'E') {
		d.at++
		if !d.take('+') {
			d.take('-')
		}
		d.digits("in the exponent")
	}
}

// str reads a string, from quote to quote.
func (d *decoder) str() string {
	d.at++
	start := d.at
	for d.at < len(d.src) { // the common case needs no copy but the last one
		c := d.src[d.at]
		if c == '"' {
			s := d.between(start, d.at)
			d.at++
			return s
		}
		if c == '\\' || c < 0x20 || c >= utf8.RuneSelf {
			break
		}
		d.at++
	}
	out := append([]byte(nil), d.src[start:d.at]...)
	for {
		if d.at >= len(d.src) {
			d.fail(d.at, "the string has no closing quote")
		}
		switch c := d.src[d.at]; {
		case c == '"':
			d.at++
			return string(out)
		case c == '\\':
			out = d.escape(out)
		case c < 0x20:
			d.fail(d.at, fmt.Sprintf("the control character 0x%02X must be written as an escape", c))
		case c < utf8.RuneSelf:
			out = append(out, c)
			d.at++
		default:
			r, size := utf8.DecodeRune(d.src[d.at:])
			if r == utf8.RuneError && size == 1 {
				d.fail(d.at, "in a string stands "+d.found()+" which JSON requires (RFC 8259, 8.1)")
			}
			out = append(out, d.src[d.at:d.at+size]...)
			d.at += size
		}
	}
}

func (d *decoder) escape(out []byte) []byte {
	start := d.at
	d.at++
	if d.at >= len(d.src) {
		d.fail(start, "the string ends inside an escape")
	}
	c := d.src[d.at]
	d.at++
	switch c {
	case '"', '\\', '/':
		return append(out, c)
	case 'b':
		return append(out, '\b')
	case 'f':
		return append(out, '\f')
	case 'n':
		return append(out, '\n')
	case 'r':
		return append(out, '\r')
	case 't':
		return append(out, '\t')
	case 'u':
		r := d.hex4(start)
		if utf16.IsSurrogate(r) && d.at+1 < len(d.src) && d.src[d.at] == '\\' && d.src[d.at+1] == 'u' {
			back := d.at
			d.at += 2
			if pair := utf16.DecodeRune(r, d.hex4(back)); pair != utf8.RuneError {
				return utf8.AppendRune(out, pair)
			}
			d.at = back
		}
		return utf8.AppendRune(out, r) // a lone surrogate becomes U+FFFD here
	}
	d.fail(start, fmt.Sprintf("\\%c is no escape; JSON knows \\\" \\\\ \\/ \\b \\f \\n \\r \\t and \\u", c))
	return nil
}

func (d *decoder) hex4(start int) rune {
	var r rune
	for i := 0; i < 4; i++ {
		var c byte
		if d.at < len(d.src) {
			c = d.src[d.at]
		}
		switch {
		case c >= '0' && c <= '9':
			r = r<<4 | rune(c-'0')
		case c >= 'a' && c <= 'f':
			r = r<<4 | rune(c-'a'+10)
		case c >= 'A' && c <= 'F':
			r = r<<4 | rune(c-'A'+10)
		default:
			d.fail(start, "\\u must be followed by four hexadecimal digits")
		}
		d.at++
	}
	return r
}
