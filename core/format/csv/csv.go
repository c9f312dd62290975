// Package csv reads and writes comma-separated values as RFC 4180 defines
// them, over the document tree of core/message.
//
//	name,note
//	"O'Neil, Maud","said ""soon"""
//
// is a list of rows; a row is a list of strings, or with a header row a map
// from the header's names to strings. Every value is a string: what a column
// means is for a map step to say.
//
// What RFC 4180 leaves open is decided so: fields keep their blanks and their
// line breaks as they are, CRLF included; lines end with CRLF, LF or the end of
// the text; empty lines are no rows; a byte order mark is passed over; a quote
// inside a field that does not begin with one is an error, and so is text behind
// a closing quote. With Lenient both stand for themselves, as encoding/csv reads
// them with LazyQuotes.
package csv

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

	"readyferry/core/message"
)

// Options say what the text looks like. Zero values are RFC 4180's.
type Options struct {
	Delimiter rune // ',' when 0
	Quote     rune // '"' when 0
	Header    bool // the first row names the members of the others
	Lenient   bool // a quote that belongs to nothing stands for itself
	MaxNodes  int  // fields and rows in all, 0 for no limit
}

// Check says what is wrong with the options, or nil.
func (o Options) Check() error {
	o = o.filled()
	for _, r := range []rune{o.Delimiter, o.Quote} {
		if r == '\r' || r == '\n' || r == utf8.RuneError || !utf8.ValidRune(r) {
			return fmt.Errorf("%q can be neither a delimiter nor a quote", r)
		}
	}
	if o.Delimiter == o.Quote {
		return fmt.Errorf("the delimiter and the quote are both %q; they must differ", o.Quote)
	}
	return nil
}

func (o Options) filled() Options {
	if o.Delimiter == 0 {
		o.Delimiter = ','
	}
	if o.Quote == 0 {
		o.Quote = '"'
	}
	return o
}

// Result is what decoding finds besides the tree.
type Result struct {
	Root    *message.Node
	LineEnd string // of the first row: "\r\n", "\n", or "" when the text has only one without an end
}

// Decode reads a text. The error is a *message.SyntaxError, or one of Check.
func Decode(src []byte, o Options) (Result, error) {
	if err := o.Check(); err != nil {
		return Result{}, err
	}
	d := decoder{src: src, o: o.filled()}
	d.delimiter, d.quote = []byte(string(d.o.Delimiter)), []byte(string(d.o.Quote))
	if !utf8.Valid(src) {
		return Result{}, d.fail(invalidAt(src),
			"the text is not UTF-8; say what it is with encoding, such as encoding: windows-1252")
	}
	d.at = len(src) - len(bytes.TrimPrefix(src, []byte("\uFEFF")))
	var rows []*message.Node
	for {
		row, err := d.row()
		if err != nil {
			return Result{}, err
		}
		if row == nil {
			break
		}
		rows = append(rows, row)
	}
	root := &message.Node{Kind: message.List, Items: rows}
	if o.Header {
		var err error
		if root.Items, err = d.named(rows); err != nil {
			return Result{}, err
		}
	}
	return Result{root, d.lineEnd}, nil
}

func invalidAt(src []byte) int {
	for i := 0; i < len(src); {
		r, size := utf8.DecodeRune(src[i:])
		if r == utf8.RuneError && size <= 1 {
			return i
		}
		i += size
	}
	return len(src)
}

type decoder struct {
	src              []byte
	o                Options
	delimiter, quote []byte
	at               int
	nodes            int
	lineEnd          string

	looked           bool // textEnd and endSize are of the line at d.at
	textEnd, endSize int
}

func (d *decoder) fail(at int, problem string) error {
	line, column := message.Position(d.src, at)
	return &message.SyntaxError{Format: "CSV", Line: line, Column: column, Offset: at, Problem: problem}
}

// line gives the text up to the next line end, and the size of that end. A CR
// at the very end of the text ends a line, too.
func (d *decoder) line() (text []byte, end int) {
	if !d.looked || d.at > d.textEnd { // each line is searched for only once
		rest := d.src[d.at:]
		i := bytes.IndexByte(rest, '\n')
		d.looked = true
		switch {
		case i < 0 && len(rest) > 0 && rest[len(rest)-1] == '\r':
			d.textEnd, d.endSize = len(d.src)-1, 1
		case i < 0:
			d.textEnd, d.endSize = len(d.src), 0
		case i > 0 && rest[i-1] == '\r':
			d.textEnd, d.endSize = d.at+i-1, 2
		default:
			d.textEnd, d.endSize = d.at+i, 1
		}
	}
	return d.src[d.at:d.textEnd], d.endSize
}

// row reads one row; nil at the end of the text.
func (d *decoder) row() (*message.Node, error) {
	text, end := d.line()
	for len(text) == 0 {
		if end == 0 {
			return nil, nil
		}
		d.at += end
		text, end = d.line()
	}
	row := &message.Node{Kind: message.List, Offset: d.at}
	d.nodes++
	for {
		field, more, err := d.field()
		if err != nil {
			return nil, err
		}
		if d.nodes++; d.o.MaxNodes > 0 && d.nodes > d.o.MaxNodes { // before more of it fills the memory
			return nil, d.fail(d.at, fmt.Sprintf("the text has more than %d values", d.o.MaxNodes))
		}
		row.Items = append(row.Items, field)
		if !more {
			return row, nil
		}
	}
}

// nothing is an empty field, wherever it stands.
var nothing = message.NewString("")

// field reads one field and what ends it; more tells that it was a delimiter.
func (d *decoder) field() (n *message.Node, more bool, err error) {
	text, end := d.line()
	start := d.at
	if bytes.HasPrefix(text, d.quote) {
		return d.quoted(&message.Node{Kind: message.String, Offset: start})
	}
	if bytes.HasPrefix(text, d.delimiter) { // a text of commas alone must not become large
		d.at += len(d.delimiter)
		return nothing, true, nil
	}
	n = &message.Node{Kind: message.String, Offset: start}
	if i := bytes.Index(text, d.delimiter); i >= 0 {
		text, more = text[:i], true
	}
	if i := bytes.Index(text, d.quote); i >= 0 && !d.o.Lenient {
		return nil, false, d.fail(
			start+i,
			fmt.Sprintf(
				"a %s stands inside a field that does not begin with one; put the whole field in quotes and double the inner "+
					"one, or read it with quotes: lenient",
				d.quote,
			),
		)
	}
	n.Text = string(text)
	d.at += len(text)
	if more {
		d.at += len(d.delimiter)
	} else {
		d.ends(end)
	}
	return n, more, nil
}

func (d *decoder) ends(size int) {
	if d.lineEnd == "" && size > 0 {
		d.lineEnd = string(d.src[d.at : d.at+size])
	}
	d.at += size
}

func (d *decoder) quoted(n *message.Node) (*message.Node, bool, error) {
	var value strings.Builder
	d.at += len(d.quote)
	for {
		i := bytes.Index(d.src[d.at:], d.quote)
		if i < 0 {
			return nil, false, d.fail(n.Offset, "the quoted field that begins here is not closed")
		}
		value.Write(d.src[d.at : d.at+i])
		d.at += i + len(d.quote)
		text, end := d.line()
		switch {
		case bytes.HasPrefix(text, d.quote):
			value.Write(d.quote)
			d.at += len(d.quote)
			continue
		case bytes.HasPrefix(text, d.delimiter):
			d.at += len(d.delimiter)
		case len(text) == 0:
			d.ends(end)
		case d.o.Lenient:
			value.Write(d.quote)
			continue
		default:
			return nil, false, d.fail(
				d.at,
				fmt.Sprintf(
					"a delimiter or the end of the line is expected behind the closing %s; double a quote that belongs to the "+
						"field, or read it with quotes: lenient",
					d.quote,
				),
			)
		}
		n.Text = value.String()
		return n, bytes.HasPrefix(text, d.delimiter), nil
	}
}

// named turns rows into maps by the names of the first one. A row may be
// shorter than the header, and then lacks members; a longer one is an error.
func (d *decoder) named(rows []*message.Node) ([]*message.Node, error) {
	if len(rows) == 0 {
		return nil, nil
	}
	header := rows[0].Items
	known := map[string]bool{}
	for _, h := range header {
		if known[h.Text] {
			return nil, d.fail(h.Offset, fmt.Sprintf("the header names %q twice", h.Text))
		}
		known[h.Text] = true
	}
	out := make([]*message.Node, 0, len(rows)-1)
	for _, row := range rows[1:] {
		if len(row.Items) > len(header) {
			return nil, d.fail(
				row.Items[len(header)].Offset,
				fmt.Sprintf("the row has %d fields, but the header names only %d", len(row.Items), len(header)),
			)
		}
		m := &message.Node{Kind: message.Map, Offset: row.Offset}
		for i, field := range row.Items {
			m.Members = append(m.Members, message.Member{Name: header[i].Text, Value: field})
		}
		m.Seal()
		out = append(out, m)
	}
	return out, nil
}
