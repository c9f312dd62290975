package forms

import (
	"strings"

	"readyferry/core/expr"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// Offer is what a value may become, with what that is here.
type Offer struct {
	ID         string   `json:"id"`
	Group      string   `json:"group"`
	Words      string   `json:"words"`
	Expression string   `json:"expression"`
	Value      string   `json:"value"`            // JSON
	Values     []string `json:"values,omitempty"` // of the form, as CEL writes them
}

// Offers gives what the value of an expression may become over a message: every form that
// works on it and makes something else of it. tables are those that codes may go through,
// with the columns of each.
func Offers(env *expr.Env, source string, scope *expr.Scope, tables map[string][]string) []Offer {
	load()
	was, err := value(env, source, scope)
	if err != nil {
		return []Offer{}
	}
	out := []Offer{}
	for i := range all {
		for _, values := range all[i].sets(tables) {
			o := all[i].made(source, values)
			v, err := value(env, o.Expression, scope)
			if err != nil || string(jsonfmt.Encode(v)) == string(jsonfmt.Encode(was)) || tooMuch(v) {
				continue
			}
			o.Value = string(jsonfmt.Encode(v))
			out = append(out, o)
		}
	}
	return out
}

// sets are the values that a form is offered with.
func (f *Form) sets(tables map[string][]string) [][]string {
	switch {
	case f.ID == "table":
		var out [][]string
		for name, columns := range tables {
			for _, c := range columns {
				out = append(out, []string{quoted(name), quoted(c)})
			}
		}
		return out
	case len(f.parsed.names) == 0:
		return [][]string{nil}
	}
	return f.Values
}

// made gives the offer of a form with values.
func (f *Form) made(source string, values []string) Offer {
	o := Offer{ID: f.ID, Group: f.Group, Words: f.Words, Values: values}
	said := map[string]string{"x": inner(source)}
	for i, name := range f.parsed.names {
		if i < len(values) {
			said[name] = values[i]
			o.Words = strings.ReplaceAll(o.Words, "{"+name+"}", spoken(values[i]))
		}
	}
	o.Expression = fill(f.Pattern, said)
	return o
}

// With writes a form over an expression, with its values; "" for a form that is none.
func With(id, source string, values []string) string {
	load()
	for i := range all {
		if all[i].ID == id {
			return all[i].made(source, values).Expression
		}
	}
	return ""
}

// fill puts values in place of the names of a pattern.
func fill(pattern string, said map[string]string) string {
	var b strings.Builder
	word := func(i int) bool {
		return i >= 0 && i < len(pattern) && (pattern[i] == '_' || pattern[i] >= 'a' && pattern[i] <= 'z' ||
			pattern[i] >= 'A' && pattern[i] <= 'Z' || pattern[i] >= '0' && pattern[i] <= '9')
	}
	text := false
	for i := 0; i < len(pattern); i++ {
		if pattern[i] == '"' {
			text = !text
		}
		if v, known := said[pattern[i:i+1]]; known && !text && !word(i-1) && !word(i+1) {
			b.WriteString(v)
			continue
		}
		b.WriteByte(pattern[i])
	}
	return b.String()
}

// inner puts brackets around what would fall apart within another expression.
func inner(source string) string {
	depth, text := 0, byte(0)
	for i := 0; i < len(source); i++ {
		switch c := source[i]; {
		case text != 0:
			if c == '\\' {
				i++
			} else if c == text {
				text = 0
			}
		case c == '"' || c == '\'':
			text = c
		case strings.IndexByte("([{", c) >= 0:
			depth++
		case strings.IndexByte(")]}", c) >= 0:
			depth--
		case depth == 0 && strings.IndexByte(" +-*/%<>=!&|?", c) >= 0 && !(c == '?' && i > 0 && source[i-1] == '.'):
			return "(" + source + ")"
		}
	}
	return source
}

func quoted(text string) string { return string(jsonfmt.Encode(message.NewString(text))) }

// most is how large a value may be that is shown beside its offer, in bytes.
const most = 2000

func tooMuch(n *message.Node) bool { return len(jsonfmt.Encode(n)) > most }

func value(env *expr.Env, source string, scope *expr.Scope) (*message.Node, error) {
	p, err := env.Compile(source)
	if err != nil {
		return nil, err
	}
	return p.Eval(scope)
}
