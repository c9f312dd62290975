package expr

import (
	"fmt"
	"sort"
	"strings"

	"cel.dev/cel-go/cel"
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"

	"readyferry/core/message"
)

func sortMembers(m []message.Member) {
	sort.SliceStable(m, func(i, j int) bool { return m[i].Name < m[j].Name })
}

// A segment is one step of a path: a member's name or an index.
type segment struct {
	name     string
	index    int // used when isIndex
	isIndex  bool
	optional bool // written with ?, so that absence is no error
}

// Path is a chain of members and indexes that an expression reads, from one of
// the names it sees: body.patron.card.
type Path struct {
	Root     string
	segments []segment
	place    string // of an HL7 message that hl7() reads at this path, ""
}

// String writes the path as an expression would.
func (p Path) String() string {
	if p.place != "" {
		return fmt.Sprintf("hl7(%s, %q)", p.upTo(len(p.segments)), p.place)
	}
	return p.upTo(len(p.segments))
}

func (p Path) upTo(n int) string {
	var b strings.Builder
	b.WriteString(p.Root)
	for _, s := range p.segments[:n] {
		switch {
		case s.isIndex:
			fmt.Fprintf(&b, "[%d]", s.index)
		case isIdentifier(s.name):
			b.WriteString("." + s.name)
		default:
			fmt.Fprintf(&b, "[%q]", s.name)
		}
	}
	return b.String()
}

// Pointer writes the path below its root as a JSON Pointer; a place of an HL7
// message, which has none, as the expression.
func (p Path) Pointer() string {
	if p.place != "" {
		return p.String()
	}
	var b strings.Builder
	for _, s := range p.segments {
		b.WriteByte('/')
		if s.isIndex {
			fmt.Fprint(&b, s.index)
		} else {
			b.WriteString(strings.ReplaceAll(strings.ReplaceAll(s.name, "~", "~0"), "/", "~1"))
		}
	}
	return b.String()
}

func isIdentifier(s string) bool {
	for i, c := range s {
		if !(c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || i > 0 && c >= '0' && c <= '9') {
			return false
		}
	}
	return s != ""
}

// follow walks the path. missing is the number of the segment that is not
// there, or -1.
func (p Path) follow(root *message.Node) (n *message.Node, missing int) {
	n = root
	if n == nil {
		return nil, 0
	}
	for i, s := range p.segments {
		var next *message.Node
		if s.isIndex {
			if n.Kind == message.List && s.index >= 0 && s.index < len(n.Items) {
				next = n.Items[s.index]
			}
		} else {
			next = n.Get(s.name)
		}
		if next == nil {
			return n, i
		}
		n = next
	}
	return n, -1
}

// pathOf recognises an expression that only selects. optional tells that the
// expression's value is an optional.
func pathOf(e celast.Expr) (p Path, optional, ok bool) {
	switch e.Kind() {
	case celast.IdentKind:
		return Path{Root: strings.TrimPrefix(e.AsIdent(), twinMark)}, false, true
	case celast.SelectKind:
		s := e.AsSelect()
		if s.IsTestOnly() {
			return p, false, false
		}
		if p, optional, ok = pathOf(s.Operand()); ok {
			p.segments = append(p.segments, segment{name: s.FieldName(), optional: optional})
		}
		return p, optional, ok
	case celast.CallKind:
		c := e.AsCall()
		fn := c.FunctionName()
		if fn != operators.Index && fn != operators.OptIndex && fn != operators.OptSelect {
			return p, false, false
		}
		if p, optional, ok = pathOf(c.Args()[0]); !ok || c.Args()[1].Kind() != celast.LiteralKind {
			return p, false, false
		}
		optional = optional || fn != operators.Index
		switch lit := c.Args()[1].AsLiteral().(type) {
		case types.String:
			p.segments = append(p.segments, segment{name: string(lit), optional: optional})
		case types.Int:
			p.segments = append(p.segments, segment{index: int(lit), isIndex: true, optional: optional})
		default:
			return p, false, false
		}
		return p, optional, true
	}
	return p, false, false
}

// An exactNode evaluates the parts of an expression that only pass values on:
// selections, conditionals, orValue and list literals of such. It gives the
// document's own nodes, where CEL would give numbers without their digits.
type exactNode interface {
	eval(s *Scope, act *activation) (*message.Node, bool, error)
}

type pathNode struct {
	path Path
	lax  bool // what is looked for in a value without members is missing, and no error
}

// fits tells whether a value is of a kind that such a segment may look into.
func (s segment) fits(n *message.Node) bool {
	return n.Kind == message.Map || n.Kind == message.List && s.isIndex
}

func (p pathNode) eval(s *Scope, _ *activation) (*message.Node, bool, error) {
	n, missing := p.path.follow(s.root(p.path.Root))
	if missing < 0 {
		return n, true, nil
	}
	if segment := p.path.segments[missing]; segment.optional && (p.lax || n == nil || segment.fits(n)) {
		return nil, false, nil
	} else if segment.optional {
		return nil, false, s.memberless(p.path, missing)
	}
	return nil, false, s.missing(p.path, missing)
}

type condNode struct {
	cond       cel.Program
	yes, other exactNode
	lax        bool // what is neither true nor false counts as false, and is no error
}

var errNoCondition = types.NewErr("no such overload: %s", operators.Conditional).(error)

func (c condNode) eval(s *Scope, act *activation) (*message.Node, bool, error) {
	v, _, err := c.cond.Eval(act)
	if err != nil {
		return nil, false, err
	}
	if _, is := v.(types.Bool); !is && !c.lax {
		return nil, false, errNoCondition
	}
	if v == types.True {
		return c.yes.eval(s, act)
	}
	return c.other.eval(s, act)
}

type orNode struct{ first, second exactNode }

func (o orNode) eval(s *Scope, act *activation) (*message.Node, bool, error) {
	if n, ok, err := o.first.eval(s, act); ok || err != nil {
		return n, ok, err
	}
	return o.second.eval(s, act)
}

type listNode []exactNode

func (l listNode) eval(s *Scope, act *activation) (*message.Node, bool, error) {
	out := &message.Node{Kind: message.List, Offset: -1}
	memory := act.memory
	if memory == nil {
		memory = s.Memory.Within("an expression", EvalMemory)
	}
	for _, item := range l {
		n, ok, err := item.eval(s, act)
		if err != nil {
			return nil, false, err
		}
		if !ok {
			n = message.NewNull()
		}
		if err := memory.TakeNode(n); err != nil {
			return nil, false, err
		}
		out.Items = append(out.Items, n)
	}
	return out, true, nil
}

type leafNode struct{ program cel.Program }

func (l leafNode) eval(_ *Scope, act *activation) (*message.Node, bool, error) {
	v, _, err := l.program.Eval(act)
	if err != nil {
		return nil, false, err
	}
	return toNode(v)
}

// exact builds the evaluation of e; parts that compute are left to CEL.
func (c *compiling) exact(e celast.Expr) (exactNode, error) {
	if p, _, ok := pathOf(e); ok && c.env.root(p.Root) {
		return pathNode{p, c.env.lax}, nil
	}
	switch e.Kind() {
	case celast.ListKind:
		if len(e.AsList().OptionalIndices()) > 0 {
			break
		}
		var out listNode
		for _, item := range e.AsList().Elements() {
			n, err := c.exact(item)
			if err != nil {
				return nil, err
			}
			out = append(out, n)
		}
		return out, nil
	case celast.CallKind:
		call := e.AsCall()
		switch {
		case call.FunctionName() == operators.Conditional:
			cond, err := c.program(call.Args()[0])
			if err != nil {
				return nil, err
			}
			yes, err := c.exact(call.Args()[1])
			if err != nil {
				return nil, err
			}
			other, err := c.exact(call.Args()[2])
			return condNode{cond, yes, other, c.env.lax}, err
		case call.IsMemberFunction() && call.FunctionName() == "orValue" && (c.env.lax || mayBeOptional(call.Target())):
			first, err := c.exact(call.Target())
			if err != nil {
				return nil, err
			}
			second, err := c.exact(call.Args()[0])
			return orNode{first, second}, err
		}
	}
	p, err := c.program(e)
	return leafNode{p}, err
}

// mayBeOptional tells that an expression is not certain to give a value that is no
// optional, on which orValue is an error.
func mayBeOptional(e celast.Expr) bool {
	_, optional, ok := pathOf(e)
	return !ok || optional
}

func isRoot(name string) bool {
	for _, n := range names {
		if n.Name == name && name != "message" { // message is no node: its time has a type of its own
			return true
		}
	}
	return false
}

// reads lists the paths of an expression, in the order in which they stand.
func (env *Env) reads(e celast.Expr) []Path {
	var out []Path
	seen := map[string]bool{}
	add := func(p Path) {
		if key := p.String(); env.root(p.Root) && !seen[key] {
			seen[key] = true
			out = append(out, p)
		}
	}
	var walk func(e celast.Expr)
	walk = func(e celast.Expr) {
		if p, _, ok := pathOf(e); ok {
			add(p)
			return
		}
		switch e.Kind() {
		case celast.SelectKind:
			s := e.AsSelect()
			p, _, ok := pathOf(s.Operand())
			if ok && s.IsTestOnly() && env.root(p.Root) { // has(body.a) reads body.a
				p.segments = append(
					p.segments[:len(p.segments):len(p.segments)],
					segment{name: s.FieldName(), optional: true},
				)
				add(p)
				return
			}
			walk(s.Operand())
		case celast.CallKind:
			c := e.AsCall()
			if c.IsMemberFunction() {
				walk(c.Target())
			}
			if c.FunctionName() == "hl7" && len(c.Args()) == 2 && c.Args()[1].Kind() == celast.LiteralKind {
				if p, _, ok := pathOf(c.Args()[0]); ok {
					if place, ok := c.Args()[1].AsLiteral().(types.String); ok {
						p.place = string(place)
						add(p)
						return
					}
				}
			}
			for _, a := range e.AsCall().Args() {
				walk(a)
			}
		case celast.ListKind:
			for _, item := range e.AsList().Elements() {
				walk(item)
			}
		case celast.MapKind:
			for _, entry := range e.AsMap().Entries() {
				walk(entry.AsMapEntry().Key())
				walk(entry.AsMapEntry().Value())
			}
		case celast.ComprehensionKind:
			c := e.AsComprehension()
			for _, part := range []celast.Expr{c.IterRange(), c.AccuInit(), c.LoopCondition(), c.LoopStep(), c.Result()} {
				walk(part)
			}
		}
	}
	walk(e)
	return out
}
