package expr

import (
	"fmt"
	"regexp"
	"strings"
)

// plainSyntax says in words what the parser says in the names of its tokens.
func plainSyntax(message string) string {
	if m := unexpected.FindStringSubmatch(message); m != nil {
		if m[1] == "<EOF>" {
			return "the expression ends before it is complete"
		}
		return fmt.Sprintf("%q is not expected here", m[1])
	}
	if m := lacking.FindStringSubmatch(message); m != nil {
		return fmt.Sprintf("a %s is missing here", m[1])
	}
	if m := noToken.FindStringSubmatch(message); m != nil {
		switch token := strings.TrimSpace(m[1]); {
		case strings.HasPrefix(token, `"`), strings.HasPrefix(token, "'"):
			return "the text that begins here is not closed"
		case token == "=":
			return "= compares nothing; write == for equal"
		default:
			return token + " means nothing in an expression"
		}
	}
	if m := overload.FindStringSubmatch(message); m != nil {
		return unfitting(m[1], m[2])
	}
	if m := memberOf.FindStringSubmatch(message); m != nil {
		return fmt.Sprintf("a %s has no members", typeWords(m[1]))
	}
	if m := wanted.FindStringSubmatch(message); m != nil {
		return fmt.Sprintf("a %s is expected here, and this is a %s", typeWords(m[1]), typeWords(m[2]))
	}
	if message == "argument is not an identifier" {
		return "a name is expected here, such as x, by which the loop knows each item"
	}
	return message
}

// unfitting says that an operator or function does not take values of such types,
// which stand as the checker writes them: (dyn, int), or string.(int) for a member.
func unfitting(function, applied string) string {
	name := strings.NewReplacer("@", "", "_?_:_", "? :", "_[_]", "[ ]", "_", "").Replace(function)
	for inner := ""; inner != applied; { // of a list of whole numbers it is enough to know that it is a list
		inner, applied = applied, within.ReplaceAllString(applied, "$1")
	}
	var kinds []string
	for _, t := range strings.FieldsFunc(applied, func(r rune) bool { return strings.ContainsRune("(), ", r) }) {
		if t = strings.TrimSuffix(t, "."); t != "" {
			kinds = append(kinds, "a "+typeWords(t))
		}
	}
	return fmt.Sprintf("%s is not for %s", name, strings.Join(kinds, " and "))
}

// typeWords says in words what the checker calls a type.
func typeWords(t string) string {
	for _, w := range [][2]string{
		{"dyn", "value"}, {"int", "whole number"}, {"uint", "whole number without a sign"}, {"double", "number"},
		{"string", "text"}, {"bool", "boolean"}, {"null_type", "null"}, {"list", "list"}, {"map", "map"},
		{"timestamp", "point in time"}, {"duration", "span of time"}, {"optional_type", "optional"},
		{"google.protobuf.Timestamp", "point in time"}, {"google.protobuf.Duration", "span of time"},
	} {
		if t == w[0] {
			return w[1]
		}
	}
	return t
}

var (
	within     = regexp.MustCompile(`\b(list|map|optional_type|type)\([^()]*\)`)
	overload   = regexp.MustCompile(`^found no matching overload for '(.+?)' applied to '(.*)'$`)
	memberOf   = regexp.MustCompile(`^type '(.+?)' does not support field selection$`)
	wanted     = regexp.MustCompile(`^expected type '(.+?)' but found '(.+?)'$`)
	unexpected = regexp.MustCompile(
		`^(?:mismatched input|extraneous input|no viable alternative at input) '(.*?)'(?: expecting .*)?$`,
	)
	lacking = regexp.MustCompile(`^missing '?(.*?)'? at '.*'$`)
	noToken = regexp.MustCompile(`^token recognition error at: '(.*)'$`)
)
