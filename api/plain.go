package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"
)

// unknownMember finds the name in what the JSON reader says of a member that no
// document of the interface has.
var unknownMember = regexp.MustCompile(`^json: unknown field "(.*)"$`)

var unexpectedByte = regexp.MustCompile(`^invalid character (.+?) (?:after|in|looking|at|exiting)`)

// plainJSON says in words what is wrong with a JSON body: where, and what was
// expected there.
func plainJSON(err error) string {
	var kind *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	var moment *time.ParseError
	switch m := unknownMember.FindStringSubmatch(err.Error()); {
	case m != nil:
		return fmt.Sprintf("the member %q is not known here", m[1])
	case errors.As(err, &kind):
		at := "the whole"
		if kind.Field != "" {
			at = fmt.Sprintf("%q", kind.Field)
		}
		return fmt.Sprintf("%s must be %s, not %s", at, wanted(kind.Type.Kind().String()), found(kind.Value))
	case errors.As(err, &moment):
		return fmt.Sprintf("%s is no point in time; it must look like 2026-05-04T09:00:00Z", moment.Value)
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "it ends before it is complete"
	case errors.As(err, &syntax):
		if m := unexpectedByte.FindStringSubmatch(syntax.Error()); m != nil {
			return fmt.Sprintf("at byte %d: %s is not expected here", syntax.Offset, m[1])
		}
		return fmt.Sprintf("at byte %d: it ends before it is complete", syntax.Offset)
	case strings.Contains(err.Error(), "illegal base64 data"):
		return "a text in it that must be base64 is none"
	}
	return strings.TrimPrefix(err.Error(), "json: ")
}

// wanted says in words what a kind of Go value holds.
func wanted(kind string) string {
	switch {
	case kind == "string":
		return "a text"
	case kind == "bool":
		return "true or false"
	case strings.HasPrefix(kind, "int"), strings.HasPrefix(kind, "uint"):
		return "a whole number"
	case strings.HasPrefix(kind, "float"):
		return "a number"
	case kind == "slice", kind == "array":
		return "a list"
	}
	return "a map"
}

// found says in words what stands in a JSON text.
func found(value string) string {
	word, rest, _ := strings.Cut(value, " ")
	switch word {
	case "string":
		return "a text"
	case "number":
		if rest != "" {
			return "the number " + rest
		}
		return "a number"
	case "bool":
		return "true or false"
	case "array":
		return "a list"
	}
	return "a map"
}
