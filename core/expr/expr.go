package expr

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"

	"readyferry/core/message"
)

// CompileError says where an expression is wrong. Line and Column count from 1.
type CompileError struct {
	Line, Column int
	Message      string
	Repair       string // what to do next, or ""
}

func (e *CompileError) Error() string {
	s := fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Message)
	if e.Repair != "" {
		s += "; " + e.Repair
	}
	return s
}

// MissingError says that a path leads nowhere.
type MissingError struct {
	Path  string   // the path as written: body.patron.crad
	At    string   // the part of it that exists: body.patron
	Name  string   // the name or index that is not there
	Near  []string // existing names that are close
	Names []string // existing names, when none is close; at most eight
}

func (e *MissingError) Error() string {
	s := fmt.Sprintf("%s is missing: %s has no %s", e.Path, e.At, e.Name)
	switch {
	case len(e.Near) > 0:
		s += "; near it there is " + strings.Join(e.Near, ", ")
	case len(e.Names) > 0:
		s += "; it has " + strings.Join(e.Names, ", ")
	}
	return s
}

// Program is a compiled expression. It is safe for concurrent use.
type Program struct {
	Source  string
	At      string // where it stands in a document, for those who are told of it
	Reads   []Path
	Differs Differs
	Looks   []Look // in tables that are no files of the flow

	compared []Path // with texts

	whole  cel.Program
	builds bool // it may build more than a few values, and has a Memory
	exact  exactNode
	again  *again // to look at it closely; nil where that cannot be
	tables *Tables
	out    *types.Type
}

type compiling struct {
	env    *Env
	ast    *celast.AST
	builds bool // a part was planned that is not cheap
}

// program plans a part of the checked expression by itself.
func (c *compiling) program(e celast.Expr) (cel.Program, error) {
	part := celast.NewCheckedAST(celast.NewAST(e, c.ast.SourceInfo()), c.ast.TypeMap(), c.ast.ReferenceMap())
	if cheap(e) {
		return c.env.cel.PlanProgram(part)
	}
	c.builds = true
	return c.env.cel.PlanProgram(part, c.env.bounded()...)
}

// bounded are the options of a program that is not cheap.
func (env *Env) bounded() []cel.ProgramOption {
	return []cel.ProgramOption{
		cel.CostLimit(costLimit), cel.CustomDecoratorV2(orderMaps), cel.CustomDecoratorV2(env.weighing),
	}
}

// Compile reads and type-checks an expression. The error is a *CompileError.
func (env *Env) Compile(source string) (*Program, error) {
	if strings.TrimSpace(source) == "" {
		return nil, &CompileError{1, 1, "the expression is empty", "write one, such as body.id"}
	}
	checked, issues := env.cel.Compile(source)
	if issues.Err() != nil {
		return nil, env.compileError(issues)
	}
	native := checked.NativeRep()
	env.noteConfig(native)
	looks, bad := env.checkTables(native)
	if bad != nil {
		return nil, bad
	}
	if bad = checkBounds(native); bad != nil && !env.lax {
		return nil, bad
	}
	c := &compiling{env: env, ast: native}
	p := &Program{Source: source, Reads: env.reads(native.Expr()), out: checked.OutputType(), tables: env.tables}
	var err error
	if p.exact, err = c.exact(native.Expr()); err != nil {
		return nil, &CompileError{1, 1, err.Error(), ""}
	}
	if leaf, ok := p.exact.(leafNode); ok {
		p.whole = leaf.program
	} else if p.whole, err = c.program(native.Expr()); err != nil {
		return nil, &CompileError{1, 1, err.Error(), ""}
	}
	p.builds, p.again, p.Differs, p.compared = c.builds, &again{env, native}, differs(native), compared(native)
	p.Looks = looks
	return p, nil
}

// CompileUnchecked reads an expression without checking its types: what does
// not fit then shows when it is evaluated, if at all, as the CEL specification
// lets an evaluator do. It is for trying things out; flows are checked.
func (env *Env) CompileUnchecked(source string) (*Program, error) {
	parsed, issues := env.cel.Parse(source)
	if issues.Err() != nil {
		return nil, env.compileError(issues)
	}
	if _, bad := env.checkTables(parsed.NativeRep()); bad != nil {
		return nil, bad
	}
	p, err := env.cel.Program(parsed, env.bounded()...)
	if err != nil {
		return nil, &CompileError{1, 1, err.Error(), ""}
	}
	return &Program{
		Source: source, whole: p, exact: leafNode{p}, out: types.DynType, tables: env.tables, builds: true,
	}, nil
}

// CompileBool is Compile for conditions: an expression that can never be true
// or false, a number say, is refused.
func (env *Env) CompileBool(source string) (*Program, error) {
	p, err := env.Compile(source)
	if err != nil {
		return nil, err
	}
	if p.out != types.BoolType && p.out != types.DynType {
		return nil, &CompileError{
			1,
			1,
			fmt.Sprintf("a condition must be true or false, but this is a %s", typeWord(p.out)),
			"compare it with something",
		}
	}
	return p, nil
}

func typeWord(t *types.Type) string {
	return strings.NewReplacer("int", "whole number", "double", "number").Replace(t.String())
}

var undeclared = regexp.MustCompile(`undeclared reference to '([^']*)'`)

var unfit = regexp.MustCompile(`found no matching overload for '@?(\w+)'`)

// called gives the own function that an error says is called with the wrong
// values, or with too few or too many.
func called(message string) *Function {
	m := unfit.FindStringSubmatch(message)
	if m == nil {
		m = undeclared.FindStringSubmatch(message)
	}
	if m == nil {
		return nil
	}
	all := Functions()
	if i := slices.IndexFunc(all, func(f Function) bool { return f.Name == m[1] }); i >= 0 {
		return &all[i]
	}
	return nil
}

func (env *Env) compileError(issues *cel.Issues) *CompileError {
	first := issues.Errors()[0]
	e := &CompileError{
		Line:    first.Location.Line(),
		Column:  first.Location.Column() + 1,
		Message: strings.TrimSpace(first.Message),
	}
	if e.Line < 1 {
		e.Line, e.Column = 1, 1
	}
	e.Message = strings.TrimPrefix(e.Message, "Syntax error: ")
	e.Message = strings.Replace(e.Message, " (in container '')", "", 1)
	if f := called(e.Message); f != nil {
		e.Message = f.Name + " is not called in this way"
		e.Repair = "it is " + f.Signature
	} else if m := undeclared.FindStringSubmatch(e.Message); m != nil && isConfig(m[1]) {
		env.noConfig(m[1], e)
	} else if m != nil {
		e.Message = fmt.Sprintf("there is no name or function %q here", m[1])
		candidates := append(rootNames(), env.locals...)
		for _, f := range Functions() {
			candidates = append(candidates, f.Name)
		}
		if near := Nearest(m[1], candidates); len(near) > 0 {
			e.Repair = "did you mean " + strings.Join(near, " or ") + "?"
		} else {
			e.Repair = "the message is in body, headers, params and query; a text stands in quotes"
		}
	} else {
		e.Message = plainSyntax(e.Message)
	}
	return e
}

// Scope is what an expression sees while it is evaluated.
type Scope struct {
	Body, Headers, Params, Query, Vars, Replies *message.Node
	Bodies                                      *message.Node // behind earlier steps, by id

	Locals  map[string]*message.Node // what the names of loops hold
	Message *message.Message         // for message.id and the rest
	Now     time.Time                // what now() gives
	Seed    string                   // what uuid() is derived from: transaction and step
	Memory  *message.Memory          // what the whole work may build; nil: only this evaluation is bounded
	Watch   *Watch                   // nil: what is missing fails, and nobody hears of the rest
	Rows    Rows                     // of tables that are no files of the flow; nil: there are none
}

var empty = message.NewMap()

func orEmpty(n *message.Node) *message.Node {
	if n == nil {
		return empty
	}
	return n
}

func (s *Scope) root(name string) *message.Node {
	switch name {
	case "body":
		if s.Body == nil {
			return message.NewNull()
		}
		return s.Body
	case "headers":
		return orEmpty(s.Headers)
	case "params":
		return orEmpty(s.Params)
	case "query":
		return orEmpty(s.Query)
	case "vars":
		return orEmpty(s.Vars)
	case "replies":
		return orEmpty(s.Replies)
	case bodiesName:
		if s.Locals[name] == nil {
			return orEmpty(s.Bodies)
		}
	}
	return s.Locals[name]
}

// activation gives CEL the names of a scope.
type activation struct {
	s      *Scope
	tables *Tables
	memory *message.Memory
}

// activation makes what one evaluation sees.
func (p *Program) activation(s *Scope) *activation {
	a := &activation{s: s, tables: p.tables}
	if p.builds {
		a.memory = s.Memory.Within("an expression", EvalMemory)
	}
	return a
}

func (a *activation) Parent() interpreter.Activation { return nil }

func (a *activation) ResolveName(name string) (any, bool) {
	switch name {
	case nowName:
		return a.s.Now, true
	case tablesName:
		return tablesValue{a.tables, a.s.Rows}, true
	case seedName:
		return a.s.Seed, true
	case memoryName:
		return a.memory, true
	case "message":
		m := a.s.Message
		if m == nil {
			m = &message.Message{}
		}
		return map[string]any{
			"id": m.ID, "parent": m.Parent, "receivedAt": m.ReceivedAt, "size": int64(m.Size), "format": m.Format,
			"reference": m.Reference,
		}, true
	}
	if twin, is := strings.CutPrefix(name, twinMark); is {
		return exactRoot{a.s.root(twin)}, true
	}
	if n := a.s.root(name); n != nil {
		return n, true
	}
	return nil, false
}

// ErrMissing is what Eval gives for an optional that holds nothing.
var ErrMissing = errors.New("the value is missing")

// Eval evaluates to a node of a document. Absence is ErrMissing or a
// *MissingError; IsMissing tells.
func (p *Program) Eval(s *Scope) (n *message.Node, err error) {
	s.Watch.looks(p, s)
	n, ok, err := p.exact.eval(s, p.activation(s))
	if err != nil {
		return nil, p.explain(err, s)
	}
	if !ok {
		return nil, fmt.Errorf("%s: %w", p.Source, ErrMissing)
	}
	return n, nil
}

// EvalRaw evaluates to CEL's own value, for those who print it.
func (p *Program) EvalRaw(s *Scope) (ref.Val, error) {
	v, _, err := p.whole.Eval(p.activation(s))
	if err != nil {
		return nil, p.explain(err, s)
	}
	return v, nil
}

// EvalBool evaluates a condition. Where the scope's Watch says so, one that reads something
// missing is false.
func (p *Program) EvalBool(s *Scope) (bool, error) {
	s.Watch.looks(p, s)
	holds, err := p.evalBool(s)
	if w := s.Watch; w != nil && w.Otherwise && err != nil && IsMissing(err) {
		w.missed = append(w.missed, Missed{p.Source, err})
		return false, nil
	}
	return holds, err
}

func (p *Program) evalBool(s *Scope) (bool, error) {
	v, _, err := p.whole.Eval(p.activation(s))
	if err != nil {
		return false, p.explain(err, s)
	}
	b, ok := v.(types.Bool)
	if !ok {
		return false, fmt.Errorf(
			"%s: a condition must be true or false, but the value is a %s",
			p.Source,
			v.Type().TypeName(),
		)
	}
	return bool(b), nil
}

// IsMissing tells whether an evaluation failed because a value is not there.
func IsMissing(err error) bool {
	var m *MissingError
	return errors.As(err, &m) || errors.Is(err, ErrMissing)
}

// memberless is the error of an optional access into a value that has no members.
func (s *Scope) memberless(path Path, at int) error {
	holder, _ := Path{Root: path.Root, segments: path.segments[:at]}.follow(s.root(path.Root))
	return fmt.Errorf(
		"%s: the values do not fit together: %s is a %s, which has no members; ask first, as in %s == null",
		path.upTo(at+1), path.upTo(at), holder.Kind, path.upTo(at),
	)
}

func (s *Scope) missing(path Path, at int) error { return path.missing(s.root(path.Root), at) }
