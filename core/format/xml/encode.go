package xml

import (
	"fmt"
	"strings"

	"readyferry/core/message"
)

// Header stands before every document that is written.
const Header = `<?xml version="1.0" encoding="UTF-8"?>` + "\n"

// maxDepth keeps a computed tree from nesting without end.
const maxDepth = 1000

// Encode writes a tree as a document in UTF-8. What was read and nobody
// changed is written as it was. Else these rules hold:
//
//   - A map with one member is a document of that element. Any other value is
//     put into an element named by root, "root" when it is empty.
//   - Members that begin with @ are attributes, #text is the text, others are
//     elements. A list is an element for each of its items; an empty list is
//     nothing. A list inside a list, and the items of a list on the outside, are
//     elements named item.
//   - Null and an empty text are an empty element; numbers and booleans are
//     written with their digits and words; bytes as base64.
//
// The error names the member that XML cannot hold.
func Encode(n *message.Node, root string) ([]byte, error) {
	w := &writer{}
	w.b.WriteString(Header)
	if x := Of(n); x != nil && x.Type == Document {
		for i, c := range x.Children {
			if i > 0 {
				w.b.WriteByte('\n')
			}
			w.native(c, nil)
		}
		return []byte(w.b.String()), nil
	}
	name, value := root, n
	if name == "" {
		name = "root"
	}
	if n.Kind == message.Map && len(n.Members) == 1 && !special(n.Members[0].Name) &&
		n.Members[0].Value.Kind != message.List {
		name, value = n.Members[0].Name, n.Members[0].Value
	}
	if n.Kind == message.List {
		value = message.NewMap(message.Member{Name: "item", Value: n})
	}
	if err := w.element(name, value, nil, 0); err != nil {
		return nil, err
	}
	return []byte(w.b.String()), nil
}

func special(name string) bool { return strings.HasPrefix(name, "@") || name == textName }

type writer struct{ b strings.Builder }

// scope is what prefixes mean where something is written.
type scope struct {
	prefix, uri string
	outer       *scope
}

func (s *scope) lookup(prefix string) (string, bool) {
	if prefix == "xml" {
		return xmlSpace, true
	}
	for ; s != nil; s = s.outer {
		if s.prefix == prefix {
			return s.uri, true
		}
	}
	return "", prefix == ""
}

func (w *writer) element(name string, n *message.Node, in *scope, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("XML: the document is nested deeper than %d levels", maxDepth)
	}
	if x := Of(n); x != nil && x.Type == Element && x.Name() == name {
		w.native(x, in)
		return nil
	}
	prefix, local, both := strings.Cut(name, ":")
	if !both {
		prefix, local = "", prefix
	}
	if !validName(local) || both && !validName(prefix) {
		return fmt.Errorf("XML: %q cannot be the name of an element", name)
	}
	if n.Kind == message.List {
		return w.list(name, n, in, depth)
	}
	w.b.WriteString("<" + name)
	for _, m := range n.Members {
		if p, ok := strings.CutPrefix(m.Name, "@xmlns:"); ok && validName(p) {
			in = &scope{p, m.Value.Text, in}
		} else if m.Name == "@xmlns" {
			in = &scope{"", m.Value.Text, in}
		}
	}
	if _, ok := in.lookup(prefix); !ok {
		return fmt.Errorf(
			"XML: the namespace prefix %q of %s is not declared; put a member @xmlns:%s beside it",
			prefix,
			name,
			prefix,
		)
	}
	var content []message.Member
	for _, m := range n.Members {
		attribute, is := strings.CutPrefix(m.Name, "@")
		if !is {
			content = append(content, m)
			continue
		}
		if err := w.attribute(attribute, m.Value, in); err != nil {
			return fmt.Errorf("XML, %s: %w", name, err)
		}
	}
	text, scalar := n.Scalar()
	if scalar && text == "" || !scalar && len(content) == 0 {
		w.b.WriteString("/>")
		return nil
	}
	w.b.WriteByte('>')
	if scalar {
		if err := w.text(text); err != nil {
			return fmt.Errorf("XML, %s: %w", name, err)
		}
	}
	for _, m := range content {
		if m.Name == textName {
			text, ok := m.Value.Scalar()
			if !ok {
				return fmt.Errorf("XML, %s: #text is a %s", name, m.Value.Kind)
			}
			if err := w.text(text); err != nil {
				return fmt.Errorf("XML, %s: %w", name, err)
			}
			continue
		}
		if err := w.element(m.Name, m.Value, in, depth+1); err != nil {
			return err
		}
	}
	w.b.WriteString("</" + name + ">")
	return nil
}

func (w *writer) list(name string, n *message.Node, in *scope, depth int) error {
	for _, item := range n.Items {
		if item.Kind == message.List {
			item = message.NewMap(message.Member{Name: "item", Value: item})
		}
		if err := w.element(name, item, in, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func (w *writer) attribute(name string, v *message.Node, in *scope) error {
	prefix, local, both := strings.Cut(name, ":")
	if !both {
		prefix, local = "", prefix
	}
	if !validName(local) || both && !validName(prefix) {
		return fmt.Errorf("%q cannot be the name of an attribute", name)
	}
	if _, ok := in.lookup(prefix); !ok && prefix != "xmlns" {
		return fmt.Errorf(
			"the namespace prefix %q of the attribute %s is not declared; put a member @xmlns:%s beside it",
			prefix,
			name,
			prefix,
		)
	}
	text, ok := v.Scalar()
	if !ok {
		return fmt.Errorf("the attribute %s is a %s", name, v.Kind)
	}
	if r, bad := invalidChar(text); bad {
		return fmt.Errorf("the attribute %s holds the character %q, which XML cannot", name, r)
	}
	w.b.WriteString(" " + name + `="`)
	w.b.WriteString(attributeEscapes.Replace(text))
	w.b.WriteByte('"')
	return nil
}

var (
	textEscapes      = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "\r", "&#13;")
	attributeEscapes = strings.NewReplacer(
		"&",
		"&amp;",
		"<",
		"&lt;",
		`"`,
		"&quot;",
		"\t",
		"&#9;",
		"\n",
		"&#10;",
		"\r",
		"&#13;",
	)
)

func (w *writer) text(s string) error {
	if r, bad := invalidChar(s); bad {
		return fmt.Errorf("the text holds the character %q, which XML cannot", r)
	}
	w.b.WriteString(textEscapes.Replace(s))
	return nil
}

// native writes a node as it was read. Prefixes that mean something else where
// it is written are declared anew.
func (w *writer) native(n *Node, in *scope) {
	switch n.Type {
	case Text:
		w.b.WriteString(textEscapes.Replace(n.Data))
	case Comment:
		w.b.WriteString("<!--" + n.Data + "-->")
	case Instruction:
		w.b.WriteString("<?" + n.Local)
		if n.Data != "" {
			w.b.WriteString(" " + n.Data)
		}
		w.b.WriteString("?>")
	case Element:
		w.b.WriteString("<" + n.Name())
		declare := func(prefix, uri string) {
			in = &scope{prefix, uri, in}
			if prefix != "" {
				prefix = ":" + prefix
			}
			w.b.WriteString(" xmlns" + prefix + `="` + attributeEscapes.Replace(uri) + `"`)
		}
		for _, d := range n.Declared {
			declare(d.Local, d.Data)
		}
		for _, named := range append([]*Node{n}, n.Attrs...) {
			if named.Type == Attribute && named.Prefix == "" || named.bound {
				continue
			}
			if uri, _ := in.lookup(named.Prefix); uri != named.Space {
				declare(named.Prefix, named.Space)
			}
		}
		for _, a := range n.Attrs {
			w.b.WriteString(" " + a.Name() + `="` + attributeEscapes.Replace(a.Data) + `"`)
		}
		if len(n.Children) == 0 {
			w.b.WriteString("/>")
			return
		}
		w.b.WriteByte('>')
		for _, c := range n.Children {
			w.native(c, in)
		}
		w.b.WriteString("</" + n.Name() + ">")
	}
}

// String writes one node as XML, for people and tests.
func (n *Node) String() string {
	w := &writer{}
	w.native(n, nil)
	return w.b.String()
}

// Escape writes a text so that it can stand in an element or in an attribute
// between double or single quotes.
func Escape(text string) (string, error) {
	if r, bad := invalidChar(text); bad {
		return "", fmt.Errorf("the text holds the character %q, which XML cannot", r)
	}
	return anywhereEscapes.Replace(text), nil
}

var anywhereEscapes = strings.NewReplacer(
	"&",
	"&amp;",
	"<",
	"&lt;",
	">",
	"&gt;",
	`"`,
	"&quot;",
	"'",
	"&#39;",
	"\r",
	"&#13;",
)
