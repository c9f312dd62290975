package xpath

import (
	"math"
	"slices"
	"strings"

	"readyferry/core/format/xml"
)

type definition struct {
	least, most int // arguments; most -1: any number
	nodes       bool
	result      kind
	run         func(c *context, args []Value) Value
}

type call struct {
	name string
	f    definition
	args []expr
}

func (c call) kind() kind { return c.f.result }
func (c call) eval(ctx *context) Value {
	args := make([]Value, len(c.args))
	for i, a := range c.args {
		args[i] = a.eval(ctx)
	}
	return c.f.run(ctx, args)
}

// functions are the core function library, section 4.
var functions = library()

// own gives the first argument, or the context node when there is none.
func own(c *context, args []Value) Value {
	if len(args) == 0 {
		return []*xml.Node{c.node}
	}
	return args[0]
}

func first(c *context, args []Value) *xml.Node {
	if n := set(own(c, args)); len(n) > 0 {
		return n[0]
	}
	return nil
}

func library() map[string]definition {
	texts := func(least, most int, f func(a []string) Value, result kind) definition {
		return definition{least, most, false, result, func(_ *context, args []Value) Value {
			a := make([]string, len(args))
			for i := range args {
				a[i] = toText(args[i])
			}
			return f(a)
		}}
	}
	numeric := func(f func(float64) float64) definition {
		return definition{1, 1, false, numberKind, func(_ *context, a []Value) Value { return f(toNumber(a[0])) }}
	}
	return map[string]definition{
		"last":     {0, 0, false, numberKind, func(c *context, _ []Value) Value { return float64(c.size) }},
		"position": {0, 0, false, numberKind, func(c *context, _ []Value) Value { return float64(c.position) }},
		"count":    {1, 1, true, numberKind, func(_ *context, a []Value) Value { return float64(len(set(a[0]))) }},
		"id":       {1, 1, false, nodeSetKind, id},
		"local-name": {0, 1, true, textKind, func(c *context, a []Value) Value {
			if n := first(c, a); n != nil {
				return n.Local
			}
			return ""
		}},
		"namespace-uri": {0, 1, true, textKind, func(c *context, a []Value) Value {
			if n := first(c, a); n != nil && (n.Type == xml.Element || n.Type == xml.Attribute) {
				return n.Space
			}
			return ""
		}},
		"name": {0, 1, true, textKind, func(c *context, a []Value) Value {
			if n := first(c, a); n != nil {
				return n.Name()
			}
			return ""
		}},

		"string":      {0, 1, false, textKind, func(c *context, a []Value) Value { return toText(own(c, a)) }},
		"concat":      texts(2, -1, func(a []string) Value { return strings.Join(a, "") }, textKind),
		"starts-with": texts(2, 2, func(a []string) Value { return strings.HasPrefix(a[0], a[1]) }, boolKind),
		"contains":    texts(2, 2, func(a []string) Value { return strings.Contains(a[0], a[1]) }, boolKind),
		"substring-before": texts(
			2,
			2,
			func(a []string) Value { s, _, ok := strings.Cut(a[0], a[1]); return either(ok, s) },
			textKind,
		),
		"substring-after": texts(
			2,
			2,
			func(a []string) Value { _, s, ok := strings.Cut(a[0], a[1]); return either(ok, s) },
			textKind,
		),
		"substring": {2, 3, false, textKind, func(_ *context, a []Value) Value { return substring(a) }},
		"string-length": {0, 1, false, numberKind, func(c *context, a []Value) Value {
			return float64(len([]rune(toText(own(c, a)))))
		}},
		"normalize-space": {0, 1, false, textKind, func(c *context, a []Value) Value {
			return strings.Join(
				strings.FieldsFunc(toText(own(c, a)), func(r rune) bool { return strings.ContainsRune(" \t\r\n", r) }),
				" ",
			)
		}},
		"translate": texts(3, 3, translate, textKind),

		"boolean": {1, 1, false, boolKind, func(_ *context, a []Value) Value { return toBool(a[0]) }},
		"not":     {1, 1, false, boolKind, func(_ *context, a []Value) Value { return !toBool(a[0]) }},
		"true":    {0, 0, false, boolKind, func(*context, []Value) Value { return true }},
		"false":   {0, 0, false, boolKind, func(*context, []Value) Value { return false }},
		"lang":    {1, 1, false, boolKind, lang},

		"number": {0, 1, false, numberKind, func(c *context, a []Value) Value { return toNumber(own(c, a)) }},
		"sum": {1, 1, true, numberKind, func(_ *context, a []Value) Value {
			total := 0.0
			for _, n := range set(a[0]) {
				total += toNumber(StringValue(n))
			}
			return total
		}},
		"floor":   numeric(math.Floor),
		"ceiling": numeric(math.Ceil),
		"round":   numeric(round),
	}
}

// round goes to the nearest whole number, and of two equally near ones to the
// larger (section 4.4).
func round(f float64) float64 {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return f
	}
	if f < 0 && f >= -0.5 {
		return math.Copysign(0, -1)
	}
	return math.Floor(f + 0.5)
}

func either(ok bool, s string) string {
	if ok {
		return s
	}
	return ""
}

// substring counts characters from 1 and rounds (section 4.2).
func substring(a []Value) string {
	from := round(toNumber(a[1]))
	to := math.Inf(1)
	if len(a) == 3 {
		to = from + round(toNumber(a[2]))
	}
	var b strings.Builder
	for i, r := range []rune(toText(a[0])) {
		if p := float64(i + 1); p >= from && p < to {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func translate(a []string) Value {
	from, to := []rune(a[1]), []rune(a[2])
	return strings.Map(func(r rune) rune {
		i := slices.Index(from, r)
		switch {
		case i < 0:
			return r
		case i < len(to):
			return to[i]
		}
		return -1
	}, a[0])
}

// id finds elements by xml:id; without a document type no other attribute is one.
func id(c *context, a []Value) Value {
	var wanted []string
	if n, is := a[0].([]*xml.Node); is {
		for _, x := range n {
			wanted = append(wanted, strings.Fields(StringValue(x))...)
		}
	} else {
		wanted = strings.Fields(toText(a[0]))
	}
	var out []*xml.Node
	for _, n := range descendants(nil, root(c.node)) {
		for _, at := range n.Attrs {
			if at.Name() == "xml:id" && slices.Contains(wanted, at.Data) {
				out = append(out, n)
			}
		}
	}
	return out
}

// lang compares with the nearest xml:lang (section 4.3).
func lang(c *context, a []Value) Value {
	wanted := strings.ToLower(toText(a[0]))
	for n := c.node; n != nil; n = n.Parent {
		for _, at := range n.Attrs {
			if at.Name() == "xml:lang" {
				have := strings.ToLower(at.Data)
				return have == wanted || strings.HasPrefix(have, wanted+"-")
			}
		}
	}
	return false
}
