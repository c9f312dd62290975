package json

import (
	"encoding/base64"
	"unicode/utf8"

	"readyferry/core/message"
)

// Encode writes a tree as compact JSON. Numbers leave with the digits they
// came with, bytes leave as base64 (RFC 4648 section 4).
func Encode(n *message.Node) []byte { return appendNode(nil, n, -1, 0) }

// EncodeIndent writes a tree with two blanks per level, for people.
func EncodeIndent(n *message.Node) []byte { return appendNode(nil, n, 2, 0) }

func appendNode(out []byte, n *message.Node, indent, level int) []byte {
	if n == nil {
		return append(out, "null"...)
	}
	switch n.Kind {
	case message.Bool, message.Number:
		return append(out, n.Text...)
	case message.String:
		return AppendString(out, n.Text)
	case message.Bytes:
		return AppendString(out, base64.StdEncoding.EncodeToString([]byte(n.Text)))
	case message.List:
		if len(n.Items) == 0 {
			return append(out, "[]"...)
		}
		out = append(out, '[')
		for i, item := range n.Items {
			if i > 0 {
				out = append(out, ',')
			}
			out = appendNode(newline(out, indent, level+1), item, indent, level+1)
		}
		return append(newline(out, indent, level), ']')
	case message.Map:
		if len(n.Members) == 0 {
			return append(out, "{}"...)
		}
		out = append(out, '{')
		for i, m := range n.Members {
			if i > 0 {
				out = append(out, ',')
			}
			out = AppendString(newline(out, indent, level+1), m.Name)
			out = append(out, ':')
			if indent > 0 {
				out = append(out, ' ')
			}
			out = appendNode(out, m.Value, indent, level+1)
		}
		return append(newline(out, indent, level), '}')
	}
	return append(out, "null"...)
}

func newline(out []byte, indent, level int) []byte {
	if indent < 0 {
		return out
	}
	out = append(out, '\n')
	for i := 0; i < indent*level; i++ {
		out = append(out, ' ')
	}
	return out
}

const hexDigits = "0123456789abcdef"

// AppendString writes s as a JSON string: only what RFC 8259 section 7
// requires is escaped, and bytes that are not UTF-8 become U+FFFD.
func AppendString(out []byte, s string) []byte {
	out = append(out, '"')
	start := 0
	for i := 0; i < len(s); {
		c := s[i]
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRuneInString(s[i:])
			if r == utf8.RuneError && size == 1 {
				out = append(append(out, s[start:i]...), "\uFFFD"...)
				start = i + 1
			}
			i += size
			continue
		}
		if c >= 0x20 && c != '"' && c != '\\' {
			i++
			continue
		}
		out = append(out, s[start:i]...)
		switch c {
		case '"', '\\':
			out = append(out, '\\', c)
		case '\n':
			out = append(out, '\\', 'n')
		case '\r':
			out = append(out, '\\', 'r')
		case '\t':
			out = append(out, '\\', 't')
		case '\b':
			out = append(out, '\\', 'b')
		case '\f':
			out = append(out, '\\', 'f')
		default:
			out = append(out, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
		}
		i++
		start = i
	}
	return append(append(out, s[start:]...), '"')
}
