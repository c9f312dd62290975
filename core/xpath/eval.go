package xpath

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"readyferry/core/format/xml"
)

// Expr is a compiled expression. It is safe for concurrent use.
type Expr struct {
	Source string
	root   expr
}

// Options of an evaluation.
type Options struct {
	// Namespaces are the names of prefixes in the expression. A prefix that is
	// not in it is the one that the document declares where the evaluation begins.
	Namespaces map[string]string
	MaxSteps   int // nodes to look at, 0 for no limit
}

// Value is a result: a bool, a float64, a string, or []*xml.Node in document order.
type Value any

// Eval evaluates at a node. The error says that a prefix is not declared, or
// that the evaluation was stopped because it takes too long.
func (e *Expr) Eval(at *xml.Node, o Options) (v Value, err error) {
	defer func() {
		if r := recover(); r != nil {
			bad, ok := r.(error)
			if !ok || !isOurs(bad) {
				panic(r)
			}
			v, err = nil, bad
		}
	}()
	c := &context{node: at, position: 1, size: 1, run: &running{o: o, start: at}}
	return e.root.eval(c), nil
}

type evalError struct{ problem string }

func (e *evalError) Error() string { return "XPath: " + e.problem }

func isOurs(err error) bool { _, ok := err.(*evalError); return ok }

type running struct {
	o     Options
	start *xml.Node
	steps int
}

type context struct {
	node           *xml.Node
	position, size int
	run            *running
}

func (c *context) count(n int) {
	if c.run.steps += n; c.run.o.MaxSteps > 0 && c.run.steps > c.run.o.MaxSteps {
		panic(&evalError{"the evaluation was stopped because it takes too long"})
	}
}

type kind string

const (
	nodeSetKind kind = "set of nodes"
	boolKind    kind = "boolean"
	numberKind  kind = "number"
	textKind    kind = "text"
)

type expr interface {
	eval(c *context) Value
	kind() kind
}

type text string

func (t text) eval(*context) Value { return string(t) }
func (text) kind() kind            { return textKind }

type num float64

func (n num) eval(*context) Value { return float64(n) }
func (num) kind() kind            { return numberKind }

type negative struct {
	of  expr
	odd bool
}

func (n negative) eval(c *context) Value {
	f := toNumber(n.of.eval(c))
	if n.odd {
		return -f
	}
	return f
}
func (negative) kind() kind { return numberKind }

type union struct{ a, b expr }

func (u union) eval(c *context) Value {
	return ordered(append(slices.Clone(set(u.a.eval(c))), set(u.b.eval(c))...))
}
func (union) kind() kind { return nodeSetKind }

func set(v Value) []*xml.Node { n, _ := v.([]*xml.Node); return n }

// ordered sorts into document order and drops what stands twice.
func ordered(nodes []*xml.Node) []*xml.Node {
	slices.SortStableFunc(nodes, func(a, b *xml.Node) int { return a.Order - b.Order })
	return slices.Compact(nodes)
}

type binary struct {
	op          string
	left, right expr
}

func (b binary) kind() kind {
	if strings.Contains("+ - * div mod", b.op) {
		return numberKind
	}
	return boolKind
}

func (b binary) eval(c *context) Value {
	switch b.op {
	case "or":
		return toBool(b.left.eval(c)) || toBool(b.right.eval(c))
	case "and":
		return toBool(b.left.eval(c)) && toBool(b.right.eval(c))
	}
	l, r := b.left.eval(c), b.right.eval(c)
	switch b.op {
	case "+":
		return toNumber(l) + toNumber(r)
	case "-":
		return toNumber(l) - toNumber(r)
	case "*":
		return toNumber(l) * toNumber(r)
	case "div":
		return toNumber(l) / toNumber(r)
	case "mod":
		return math.Mod(toNumber(l), toNumber(r))
	}
	return compare(c, b.op, l, r)
}

// compare follows section 3.4: with sets of nodes there must be nodes of which
// it holds.
func compare(c *context, op string, l, r Value) bool {
	ln, lset := l.([]*xml.Node)
	rn, rset := r.([]*xml.Node)
	switch {
	case lset && rset:
		c.count(len(ln) * len(rn) / 8)
		for _, a := range ln {
			for _, b := range rn {
				if compareTwo(op, StringValue(a), StringValue(b)) {
					return true
				}
			}
		}
		return false
	case lset:
		if _, is := r.(bool); is {
			return compareTwo(op, len(ln) > 0, r)
		}
		return slices.ContainsFunc(ln, func(n *xml.Node) bool { return compareTwo(op, StringValue(n), r) })
	case rset:
		if _, is := l.(bool); is {
			return compareTwo(op, l, len(rn) > 0)
		}
		return slices.ContainsFunc(rn, func(n *xml.Node) bool { return compareTwo(op, l, StringValue(n)) })
	}
	return compareTwo(op, l, r)
}

func compareTwo(op string, l, r Value) bool {
	if op == "=" || op == "!=" {
		var equal bool
		_, lb := l.(bool)
		_, rb := r.(bool)
		_, ln := l.(float64)
		_, rn := r.(float64)
		switch {
		case lb || rb:
			equal = toBool(l) == toBool(r)
		case ln || rn:
			equal = toNumber(l) == toNumber(r)
		default:
			equal = toText(l) == toText(r)
		}
		return equal == (op == "=")
	}
	a, b := toNumber(l), toNumber(r)
	switch op {
	case "<":
		return a < b
	case "<=":
		return a <= b
	case ">":
		return a > b
	}
	return a >= b
}

func toBool(v Value) bool {
	switch x := v.(type) {
	case bool:
		return x
	case float64:
		return x != 0 && !math.IsNaN(x)
	case string:
		return x != ""
	}
	return len(set(v)) > 0
}

func toText(v Value) string {
	switch x := v.(type) {
	case bool:
		return strconv.FormatBool(x)
	case float64:
		return FormatNumber(x)
	case string:
		return x
	}
	if n := set(v); len(n) > 0 {
		return StringValue(n[0])
	}
	return ""
}

// toNumber reads a number as section 4.4 says: no exponent, no plus.
func toNumber(v Value) float64 {
	switch x := v.(type) {
	case bool:
		if x {
			return 1
		}
		return 0
	case float64:
		return x
	}
	s := strings.Trim(toText(v), " \t\r\n")
	digits := strings.TrimPrefix(s, "-")
	if strings.Trim(digits, "0123456789.") != "" || strings.Count(digits, ".") > 1 || strings.Trim(digits, ".") == "" {
		return math.NaN()
	}
	f, _ := strconv.ParseFloat(s, 64)
	return f
}

// FormatNumber writes a number as section 4.2 says: never with an exponent.
func FormatNumber(f float64) string {
	switch {
	case math.IsNaN(f):
		return "NaN"
	case math.IsInf(f, 1):
		return "Infinity"
	case math.IsInf(f, -1):
		return "-Infinity"
	case f == 0:
		return "0"
	}
	return strconv.FormatFloat(f, 'f', -1, 64)
}

// StringValue is a node's string-value (section 5).
func StringValue(n *xml.Node) string {
	switch n.Type {
	case xml.Document, xml.Element:
		if len(n.Children) == 1 && n.Children[0].Type == xml.Text {
			return n.Children[0].Data
		}
		var b strings.Builder
		var walk func(*xml.Node)
		walk = func(n *xml.Node) {
			for _, c := range n.Children {
				switch c.Type {
				case xml.Text:
					b.WriteString(c.Data)
				case xml.Element:
					walk(c)
				}
			}
		}
		walk(n)
		return b.String()
	}
	return n.Data
}

type filter struct {
	of         expr
	predicates []expr
}

func (filter) kind() kind { return nodeSetKind }
func (f filter) eval(c *context) Value {
	nodes := set(f.of.eval(c))
	for _, p := range f.predicates {
		nodes = keep(c, nodes, p)
	}
	return nodes
}

// keep applies a predicate: a number is a position, anything else a condition.
func keep(c *context, nodes []*xml.Node, p expr) []*xml.Node {
	var out []*xml.Node
	c.count(len(nodes))
	for i, n := range nodes {
		v := p.eval(&context{n, i + 1, len(nodes), c.run})
		if f, is := v.(float64); is && f == float64(i+1) || !is && toBool(v) {
			out = append(out, n)
		}
	}
	return out
}

type locationPath struct {
	absolute bool
	from     expr
	steps    []step
}

func (locationPath) kind() kind { return nodeSetKind }
func (l locationPath) eval(c *context) Value {
	current := []*xml.Node{c.node}
	switch {
	case l.from != nil:
		current = set(l.from.eval(c))
	case l.absolute:
		current = []*xml.Node{root(c.node)}
	}
	for _, s := range l.steps {
		var next []*xml.Node
		for _, n := range current {
			next = append(next, s.from(c, n)...)
		}
		current = next
		if len(current) > 1 {
			current = ordered(current)
		}
	}
	return current
}

func root(n *xml.Node) *xml.Node {
	for n.Parent != nil {
		n = n.Parent
	}
	return n
}

type step struct {
	axis       string
	test       test
	predicates []expr
}

// from gives the nodes that a step reaches from one node, in the axis's order
// while predicates count positions.
func (s step) from(c *context, n *xml.Node) []*xml.Node {
	principal := xml.Element
	switch s.axis {
	case "attribute":
		principal = xml.Attribute
	case "namespace":
		principal = xml.Namespace
	}
	var out []*xml.Node
	looked := 0
	for _, x := range axes[s.axis](n) {
		looked++
		if s.test.fits(c, x, principal) {
			out = append(out, x)
		}
	}
	c.count(looked + 1)
	for _, p := range s.predicates {
		out = keep(c, out, p)
	}
	return out
}

type test struct{ kind, prefix, local string }

func (t test) fits(c *context, n *xml.Node, principal xml.Type) bool {
	switch t.kind {
	case "node":
		return true
	case "text":
		return n.Type == xml.Text
	case "comment":
		return n.Type == xml.Comment
	case "processing-instruction":
		return n.Type == xml.Instruction && (t.local == "" || t.local == n.Local)
	}
	if n.Type != principal {
		return false
	}
	if t.prefix == "" {
		return t.local == "*" || t.local == n.Local && n.Space == ""
	}
	uri, ok := c.run.o.Namespaces[t.prefix]
	if !ok {
		uri, ok = declared(c.run.start, t.prefix)
	}
	if !ok {
		panic(
			&evalError{
				fmt.Sprintf("the prefix %s is declared neither for the expression nor by the document", t.prefix),
			},
		)
	}
	return n.Space == uri && (t.local == "*" || t.local == n.Local)
}

// declared finds what a document means by a prefix: at the node, else at the
// document's element.
func declared(n *xml.Node, prefix string) (string, bool) {
	if uri, ok := n.Lookup(prefix); ok {
		return uri, true
	}
	for _, c := range root(n).Children {
		if c.Type == xml.Element {
			return c.Lookup(prefix)
		}
	}
	return "", false
}
