package expr

import (
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"

	"readyferry/core/message"
)

// Watch hears of what an evaluation comes to without failing, and says what becomes of a
// condition over something that is missing. One goroutine uses it at a time.
type Watch struct {
	// Otherwise lets a condition that reads something missing count as false; else that is
	// an error.
	Otherwise bool
	// Mixed asks for comparisons that cannot be true: see Mixed.
	Mixed bool

	missed []Missed
	mixed  []Mixed
}

// Missed is a condition that counted as false because something is missing.
type Missed struct {
	Source string
	Why    error
}

// Mixed is a comparison of a text with an element of XML that has attributes: that is a map,
// and no map equals a text.
type Mixed struct {
	At   string // where the expression stands
	Path string
}

// Take gives what was heard since the last time.
func (w *Watch) Take() ([]Missed, []Mixed) {
	if w == nil {
		return nil, nil
	}
	missed, mixed := w.missed, w.mixed
	w.missed, w.mixed = nil, nil
	return missed, mixed
}

// looks notes comparisons of an expression that cannot be true with the values of a scope.
func (w *Watch) looks(p *Program, s *Scope) {
	if w == nil || !w.Mixed {
		return
	}
	for _, path := range p.compared {
		n, lacking := path.follow(s.root(path.Root))
		if lacking < 0 && n != nil && n.Kind == message.Map {
			w.mixed = append(w.mixed, Mixed{p.At, path.String()})
		}
	}
}

// compared lists the paths that an expression compares with a text.
func compared(e *celast.AST) (out []Path) {
	celast.PostOrderVisit(e.Expr(), celast.NewExprVisitor(func(x celast.Expr) {
		if x.Kind() != celast.CallKind {
			return
		}
		c := x.AsCall()
		if f := c.FunctionName(); f != operators.Equals && f != operators.NotEquals {
			return
		}
		for i, side := range c.Args() {
			other := c.Args()[1-i]
			if p, _, ok := pathOf(side); ok && other.Kind() == celast.LiteralKind &&
				other.AsLiteral().Type().TypeName() == "string" {
				out = append(out, p)
			}
		}
	}))
	return out
}
