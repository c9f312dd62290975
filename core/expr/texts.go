package expr

import (
	"fmt"
	"strings"
	"unicode"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// maxPadded keeps a padding from filling the memory.
const maxPadded = 1 << 20

// textFunctions shape texts.
var textFunctions = []Function{
	{
		Name: "nameCase", Signature: "nameCase(string[, style]) → string",
		Text: "A person's name as it is usually written: O'Neil, Jean-Luc, van der Berg stays small behind a first " +
			"name. With a style, a name for programs: camel, pascal, snake, kebab or constant.",
		Examples: []Example{
			{
				Expression: `nameCase("o'neil, maud")`,
				Value:      `"O'Neil, Maud"`,
			}, {Expression: `nameCase("ANN MARIE MCDONALD-SMITH")`, Value: `"Ann Marie McDonald-Smith"`},
			{Expression: `nameCase("PatientFirstName", "snake")`, Value: `"patient_first_name"`},
		},
		options: []cel.EnvOption{cel.Function(
			"nameCase",
			cel.Overload(
				"name_case",
				[]*cel.Type{cel.StringType},
				cel.StringType,
				cel.UnaryBinding(func(v ref.Val) ref.Val { return types.String(personName(string(v.(types.String)))) }),
			),
			cel.Overload(
				"name_case_style",
				[]*cel.Type{cel.StringType, cel.StringType},
				cel.StringType,
				cel.BinaryBinding(func(v, style ref.Val) ref.Val {
					s, err := identifier(string(v.(types.String)), string(style.(types.String)))
					if err != nil {
						return types.NewErr("nameCase: %v", err)
					}
					return types.String(s)
				}),
			),
		)},
	},
	padFunction(
		"padStart",
		"in front",
		func(s, fill string) string { return fill + s },
		Example{Expression: `padStart("7", 4, "0")`, Value: `"0007"`},
	),
	padFunction(
		"padEnd",
		"behind",
		func(s, fill string) string { return s + fill },
		Example{Expression: `padEnd("AB", 4, " ")`, Value: `"AB  "`},
	),
	{
		Name: "digits", Signature: "digits(string) → string",
		Text:     "Only the digits 0 to 9 of a text.",
		Examples: []Example{{Expression: `digits("LC 4417-203")`, Value: `"4417203"`}},
		options: []cel.EnvOption{
			cel.Function(
				"digits",
				cel.Overload(
					"digits_string",
					[]*cel.Type{cel.StringType},
					cel.StringType,
					cel.UnaryBinding(func(v ref.Val) ref.Val {
						return types.String(strings.Map(func(r rune) rune {
							if r >= '0' && r <= '9' {
								return r
							}
							return -1
						}, string(v.(types.String))))
					}),
				),
			),
		},
	},
}

func padFunction(name, where string, put func(s, fill string) string, example Example) Function {
	return Function{
		Name: name, Signature: name + "(x, length, fill) → string",
		Text:     "A text or number brought to a length in characters by a fill character " + where + "; a longer one stays.",
		Examples: []Example{example, {Expression: name + `("long enough", 4, "0")`, Value: `"long enough"`}},
		options: []cel.EnvOption{
			cel.Function(
				name,
				cel.Overload(
					name+"_any",
					[]*cel.Type{cel.DynType, cel.IntType, cel.StringType},
					cel.StringType,
					cel.FunctionBinding(func(a ...ref.Val) ref.Val {
						n, ok, err := toNode(a[0])
						if err != nil || !ok {
							return types.NewErr("%s: there is no text to fill up", name)
						}
						s, scalar := n.Scalar()
						fill := string(a[2].(types.String))
						want := int(a[1].(types.Int))
						if !scalar || len([]rune(fill)) != 1 || want > maxPadded {
							return types.NewErr(
								"%s takes a text, a length up to %d and one character to fill with",
								name,
								maxPadded,
							)
						}
						missing := want - len([]rune(s))
						if missing <= 0 {
							return types.String(s)
						}
						return types.String(put(s, strings.Repeat(fill, missing)))
					}),
				),
			),
		},
	}
}

// small are the words that stay small inside a name (common practice).
var small = map[string]bool{
	"van":   true,
	"von":   true,
	"der":   true,
	"den":   true,
	"de":    true,
	"da":    true,
	"di":    true,
	"del":   true,
	"della": true,
	"la":    true,
	"le":    true,
	"du":    true,
	"dos":   true,
	"das":   true,
	"ten":   true,
	"ter":   true,
	"bin":   true,
	"ibn":   true,
	"al":    true,
	"el":    true,
	"y":     true,
	"e":     true,
	"zu":    true,
	"zur":   true,
	"und":   true,
}

// personName follows common practice: a capital at each word's beginning,
// behind a hyphen and an apostrophe, and behind Mc; particles stay small
// behind another word.
func personName(s string) string {
	var b strings.Builder
	var word []rune
	first := true
	flush := func() {
		if len(word) == 0 {
			return
		}
		lower := strings.ToLower(string(word))
		if small[lower] && !first {
			b.WriteString(lower)
		} else {
			b.WriteString(capital(lower))
		}
		first = false
		word = word[:0]
	}
	for _, r := range s {
		switch {
		case unicode.IsLetter(r) || unicode.Is(unicode.Mn, r):
			word = append(word, r)
			continue
		case r == '\'' || r == '’':
			// O'Neil and D'Arcy, but not the s of "men's".
			if len(word) == 1 {
				b.WriteString(strings.ToUpper(string(word)))
				word, first = word[:0], false
				b.WriteRune(r)
				continue
			}
		}
		flush()
		b.WriteRune(r)
		if r == ',' {
			first = true
		}
	}
	flush()
	return b.String()
}

func capital(lower string) string {
	r := []rune(lower)
	r[0] = unicode.ToTitle(r[0])
	if len(r) > 3 && r[0] == 'M' && r[1] == 'c' {
		r[2] = unicode.ToTitle(r[2])
	}
	return string(r)
}

// words cuts a name at blanks, punctuation and changes of case.
func words(s string) []string {
	var out []string
	var word []rune
	flush := func() {
		if len(word) > 0 {
			out = append(out, string(word))
			word = word[:0]
		}
	}
	runes := []rune(s)
	for i, r := range runes {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			flush()
			continue
		}
		if i > 0 && unicode.IsUpper(r) {
			before := runes[i-1]
			nextLower := i+1 < len(runes) && unicode.IsLower(runes[i+1])
			if unicode.IsLower(before) || unicode.IsDigit(before) || unicode.IsUpper(before) && nextLower {
				flush()
			}
		}
		word = append(word, r)
	}
	flush()
	return out
}

func identifier(s, style string) (string, error) {
	list := words(s)
	join := map[string]string{"camel": "", "pascal": "", "snake": "_", "kebab": "-", "constant": "_"}
	by, known := join[style]
	if !known {
		return "", fmt.Errorf("%q is no style; there are camel, pascal, snake, kebab and constant", style)
	}
	for i, w := range list {
		w = strings.ToLower(w)
		switch {
		case style == "constant":
			w = strings.ToUpper(w)
		case style == "pascal" || style == "camel" && i > 0:
			r := []rune(w)
			r[0] = unicode.ToTitle(r[0])
			w = string(r)
		}
		list[i] = w
	}
	return strings.Join(list, by), nil
}
