// Package form reads and writes application/x-www-form-urlencoded, over the
// document tree of core/message.
//
//	name=O%27Neil&title=A&title=B
//
// is a map: a name that stands once has a text, one that stands more often a
// list of texts. + is a blank; a % must begin two hexadecimal digits. As in
// Go's net/url, a bare semicolon is refused: some readers would part fields at
// it, others not.
package form

import (
	"fmt"
	"net/url"
	"strings"
	"unicode/utf8"

	"readyferry/core/format/charset"
	"readyferry/core/message"
)

// Decode reads a form. The error is a *message.SyntaxError. maxNodes limits
// the number of fields, 0 for no limit; charset is that of the bytes, "" for UTF-8.
func Decode(src []byte, maxNodes int, charset string) (*message.Node, error) {
	fail := func(at int, problem string) error {
		line, column := message.Position(src, at)
		return &message.SyntaxError{Format: "form", Line: line, Column: column, Offset: at, Problem: problem}
	}
	var pairs []message.Header
	at := 0
	for rest, more := string(src), true; more; {
		var field string
		field, rest, more = strings.Cut(rest, "&")
		start := at
		at += len(field) + 1
		if field == "" {
			continue
		}
		if i := strings.IndexByte(field, ';'); i >= 0 {
			return nil, fail(start+i, "a semicolon must be written as %3B")
		}
		name, value, _ := strings.Cut(field, "=")
		plainName, err := unescape(name, charset)
		if err != nil {
			return nil, fail(start, err.Error())
		}
		plain, err := unescape(value, charset)
		if err != nil {
			return nil, fail(start+len(name)+1, err.Error())
		}
		pairs = append(pairs, message.Header{Name: plainName, Value: plain})
		if maxNodes > 0 && len(pairs) > maxNodes {
			return nil, fail(start, fmt.Sprintf("the form has more than %d fields", maxNodes))
		}
	}
	return message.ListMap(pairs), nil
}

func unescape(s, set string) (string, error) {
	plain, err := url.QueryUnescape(s)
	if err != nil {
		i := max(0, strings.Index(err.Error(), `"`))
		return "", fmt.Errorf("%s begins no two hexadecimal digits; a percent sign is written as %%25", err.Error()[i:])
	}
	text, err := charset.ToUTF8([]byte(plain), set)
	if err == nil && !utf8.Valid(text) {
		err = fmt.Errorf("%q is not UTF-8; say what it is with encoding, such as encoding: iso-8859-1", s)
	}
	return string(text), err
}

// Encode writes a map as a form, its names in their order: a list gives a field
// for each item, null an empty one. The error names the field that a form
// cannot hold.
func Encode(n *message.Node) ([]byte, error) {
	if n.Kind != message.Map {
		return nil, fmt.Errorf("a form is a map of fields, not a %s", n.Kind)
	}
	var b strings.Builder
	put := func(name, value string) {
		if b.Len() > 0 {
			b.WriteByte('&')
		}
		b.WriteString(url.QueryEscape(name) + "=" + url.QueryEscape(value))
	}
	for _, m := range n.Members {
		items := []*message.Node{m.Value}
		if m.Value.Kind == message.List {
			items = m.Value.Items
		}
		for _, v := range items {
			text, ok := v.Scalar()
			if !ok {
				return nil, fmt.Errorf("form, field %s: a %s does not fit into a field", m.Name, v.Kind)
			}
			put(m.Name, text)
		}
	}
	return []byte(b.String()), nil
}
