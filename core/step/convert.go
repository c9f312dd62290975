package step

import (
	"fmt"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/format/hl7"
	"readyferry/core/message"
)

// convertRules are what people may rely on; help shows them.
const convertRules = "JSON gets the tree as the step before it shows. XML puts a value without an element of " +
	"its own into root; lists become elements of one name, items of a list inside a list become item; " +
	"numbers become their digits, null an empty element. " +
	"CSV, text of fixed width and JSON Lines take a list of rows, or the only list inside maps with one " +
	"member; rows that are maps get a header of " +
	"all names. A form takes a map of texts and lists. HL7 takes segments by name and fields by number; to " +
	"XML its fields are named PID.5 and PID.5.1, as the standard's XML encoding does, and back. " +
	"Text and binary have no tree: to them a document goes as it is written, and from them it is read in the new format."

var convertKind = Kind{
	Name:    "convert",
	Summary: "Brings the body from one format to another by stated rules.",
	Reason: "Use it when the target takes the same content in another format, or before a map that starts from the body. " +
		convertRules,
	Example: `{id: as-xml, kind: convert, to: xml, root: rows}`,
	Properties: `{
		"to": {"enum": ["json", "xml", "csv", "hl7", "form", "multipart", "jsonl", "fixed", "avro", "protobuf", "text", "binary"],
			"description": "the new format"},
		"root": {"default": "root", "type": "string", "description":
			"XML: the element that a value without one is put into, root by default"},
		"header": {"default": true, "type": "boolean", "description":
			"CSV: from a text, the first row names the members of the others; to CSV, write the names (true by default)"},
		"schema": {"$ref": "#/$defs/by-schema"}, "message-type": {"$ref":
			"#/$defs/by-type"}, "framing": {"$ref": "#/$defs/framing"}, "schema-number": {"$ref": "#/$defs/schema-number"},
		"columns": {"$ref": "#/$defs/columns"}, "delimiter": {"$ref": "#/$defs/delimiter"}, "quote": {"$ref": "#/$defs/quote"}
	}`,
	Required: []string{"to"},
	compile:  compileConvert,
}

type convert struct {
	to     string
	layout message.Layout
}

func compileConvert(c *Compiler, s *flow.Step) Runner {
	r := &convert{to: scalar(s.Settings.Get("to")), layout: flow.Layout(s.Settings)}
	r.layout.Schema = c.written(s, r.to)
	if h := s.Settings.Get("header"); h != nil {
		r.layout.NoHeader = h.Text == "false"
	} else {
		r.layout.Header = false
	}
	return r
}

func (r *convert) Run(c *Call) (Result, error) {
	res := Result{State: c.State, Outcome: c.State.Message.Format + " to " + r.to}
	if err := Convert(&res.State.Message, r.to, r.layout); err != nil {
		return Result{State: c.State}, &Failure{Phase: "to " + r.to, Class: Data, Reason: err.Error()}
	}
	return res, nil
}

// Convert brings a message into another format by the rules of convertRules.
func Convert(m *message.Message, to string, l message.Layout) error {
	from := m.Format
	plain := func(name string) bool { return name == format.Text || name == format.Binary }
	switch {
	case from == to:
		return nil
	case plain(from) || plain(to):
		raw := Bytes(m)
		var err error
		switch {
		case from == format.Text && m.Body != nil:
			raw = []byte(m.Body.Text) // as UTF-8, whatever charset it came in
		case to == format.Text && m.Layout.Charset != "":
			if raw, err = format.InCharset(from, raw, m.Layout.Charset, "utf-8"); err != nil {
				return err
			}
		}
		m.Format, m.Layout = to, l
		return reread(m, raw)
	}
	body := m.Body
	var err error
	switch {
	case from == format.HL7 && to == format.XML:
		body, err = hl7.XMLTree(body)
	case from == format.XML && to == format.HL7:
		body, err = hl7.FromXMLTree(body)
	case to == format.CSV, to == format.Fixed, to == format.Lines:
		body, err = rowsOf(body)
	}
	if err != nil {
		return err
	}
	// From here on later steps see rows by name whenever they are written so.
	l.Header = to == format.CSV && len(body.Items) > 0 && body.Items[0].Kind == message.Map && !l.NoHeader
	return become(m, to, l, body)
}

// rowsOf looks for the list of rows in a tree: through maps with one member.
func rowsOf(n *message.Node) (*message.Node, error) {
	var seen []string
	for at := n; ; {
		if at.Kind == message.List {
			return at, nil
		}
		if at.Kind != message.Map {
			return nil, fmt.Errorf(
				"CSV: there is no list of rows in %s; map the body to a list first",
				strings.Join(append([]string{"the body"}, seen...), "/"),
			)
		}
		if len(at.Members) != 1 || at.Members[0].Value.Kind != message.Map && at.Members[0].Value.Kind != message.List {
			return message.NewList(at), nil // one row
		}
		seen = append(seen, at.Members[0].Name)
		at = at.Members[0].Value
	}
}
