// Package schema validates document trees against JSON Schema (draft 2020-12
// unless a schema says otherwise; formats are asserted). References reach only
// the files that are given with the schema, by name, by $id, or for an address
// from elsewhere by the end of its path: nothing is ever fetched.
package schema

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	jsonfmt "readyferry/core/format/json"
	doc "readyferry/core/message"
	"readyferry/core/pointer"
)

// base is the made-up place of a flow's own files, so that references between
// them resolve as between neighbours.
const base = "flow:///"

// Schema is a compiled schema. It is safe for concurrent use.
type Schema struct {
	compiled *jsonschema.Schema
}

// Failure is one place that does not fit.
type Failure struct {
	Pointer string   // JSON Pointer of the place; for a missing member, of that member
	Reason  string   // what is wrong there, in words
	Unknown []string // names that the schema does not know at Pointer
	Missing string   // name of a required member that is not there
	Allowed []string // the values that were possible, where they are few
}

var draft7 = regexp.MustCompile(`^https?://json-schema\.org/draft-07/schema#?$`)

// Compile reads a schema. files are those that it may refer to, by name. The
// error says what does not compile and where.
func Compile(root *doc.Node, files map[string][]byte) (*Schema, error) {
	return compile(root, files, true)
}

// CompileOwn reads a schema of the application's own documents, whose formats say
// how a text is meant for people and are checked elsewhere.
func CompileOwn(root *doc.Node) (*Schema, error) { return compile(root, nil, false) }

func compile(root *doc.Node, files map[string][]byte, formats bool) (*Schema, error) {
	c := jsonschema.NewCompiler()
	if formats {
		c.AssertFormat()
	}
	c.UseLoader(fileLoader(files))
	if d := root.Get("$schema"); d != nil && draft7.MatchString(d.Text) {
		c.DefaultDraft(jsonschema.Draft7) // files that do not say theirs are of the same draft
	}
	value, err := Value(root)
	if err != nil {
		return nil, err
	}
	if err := c.AddResource(base+"schema.inline.json", value); err != nil {
		return nil, readable(err)
	}
	s, err := c.Compile(base + "schema.inline.json")
	if err != nil {
		return nil, readable(err)
	}
	return &Schema{s}, nil
}

type fileLoader map[string][]byte

func (f fileLoader) Load(address string) (any, error) {
	name, ok := strings.CutPrefix(address, base)
	if !ok {
		// A file may say by $id under which address others refer to it.
		for _, src := range f {
			r, err := jsonfmt.Decode(src)
			if err != nil {
				continue
			}
			if id := r.Root.Get("$id"); id != nil && strings.TrimSuffix(id.Text, "#") == address {
				return Value(r.Root)
			}
		}
		if name, ok = f.like(address); !ok {
			return nil, fmt.Errorf("%s is not among the flow's own files, and nothing is fetched", address)
		}
	}
	src, ok := f[path.Clean(name)]
	if !ok {
		return nil, fmt.Errorf("the flow has no file %q", name)
	}
	r, err := jsonfmt.Decode(src)
	if err != nil {
		return nil, fmt.Errorf("file %q: %w", name, err)
	}
	return Value(r.Root)
}

// like gives the file that stands for an address from elsewhere: of those
// whose name agrees with the end of the address's path, the first folder of
// the name set aside, the one that agrees longest.
func (f fileLoader) like(address string) (string, bool) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return "", false
	}
	want := strings.Split(strings.Trim(u.Path, "/"), "/")
	best, most, rest := "", 0, 0
	for _, name := range slices.Sorted(maps.Keys(f)) {
		has := strings.Split(name, "/")
		n := 0
		for n < len(has) && n < len(want) && has[len(has)-1-n] == want[len(want)-1-n] {
			n++
		}
		if left := len(has) - n; n > 0 && (left <= 1 || n == len(want)) && (n > most || n == most && left < rest) {
			best, most, rest = name, n, left
		}
	}
	return best, most > 0
}

func readable(err error) error {
	var load *jsonschema.LoadURLError
	if errors.As(err, &load) {
		return load.Err
	}
	var invalid *jsonschema.SchemaValidationError
	if errors.As(err, &invalid) {
		var ve *jsonschema.ValidationError
		if errors.As(invalid.Err, &ve) {
			if f := flatten(ve); len(f) > 0 {
				return fmt.Errorf("it is no valid JSON Schema: at %q %s", f[0].Pointer, f[0].Reason)
			}
		}
	}
	return errors.New(strings.ReplaceAll(strings.ReplaceAll(err.Error(), base+"schema.inline.json", ""), base, ""))
}

// Validate lists every place that does not fit, in document order of depth and
// then by pointer; none when the document is valid.
func (s *Schema) Validate(n *doc.Node) ([]Failure, error) {
	value, err := Value(n)
	if err != nil {
		return nil, err
	}
	err = s.compiled.Validate(value)
	var ve *jsonschema.ValidationError
	switch {
	case err == nil:
		return nil, nil
	case errors.As(err, &ve):
		return flatten(ve), nil
	}
	return nil, err
}

// flatten gives the leaves of an error tree: those that a person can act on.
func flatten(root *jsonschema.ValidationError) []Failure {
	printer := message.NewPrinter(language.English)
	var out []Failure
	seen := map[string]bool{}
	add := func(f Failure) {
		if key := f.Pointer + "\x00" + f.Reason; !seen[key] {
			seen[key] = true
			out = append(out, f)
		}
	}
	var walk func(e *jsonschema.ValidationError)
	walk = func(e *jsonschema.ValidationError) {
		at := pointer.Pointer(e.InstanceLocation).String()
		switch k := e.ErrorKind.(type) {
		case *kind.FalseSchema:
			add(Failure{Pointer: at, Reason: "nothing is allowed here"})
			return
		case *kind.Required:
			for _, name := range k.Missing {
				add(Failure{Pointer: at + pointer.Pointer{name}.String(), Reason: "is required", Missing: name})
			}
			return
		case *kind.AdditionalProperties:
			for _, name := range k.Properties {
				add(Failure{Pointer: at + pointer.Pointer{name}.String(), Reason: "is not expected here", Unknown: []string{name}})
			}
			return
		case *kind.Format: // what the library read it with has words of its own
			add(Failure{Pointer: at, Reason: fmt.Sprintf("%s is no valid %s", shown(k.Got), k.Want)})
			return
		case *kind.Enum:
			f := Failure{Pointer: at, Reason: k.LocalizedString(printer)}
			for _, w := range k.Want {
				f.Allowed = append(f.Allowed, fmt.Sprint(w))
			}
			add(f)
			return
		case *kind.OneOf, *kind.AnyOf, *kind.Not, *kind.Contains:
			reason := e.ErrorKind.LocalizedString(printer)
			if len(e.Causes) > 0 {
				var whys []string
				for _, c := range e.Causes {
					for _, f := range flatten(c) {
						whys = append(whys, strings.TrimSpace(strings.TrimPrefix(f.Pointer, at)+" "+f.Reason))
					}
				}
				reason = "fits none of the alternatives: " + strings.Join(whys, "; or ")
			}
			add(Failure{Pointer: at, Reason: reason})
			return
		}
		if len(e.Causes) == 0 {
			add(Failure{Pointer: at, Reason: e.ErrorKind.LocalizedString(printer)})
			return
		}
		for _, c := range e.Causes {
			walk(c)
		}
	}
	walk(root)
	sort.SliceStable(out, func(i, j int) bool { return out[i].Pointer < out[j].Pointer })
	return out
}

// shown gives a value as JSON, of a long one its beginning.
func shown(v any) string {
	b, err := json.Marshal(v)
	if r := []rune(string(b)); err == nil && len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return string(b)
}

// Value gives a tree as plain Go values, numbers as json.Number.
func Value(n *doc.Node) (any, error) {
	switch n.Kind {
	case doc.Bool:
		return n.Text == "true", nil
	case doc.Number:
		if len(n.Text) > 1000 || hugeExponent(n.Text) {
			return nil, fmt.Errorf("the number %.20s… is too large to validate", n.Text)
		}
		return json.Number(n.Text), nil
	case doc.String, doc.Bytes:
		return n.Text, nil
	case doc.List:
		out := make([]any, len(n.Items))
		for i, item := range n.Items {
			v, err := Value(item)
			if err != nil {
				return nil, err
			}
			out[i] = v
		}
		return out, nil
	case doc.Map:
		out := make(map[string]any, len(n.Members))
		for _, m := range n.Members {
			v, err := Value(m.Value)
			if err != nil {
				return nil, err
			}
			out[m.Name] = v
		}
		return out, nil
	}
	return nil, nil
}

// hugeExponent keeps 1e999999999 from becoming a number of a gigabyte.
func hugeExponent(literal string) bool {
	i := strings.IndexAny(literal, "eE")
	return i >= 0 && len(strings.TrimLeft(literal[i+1:], "+-0")) > 3
}
