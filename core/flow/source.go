// Package flow reads flow documents: YAML 1.2 or the same as JSON, with the
// place of every value, so that whatever is wrong can be shown where it stands.
//
// Reading is forgiving where that helps a person who is still typing: a document
// with an unknown key or a step that is not finished is read as far as it goes,
// with a Finding for each fault. It is strict where forgiving would be guessing: a
// key that stands twice, a merge key and aliases that multiply beyond bounds are
// errors. Documents are bounded: MaxSize bytes, and 50,000 values with each use of
// an alias counted anew.
package flow

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
)

// Limits of a document: what a person writes stays far below.
const (
	MaxSize  = 1 << 20 // bytes
	maxDepth = 100     // nesting
	maxNodes = 50_000  // values, with each use of an alias counted anew
)

// Place is where a value or a key stands, counted from 1.
type Place struct{ Line, Column int }

// Source is a parsed document: its tree and where everything stands.
type Source struct {
	Root   *message.Node
	values map[string]Place // by JSON Pointer
	keys   map[string]Place
	block  map[string]bool // values in block style, whose text begins a line below
}

// Value gives the place of the value at a pointer, or of the nearest value
// around it.
func (s *Source) Value(ptr string) Place { return nearest(s.values, ptr) }

// Key gives the place of the key at a pointer, or of the value around it.
func (s *Source) Key(ptr string) Place {
	if p, ok := s.keys[ptr]; ok {
		return p
	}
	return s.Value(ptr)
}

// Within gives the place of a line and column inside the text at a pointer.
func (s *Source) Within(ptr string, line, column int) Place {
	p := s.Value(ptr)
	switch {
	case s.block[ptr]:
		return Place{p.Line + line, p.Column + column - 1}
	case line > 1:
		return Place{p.Line + line - 1, column}
	}
	return Place{p.Line, p.Column + column - 1}
}

func nearest(places map[string]Place, ptr string) Place {
	for {
		if p, ok := places[ptr]; ok {
			return p
		}
		i := strings.LastIndexByte(ptr, '/')
		if i < 0 {
			return Place{1, 1}
		}
		ptr = ptr[:i]
	}
}

// Parse reads YAML or JSON text. On a syntax error the finding says where.
func Parse(src []byte) (*Source, *Finding) {
	if len(src) > MaxSize {
		return nil, syntax(
			1,
			1,
			fmt.Sprintf("the document has %d bytes; at most %d are read", len(src), MaxSize),
			"move schemas and examples into files of the flow",
		)
	}
	if line := tooDeep(src); line > 0 {
		return nil, syntax(line, 1, fmt.Sprintf("the document is nested deeper than %d levels", maxDepth), "")
	}
	if s, bad := parseJSON(src); s != nil || bad != nil {
		return s, bad
	}
	file, err := parse(src)
	if err != nil {
		return nil, yamlError(err)
	}
	s := &Source{values: map[string]Place{}, keys: map[string]Place{}, block: map[string]bool{}}
	r := reader{s: s, src: src, anchors: map[string]ast.Node{}}
	var body ast.Node
	for _, d := range file.Docs {
		if d.Body == nil {
			continue
		}
		if body != nil {
			at := d.Body.GetToken().Position
			return nil, syntax(at.Line, at.Column, "the file holds a second document", "keep one flow per file")
		}
		body = d.Body
	}
	if body == nil {
		return nil, syntax(1, 1, "the document is empty", "begin with readyferry: flow/1")
	}
	root, bad := r.node(body, "", 0)
	if bad != nil {
		return nil, bad
	}
	s.Root = root
	return s, nil
}

// parse keeps a fault of the parser on odd input from ending the program.
func parse(src []byte) (file *ast.File, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the parser cannot make sense of it (%v)", r)
		}
	}()
	return parser.ParseBytes(src, 0)
}

// tooDeep gives the line at which brackets or list dashes nest too deep for a
// parser that recurses, or 0.
func tooDeep(src []byte) int {
	depth, line, dashes := 0, 1, 0
	for _, c := range src {
		switch c {
		case '\n':
			line++
			dashes = 0
		case '[', '{':
			depth++
		case ']', '}':
			depth--
		case '-', '?':
			dashes++
		case ' ':
		default:
			dashes = 0
		}
		if depth > 2*maxDepth || dashes > 20*maxDepth {
			return line
		}
	}
	return 0
}

func syntax(line, column int, msg, repair string) *Finding {
	return &Finding{Level: Error, Code: "syntax", Line: line, Column: column, Message: msg, Repair: repair}
}

type reader struct {
	s       *Source
	src     []byte
	anchors map[string]ast.Node // nil while the anchored value is being read
	nodes   int
}

func at(t *token.Token) Place {
	if t == nil || t.Position == nil {
		return Place{1, 1}
	}
	return Place{t.Position.Line, t.Position.Column}
}

// indent counts the blanks at the beginning of a line.
func indent(src []byte, line int) int {
	for ; line > 1 && len(src) > 0; line-- {
		_, src, _ = bytes.Cut(src, []byte("\n"))
	}
	return len(src) - len(bytes.TrimLeft(src, " "))
}

func (r *reader) fail(n ast.Node, format string, args ...any) *Finding {
	p := at(n.GetToken())
	return syntax(p.Line, p.Column, fmt.Sprintf(format, args...), "")
}

func (r *reader) node(n ast.Node, ptr string, depth int) (*message.Node, *Finding) {
	if r.nodes++; r.nodes > maxNodes {
		return nil, r.fail(n, "the document has more than %d values", maxNodes)
	}
	if depth > maxDepth {
		return nil, r.fail(n, "the document is nested deeper than %d levels", maxDepth)
	}
	place := at(n.GetToken())
	if _, known := r.s.values[ptr]; !known {
		r.s.values[ptr] = place
	}
	switch x := n.(type) {
	case *ast.NullNode:
		return message.NewNull(), nil
	case *ast.BoolNode:
		return message.NewBool(x.Value), nil
	case *ast.IntegerNode, *ast.FloatNode:
		return yamlNumber(n), nil
	case *ast.InfinityNode, *ast.NanNode:
		return nil, r.fail(n, "%s is no number that a document can hold", n.GetToken().Value)
	case *ast.StringNode:
		if x.Token.Type == token.DoubleQuoteType || x.Token.Type == token.SingleQuoteType {
			r.s.values[ptr] = Place{place.Line, place.Column + 1}
		}
		if n := yamlNumber(n); x.Token.Type == token.StringType && n.Kind == message.Number {
			return n, nil // 1e3 is a number in YAML 1.2, though this parser takes it for text
		}
		return message.NewString(x.Value), nil
	case *ast.LiteralNode:
		r.s.block[ptr] = true
		if x.Value != nil && x.Value.GetToken() != nil {
			r.s.values[ptr] = Place{place.Line, indent(r.src, place.Line+1) + 1}
			return message.NewString(x.Value.Value), nil
		}
		return message.NewString(""), nil
	case *ast.TagNode:
		return nil, r.fail(n, "tags such as %s are not used here", x.Start.Value)
	case *ast.AnchorNode:
		name := x.Name.GetToken().Value
		r.anchors[name] = nil
		v, bad := r.node(x.Value, ptr, depth+1)
		r.anchors[name] = x.Value
		return v, bad
	case *ast.AliasNode:
		name := x.Value.GetToken().Value
		target, known := r.anchors[name]
		if !known {
			return nil, r.fail(n, "there is no anchor &%s above", name)
		}
		if target == nil {
			return nil, r.fail(n, "the anchor &%s contains itself", name)
		}
		return r.node(target, ptr, depth+1)
	case *ast.SequenceNode:
		list := message.NewList()
		for i, item := range x.Values {
			v, bad := r.node(item, fmt.Sprintf("%s/%d", ptr, i), depth+1)
			if bad != nil {
				return nil, bad
			}
			list.Items = append(list.Items, v)
		}
		return list, nil
	case *ast.MappingNode:
		return r.mapping(x.Values, ptr, depth)
	case *ast.MappingValueNode:
		return r.mapping([]*ast.MappingValueNode{x}, ptr, depth)
	}
	return nil, r.fail(n, "%s is not used here", n.Type())
}

func (r *reader) mapping(values []*ast.MappingValueNode, ptr string, depth int) (*message.Node, *Finding) {
	out := &message.Node{Kind: message.Map, Offset: -1}
	for i, v := range values {
		if _, merge := v.Key.(*ast.MergeKeyNode); merge {
			return nil, r.fail(v, "merge keys (<<) are not part of YAML 1.2")
		}
		name := v.Key.GetToken().Value
		if s, ok := v.Key.(*ast.StringNode); ok {
			name = s.Value
		}
		child := ptr + pointer.Pointer{name}.String()
		r.s.keys[child] = at(v.Key.GetToken())
		if i == 0 {
			r.s.values[ptr] = at(v.Key.GetToken())
		}
		if v.Value == nil {
			out.Members = append(out.Members, message.Member{Name: name, Value: message.NewNull()})
			continue
		}
		n, bad := r.node(v.Value, child, depth+1)
		if bad != nil {
			return nil, bad
		}
		out.Members = append(out.Members, message.Member{Name: name, Value: n})
	}
	out.Seal()
	return out, nil
}

// yamlNumber keeps a literal that is also one of JSON; other ways of writing a
// number (0x1F, 1_000, .5) become the decimal that they mean.
func yamlNumber(n ast.Node) *message.Node {
	literal := n.GetToken().Value
	if r, err := jsonfmt.Decode([]byte(literal)); err == nil && r.Root.Kind == message.Number {
		return message.NewNumber(literal)
	}
	switch x := n.(type) {
	case *ast.IntegerNode:
		return message.NewNumber(fmt.Sprint(x.Value))
	case *ast.FloatNode:
		return message.NewNumber(fmt.Sprint(x.Value))
	}
	return message.NewString(literal)
}

// Write gives a tree as YAML, members in their order, for people to read.
func Write(n *message.Node) ([]byte, error) {
	return yaml.MarshalWithOptions(
		plain(n),
		yaml.Indent(2),
		yaml.IndentSequence(false),
		yaml.UseLiteralStyleIfMultiline(true),
	)
}

func plain(n *message.Node) any {
	switch n.Kind {
	case message.Bool:
		return n.Text == "true"
	case message.Number:
		return rawNumber(n.Text)
	case message.String, message.Bytes:
		lines := strings.Contains(n.Text, "\n")
		if strings.ContainsFunc(n.Text, controls) || strings.Contains(n.Text, "\t") && !lines || strings.HasPrefix(n.Text,
			"\t") || lines && strings.ContainsAny(n.Text[:1], " \n") {
			return rawNumber(jsonfmt.Encode(n)) // a text in quotes of JSON is one of YAML
		}
		return n.Text
	case message.List:
		out := make([]any, len(n.Items))
		for i, item := range n.Items {
			out[i] = plain(item)
		}
		return out
	case message.Map:
		out := make(yaml.MapSlice, len(n.Members))
		for i, m := range n.Members {
			out[i] = yaml.MapItem{Key: m.Name, Value: plain(m.Value)}
		}
		return out
	}
	return nil
}

// controls tells of a character that a text of YAML without quotes does not keep: of line
// ends it knows one alone.
func controls(r rune) bool {
	return r < ' ' && r != '\n' && r != '\t' || r == 0x7F || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xFEFF
}

// rawNumber is written with the digits that it has.
type rawNumber string

// MarshalYAML implements yaml.BytesMarshaler.
func (r rawNumber) MarshalYAML() ([]byte, error) { return []byte(r), nil }
