package xml

import (
	"fmt"
	"strings"

	"readyferry/core/message"
)

// Lines lays a document out for people: an element on a line of its own, with
// its text or its mixed content behind it. Pointers lead into the tree. At most
// limit lines are made.
func Lines(doc *Node, limit int) []message.Line {
	l := &lines{limit: limit}
	for _, c := range doc.Children {
		l.node(c, 0, "/"+escape(c.Name()))
	}
	return l.out
}

type lines struct {
	out   []message.Line
	limit int
}

// escape writes a token of a JSON Pointer (RFC 6901, 3).
func escape(s string) string {
	return strings.NewReplacer("~", "~0", "/", "~1").Replace(s)
}

func (l *lines) add(indent int, tokens ...message.Token) {
	if len(l.out) < l.limit {
		l.out = append(l.out, message.Line{Indent: indent, Tokens: tokens})
	}
}

func mark(s string) message.Token { return message.Token{Text: s, Kind: message.TokenMark} }

func (l *lines) node(n *Node, indent int, ptr string) {
	if len(l.out) >= l.limit {
		return
	}
	switch n.Type {
	case Comment:
		l.add(indent, message.Token{Text: "<!--" + n.Data + "-->", Kind: message.TokenComment})
	case Instruction, Text:
		l.add(indent, message.Token{Text: n.String(), Kind: message.TokenComment})
	case Element:
		l.element(n, indent, ptr)
	}
}

func (l *lines) element(n *Node, indent int, ptr string) {
	open := []message.Token{mark("<"), {Text: n.Name(), Kind: message.TokenName, Pointer: ptr}}
	for _, d := range n.Declared {
		name := "xmlns"
		if d.Local != "" {
			name += ":" + d.Local
		}
		open = append(
			open,
			message.Token{Text: " " + name, Kind: message.TokenAttribute},
			mark(`="`),
			message.Token{Text: d.Data, Kind: message.TokenComment},
			mark(`"`),
		)
	}
	for _, a := range n.Attrs {
		at := ptr + "/" + escape("@"+a.Name())
		open = append(
			open,
			message.Token{Text: " " + a.Name(), Kind: message.TokenAttribute},
			mark(`="`),
			message.Token{Text: attributeEscapes.Replace(a.Data), Kind: message.TokenValue, Pointer: at},
			mark(`"`),
		)
	}
	texts, elements := "", 0
	for _, c := range n.Children {
		switch c.Type {
		case Text:
			texts += c.Data
		case Element:
			elements++
		}
	}
	closing := []message.Token{mark("</"), {Text: n.Name(), Kind: message.TokenName, Pointer: ptr}, mark(">")}
	value := ptr
	if len(n.Attrs)+len(n.Declared)+elements > 0 {
		value = ptr + "/" + textName
	}
	switch {
	case len(n.Children) == 0:
		l.add(indent, append(open, mark("/>"))...)
	case elements == 0:
		open = append(
			open,
			mark(">"),
			message.Token{Text: textEscapes.Replace(texts), Kind: message.TokenValue, Pointer: value},
		)
		l.add(indent, append(open, closing...)...)
	case strings.Trim(texts, " \t\r\n") != "": // mixed: as it stands, so that its order is seen
		open = append(open, mark(">"))
		for _, c := range n.Children {
			kind, at := message.TokenValue, value
			if c.Type != Text {
				kind, at = message.TokenComment, ""
			}
			open = append(open, message.Token{Text: c.String(), Kind: kind, Pointer: at})
		}
		l.add(indent, append(open, closing...)...)
	default:
		l.add(indent, append(open, mark(">"))...)
		l.children(n, indent+1, ptr)
		l.add(indent, closing...)
	}
}

func (l *lines) children(n *Node, indent int, ptr string) {
	count, seen := map[string]int{}, map[string]int{}
	for _, c := range n.Children {
		if c.Type == Element {
			count[c.Name()]++
		}
	}
	for _, c := range n.Children {
		if c.Type == Text {
			continue
		}
		name := c.Name()
		at := ptr + "/" + escape(name)
		if count[name] > 1 {
			at += fmt.Sprintf("/%d", seen[name])
		}
		seen[name]++
		l.node(c, indent, at)
	}
}
