// Package format lists the formats that messages have: for each its name, its
// media types, and how it is decoded into the document tree and encoded from
// it. A package below holds each format's rules.
//
// What decoding promises: exact numbers, the order of members, the place of each
// value, and bounds on size, depth and number of values that no input passes. An
// error says line, column and what was expected there.
//
// What encoding promises: a document that nobody changed is written as it was read,
// to the byte where the format's package says so. What a format cannot hold is an
// error that names the value's path; nothing is dropped in silence.
package format

import (
	"encoding/base64"
	"fmt"
	"mime"
	"slices"
	"strings"
	"unicode/utf8"

	"readyferry/core/format/avro"
	"readyferry/core/format/csv"
	"readyferry/core/format/fixed"
	"readyferry/core/format/form"
	"readyferry/core/format/hl7"
	"readyferry/core/format/json"
	"readyferry/core/format/jsonl"
	"readyferry/core/format/multipart"
	"readyferry/core/format/protobuf"
	"readyferry/core/format/xml"
	"readyferry/core/message"
)

// Format is a way to write a document.
type Format struct {
	Name string
	Text string // what the tree of such a document is, for help
	// ContentType is what a message of the format leaves with.
	ContentType string
	types       []string // media types that it is known by

	decode func(src []byte, l message.Layout, limits Limits) (Decoded, error)
	encode func(n *message.Node, l message.Layout) ([]byte, error)
}

// Limits of a decoder. Zero values take the defaults.
type Limits struct {
	Depth int // nesting, DefaultDepth
	Nodes int // values, DefaultNodes
}

// Defaults of Limits.
const (
	DefaultDepth = 512
	DefaultNodes = 2_000_000
)

func (l Limits) filled() Limits {
	if l.Depth == 0 {
		l.Depth = DefaultDepth
	}
	if l.Nodes == 0 {
		l.Nodes = DefaultNodes
	}
	return l
}

// Decoded is what decoding gives.
type Decoded struct {
	Root       *message.Node
	Duplicates []string       // names of members that stood more than once
	Layout     message.Layout // how it was written, for writing it the same way
}

// The names of the formats.
const (
	JSON   = "json"
	XML    = "xml"
	CSV    = "csv"
	HL7    = "hl7"
	Form   = "form"
	Text   = "text"
	Binary = "binary"
	Lines  = "jsonl"
	Fixed  = "fixed"

	Multipart = "multipart"
	Avro      = "avro"
	Protobuf  = "protobuf"
)

// All lists the formats in the order in which people are offered them.
func All() []Format { return formats }

var formats = []Format{
	{
		JSON,
		"maps, lists, texts, numbers, booleans and null; members keep their order and numbers their digits",
		"application/json",
		[]string{"application/json", "text/json"},
		func(src []byte, _ message.Layout, l Limits) (Decoded, error) {
			r, err := json.DecodeWithin(src, json.Limits{MaxDepth: l.Depth, MaxNodes: l.Nodes})
			return Decoded{Root: r.Root, Duplicates: r.Duplicates}, err
		},
		func(n *message.Node, _ message.Layout) ([]byte, error) { return json.Encode(n), nil },
	},
	{
		XML,
		"elements by name, attributes as @name, text as #text where both occur; elements of one name are a list",
		"application/xml",
		[]string{"application/xml", "text/xml"},
		func(src []byte, how message.Layout, l Limits) (Decoded, error) {
			n, err := xml.DecodeNamed(src, xml.Limits{MaxDepth: l.Depth, MaxNodes: l.Nodes}, how.Prefixes)
			return Decoded{Root: n}, err
		},
		func(n *message.Node, l message.Layout) ([]byte, error) { return xml.EncodeNamed(n, l.Root, l.Prefixes) },
	},
	{
		CSV,
		"a list of rows; a row is a list of texts, or with header: true a map by the names of the first row",
		"text/csv; charset=utf-8",
		[]string{"text/csv", "application/csv"},
		decodeCSV,
		func(n *message.Node, l message.Layout) ([]byte, error) {
			return csv.Encode(
				n,
				csv.Layout{Delimiter: l.Delimiter, Quote: l.Quote, LineEnd: l.LineEnd, NoHeader: l.NoHeader},
			)
		},
	},
	{
		HL7,
		"segments by name, fields, components and sub-components by number; what is empty is left out; read it with hl7()",
		"application/hl7-v2; charset=utf-8",
		[]string{"application/hl7-v2", "application/hl7-v2+er7", "x-application/hl7-v2+er7", "text/hl7v2"},
		decodeHL7,
		func(n *message.Node, l message.Layout) ([]byte, error) { return hl7.Encode(n, l.Escapes) },
	},
	{
		Form,
		"a map of texts, or of lists where a name stands more than once",
		"application/x-www-form-urlencoded",
		[]string{"application/x-www-form-urlencoded"},
		func(src []byte, how message.Layout, l Limits) (Decoded, error) {
			n, err := form.Decode(src, l.Nodes, how.Charset)
			return Decoded{Root: n}, err
		},
		func(n *message.Node, _ message.Layout) ([]byte, error) { return form.Encode(n) },
	},
	{Lines, "JSON Lines: a list of the values, one a line", "application/jsonl",
		[]string{"application/jsonl", "application/x-ndjson", "application/ndjson", "application/x-jsonlines",
			"application/jsonlines"},
		func(src []byte, _ message.Layout, l Limits) (Decoded, error) {
			n, duplicates, err := jsonl.Decode(src, json.Limits{MaxDepth: l.Depth, MaxNodes: l.Nodes})
			return Decoded{Root: n, Duplicates: duplicates}, err
		},
		func(n *message.Node, _ message.Layout) ([]byte, error) { return jsonl.Encode(n), nil }},
	{Fixed, "text of fixed width: a list of rows, each a map of texts by the names of its layout",
		"text/plain; charset=utf-8", nil,
		func(src []byte, l message.Layout, limits Limits) (Decoded, error) {
			n, end, err := fixed.Decode(src, l.Columns, limits.Nodes)
			l.LineEnd = end
			return Decoded{Root: n, Layout: l}, err
		},
		func(n *message.Node, l message.Layout) ([]byte, error) { return fixed.Encode(n, l.Columns, l.LineEnd) }},
	{Multipart, "multipart/form-data: a map of texts, and of files with filename, type and content", "multipart/form-data",
		[]string{"multipart/form-data"},
		func(src []byte, _ message.Layout, l Limits) (Decoded, error) {
			n, err := multipart.Decode(src, l.Nodes)
			return Decoded{Root: n}, err
		},
		func(n *message.Node, _ message.Layout) ([]byte, error) { return multipart.Encode(n) }},
	{Avro, "what its schema says: a map for a record, a list for an array, a text for an enum; a container file is a list",
		"avro/binary", []string{"avro/binary", "application/avro", "application/vnd.apache.avro", "application/x-avro"},
		decodeBySchema[*avro.Schema], encodeBySchema[*avro.Schema]},
	{Protobuf, "what its message type says: a map by the names of the fields, in the order of their numbers",
		"application/x-protobuf",
		[]string{"application/x-protobuf", "application/protobuf", "application/vnd.google.protobuf"},
		decodeBySchema[*protobuf.Schema], encodeBySchema[*protobuf.Schema]},
	{Text, "one text", "text/plain; charset=utf-8", nil, decodeText, encodeText},
	{Binary, "bytes; in a text they stand as base64", "application/octet-stream", nil,
		func(src []byte, _ message.Layout, _ Limits) (Decoded, error) {
			return Decoded{Root: message.NewBytes(src)}, nil
		},
		encodeBinary},
}

// Find gives a format by name.
func Find(name string) (Format, bool) {
	for _, f := range formats {
		if f.Name == name {
			return f, true
		}
	}
	return Format{}, false
}

// Names lists the names of the formats.
func Names() []string {
	out := make([]string, len(formats))
	for i, f := range formats {
		out[i] = f.Name
	}
	return out
}

// Of gives the format of a body: the one that is set, or with "auto" what a
// Content-Type says: JSON without one, text for other texts, and binary for
// what is not known.
func Of(set, contentType string) string {
	if set != "auto" && set != "" {
		return set
	}
	if contentType == "" {
		return JSON
	}
	media, _, err := mime.ParseMediaType(contentType)
	if err != nil && media == "" {
		return JSON
	}
	for _, f := range formats {
		if slices.Contains(f.types, media) {
			return f.Name
		}
	}
	switch {
	case strings.HasSuffix(media, "+json"):
		return JSON
	case strings.HasSuffix(media, "+xml"):
		return XML
	case strings.HasPrefix(media, "text/"):
		return Text
	}
	return Binary
}

// Decode reads bytes. The error is a *message.SyntaxError, or says that the
// layout or the format cannot be.
func Decode(name string, src []byte, l message.Layout, limits Limits) (Decoded, error) {
	f, ok := Find(name)
	if !ok {
		return Decoded{}, fmt.Errorf("there is no format %q; there are %s", name, strings.Join(Names(), ", "))
	}
	text, err := inUTF8(name, src, l)
	if err != nil {
		return Decoded{}, &message.SyntaxError{Format: strings.ToUpper(name), Line: 1, Column: 1, Problem: err.Error()}
	}
	d, err := f.decode(text, l, limits.filled())
	if err != nil {
		return Decoded{}, err
	}
	if d.Layout.IsZero() {
		d.Layout = l
	}
	return d, nil
}

// Encode writes a tree. The error says what the format cannot hold.
func Encode(name string, n *message.Node, l message.Layout) ([]byte, error) {
	f, ok := Find(name)
	if !ok {
		return nil, fmt.Errorf("there is no format %q; there are %s", name, strings.Join(Names(), ", "))
	}
	return f.encode(n, l)
}

// ContentType gives the media type that a message of a format leaves with.
func ContentType(name string) string {
	f, _ := Find(name)
	return f.ContentType
}

func decodeHL7(src []byte, l message.Layout, limits Limits) (Decoded, error) {
	n, err := hl7.Decode(src, hl7.Limits{MaxNodes: limits.Nodes})
	if err != nil {
		return Decoded{}, err
	}
	l.Escapes = hl7.Escapes(hl7.Of(n))
	return Decoded{Root: n, Layout: l}, nil
}

func decodeCSV(src []byte, l message.Layout, limits Limits) (Decoded, error) {
	r, err := csv.Decode(
		src,
		csv.Options{Delimiter: l.Delimiter, Quote: l.Quote, Header: l.Header, Lenient: l.Lenient, MaxNodes: limits.Nodes},
	)
	l.LineEnd, l.NoHeader = r.LineEnd, false
	return Decoded{Root: r.Root, Layout: l}, err
}

// decodeText reads UTF-8: other character sets have become that before.
func decodeText(src []byte, l message.Layout, _ Limits) (Decoded, error) {
	if utf8.Valid(src) {
		return Decoded{Root: message.NewString(string(src)), Layout: l}, nil
	}
	at := 0
	for r, size := utf8.DecodeRune(src); r != utf8.RuneError || size > 1; r, size = utf8.DecodeRune(src[at:]) {
		at += size
	}
	line, column := message.Position(src, at)
	return Decoded{}, &message.SyntaxError{Format: "text", Line: line, Column: column, Offset: at,
		Problem: fmt.Sprintf("the byte 0x%02X is not UTF-8; say what it is with encoding, such as encoding: iso-8859-1, "+
			"in the charset of the Content-Type, or read it as binary", src[at])}
}

// encodeText writes texts as they are, other scalars with their digits, and
// maps and lists as JSON.
func encodeText(n *message.Node, _ message.Layout) ([]byte, error) {
	if n.Kind == message.Bytes {
		return []byte(n.Text), nil
	}
	if text, ok := n.Scalar(); ok {
		return []byte(text), nil
	}
	return json.Encode(n), nil
}

// encodeBinary writes bytes as they are; a text is base64.
func encodeBinary(n *message.Node, _ message.Layout) ([]byte, error) {
	switch n.Kind {
	case message.Bytes:
		return []byte(n.Text), nil
	case message.String:
		b, err := base64.StdEncoding.DecodeString(n.Text)
		if err != nil {
			return nil, fmt.Errorf("binary: a text must be base64: %w", err)
		}
		return b, nil
	}
	return nil, fmt.Errorf("binary: a %s is no bytes; give bytes, or base64 as a text", n.Kind)
}
