package forms

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"

	"readyferry/core/expr"
)

// Read is an expression in words.
type Read struct {
	// Words are what people read: a source and what becomes of it.
	Words string `json:"words"`
	// Source is the innermost value, as CEL; Sources those of a text that is put together.
	Source  string   `json:"source"`
	Sources []string `json:"sources"`
	// Forms are those that the source went through, the first first.
	Forms []Chosen `json:"forms"`
	// Plain tells that it was read to its end: else a part of it stands as it is written.
	Plain bool `json:"plain"`
}

// Chosen is a form with its values.
type Chosen struct {
	ID     string   `json:"id"`
	Words  string   `json:"words"`
	Values []string `json:"values,omitempty"` // a, b and so on, as CEL writes them
}

// ReadBack gives an expression in words. One that cannot be read at all stands as it is.
func ReadBack(source string) Read {
	env := load()
	p, err := env.Parse(source)
	if err != nil {
		return Read{Words: source, Source: source, Sources: []string{}, Forms: []Chosen{}}
	}
	r := &reader{of: p}
	out := r.read(p.Root())
	if out.Source == "" || out.Words == "" || !out.Plain && len(out.Forms) == 0 { // it stands as a person wrote it
		return Read{Words: source, Source: source, Sources: []string{}, Forms: []Chosen{}}
	}
	if !out.Plain {
		out.Words = source
	}
	return out
}

type reader struct{ of *expr.Parsed }

// read takes an expression apart from the outside.
func (r *reader) read(e celast.Expr) Read {
	out := Read{Sources: []string{}, Forms: []Chosen{}, Plain: true}
	for {
		chosen, inner := r.form(e)
		if inner == nil {
			break
		}
		out.Forms = append([]Chosen{*chosen}, out.Forms...)
		e = inner
	}
	out.Source = r.of.Source(e)
	words, sources, known := r.value(e)
	out.Sources, out.Plain = sources, known
	for _, c := range out.Forms {
		words += " " + c.Words
	}
	out.Words = words
	return out
}

// form finds the form that an expression is, and the value in it.
func (r *reader) form(e celast.Expr) (*Chosen, celast.Expr) {
	if _, path := r.of.PathOf(e); path {
		return nil, nil // a member by its number is a place, not the first of a list
	}
	var best *Form
	var found *matching
	for i := range all { // the one that says the most
		m := &matching{of: r.of, values: map[string]celast.Expr{}}
		f := &all[i]
		if !m.fits(f.parsed.source.Root(), e) || m.values["x"] == nil || m.values["x"].Kind() == celast.LiteralKind {
			continue
		}
		if strings.HasPrefix(f.ID, "be") && r.joins(e) {
			continue // several values with something between them
		}
		if best == nil || len(f.Pattern) > len(best.Pattern) {
			best, found = f, m
		}
	}
	if best == nil {
		return nil, nil
	}
	c := &Chosen{ID: best.ID, Words: best.Words}
	for _, name := range best.parsed.names {
		text := r.of.Source(found.values[name])
		c.Values = append(c.Values, text)
		c.Words = strings.ReplaceAll(c.Words, "{"+name+"}", spoken(text))
	}
	return c, found.values["x"]
}

// joins tells whether an expression puts at least two values together.
func (r *reader) joins(e celast.Expr) bool {
	n := 0
	for _, part := range r.sum(e) {
		if part.Kind() != celast.LiteralKind {
			n++
		}
	}
	return n > 1
}

// sum gives the parts of a + b + c.
func (r *reader) sum(e celast.Expr) []celast.Expr {
	if e.Kind() == celast.CallKind && e.AsCall().FunctionName() == operators.Add && len(e.AsCall().Args()) == 2 {
		return append(r.sum(e.AsCall().Args()[0]), r.sum(e.AsCall().Args()[1])...)
	}
	return []celast.Expr{e}
}

var hl7Place = regexp.MustCompile(`^hl7(?:Raw)?\((\w[\w."\-\[\]]*), "([^"]+)"\)$`)

var hl7List = regexp.MustCompile(`^hl7Groups\((\w[\w."\-\[\]]*), "([^"]+)"\)$`)

// value gives a value that no form has made in words: a place, a constant, or several that
// are put together.
func (r *reader) value(e celast.Expr) (words string, sources []string, known bool) {
	source := r.of.Source(e)
	if m := hl7Place.FindStringSubmatch(source); m != nil {
		return placeOf(m[1], m[2]), []string{source}, true
	}
	if e.Kind() == celast.CallKind && e.AsCall().FunctionName() == "many" && len(e.AsCall().Args()) == 1 {
		return r.value(e.AsCall().Args()[0]) // one, or a list: for people the same
	}
	if m := hl7List.FindStringSubmatch(source); m != nil {
		return placeOf(m[1], m[2]), []string{source}, true
	}
	if _, path := r.of.PathOf(e); path {
		return spokenPath(source), []string{source}, true
	}
	if e.Kind() == celast.LiteralKind {
		return spoken(source), []string{}, true
	}
	parts := r.sum(e)
	if len(parts) < 2 {
		return source, []string{}, false
	}
	return r.together(parts)
}

// together gives several values in words: with the same text between all of them that is said
// once, else each stands in its place.
func (r *reader) together(parts []celast.Expr) (string, []string, bool) {
	var values, between []string
	sources := []string{}
	regular := true
	for i, part := range parts {
		if literal := part.Kind() == celast.LiteralKind; literal == (i%2 == 0) {
			regular = false
		}
		if part.Kind() == celast.LiteralKind {
			between = append(between, spoken(r.of.Source(part)))
			continue
		}
		one := r.read(part)
		if !one.Plain {
			return strings.TrimSpace(r.whole(parts)), sources, false
		}
		values, sources = append(values, one.Words), append(sources, one.Sources...)
	}
	for i := 1; i < len(between); i++ {
		regular = regular && between[i] == between[0]
	}
	if len(between) == 0 {
		return strings.Join(values, " then "), sources, true
	}
	if regular && len(between) == len(values)-1 {
		return strings.Join(values, " then ") + ", with " + between[0] + " between", sources, true
	}
	var out []string
	for _, part := range parts {
		if part.Kind() == celast.LiteralKind {
			out = append(out, spoken(r.of.Source(part)))
		} else {
			out = append(out, r.read(part).Words)
		}
	}
	return strings.Join(out, " then "), sources, true
}

func (r *reader) whole(parts []celast.Expr) string {
	var out []string
	for _, part := range parts {
		out = append(out, r.of.Source(part))
	}
	return strings.Join(out, " + ")
}

// spokenPath leaves out what everybody knows: that it is of the body.
func spokenPath(source string) string {
	if m := earlierBody.FindStringSubmatch(source); m != nil {
		whose := "behind " + m[1] + m[2]
		if m[1] == "intake" {
			whose = "as it came in"
		}
		if m[3] == "" {
			return "the message " + whose
		}
		return spokenPath(m[3]) + " " + whose
	}
	short := strings.TrimPrefix(source, "body.")
	return strings.ReplaceAll(short, "?", "")
}

// placeOf says a place of HL7 v2, and of which message or segment where it is not the message here.
func placeOf(of, place string) string {
	if of == "body" {
		return place
	}
	whose := spokenPath(of)
	if earlier, is := strings.CutPrefix(whose, "the message "); is {
		return place + " " + earlier
	}
	return place + " of " + whose
}

// earlierBody is a path into the body as it stood behind an earlier step.
var earlierBody = regexp.MustCompile(`^bodies(?:\.([A-Za-z_]\w*)|\["([^"]+)"\])\.?(.*)$`)

// spoken says a constant as people do.
func spoken(source string) string {
	text, err := strconv.Unquote(source)
	if err != nil {
		return source
	}
	switch text {
	case " ":
		return "a blank"
	case "":
		return "nothing"
	case ", ":
		return "a comma and a blank"
	case ",":
		return "a comma"
	}
	return fmt.Sprintf("“%s”", text)
}
