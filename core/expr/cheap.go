package expr

import (
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
)

// bounded are the operators and functions whose work is at most in proportion
// to the values that they are given.
var bounded = map[string]bool{
	operators.Equals: true, operators.NotEquals: true, operators.Less: true, operators.LessEquals: true,
	operators.Greater: true, operators.GreaterEquals: true,
	operators.LogicalAnd: true, operators.LogicalOr: true, operators.LogicalNot: true, operators.Conditional: true,
	operators.In:  true,
	operators.Add: true, operators.Subtract: true, operators.Multiply: true, operators.Divide: true,
	operators.Modulo: true, operators.Negate: true,
	operators.Index: true, operators.OptIndex: true, operators.OptSelect: true,
	"orValue": true, "hasValue": true, "value": true, "size": true, "startsWith": true, "endsWith": true, "contains": true,
	"string": true, "int": true, "uint": true, "double": true, "bool": true, "timestamp": true, "duration": true,
	lookupName: true,
}

// fewAdditions is how many values a cheap expression adds at most: texts are copied
// with each.
const fewAdditions = 8

// cheap tells that an expression needs no tracking of its cost, which takes
// longer than most conditions do: it has no loop, and each of its operators is
// bounded, so that it costs at most its own length times the size of the message.
func cheap(e celast.Expr) bool {
	additions := 0
	return isCheap(e, &additions) && additions <= fewAdditions
}

func isCheap(e celast.Expr, additions *int) bool {
	switch e.Kind() {
	case celast.LiteralKind, celast.IdentKind:
		return true
	case celast.SelectKind:
		return isCheap(e.AsSelect().Operand(), additions)
	case celast.ListKind:
		return all(e.AsList().Elements(), additions)
	case celast.CallKind:
		c := e.AsCall()
		if c.FunctionName() == operators.Add {
			*additions++
		}
		return bounded[c.FunctionName()] && (!c.IsMemberFunction() || isCheap(c.Target(), additions)) &&
			all(c.Args(), additions)
	}
	return false
}

func all(list []celast.Expr, additions *int) bool {
	for _, e := range list {
		if !isCheap(e, additions) {
			return false
		}
	}
	return true
}

// unbounded are functions of the library whose work has no bound, so that each call
// would be stopped, and what stands in their place.
var unbounded = map[string]string{
	"json.encode": "json(x) writes a value as JSON",
	"json.parse":  "a text that holds JSON is a document of its own: deliver it to a flow of format json",
	"yaml.encode": "json(x) writes a value as JSON, which is YAML, too",
	"yaml.parse":  "a message is read as JSON, XML, CSV, HL7 or a form",
}

// checkBounds refuses calls of functions that would always be stopped.
func checkBounds(e *celast.AST) (bad *CompileError) {
	celast.PostOrderVisit(e.Expr(), celast.NewExprVisitor(func(x celast.Expr) {
		if bad != nil || x.Kind() != celast.CallKind {
			return
		}
		name := x.AsCall().FunctionName()
		if repair, is := unbounded[name]; is {
			at := e.SourceInfo().GetStartLocation(x.ID())
			bad = &CompileError{max(1, at.Line()), at.Column() + 1, name + " cannot be called here, as its work has no bound", repair}
		}
	}))
	return bad
}
