package expr

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"readyferry/core/format/hl7"
	"readyferry/core/message"
)

// explain turns CEL's error into one that names the path and what is near.
func (p *Program) explain(err error, s *Scope) error {
	var m *MissingError
	if errors.As(err, &m) {
		if m.Path != "" {
			return err
		}
		at := *m // a function has made it, which does not know how it was called
		at.Path = p.Source
		return &at
	}
	var much *message.MemoryError
	if errors.As(err, &much) {
		return fmt.Errorf("%s: %w", p.Source, much)
	}
	var absent *hl7.AbsentError
	if errors.As(err, &absent) {
		return &MissingError{Path: p.Source, At: "the message", Name: absent.Path, Names: absent.Names}
	}
	text := strings.TrimSpace(err.Error())
	key, isKey := strings.CutPrefix(text, "no such key: ")
	if isKey || strings.HasPrefix(text, "index out of bounds") {
		return p.absent(s, key, isKey, text)
	}
	if strings.Contains(text, "actual cost limit exceeded") || strings.Contains(text, "operation cancelled") {
		return fmt.Errorf("%s: the evaluation was stopped because it takes too long", p.Source)
	}
	if strings.HasPrefix(text, "no such overload") {
		if kinds := p.kinds(s); kinds != "" {
			return fmt.Errorf("%s: the values do not fit together: %s", p.Source, kinds)
		}
		return fmt.Errorf("%s: the values in it do not fit together", p.Source)
	}
	if said := p.unconverted(s, text); said != "" {
		return fmt.Errorf("%s: the values do not fit together: %s", p.Source, said)
	}
	return fmt.Errorf("%s: %s", p.Source, plainText(text))
}

// absent says which path leads nowhere.
func (p *Program) absent(s *Scope, key string, isKey bool, text string) error {
	for _, path := range p.Reads {
		holder, at := path.follow(s.root(path.Root))
		if at < 0 || isKey && path.segments[at].name != key {
			continue
		}
		switch segment := path.segments[at]; {
		case !segment.optional:
			return s.missing(path, at)
		case holder != nil && !segment.fits(holder):
			return s.memberless(path, at)
		}
	}
	if isKey {
		return &MissingError{Path: p.Source, At: "a value in it", Name: fmt.Sprintf("member %q", key)}
	}
	return &MissingError{
		Path: p.Source,
		At:   "a list in it",
		Name: "item " + strings.TrimSpace(strings.TrimPrefix(text, "index out of bounds:")),
	}
}

// kinds says of which kinds the values are that do not fit together, or else those
// that are read.
func (p *Program) kinds(s *Scope) string {
	if c := p.culprit(s); c != nil && len(c.given) > 0 {
		return c.kinds()
	}
	var out []string
	for _, path := range p.Reads {
		if n, at := path.follow(s.root(path.Root)); at < 0 {
			out = append(out, fmt.Sprintf("%s is a %s", path, n.Kind))
		}
	}
	return strings.Join(out, ", ")
}

// conversion finds what the library says of a value that is not of a type.
var conversion = regexp.MustCompile(
	`type conversion error from '?(\w+)'? to '?([\w.]+)'?|strconv\.(Parse\w+)|(parsing time|invalid RFC 3339 ` +
		`timestamp)|(time: [\w ]*duration)`,
)

// conversionTo is a type that a value can be made into: in words, and what it must
// look like.
type conversionTo struct{ words, like string }

// converted are such types, by CEL's name.
var converted = map[string]conversionTo{
	"int":       {"whole number", "42"},
	"uint":      {"whole number without a sign", "42"},
	"double":    {"number", "4.20"},
	"bool":      {"true or false", "true"},
	"timestamp": {"point in time", "2026-05-04T09:00:00Z"},
	"duration":  {"span of time", "90s"},
}

// unconverted says which value could not be made into another type; "" when the
// error is of another sort.
func (p *Program) unconverted(s *Scope, text string) string {
	m := conversion.FindStringSubmatch(text)
	if m == nil {
		return ""
	}
	name := map[string]string{
		"google.protobuf.Timestamp": "timestamp", "google.protobuf.Duration": "duration",
		"ParseInt": "int", "ParseUint": "uint", "ParseFloat": "double", "ParseBool": "bool",
		"parsing time": "timestamp", "invalid RFC 3339 timestamp": "timestamp",
	}
	to := m[2]
	for _, found := range []string{m[2], m[3], m[4]} {
		if known := name[found]; known != "" {
			to = known
		}
	}
	if m[5] != "" {
		to = "duration"
	}
	into, known := converted[to]
	if !known {
		return fmt.Sprintf("a %s cannot be made a %s", m[1], m[2])
	}
	if c := p.culprit(s); c != nil && len(c.given) > 0 {
		g := c.given[0]
		if n, ok, err := toNode(g.value); err == nil && ok {
			return into.unlike(g.text, n)
		}
	}
	return fmt.Sprintf("a value in it is no %s; it must look like %s", into.words, into.like)
}

// unlike says why a value is not made into another type.
func (c conversionTo) unlike(what string, n *message.Node) string {
	is := "a " + n.Kind.String()
	if value, scalar := n.Scalar(); scalar && n.Kind != message.Null {
		is = shortened(value)
		if wholeNumber.MatchString(value) && strings.HasPrefix(c.words, "whole") {
			return fmt.Sprintf("%s is %s, which is outside of the %ss of 64 bits", what, value, c.words)
		}
	}
	if what == is { // a text in the expression itself
		return fmt.Sprintf("%s is no %s; it must look like %s", is, c.words, c.like)
	}
	return fmt.Sprintf("%s is %s, which is no %s; it must look like %s", what, is, c.words, c.like)
}

var wholeNumber = regexp.MustCompile(`^[+-]?\d{1,60}$`)

func shortened(text string) string {
	if r := []rune(text); len(r) > 40 {
		text = string(r[:40]) + "…"
	}
	return strconv.Quote(text)
}

// library are words of the library with what they mean.
var library = []struct {
	said  *regexp.Regexp
	means string
}{
	{regexp.MustCompile(`^unsupported index type '(\w+)' in list$`), "a list has its items by number, not by name"},
	{regexp.MustCompile(`^(return error for overflow|integer overflow|unsigned integer overflow)$`),
		"the result is outside of the whole numbers of 64 bits"},
	{regexp.MustCompile(`^index out of range: `), "the text is shorter than that"},
	{regexp.MustCompile(`^illegal base64 data`), "a text in it is no base64"},
	{regexp.MustCompile(`^error parsing regexp: `), "a pattern in it is no regular expression"},
	{regexp.MustCompile(`^divide by zero$|^modulus by zero$`), "division by zero"},
	{regexp.MustCompile(`^optional\.none\(\) dereference$`), "the optional holds nothing; orValue(…) says what to take then"},
}

func plainText(text string) string {
	for _, l := range library {
		if l.said.MatchString(text) {
			return l.means
		}
	}
	return text
}
