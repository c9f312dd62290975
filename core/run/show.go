package run

import (
	"strings"
	"unicode/utf8"

	"readyferry/core/format"
	"readyferry/core/format/hl7"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/format/xml"
	"readyferry/core/message"
	"readyferry/core/step"
)

// Body is a message as people see it.
type Body struct {
	Format   string  `json:"format"`
	Encoding string  `json:"encoding,omitempty"` // of the characters: UTF-8, UTF-16, ISO-8859-1
	Text     *string `json:"text,omitempty"`
	Base64   []byte  `json:"base64,omitempty"` // for bytes that are not UTF-8
	// Tree is the document's tree as JSON, of formats that are not JSON and have
	// one; Lines the document laid out, of XML and HL7.
	Tree  *string        `json:"tree,omitempty"`
	Lines []message.Line `json:"lines,omitempty"`
}

// laidOut is the largest document, in bytes, that is shown with its tree: a
// trace holds it twice for every step.
const laidOut = 256 << 10

// shownLines is how much of a document is laid out.
const shownLines = 3000

// NewBody shows bytes of a format, laid out where they can be read.
func NewBody(name string, raw []byte) *Body {
	d, err := format.Decode(name, raw, message.Layout{}, format.Limits{})
	if err != nil {
		d.Root = nil
	}
	return showBody(name, raw, message.Layout{}, d.Root)
}

// named gives what expressions see besides the message.
func named(st *step.State) []Named {
	var out []Named
	add := func(name string, n *message.Node) {
		if n != nil {
			out = append(out, Named{name, string(jsonfmt.Encode(n))})
		}
	}
	if st.Part != nil {
		add("part", st.Part.Value)
	}
	if st.Group != nil {
		add("group", st.Group.Node())
	}
	add("caught", st.Caught)
	add("letter", st.Letter)
	add("vars", st.Vars)
	add("replies", st.Replies)
	return out
}

func (b *Body) size() int {
	n := len(b.Base64)
	for _, s := range []*string{b.Text, b.Tree} {
		if s != nil {
			n += len(*s)
		}
	}
	return n
}

// show gives a message with its tree.
func show(m *message.Message) *Body { return showBody(m.Format, step.Bytes(m), m.Layout, m.Body) }

func showBody(name string, raw []byte, l message.Layout, tree *message.Node) *Body {
	b := &Body{Format: name}
	plain := raw
	if l.Charset != "" && name != format.XML && name != format.HL7 {
		if text, err := format.InCharset(name, raw, l.Charset, "utf-8"); err == nil {
			plain = text
		}
	}
	if utf8.Valid(plain) && name != format.Avro && name != format.Protobuf {
		text := string(plain)
		b.Text = &text
	} else {
		b.Base64 = raw
	}
	b.Encoding = encoding(name, raw, l)
	if len(raw) > laidOut {
		return b
	}
	switch name {
	case format.XML:
		if x := xml.Of(tree); x != nil {
			b.Lines = xml.Lines(x, shownLines)
		}
	case format.HL7:
		if h := hl7.Of(tree); h != nil {
			b.Lines = hl7.Lines(h, shownLines)
		}
	case format.CSV, format.Form, format.Fixed, format.Lines, format.Multipart, format.Avro, format.Protobuf:
	default:
		return b
	}
	if tree != nil {
		text := string(jsonfmt.Encode(tree))
		b.Tree = &text
	}
	return b
}

func encoding(name string, raw []byte, l message.Layout) string {
	switch {
	case name == format.XML:
		return xml.Encoding(raw)
	case name == format.Binary || name == "" || name == format.Avro || name == format.Protobuf:
		return ""
	case name == format.HL7 && hl7.Charset(raw) != "":
		return hl7.Charset(raw)
	case l.Charset != "":
		return strings.ToUpper(l.Charset)
	}
	return "UTF-8"
}
