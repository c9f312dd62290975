package step

import (
	"bytes"
	"mime"
	"strconv"

	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/format/multipart"
	"readyferry/core/message"
)

// FormatOf gives the format of a body: the one set on the intake, or with
// "auto" what the Content-Type says. A body that begins as JSON under the type
// of forms is JSON: that is what a plain call of a command line tool sends.
func FormatOf(set string, contentType *message.Node, body []byte) string {
	kind := ""
	if contentType != nil {
		kind = contentType.Text
	}
	f := format.Of(set, kind)
	if start := bytes.TrimLeft(body, " \t\r\n"); set == "auto" && f == format.Form && len(start) > 0 &&
		(start[0] == '{' || start[0] == '[') {
		return format.JSON
	}
	return f
}

// Charset gives the charset of a Content-Type, or "".
func Charset(contentType *message.Node) string {
	if contentType == nil {
		return ""
	}
	_, params, err := mime.ParseMediaType(contentType.Text)
	if err != nil {
		return ""
	}
	return params["charset"]
}

// Bytes gives the body of a message as it leaves: as it came in when nothing
// changed it, else written anew. Computed bodies of other formats than JSON
// carry their bytes with them, because not every tree can be written in them.
func Bytes(m *message.Message) []byte {
	if m.Raw != nil || m.Body == nil {
		return m.Raw
	}
	return jsonfmt.Encode(m.Body)
}

// ContentType gives the media type that a message leaves with: the one it came
// with while nobody changed it.
func ContentType(m *message.Message) string {
	switch {
	case m.ContentType != "":
		return m.ContentType
	case m.Format == format.Multipart: // it says where its parts end
		return multipart.ContentType(m.Raw)
	}
	return format.ContentType(m.Format)
}

// become gives a message another body. A body that is not JSON is written and
// read again at once, so that later steps see what will leave. The error says
// what the format cannot hold.
func become(m *message.Message, name string, l message.Layout, body *message.Node) error {
	if m.Format == name && l.Prefixes == nil {
		l.Prefixes = m.Layout.Prefixes // names mean what they did
	}
	l.Charset = "" // it is written in UTF-8
	if l.Escapes == nil {
		l.Escapes = m.Layout.Escapes // texts mean what they did
	}
	m.Format, m.Layout, m.Body, m.Raw, m.ContentType = name, l, body, nil, ""
	if name == format.JSON {
		return nil
	}
	raw, err := format.Encode(name, body, l)
	if err != nil {
		return err
	}
	return reread(m, raw)
}

// reread gives a message the bytes of a body, which are decoded.
func reread(m *message.Message, raw []byte) error {
	d, err := format.Decode(m.Format, raw, m.Layout, format.Limits{})
	if err != nil {
		return err
	}
	m.Raw, m.Body, m.ContentType, m.Layout.Charset = raw, d.Root, "", ""
	m.Layout.LineEnd = d.Layout.LineEnd
	if d.Layout.Escapes != nil {
		m.Layout.Escapes = d.Layout.Escapes
	}
	if m.Raw == nil {
		m.Raw = []byte{}
	}
	return nil
}

func jsonInt(i int) *message.Node { return message.NewNumber(strconv.Itoa(i)) }
