package analyse

import (
	"slices"
	"strings"

	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"

	"readyferry/core/expr"
)

// paths are the places of a message that conditions look at, with what they compare it to.
type paths struct{ all []*place }

// place is one of them.
type place struct {
	root  string
	names []string
	fixed []fixed  // what it is compared with
	asked bool     // whether it is there
	heads []string // of texts, by startsWith
	order bool     // by < and its like
}

func (p *place) String() string { return p.root + "." + strings.Join(p.names, ".") }

// fixed is a value that stands in a condition.
type fixed struct {
	kind fixedKind
	text string // of a number, as JSON has it; of a text
	yes  bool
}

type fixedKind int

const (
	null fixedKind = iota
	boolean
	number
	text
)

// roots are the names whose values a message can be made up for.
var roots = []string{"body", "headers", "params", "query", "vars"}

// of adds what a condition looks at; the error says why it is not decided.
func (ps *paths) of(env *expr.Env, condition string) error {
	parsed, err := env.Parse(condition)
	if err != nil {
		return err
	}
	c := &collecting{ps, parsed}
	return c.condition(parsed.Root())
}

func (ps *paths) join(other *paths) {
	for _, o := range other.all {
		p := ps.at(o.root, o.names)
		for _, f := range o.fixed {
			p.compared(f)
		}
		p.asked, p.order = p.asked || o.asked, p.order || o.order
		p.heads = append(p.heads, o.heads...)
	}
}

func (ps *paths) at(root string, names []string) *place {
	for _, p := range ps.all {
		if p.root == root && slices.Equal(p.names, names) {
			return p
		}
	}
	p := &place{root: root, names: names}
	ps.all = append(ps.all, p)
	return p
}

func (p *place) compared(f fixed) {
	if !slices.Contains(p.fixed, f) {
		p.fixed = append(p.fixed, f)
	}
}

type collecting struct {
	*paths
	parsed *expr.Parsed
}

func (c *collecting) unlike(e celast.Expr) error {
	part := c.parsed.Source(e)
	if part == "" { // what a macro has made of it cannot be written
		part = "a part of it"
	}
	return undecided("%s is more than a comparison with a fixed value", part)
}

// condition collects from a part that is true or false.
func (c *collecting) condition(e celast.Expr) error {
	switch e.Kind() {
	case celast.LiteralKind:
		if _, is := e.AsLiteral().(types.Bool); is {
			return nil
		}
	case celast.SelectKind, celast.IdentKind:
		if e.Kind() == celast.SelectKind && e.AsSelect().IsTestOnly() {
			p, err := c.place(e.AsSelect().Operand(), e.AsSelect().FieldName())
			if err == nil {
				p.asked = true
			}
			return err
		}
		p, err := c.place(e)
		if err == nil {
			p.compared(fixed{kind: boolean, yes: true})
		}
		return err
	case celast.CallKind:
		return c.call(e)
	}
	return c.unlike(e)
}

func (c *collecting) call(e celast.Expr) error {
	call := e.AsCall()
	switch f := call.FunctionName(); f {
	case operators.LogicalAnd, operators.LogicalOr, operators.LogicalNot, operators.Conditional:
		for _, a := range call.Args() {
			if err := c.condition(a); err != nil {
				return err
			}
		}
		return nil
	case operators.Equals,
		operators.NotEquals,
		operators.Less,
		operators.LessEquals,
		operators.Greater,
		operators.GreaterEquals:
		value, with := call.Args()[0], call.Args()[1]
		if _, is := literal(value); is {
			value, with = with, value
		}
		l, is := literal(with)
		if !is {
			return c.unlike(e)
		}
		p, err := c.value(value)
		if err == nil {
			p.compared(l)
			p.order = p.order || f != operators.Equals && f != operators.NotEquals
		}
		return err
	case operators.In:
		list := call.Args()[1]
		p, err := c.value(call.Args()[0])
		if err != nil || list.Kind() != celast.ListKind {
			return c.unlike(e)
		}
		for _, item := range list.AsList().Elements() {
			l, is := literal(item)
			if !is {
				return c.unlike(e)
			}
			p.compared(l)
		}
		return nil
	case "startsWith":
		if !call.IsMemberFunction() || len(call.Args()) != 1 {
			return c.unlike(e)
		}
		head, is := literal(call.Args()[0])
		if !is || head.kind != text {
			return c.unlike(e)
		}
		p, err := c.value(call.Target())
		if err == nil {
			p.heads = append(p.heads, head.text)
		}
		return err
	}
	return c.unlike(e)
}

// value collects from a part that is compared: a path, or one with a value that stands in.
func (c *collecting) value(e celast.Expr) (*place, error) {
	if e.Kind() == celast.CallKind && e.AsCall().FunctionName() == "orValue" && e.AsCall().IsMemberFunction() {
		l, is := literal(e.AsCall().Args()[0])
		p, err := c.place(e.AsCall().Target())
		if err != nil || !is {
			return nil, c.unlike(e)
		}
		p.compared(l)
		return p, nil
	}
	return c.place(e)
}

// place finds the place of a path, and of a member of it.
func (c *collecting) place(e celast.Expr, member ...string) (*place, error) {
	path, ok := c.parsed.PathOf(e)
	if !ok {
		return nil, c.unlike(e)
	}
	names, plain := path.Names()
	if names = append(names, member...); !plain || len(names) == 0 || !slices.Contains(roots, path.Root) {
		return nil, c.unlike(e)
	}
	return c.at(path.Root, names), nil
}

// literal reads a value that stands in a condition.
func literal(e celast.Expr) (fixed, bool) {
	if e.Kind() != celast.LiteralKind {
		return fixed{}, false
	}
	switch v := e.AsLiteral().(type) {
	case types.Null:
		return fixed{kind: null}, true
	case types.Bool:
		return fixed{kind: boolean, yes: bool(v)}, true
	case types.String:
		return fixed{kind: text, text: string(v)}, true
	case types.Int:
		return numbered(float64(v), int64(v))
	case types.Uint:
		return numbered(float64(v), int64(v))
	case types.Double:
		return floating(float64(v))
	}
	return fixed{}, false
}
