package expr

import (
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
)

// Differs are the ways in which an expression may come to something else than under
// the rules before (see flow.Rules).
type Differs struct {
	Optional  string // optional access below another member, which is an error where that has no members; "" for none
	Condition bool   // a condition of ? : that may be neither true nor false
	MessageID bool   // it reads message.id
}

// differs looks for them in a checked expression.
func differs(e *celast.AST) (d Differs) {
	celast.PostOrderVisit(e.Expr(), celast.NewExprVisitor(func(x celast.Expr) {
		switch x.Kind() {
		case celast.SelectKind:
			s := x.AsSelect()
			if of := s.Operand(); s.FieldName() == "id" && of.Kind() == celast.IdentKind && of.AsIdent() == "message" {
				d.MessageID = true
			}
		case celast.CallKind:
			c := x.AsCall()
			if c.FunctionName() == operators.Conditional && e.GetType(c.Args()[0].ID()) == types.DynType {
				d.Condition = true
			}
		}
		if p, optional, ok := pathOf(x); ok && optional && d.Optional == "" {
			for i, segment := range p.segments {
				if i > 0 && segment.optional && p.Root != "headers" {
					d.Optional = p.String()
				}
			}
		}
	}))
	return d
}
