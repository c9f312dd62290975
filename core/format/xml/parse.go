// Package xml reads and writes XML 1.0 with namespaces, over the document tree
// of core/message.
//
//	<order id="7"><line sku="a">2</line><line sku="b">1</line></order>
//
// is {"order": {"@id": "7", "line": [{"@sku": "a", "#text": "2"}, {"@sku": "b", "#text": "1"}]}}:
// elements by name as they are written, attributes as @name, text as #text
// where an element has attributes or elements besides, and else the text alone.
// Elements of one name are a list. Blanks between elements are nothing.
//
// Beside that tree the whole document is kept (Node): functions such as xpath
// look into it, and elements that nobody changed are written from it, with
// their mixed text in its order.
//
// A document type is passed over; one with declarations of its own is refused,
// and so are all entities but the five of XML: nothing is expanded, nothing is
// fetched.
package xml

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"readyferry/core/message"
)

// Type says what a Node is.
type Type uint8

// The types of node, as XPath 1.0 section 5 has them.
const (
	Document Type = iota
	Element
	Attribute
	Text
	Comment
	Instruction
	Namespace
)

// Node is a node of the whole document.
type Node struct {
	Type     Type
	Parent   *Node
	Children []*Node
	Attrs    []*Node // attributes, in the order in which they were written
	Declared []*Node // namespaces that an element declares: prefix in Local, name in Data

	Prefix, Local, Space string // of elements and attributes; an instruction's target is Local
	Data                 string // text of texts, comments, instructions and attributes
	Offset               int    // byte at which it began
	Order                int    // position in document order

	hidden bool // a declaration that the tree does not show, since the reader has named the prefix
	bound  bool // its prefix means what it means where the element is written
}

// Name gives the name as it is written.
func (n *Node) Name() string {
	if n.Prefix == "" {
		return n.Local
	}
	return n.Prefix + ":" + n.Local
}

// Lookup gives the namespace of a prefix where the node stands.
func (n *Node) Lookup(prefix string) (uri string, ok bool) {
	if prefix == "xml" {
		return xmlSpace, true
	}
	for e := n; e != nil; e = e.Parent {
		for _, d := range e.Declared {
			if d.Local == prefix {
				return d.Data, d.Data != "" || prefix == ""
			}
		}
	}
	return "", prefix == ""
}

// The names that the recommendation on namespaces sets apart.
const (
	xmlSpace   = "http://www.w3.org/XML/1998/namespace"
	xmlnsSpace = "http://www.w3.org/2000/xmlns/"
)

// maxDeclared is how many namespaces one element may declare.
const maxDeclared = 200

// Limits of a decoder. Zero values are no limits.
type Limits struct {
	MaxDepth int // nesting of elements
	MaxNodes int // elements, attributes and texts in all
}

// Decode reads a document. The error is a *message.SyntaxError.
func Decode(src []byte, l Limits) (*message.Node, error) {
	doc, err := Parse(src, l)
	if err != nil {
		return nil, err
	}
	return Tree(doc), nil
}

// Parse reads a document into nodes. The error is a *message.SyntaxError.
func Parse(src []byte, l Limits) (*Node, error) {
	text, err := decodeText(src)
	if err != nil {
		return nil, err
	}
	p := &parser{src: text, limits: l, doc: &Node{Type: Document},
		spaces: map[string][]string{}}
	p.at = p.doc
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // it is UTF-8 already
	for {
		start := int(d.InputOffset())
		t, err := d.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, p.syntax(int(d.InputOffset()), err)
		}
		if _, more := t.(xml.CharData); !more {
			p.endText()
		}
		if err := p.token(t, start, int(d.InputOffset())); err != nil {
			return nil, err
		}
	}
	p.endText()
	if p.at != p.doc {
		return nil, p.fail(
			len(text),
			fmt.Sprintf("the element %s, which begins in line %d, is not closed", p.at.Name(), p.line(p.at.Offset)),
		)
	}
	if p.root == nil {
		return nil, p.fail(len(text), "there is no element")
	}
	return p.doc, nil
}

type parser struct {
	src          []byte
	limits       Limits
	doc, at      *Node
	root         *Node
	doctype      bool
	depth, nodes int
	text         []byte              // of the last text, while more of it may come
	spaces       map[string][]string // the namespaces of each prefix, the innermost last
}

func (p *parser) line(offset int) int {
	line, _ := message.Position(p.src, offset)
	return line
}

func (p *parser) fail(offset int, problem string) error {
	line, column := message.Position(p.src, offset)
	return &message.SyntaxError{Format: "XML", Line: line, Column: column, Offset: offset, Problem: problem}
}

func (p *parser) syntax(offset int, err error) error {
	var bad *xml.SyntaxError
	problem := err.Error()
	if errors.As(err, &bad) {
		problem = bad.Msg
	}
	return p.fail(offset, strings.Replace(problem, "unexpected EOF", "the document ends too early", 1))
}

func (p *parser) add(n *Node) error {
	p.nodes++
	n.Parent, n.Order = p.at, p.nodes
	if p.limits.MaxNodes > 0 && p.nodes > p.limits.MaxNodes {
		return p.fail(n.Offset, fmt.Sprintf("the document has more than %d values", p.limits.MaxNodes))
	}
	return nil
}

func (p *parser) token(t xml.Token, start, end int) error {
	raw := p.src[start:end]
	switch t := t.(type) {
	case xml.StartElement:
		return p.start(t, start, raw)
	case xml.EndElement:
		name := qualified(t.Name)
		if p.at == p.doc || p.at.Name() != name {
			return p.fail(start, fmt.Sprintf("the end of %s does not belong here", name))
		}
		for _, d := range p.at.Declared {
			all := p.spaces[d.Local]
			p.spaces[d.Local] = all[:len(all)-1]
		}
		p.at = p.at.Parent
		p.depth--
	case xml.CharData:
		return p.chars(t, start, raw)
	case xml.Comment:
		n := &Node{Type: Comment, Data: string(t), Offset: start}
		p.at.Children = append(p.at.Children, n)
		return p.add(n)
	case xml.ProcInst:
		if strings.EqualFold(t.Target, "xml") {
			if start != 0 || t.Target != "xml" || !declaration.Match(t.Inst) {
				return p.fail(start,
					"an XML declaration stands only at the very beginning, as <?xml version=\"1.0\" encoding=\"…\"?>")
			}
			return nil
		}
		n := &Node{Type: Instruction, Local: t.Target, Data: string(t.Inst), Offset: start}
		p.at.Children = append(p.at.Children, n)
		return p.add(n)
	case xml.Directive:
		return p.directive(string(t), start)
	}
	return nil
}

var declaration = regexp.MustCompile(
	`^version\s*=\s*("1\.[0-9]+"|'1\.[0-9]+')(\s+encoding\s*=\s*("[A-Za-z][A-Za-z0-9._-]*"|'[A-Za-z][A-Za-z0-9._-` +
		`]*'))?(\s+standalone\s*=\s*("(yes|no)"|'(yes|no)'))?\s*$`,
)

// endText ends a text of which parts have come, one after the other.
func (p *parser) endText() {
	if p.text != nil {
		p.at.Children[len(p.at.Children)-1].Data = string(p.text)
		p.text = nil
	}
}

// space gives the namespace of a prefix where the parser is.
func (p *parser) space(prefix string) (uri string, ok bool) {
	if prefix == "xml" {
		return xmlSpace, true
	}
	if all := p.spaces[prefix]; len(all) > 0 {
		uri = all[len(all)-1]
		return uri, uri != "" || prefix == ""
	}
	return "", prefix == ""
}

func (p *parser) chars(t xml.CharData, start int, raw []byte) error {
	if p.at == p.doc {
		if strings.Trim(string(t), " \t\r\n") != "" || bytes.HasPrefix(raw, []byte("<![CDATA[")) ||
			bytes.ContainsRune(raw, '&') {
			return p.fail(start, "text stands outside of the document's element")
		}
		return nil
	}
	if len(t) == 0 {
		return nil
	}
	if n := len(p.at.Children); n > 0 && p.at.Children[n-1].Type == Text {
		p.text = append(p.text, t...)
		return nil
	}
	p.text = append([]byte{}, t...)
	n := &Node{Type: Text, Offset: start}
	p.at.Children = append(p.at.Children, n)
	return p.add(n)
}

// docType is one without declarations of its own: a name and, maybe, where
// somebody else's declarations lie, which are never fetched.
var docType = regexp.MustCompile(
	`^DOCTYPE\s+[^\s\[\]<>"']+(\s+(SYSTEM\s+("[^"]*"|'[^']*')|PUBLIC\s+("[^"]*"|'[^']*')\s+("[^"]*"|'[^']*')))?\s*$`,
)

func (p *parser) directive(text string, start int) error {
	switch {
	case strings.HasPrefix(text, "DOCTYPE") && strings.Contains(text, "["):
		return p.fail(start, "a document type with declarations of its own is refused: entities are not expanded here")
	case p.root != nil || p.doctype || !docType.MatchString(text):
		return p.fail(start, "such a declaration has no place here")
	}
	p.doctype = true
	return nil
}

func qualified(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Space + ":" + n.Local
}

// blanks are the line ends in the value of an attribute (XML 1.0, 3.3.3).
var blanks = strings.NewReplacer("\t", " ", "\n", " ", "\r", " ")

func (p *parser) start(t xml.StartElement, start int, raw []byte) error {
	if p.at == p.doc && p.root != nil {
		return p.fail(start, "a document has one element on the outside, and this is a second one")
	}
	if i := crowded(raw); i >= 0 {
		return p.fail(start+i, "a blank is missing between two attributes")
	}
	e := &Node{Type: Element, Prefix: t.Name.Space, Local: t.Name.Local, Offset: start}
	if err := p.add(e); err != nil {
		return err
	}
	if p.depth++; p.limits.MaxDepth > 0 && p.depth > p.limits.MaxDepth {
		return p.fail(start, fmt.Sprintf("the document is nested deeper than %d levels", p.limits.MaxDepth))
	}
	p.at.Children = append(p.at.Children, e)
	if p.at == p.doc {
		p.root = e
	}
	p.at = e
	references := bytes.Contains(raw, []byte("&#"))
	for _, a := range t.Attr {
		if !validName(a.Name.Local) || a.Name.Space != "" && !validName(a.Name.Space) {
			return p.fail(start, fmt.Sprintf("%q is no name of an attribute", qualified(a.Name)))
		}
		value := a.Value
		if !references { // a line end written as a character reference stays one
			value = blanks.Replace(value)
		}
		n := &Node{Type: Attribute, Prefix: a.Name.Space, Local: a.Name.Local, Data: value, Offset: start}
		switch {
		case n.Prefix == "xmlns", n.Prefix == "" && n.Local == "xmlns":
			if err := p.declare(e, n); err != nil {
				return err
			}
			continue
		}
		e.Attrs = append(e.Attrs, n)
		if err := p.add(n); err != nil {
			return err
		}
	}
	return p.resolve(e)
}

// declare notes a namespace (Namespaces in XML 1.0, sections 2 and 3).
func (p *parser) declare(e, n *Node) error {
	prefix := n.Local
	if n.Prefix == "" {
		prefix = ""
	}
	switch {
	case prefix == "xmlns",
		(prefix == "xml") != (n.Data == xmlSpace),
		n.Data == xmlnsSpace,
		prefix != "" && n.Data == "":
		return p.fail(e.Offset, fmt.Sprintf("the namespace prefix %q cannot be declared as %q", prefix, n.Data))
	}
	if n := len(e.Declared); n > maxDeclared {
		return p.fail(e.Offset, fmt.Sprintf("an element declares more than %d namespaces", maxDeclared))
	}
	for _, d := range e.Declared {
		if d.Local == prefix {
			return p.fail(e.Offset, fmt.Sprintf("the namespace prefix %q is declared twice", prefix))
		}
	}
	p.spaces[prefix] = append(p.spaces[prefix], n.Data)
	d := &Node{Type: Namespace, Local: prefix, Data: n.Data, Offset: e.Offset}
	e.Declared = append(e.Declared, d)
	return p.add(d)
}

// resolve finds the namespaces of an element and its attributes, and names
// that stand twice.
func (p *parser) resolve(e *Node) error {
	if !validName(e.Local) || e.Prefix != "" && !validName(e.Prefix) {
		return p.fail(e.Offset, fmt.Sprintf("%q is no name of an element", e.Name()))
	}
	uri, ok := p.space(e.Prefix)
	if !ok || e.Prefix == "xmlns" {
		return p.fail(e.Offset, fmt.Sprintf("the namespace prefix %q of %s is not declared", e.Prefix, e.Name()))
	}
	e.Space = uri
	seen := map[string]bool{}
	for _, a := range e.Attrs {
		if a.Prefix != "" {
			if a.Space, ok = p.space(a.Prefix); !ok {
				return p.fail(
					e.Offset,
					fmt.Sprintf("the namespace prefix %q of %s is not declared", a.Prefix, a.Name()),
				)
			}
		}
		key := a.Space + "\x00" + a.Local
		if seen[key] {
			return p.fail(e.Offset, fmt.Sprintf("the attribute %s stands twice", a.Name()))
		}
		seen[key] = true
	}
	return nil
}

// crowded finds two attributes without a blank between them, which the reader
// below lets pass; -1 when there are none.
func crowded(tag []byte) int {
	quote := byte(0)
	for i, c := range tag {
		switch {
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case quote != 0 && c == quote:
			quote = 0
			if i+1 < len(tag) && !bytes.ContainsRune([]byte(" \t\r\n/>"), rune(tag[i+1])) {
				return i + 1
			}
		}
	}
	return -1
}
