package flow

import (
	"bytes"
	"fmt"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
)

// parseJSON reads a document that is JSON by the rules of JSON, which differ
// from YAML's in tabs and escapes. It gives nothing for text that is not JSON.
func parseJSON(src []byte) (*Source, *Finding) {
	if trimmed := bytes.TrimLeft(src, " \t\r\n"); len(trimmed) == 0 || trimmed[0] != '{' {
		return nil, nil
	}
	r, err := jsonfmt.DecodeWithin(src, jsonfmt.Limits{MaxDepth: maxDepth})
	if err != nil {
		return nil, nil // it may be YAML in flow style; that parser will say what is wrong
	}
	if len(r.Duplicates) > 0 {
		return nil, syntax(
			1,
			1,
			fmt.Sprintf("the key %q stands twice in one map", r.Duplicates[0]),
			"remove one of them",
		)
	}
	p := &placer{
		src:    src,
		s:      &Source{Root: r.Root, values: map[string]Place{}, keys: map[string]Place{}, block: map[string]bool{}},
		line:   1,
		column: 1,
	}
	p.node(r.Root, "")
	return p.s, nil
}

// placer notes where values stand. It meets them in the order of the text, so
// that it counts lines only once.
type placer struct {
	src              []byte
	s                *Source
	at, line, column int
}

func (p *placer) place(offset int) Place {
	for ; p.at < offset; p.at++ {
		switch {
		case p.src[p.at] == '\n':
			p.line++
			p.column = 1
		case p.src[p.at]&0xC0 != 0x80:
			p.column++
		}
	}
	return Place{p.line, p.column}
}

func (p *placer) node(n *message.Node, ptr string) {
	at := p.place(n.Offset)
	if n.Kind == message.String {
		at.Column++ // behind the quote
	}
	p.s.values[ptr] = at
	for i, item := range n.Items {
		p.node(item, fmt.Sprintf("%s/%d", ptr, i))
	}
	for _, m := range n.Members {
		child := ptr + pointer.Pointer{m.Name}.String()
		p.s.keys[child] = p.place(p.key(m.Value.Offset))
		p.node(m.Value, child)
	}
}

// key finds the quote that opens the name before a value.
func (p *placer) key(value int) int {
	end := bytes.LastIndexByte(p.src[:value], ':')
	end = bytes.LastIndexByte(p.src[:end], '"')
	for at := end - 1; at >= 0; at-- {
		if p.src[at] != '"' {
			continue
		}
		slashes := 0
		for at-slashes-1 >= 0 && p.src[at-slashes-1] == '\\' {
			slashes++
		}
		if slashes%2 == 0 {
			return at
		}
	}
	return value
}
