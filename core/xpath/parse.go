// Package xpath evaluates XPath 1.0 (W3C recommendation of 16 November 1999)
// over the nodes of core/format/xml.
//
// The general-purpose library for Go departs from the recommendation in corners
// that cannot be wrapped (the namespace axis, lang(), arguments that are no
// node-sets, prefixes of attributes), so the language is implemented here in
// full: all axes, the core function library, its number and comparison rules.
// Variables are not offered.
package xpath

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// SyntaxError says where an expression is wrong.
type SyntaxError struct {
	Offset  int // bytes from 0
	Problem string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("XPath, position %d: %s", e.Offset+1, e.Problem)
}

type tokenKind int

const (
	end tokenKind = iota
	symbol
	operator // and or mod div * when it multiplies
	name     // NCName, QName, prefix:*, *
	axisName
	nodeType
	function
	literal
	number
	variable
)

type token struct {
	kind tokenKind
	text string
	at   int
}

// scan cuts an expression into tokens and tells names from operators and
// functions, as section 3.7 says.
func scan(s string) ([]token, error) {
	var out []token
	for i := 0; i < len(s); {
		c := s[i]
		switch {
		case strings.IndexByte(" \t\r\n", c) >= 0:
			i++
			continue
		case c == '"' || c == '\'':
			n := strings.IndexByte(s[i+1:], c)
			if n < 0 {
				return nil, &SyntaxError{i, "the text that begins here is not closed"}
			}
			out = append(out, token{literal, s[i+1 : i+1+n], i})
			i += n + 2
		case c >= '0' && c <= '9' || c == '.' && i+1 < len(s) && s[i+1] >= '0' && s[i+1] <= '9':
			n := i
			for n < len(s) && s[n] >= '0' && s[n] <= '9' {
				n++
			}
			if n < len(s) && s[n] == '.' {
				for n++; n < len(s) && s[n] >= '0' && s[n] <= '9'; {
					n++
				}
			}
			out = append(out, token{number, s[i:n], i})
			i = n
		case strings.HasPrefix(s[i:], "//"),
			strings.HasPrefix(s[i:], "::"),
			strings.HasPrefix(s[i:], ".."),
			strings.HasPrefix(s[i:], "!="),
			strings.HasPrefix(s[i:], "<="),
			strings.HasPrefix(s[i:], ">="):
			out = append(out, token{symbol, s[i : i+2], i})
			i += 2
		case c == '*':
			kind := name
			if operand(out) {
				kind = operator
			}
			out = append(out, token{kind, "*", i})
			i++
		case strings.IndexByte("()[].@,/|+-=<>", c) >= 0:
			out = append(out, token{symbol, string(c), i})
			i++
		case c == '$':
			return nil, &SyntaxError{i, "variables are not offered"}
		default:
			t, size, err := scanName(s, i, operand(out))
			if err != nil {
				return nil, err
			}
			out = append(out, t)
			i += size
		}
	}
	return append(out, token{end, "", len(s)}), nil
}

// operand tells whether what stands before is a value, so that a name here
// must be an operator.
func operand(before []token) bool {
	if len(before) == 0 {
		return false
	}
	t := before[len(before)-1]
	switch t.kind {
	case operator, axisName, function:
		return false
	case symbol:
		return t.text == ")" || t.text == "]" || t.text == "." || t.text == ".."
	}
	return true
}

func scanName(s string, at int, operand bool) (token, int, error) {
	n := ncName(s[at:])
	if n == 0 {
		r, _ := utf8.DecodeRuneInString(s[at:])
		return token{}, 0, &SyntaxError{at, fmt.Sprintf("%q has no meaning here", r)}
	}
	text := s[at : at+n]
	if operand {
		switch text {
		case "and", "or", "mod", "div":
			return token{operator, text, at}, n, nil
		}
		return token{}, 0, &SyntaxError{at, fmt.Sprintf("an operator is expected, not %s", text)}
	}
	rest := s[at+n:]
	if strings.HasPrefix(rest, ":*") {
		return token{name, text + ":*", at}, n + 2, nil
	}
	if strings.HasPrefix(rest, ":") && !strings.HasPrefix(rest, "::") {
		m := ncName(rest[1:])
		if m == 0 {
			return token{}, 0, &SyntaxError{at + n, "a name is expected behind the colon"}
		}
		text += ":" + rest[1:1+m]
		n += 1 + m
	}
	after := strings.TrimLeft(s[at+n:], " \t\r\n")
	switch {
	case strings.HasPrefix(after, "::"):
		return token{axisName, text, at}, n, nil
	case strings.HasPrefix(after, "("):
		switch text {
		case "node", "text", "comment", "processing-instruction":
			return token{nodeType, text, at}, n, nil
		}
		return token{function, text, at}, n, nil
	}
	return token{name, text, at}, n, nil
}

func ncName(s string) int {
	for i, r := range s {
		if r == '_' || unicode.IsLetter(r) ||
			i > 0 && (r == '-' || r == '.' || r == 0xB7 || unicode.IsDigit(r) || unicode.Is(unicode.M, r)) {
			continue
		}
		return i
	}
	return len(s)
}

type parser struct {
	tokens []token
	at     int
	depth  int
}

func (p *parser) peek() token { return p.tokens[p.at] }

func (p *parser) take(kind tokenKind, texts ...string) bool {
	t := p.peek()
	if t.kind != kind {
		return false
	}
	for _, x := range texts {
		if t.text == x {
			p.at++
			return true
		}
	}
	return false
}

func (p *parser) fail(problem string) {
	panic(&SyntaxError{p.peek().at, problem})
}

func (p *parser) found() string {
	if t := p.peek(); t.kind != end {
		return strconv.Quote(t.text)
	}
	return "the end"
}

// levels are the binary operators, the weakest first (section 3.7).
var levels = [][]string{{"or"}, {"and"}, {"=", "!="}, {"<=", "<", ">=", ">"}, {"+", "-"}, {"*", "div", "mod"}}

const maxDepth = 200

func (p *parser) expr(level int) expr {
	if p.depth++; p.depth > maxDepth*len(levels) {
		p.fail("the expression is nested too deep")
	}
	defer func() { p.depth-- }()
	if level == len(levels) {
		return p.unary()
	}
	left := p.expr(level + 1)
	for {
		t := p.peek()
		if !p.take(symbol, levels[level]...) && !p.take(operator, levels[level]...) {
			return left
		}
		left = binary{t.text, left, p.expr(level + 1)}
	}
}

func (p *parser) unary() expr {
	minus := 0
	for p.take(symbol, "-") {
		minus++
	}
	e := p.path()
	for p.take(symbol, "|") {
		right := p.path()
		e = union{nodes(e, p), nodes(right, p)}
	}
	if minus == 0 {
		return e
	}
	return negative{e, minus%2 == 1}
}

// nodes refuses what can never be a node-set where one is needed.
func nodes(e expr, p *parser) expr {
	if k := e.kind(); k != nodeSetKind {
		p.fail(fmt.Sprintf("a set of nodes is expected, not a %s", k))
	}
	return e
}

// path reads a location path, or a filter expression with one behind it.
func (p *parser) path() expr {
	t := p.peek()
	primary := t.kind == literal || t.kind == number || t.kind == function || t.kind == symbol && t.text == "("
	if !primary {
		return p.location()
	}
	e := p.primary()
	var predicates []expr
	for p.take(symbol, "[") {
		predicates = append(predicates, p.predicate())
	}
	if predicates != nil {
		e = filter{nodes(e, p), predicates}
	}
	if t := p.peek(); t.kind == symbol && (t.text == "/" || t.text == "//") {
		return locationPath{from: nodes(e, p), steps: p.moreSteps(nil)}
	}
	return e
}

func (p *parser) primary() expr {
	t := p.peek()
	p.at++
	switch t.kind {
	case literal:
		return text(t.text)
	case number:
		f, err := strconv.ParseFloat(t.text, 64)
		if err != nil && f == 0 {
			p.fail("the number cannot be read")
		}
		return num(f)
	case function:
		return p.call(t)
	}
	e := p.expr(0)
	if !p.take(symbol, ")") {
		p.fail("a ) is expected, not " + p.found())
	}
	return e
}

func (p *parser) predicate() expr {
	e := p.expr(0)
	if !p.take(symbol, "]") {
		p.fail("a ] is expected, not " + p.found())
	}
	return e
}

func (p *parser) call(t token) expr {
	f, known := functions[t.text]
	if !known {
		panic(&SyntaxError{t.at, fmt.Sprintf("there is no function %s()", t.text)})
	}
	p.at++ // the bracket, which scan has seen
	c := call{name: t.text, f: f}
	for !p.take(symbol, ")") {
		if len(c.args) > 0 && !p.take(symbol, ",") {
			p.fail("a comma or ) is expected, not " + p.found())
		}
		a := p.expr(0)
		if f.nodes && a.kind() != nodeSetKind {
			p.fail(fmt.Sprintf("%s() takes a set of nodes, not a %s", t.text, a.kind()))
		}
		c.args = append(c.args, a)
	}
	if len(c.args) < f.least || f.most >= 0 && len(c.args) > f.most {
		panic(&SyntaxError{t.at, fmt.Sprintf("%s() does not take %d arguments", t.text, len(c.args))})
	}
	return c
}

func (p *parser) location() expr {
	if p.take(symbol, "/") {
		path := locationPath{absolute: true}
		if t := p.peek(); t.kind == name || t.kind == axisName || t.kind == nodeType ||
			t.kind == symbol && (t.text == "." || t.text == ".." || t.text == "@") {
			path.steps = p.moreSteps([]step{p.step()})
		}
		return path
	}
	if p.peek().kind == symbol && p.peek().text == "//" {
		return locationPath{absolute: true, steps: p.moreSteps(nil)}
	}
	return locationPath{steps: p.moreSteps([]step{p.step()})}
}

// anywhere is what // is short for (section 2.5).
var anywhere = step{axis: "descendant-or-self", test: test{kind: "node"}}

func (p *parser) moreSteps(steps []step) []step {
	for {
		switch {
		case p.take(symbol, "/"):
			steps = append(steps, p.step())
		case p.take(symbol, "//"):
			steps = append(steps, anywhere, p.step())
		default:
			return steps
		}
	}
}

func (p *parser) step() step {
	if p.take(symbol, ".") {
		return step{axis: "self", test: test{kind: "node"}}
	}
	if p.take(symbol, "..") {
		return step{axis: "parent", test: test{kind: "node"}}
	}
	s := step{axis: "child"}
	if p.take(symbol, "@") {
		s.axis = "attribute"
	} else if t := p.peek(); t.kind == axisName {
		if _, known := axes[t.text]; !known {
			p.fail(fmt.Sprintf("there is no axis %s", t.text))
		}
		s.axis = t.text
		p.at += 2 // the name and ::
	}
	t := p.peek()
	p.at++
	switch t.kind {
	case name:
		s.test = nameTest(t.text)
	case nodeType:
		s.test = test{kind: t.text}
		p.at++ // the bracket
		if lit := p.peek(); lit.kind == literal && t.text == "processing-instruction" {
			s.test.local = lit.text
			p.at++
		}
		if !p.take(symbol, ")") {
			p.fail("a ) is expected, not " + p.found())
		}
	default:
		p.at--
		p.fail("a step is expected, such as a name, @name or *, not " + p.found())
	}
	for p.take(symbol, "[") {
		s.predicates = append(s.predicates, p.predicate())
	}
	return s
}

func nameTest(text string) test {
	prefix, local, both := strings.Cut(text, ":")
	if !both {
		prefix, local = "", prefix
	}
	return test{kind: "name", prefix: prefix, local: local}
}

// Compile reads an expression. The error is a *SyntaxError.
func Compile(s string) (e *Expr, err error) {
	tokens, err := scan(s)
	if err != nil {
		return nil, err
	}
	defer func() {
		if r := recover(); r != nil {
			bad, ok := r.(*SyntaxError)
			if !ok {
				panic(r)
			}
			e, err = nil, bad
		}
	}()
	p := &parser{tokens: tokens}
	root := p.expr(0)
	if p.peek().kind != end {
		p.fail("nothing more is expected, but here stands " + p.found())
	}
	return &Expr{Source: s, root: root}, nil
}
