package forms

import (
	"errors"
	"fmt"
	"strings"

	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
)

// Condition is a condition as people put it together: groups of comparisons. It is drawn from
// CEL and written as CEL; nothing else of it is stored.
type Condition struct {
	// Join is "and" or "or" of a group, "" of a comparison.
	Join  string       `json:"join,omitempty"`
	Not   bool         `json:"not,omitempty"`
	Items []*Condition `json:"items,omitempty"`

	Left    string   `json:"left,omitempty"`    // an expression
	Compare string   `json:"compare,omitempty"` // one of Comparisons
	Right   string   `json:"right,omitempty"`   // an expression, or a constant as CEL writes it
	Values  []string `json:"values,omitempty"`  // of "is one of"
}

// comparison is one of those that a condition is put together from.
type comparison struct {
	Name    string
	pattern string // x and y stand for its sides
}

var comparisons = []comparison{
	{"is", "x == y"}, {"is not", "x != y"}, {"is more than", "x > y"}, {"is at least", "x >= y"},
	{"is less than", "x < y"}, {"is at most", "x <= y"}, {"begins with", "x.startsWith(y)"}, {"ends with",
		"x.endsWith(y)"},
	{"contains", "x.contains(y)"}, {"fits the pattern", "x.matches(y)"}, {"is one of", "x in y"},
	{"is there", "has(x)"}, {"is yes", "x"},
}

// Comparisons are the names of all.
func Comparisons() []string {
	out := make([]string, len(comparisons))
	for i, c := range comparisons {
		out[i] = c.Name
	}
	return out
}

// ReadCondition draws a condition from CEL; nil for one that is no group of comparisons.
func ReadCondition(source string) *Condition {
	p, err := load().Parse(source)
	if err != nil {
		return nil
	}
	r := &reader{of: p}
	return r.condition(p.Root())
}

var operatorOf = map[string]string{operators.Equals: "is", operators.NotEquals: "is not",
	operators.Greater:       "is more than",
	operators.GreaterEquals: "is at least", operators.Less: "is less than", operators.LessEquals: "is at most",
	"startsWith": "begins with", "endsWith": "ends with", "contains": "contains", "matches": "fits the pattern",
	operators.In: "is one of"}

func (r *reader) condition(e celast.Expr) *Condition {
	switch e.Kind() {
	case celast.SelectKind:
		if s := e.AsSelect(); s.IsTestOnly() {
			return r.side(&Condition{Compare: "is there"}, r.of.Source(s.Operand())+"."+s.FieldName())
		}
		return r.side(&Condition{Compare: "is yes"}, r.of.Source(e))
	case celast.IdentKind:
		return r.side(&Condition{Compare: "is yes"}, r.of.Source(e))
	case celast.CallKind:
	default:
		return nil
	}
	c := e.AsCall()
	switch f := c.FunctionName(); f {
	case operators.LogicalAnd, operators.LogicalOr:
		return r.group(e, f)
	case operators.LogicalNot:
		inner := r.condition(c.Args()[0])
		if inner == nil || inner.Not {
			return nil
		}
		inner.Not = true
		return inner
	default:
		return r.compares(e, operatorOf[f])
	}
}

// group joins what one operator joins, however it is nested.
func (r *reader) group(e celast.Expr, operator string) *Condition {
	out := &Condition{Join: map[string]string{operators.LogicalAnd: "and", operators.LogicalOr: "or"}[operator]}
	var add func(e celast.Expr) bool
	add = func(e celast.Expr) bool {
		if e.Kind() == celast.CallKind && e.AsCall().FunctionName() == operator {
			return add(e.AsCall().Args()[0]) && add(e.AsCall().Args()[1])
		}
		one := r.condition(e)
		if one != nil {
			out.Items = append(out.Items, one)
		}
		return one != nil
	}
	if !add(e) {
		return nil
	}
	return out
}

func (r *reader) compares(e celast.Expr, name string) *Condition {
	if name == "" {
		return nil
	}
	c := e.AsCall()
	sides := c.Args()
	if c.IsMemberFunction() {
		sides = append([]celast.Expr{c.Target()}, sides...)
	}
	if len(sides) != 2 || sides[0].Kind() == celast.LiteralKind {
		return nil
	}
	out := &Condition{Compare: name}
	if name == "is one of" {
		if sides[1].Kind() != celast.ListKind {
			return nil
		}
		for _, v := range sides[1].AsList().Elements() {
			if v.Kind() != celast.LiteralKind {
				return nil
			}
			out.Values = append(out.Values, r.of.Source(v))
		}
	} else if out.Right = r.of.Source(sides[1]); out.Right == "" {
		return nil
	}
	return r.side(out, r.of.Source(sides[0]))
}

func (r *reader) side(c *Condition, left string) *Condition {
	if c.Left = left; left == "" {
		return nil
	}
	return c
}

// ErrCondition tells that a condition cannot be written.
var ErrCondition = errors.New("the condition is not complete")

// Write gives a condition as CEL.
func (c *Condition) Write() (string, error) {
	text, err := c.write(0)
	if err != nil {
		return "", err
	}
	if _, err := load().Parse(text); err != nil {
		return "", fmt.Errorf("%w: %w", ErrCondition, err)
	}
	return text, nil
}

// deepest is how many groups may stand in one another.
const deepest = 20

func (c *Condition) write(depth int) (text string, err error) {
	switch {
	case depth > deepest:
		return "", fmt.Errorf("%w: groups stand in one another more than %d deep", ErrCondition, deepest)
	case c.Join != "":
		text, err = c.joined(depth)
	default:
		text, err = c.compared()
	}
	if err == nil && c.Not {
		text = "!(" + text + ")"
	}
	return text, err
}

func (c *Condition) joined(depth int) (string, error) {
	operator := map[string]string{"and": " && ", "or": " || "}[c.Join]
	if operator == "" || len(c.Items) == 0 {
		return "", fmt.Errorf("%w: a group is joined by and or or, and has something in it", ErrCondition)
	}
	var parts []string
	for _, one := range c.Items {
		part, err := one.write(depth + 1)
		if err != nil {
			return "", err
		}
		if one.Join != "" && !one.Not && len(c.Items) > 1 {
			part = "(" + part + ")"
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, operator), nil
}

func (c *Condition) compared() (string, error) {
	if strings.TrimSpace(c.Left) == "" {
		return "", fmt.Errorf("%w: a value to compare is missing", ErrCondition)
	}
	for _, one := range comparisons {
		if one.Name != c.Compare {
			continue
		}
		right := c.Right
		if one.Name == "is one of" {
			right = "[" + strings.Join(c.Values, ", ") + "]"
		}
		if strings.Contains(one.pattern, "y") && strings.TrimSpace(right) == "" {
			return "", fmt.Errorf("%w: what %s is compared with is missing", ErrCondition, c.Left)
		}
		return fill(one.pattern, map[string]string{"x": inner(c.Left), "y": inner(right)}), nil
	}
	return "", fmt.Errorf("%w: %q is no comparison; there are %s", ErrCondition, c.Compare, strings.Join(Comparisons(),
		", "))
}
