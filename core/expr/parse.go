package expr

import (
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/parser"
)

// Parsed is an expression as it is written, for those who look at how it is made.
type Parsed struct{ ast *celast.AST }

// Parse reads an expression without checking it. The error is a *CompileError.
func (env *Env) Parse(source string) (*Parsed, error) {
	parsed, issues := env.cel.Parse(source)
	if issues.Err() != nil {
		return nil, env.compileError(issues)
	}
	return &Parsed{parsed.NativeRep()}, nil
}

// Root gives the whole expression.
func (p *Parsed) Root() celast.Expr { return p.ast.Expr() }

// Source writes a part of it; "" for one that cannot be written.
func (p *Parsed) Source(e celast.Expr) string {
	text, err := parser.Unparse(e, p.ast.SourceInfo())
	if err != nil {
		return ""
	}
	return text
}

// PathOf gives the path that a part selects, where it does nothing else.
func (p *Parsed) PathOf(e celast.Expr) (Path, bool) {
	path, _, ok := pathOf(e)
	return path, ok
}
