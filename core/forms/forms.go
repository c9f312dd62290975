// Package forms gives people what becomes of a value without typing: a form has a name in
// words and a pattern of CEL, and what was chosen reads back from the expression. Nothing
// else is stored; an expression that no form fits is shown as it is.
//
// A pattern is an expression in which x stands for the value and a, b and so on for texts and
// numbers that a person may change. A form fits an expression when the two are made alike,
// wherever x stands twice by the same value.
package forms

import (
	"strings"
	"sync"

	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"

	"readyferry/core/expr"
)

// Form is something that becomes of a value.
type Form struct {
	ID    string
	Group string // dates, numbers, text, codes, yes or no, lists, bytes
	// Words say what it does, with {a} and {b} for its values.
	Words   string
	Pattern string
	// Values are the usual ones of a, b and so on, as CEL writes them; several sets are
	// several offers.
	Values [][]string

	parsed *pattern
}

// pattern is the expression of a form, taken apart.
type pattern struct {
	source *expr.Parsed
	names  []string // a, b and so on, as far as there are some
}

// Groups are the groups in the order in which people are offered them.
var Groups = []string{"text", "dates", "numbers", "codes", "yes or no", "lists", "bytes"}

// all are the forms. Of two that fit the first counts.
var all = []Form{
	{ID: "trim", Group: "text", Words: "without blanks around it", Pattern: `x.trim()`},
	{ID: "no-blanks", Group: "text", Words: "without any blanks", Pattern: `x.replace(" ", "")`},
	{ID: "upper", Group: "text", Words: "in capitals", Pattern: `x.upperAscii()`},
	{ID: "lower", Group: "text", Words: "in small letters", Pattern: `x.lowerAscii()`},
	{ID: "name", Group: "text", Words: "as a name is written", Pattern: `nameCase(x)`},
	{ID: "case", Group: "text", Words: "as a name for programs, {a}", Pattern: `nameCase(x, a)`,
		Values: [][]string{{`"snake"`}, {`"camel"`}}},
	{ID: "digits", Group: "text", Words: "only its digits", Pattern: `digits(x)`},
	{ID: "first-letters", Group: "text", Words: "only the first {a} letters",
		Pattern: `x.substring(0, math.least(size(x), a))`,
		Values:  [][]string{{"1"}, {"10"}}},
	{ID: "from-letter", Group: "text", Words: "without the first {a} letters",
		Pattern: `x.substring(math.least(size(x), a))`,
		Values:  [][]string{{"1"}}},
	{ID: "part", Group: "text", Words: "part {b} between {a}, counted from 0", Pattern: `x.split(a)[b]`,
		Values: [][]string{{`" "`, "0"}, {`"-"`, "0"}, {`","`, "0"}}},
	{ID: "replace", Group: "text", Words: "with {b} in place of {a}", Pattern: `x.replace(a, b)`,
		Values: [][]string{{`"-"`, `""`}, {`","`, `"."`}}},
	{ID: "before", Group: "text", Words: "with {a} before it", Pattern: `a + x`, Values: [][]string{{`"LC "`}}},
	{ID: "behind", Group: "text", Words: "with {a} behind it", Pattern: `x + a`, Values: [][]string{{`"!"`}}},
	{ID: "pad", Group: "text", Words: "filled up in front to {a} with {b}", Pattern: `padStart(x, a, b)`,
		Values: [][]string{{"8", `"0"`}}},
	{ID: "pad-end", Group: "text", Words: "filled up behind to {a} with {b}", Pattern: `padEnd(x, a, b)`,
		Values: [][]string{{"8", `" "`}}},

	{ID: "hl7-time", Group: "dates", Words: "a time of HL7 as ISO 8601", Pattern: `hl7Time(x)`},
	{ID: "date", Group: "dates", Words: "a date, {a} as {b}", Pattern: `strftime(strptime(x, a), b)`, Values: [][]string{
		{`"%Y%m%d"`, `"%Y-%m-%d"`}, {`"%d/%m/%Y"`, `"%Y-%m-%d"`}, {`"%d.%m.%Y"`, `"%Y-%m-%d"`}, {`"%m/%d/%Y"`, `"%Y-%m-%d"`},
		{`"%Y-%m-%d"`, `"%Y%m%d"`}, {`"%Y-%m-%d"`, `"%d/%m/%Y"`}, {`"%Y%m%d%H%M%S"`, `"%Y-%m-%dT%H:%M:%SZ"`},
	}},
	{ID: "date-zone", Group: "dates", Words: "a date, {a} in {c} as {b}", Pattern: `strftime(strptime(x, a, c), b)`},
	{ID: "iso-as", Group: "dates", Words: "an ISO time as {a}", Pattern: `strftime(isoTime(x), a)`, Values: [][]string{
		{`"%Y-%m-%d"`}, {`"%Y%m%d%H%M%S"`}, {`"%d/%m/%Y %H:%M"`}, {`"%Y%m%d"`},
	}},
	{ID: "iso-as-zone", Group: "dates", Words: "an ISO time as {a} in {b}", Pattern: `strftime(isoTime(x), a, b)`,
		Values: [][]string{{`"%Y-%m-%dT%H:%M:%S%z"`, `"Europe/Dublin"`}}},

	{ID: "number", Group: "numbers", Words: "as a number", Pattern: `decimal(x)`},
	{ID: "round", Group: "numbers", Words: "with {a} digits behind the point", Pattern: `round(decimal(x), a)`,
		Values: [][]string{{"2"}, {"0"}}},
	{ID: "comma", Group: "numbers", Words: "as a number that has a decimal comma",
		Pattern: `decimal(x.replace(",", "."))`},
	{ID: "string", Group: "numbers", Words: "as a text", Pattern: `string(x)`},

	{ID: "table", Group: "codes", Words: "through the table {a}, its column {b}", Pattern: `lookup(a, x)[b]`},
	{ID: "table-default", Group: "codes", Words: "through the table {a}, its column {b}, else {c}",
		Pattern: `lookup(a, x, {b: c})[b]`},
	{ID: "else", Group: "codes", Words: "or else {a}", Pattern: `x.orValue(a)`},
	{ID: "codes", Group: "codes", Words: "{b} for {a}, else {c}", Pattern: `x == a ? b : c`},
	{ID: "codes-map", Group: "codes", Words: "{b} for {a}, {d} for {c}, else {e}", Pattern: `x == a ? b : x == c ? d : e`},

	{ID: "yes", Group: "yes or no", Words: "yes where it is {a}", Pattern: `x == a`, Values: [][]string{{`"Y"`},
		{`"true"`}, {`"1"`}}},
	{ID: "words", Group: "yes or no", Words: "{a} for yes, {b} for no", Pattern: `x ? a : b`, Values: [][]string{
		{`"Y"`, `"N"`}, {`"yes"`, `"no"`}, {`"1"`, `"0"`},
	}},

	{ID: "first", Group: "lists", Words: "the first of them", Pattern: `x[0]`},
	{ID: "last", Group: "lists", Words: "the last of them", Pattern: `x[size(x) - 1]`},
	{ID: "count", Group: "lists", Words: "how many they are", Pattern: `size(x)`},
	{ID: "join", Group: "lists", Words: "all of them, with {a} between", Pattern: `x.join(a)`,
		Values: [][]string{{`", "`}, {`" "`}}},

	{ID: "to-base64", Group: "bytes", Words: "its bytes as base64", Pattern: `base64.encode(bytes(x))`},
	{ID: "from-base64-text", Group: "bytes", Words: "the text in base64", Pattern: `string(base64.decode(x))`},
	{ID: "from-base64", Group: "bytes", Words: "the bytes in base64", Pattern: `base64.decode(x)`},
	{ID: "from-gzip-base64", Group: "bytes", Words: "the text in base64 that gzip has folded",
		Pattern: `string(gunzip(base64.decode(x)))`},
	{ID: "from-gzip", Group: "bytes", Words: "the text that gzip has folded", Pattern: `string(gunzip(x))`},
	{ID: "to-gzip", Group: "bytes", Words: "folded by gzip", Pattern: `gzip(x)`},
	{ID: "json", Group: "bytes", Words: "written as JSON", Pattern: `json(x)`},
	{ID: "parse-json", Group: "bytes", Words: "read as JSON", Pattern: `parseJson(x)`},
}

// placeholders are the names of a form's values in its pattern.
var placeholders = []string{"a", "b", "c", "d", "e"}

// load takes the patterns apart, once.
var load = sync.OnceValue(func() *expr.Env {
	env, err := expr.New()
	if err != nil {
		panic("the forms have no language: " + err.Error())
	}
	for i := range all {
		p, err := env.Parse(all[i].Pattern)
		if err != nil {
			panic("the form " + all[i].ID + " cannot be read: " + err.Error())
		}
		all[i].parsed = &pattern{source: p}
		for _, name := range placeholders {
			if strings.Contains(all[i].Words, "{"+name+"}") {
				all[i].parsed.names = append(all[i].parsed.names, name)
			}
		}
	}
	return env
})

// matching is a try to fit a pattern to an expression.
type matching struct {
	of     *expr.Parsed
	values map[string]celast.Expr
}

// fits tells whether an expression is made like a pattern.
func (m *matching) fits(p, e celast.Expr) bool {
	if p.Kind() == celast.IdentKind {
		name := p.AsIdent()
		if name == "x" || len(name) == 1 && strings.Contains("abcde", name) {
			if name != "x" && e.Kind() != celast.LiteralKind {
				return false
			}
			if had := m.values[name]; had != nil {
				return m.of.Source(had) == m.of.Source(e)
			}
			m.values[name] = e
			return true
		}
	}
	if p.Kind() != e.Kind() {
		return false
	}
	switch p.Kind() {
	case celast.IdentKind:
		return p.AsIdent() == e.AsIdent()
	case celast.LiteralKind:
		return p.AsLiteral().Equal(e.AsLiteral()) == types.True
	case celast.SelectKind:
		a, b := p.AsSelect(), e.AsSelect()
		return a.FieldName() == b.FieldName() && a.IsTestOnly() == b.IsTestOnly() && m.fits(a.Operand(), b.Operand())
	case celast.CallKind:
		return m.calls(p.AsCall(), e.AsCall())
	case celast.MapKind:
		a, b := p.AsMap().Entries(), e.AsMap().Entries()
		for i := range a {
			if len(a) != len(b) || !m.fits(a[i].AsMapEntry().Key(), b[i].AsMapEntry().Key()) ||
				!m.fits(a[i].AsMapEntry().Value(), b[i].AsMapEntry().Value()) {
				return false
			}
		}
		return len(a) == len(b)
	}
	return false
}

func (m *matching) calls(a, b celast.CallExpr) bool {
	if a.FunctionName() != b.FunctionName() || a.IsMemberFunction() != b.IsMemberFunction() ||
		len(a.Args()) != len(b.Args()) {
		return false
	}
	if a.IsMemberFunction() && !m.fits(a.Target(), b.Target()) {
		return false
	}
	for i := range a.Args() {
		if !m.fits(a.Args()[i], b.Args()[i]) {
			return false
		}
	}
	return true
}
