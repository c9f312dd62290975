package expr

import (
	"fmt"
	"strings"

	"cel.dev/cel-go/cel"
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"
	"cel.dev/cel-go/parser"

	"readyferry/core/message"
)

// again plans an expression so that every value in it can be looked at afterwards. It
// is made when an expression has failed, to say over which value.
type again struct {
	env *Env
	ast *celast.AST
}

// a culprit is the innermost part of an expression that failed, with what it was given.
type culprit struct {
	function string
	given    []given
}

// given is a value that a part of an expression was given, and how that is written.
type given struct {
	text    string
	value   ref.Val
	literal bool
}

// culprit evaluates once more and finds the part that failed. nil: it cannot be told,
// because a loop has gone on behind it, say.
func (p *Program) culprit(s *Scope) *culprit {
	if p.again == nil {
		return nil
	}
	options := append(p.again.env.bounded(), cel.EvalOptions(cel.OptTrackState))
	program, err := p.again.env.cel.PlanProgram(p.again.ast, options...)
	if err != nil {
		return nil
	}
	act := &activation{s: s, tables: p.tables, memory: (*message.Memory)(nil).Within("an expression", EvalMemory)}
	_, details, err := program.Eval(act)
	if err == nil || details == nil || details.State() == nil {
		return nil
	}
	return p.again.failed(p.again.ast.Expr(), details.State())
}

// failed looks for the innermost failure below an expression.
func (a *again) failed(e celast.Expr, state interpreter.EvalState) *culprit {
	if v, known := state.Value(e.ID()); known && !types.IsError(v) && e.Kind() != celast.ComprehensionKind {
		return nil
	}
	inside := parts(e)
	for _, part := range inside {
		if found := a.failed(part, state); found != nil {
			return found
		}
	}
	if v, known := state.Value(e.ID()); !known || !types.IsError(v) || e.Kind() != celast.CallKind {
		return nil
	}
	c := &culprit{function: e.AsCall().FunctionName()}
	for _, part := range inside {
		v, known := state.Value(part.ID())
		if known && types.IsError(v) {
			return nil
		}
		if part.Kind() == celast.LiteralKind {
			v, known = part.AsLiteral(), true
		}
		if known {
			c.given = append(c.given, given{a.written(part), v, part.Kind() == celast.LiteralKind})
		}
	}
	return c
}

// written gives a part of the expression as a person would write it.
func (a *again) written(e celast.Expr) string {
	if p, _, ok := pathOf(e); ok {
		return p.String()
	}
	text, err := parser.Unparse(e, a.ast.SourceInfo())
	if err != nil || len(text) > 80 {
		return "a value in it"
	}
	return text
}

// parts lists what an expression is made of.
func parts(e celast.Expr) (out []celast.Expr) {
	switch e.Kind() {
	case celast.SelectKind:
		return []celast.Expr{e.AsSelect().Operand()}
	case celast.CallKind:
		if c := e.AsCall(); c.IsMemberFunction() {
			return append([]celast.Expr{c.Target()}, c.Args()...)
		}
		return e.AsCall().Args()
	case celast.ListKind:
		return e.AsList().Elements()
	case celast.MapKind:
		for _, entry := range e.AsMap().Entries() {
			out = append(out, entry.AsMapEntry().Key(), entry.AsMapEntry().Value())
		}
	case celast.ComprehensionKind:
		c := e.AsComprehension()
		return []celast.Expr{c.IterRange(), c.AccuInit(), c.LoopCondition(), c.LoopStep(), c.Result()}
	}
	return out
}

// kinds says of which kinds the values are that do not fit together.
func (c *culprit) kinds() string {
	if c.function == operators.Conditional {
		return fmt.Sprintf("%s is a %s, and a condition is true or false", c.given[0].text, kindWord(c.given[0].value))
	}
	var out []string
	for _, g := range c.given {
		out = append(out, fmt.Sprintf("%s is a %s", g.text, kindWord(g.value)))
	}
	return strings.Join(out, ", ")
}

// kindWord names the kind of a value as documents have it.
func kindWord(v ref.Val) string {
	if n, ok, err := toNode(v); err == nil && ok {
		return n.Kind.String()
	}
	return typeWord(types.NewOpaqueType(v.Type().TypeName()))
}
