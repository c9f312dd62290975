package design

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"readyferry/core/analyse"
	"readyferry/core/expr"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
)

// A message that gets to a step is found by trying: what the conditions on the way there ask
// for is made up, put into the samples that there are, and rehearsed. So what is offered gets
// there, whatever steps before it do; where nothing gets there, nothing is offered.

// mostTried is how many messages are tried before it is given up.
const mostTried = 600

// ErrNoWay says that no message was found that comes to a place.
var ErrNoWay = fmt.Errorf("%w: no message was found that comes there", journal.ErrDecision)

// Place is a step, a way or an else of a flow, as coverage names it.
type Place struct {
	Kind string `json:"kind"` // step, way, else or outcome
	Path string `json:"path"`
	Way  string `json:"way"`
}

// Reaching makes up a sample that gets to a place of a document, nil for the draft. It is not
// kept. Where none is found, the error is ErrNoWay.
func (g *Designs) Reaching(name string, document []byte, to Place) (*catalog.Sample, error) {
	p, err := g.drafted(name, document)
	if err != nil {
		return nil, err
	}
	samples, err := g.Catalog.Samples(name)
	if err != nil {
		return nil, err
	}
	r := &reaching{g: g, p: p, name: name, to: to, left: mostTried}
	if r.env, err = expr.New(); err != nil {
		return nil, err
	}
	if len(samples) == 0 {
		samples = []catalog.Sample{{Name: "new", Body: "{}", Headers: map[string]string{}, Params: map[string]string{},
			Query: map[string]string{}}}
	}
	if at := failing(&to); at != "" { // what gets to the step that is to fail is tried first
		before := *r
		before.to = Place{Kind: "step", Path: at}
		if s := before.conditions(samples); s != nil {
			samples = append([]catalog.Sample{*s}, samples...)
		}
		r.left = before.left
	}
	for _, try := range []func([]catalog.Sample) *catalog.Sample{r.conditions, r.answers, r.without} {
		if s := try(samples); s != nil {
			s.Name, s.Expect = "gets to "+strings.NewReplacer("/", " ", ".", " ").Replace(to.label()), nil
			return s, nil
		}
	}
	return nil, fmt.Errorf("%w (%d were tried); make a sample by hand, or keep one from a transaction", ErrNoWay,
		mostTried-r.left)
}

// failing gives the step behind whose failure a place stands, or "".
func failing(to *Place) string {
	if to.Kind == "else" {
		return strings.TrimSuffix(to.Path, "."+step.ElseWay)
	}
	return to.Path[:max(0, strings.LastIndex(to.Path, "."+step.ElseWay+"/"))]
}

func (to *Place) label() string {
	switch to.Kind {
	case "else":
		return strings.TrimSuffix(to.Path, "."+step.ElseWay) + " failing"
	case "outcome":
		return to.Path + " " + to.Way
	}
	return to.Path
}

type reaching struct {
	g    *Designs
	p    *plan.Plan
	env  *expr.Env
	name string
	to   Place
	left int
}

// gets tells whether a sample comes to the place.
func (r *reaching) gets(s catalog.Sample) bool {
	if r.left--; r.left < 0 {
		return false
	}
	out := r.g.rehearse(r.p, r.name, []catalog.Sample{s}, func(string) bool { return false })
	return run.ComesTo(&out[0].Rehearsal, run.Unreached{Kind: r.to.Kind, Path: r.to.Path, Way: r.to.Way})
}

// conditions puts into each sample what the conditions on the way to the place ask for.
func (r *reaching) conditions(samples []catalog.Sample) *catalog.Sample {
	asked := r.onTheWay()
	proofs := []*analyse.Proof{}
	// All of them together first; then the last alone, as steps before may have made what it reads.
	for i := range asked {
		all := "(" + strings.Join(asked[i:], ") && (") + ")"
		if some, err := analyse.Fitting(r.env, all, 20); err == nil {
			proofs = append(proofs, some...)
		}
	}
	for _, s := range samples {
		if r.gets(s) { // it was made behind the last look
			return &s
		}
		for _, proof := range proofs {
			if with, ok := merged(s, proof); ok && r.gets(with) {
				return &with
			}
		}
	}
	return nil
}

// answers lets outside systems answer otherwise.
func (r *reaching) answers(samples []catalog.Sample) *catalog.Sample {
	for _, s := range samples {
		for _, u := range r.p.Uses {
			for _, status := range []int{404, 422, 500} {
				with := s
				with.Replies = map[string]catalog.Reply{}
				for k, v := range s.Replies {
					with.Replies[k] = v
				}
				with.Replies[u.Step] = catalog.Reply{Status: status}
				if r.gets(with) {
					return &with
				}
			}
		}
	}
	return nil
}

// without takes members out of the samples, one at a time.
func (r *reaching) without(samples []catalog.Sample) *catalog.Sample {
	for _, s := range samples {
		d, err := jsonfmt.Decode([]byte(s.Body))
		if err != nil {
			continue
		}
		for _, less := range lesser(d.Root, 3) {
			with := s
			with.Body = string(jsonfmt.Encode(less))
			if r.gets(with) {
				return &with
			}
		}
	}
	return nil
}

// lesser gives a tree without each one of its members, down to some depth.
func lesser(n *message.Node, depth int) (out []*message.Node) {
	if depth == 0 || n.Kind != message.Map {
		return nil
	}
	for _, m := range n.Members {
		rest := slices.DeleteFunc(slices.Clone(n.Members), func(o message.Member) bool { return o.Name == m.Name })
		out = append(out, message.NewMap(rest...))
		for _, inner := range lesser(m.Value, depth-1) {
			out = append(out, n.With(m.Name, inner))
		}
	}
	return out
}

// merged puts the members of a made-up message into a sample of JSON.
func merged(s catalog.Sample, proof *analyse.Proof) (catalog.Sample, bool) {
	d, err := jsonfmt.Decode([]byte(s.Body))
	if err != nil {
		return s, false
	}
	if proof.Body != nil {
		s.Body = string(jsonfmt.EncodeIndent(over(d.Root, proof.Body)))
	}
	for _, part := range []struct {
		from *message.Node
		into *map[string]string
	}{{proof.Headers, &s.Headers}, {proof.Params, &s.Params}, {proof.Query, &s.Query}} {
		if part.from == nil {
			continue
		}
		values := map[string]string{}
		for k, v := range *part.into {
			values[k] = v
		}
		for _, m := range part.from.Members {
			if text, ok := m.Value.Scalar(); ok {
				values[m.Name] = text
			}
		}
		*part.into = values
	}
	return s, true
}

// over gives a tree with the members of another in place of its own.
func over(under, n *message.Node) *message.Node {
	if n.Kind != message.Map || under == nil || under.Kind != message.Map {
		return n
	}
	for _, m := range n.Members {
		under = under.With(m.Name, over(under.Get(m.Name), m.Value))
	}
	return under
}

// onTheWay lists the conditions that a message must fit to come to the place: of filters, of
// ways, and against the ways before them. The paths that maps make are written as what they
// are made from, where that is a path.
func (r *reaching) onTheWay() (out []string) {
	path := r.to.Path
	if r.to.Kind == "way" {
		path += "/"
	}
	r.block(r.p.Block, "", path, nil, &out)
	return out
}

func (r *reaching) block(b *step.Block, prefix, path string, renamed map[string]string, out *[]string) bool {
	if b == nil {
		return false
	}
	for _, s := range b.Steps {
		if s.Off {
			continue
		}
		here := prefix + s.ID
		when := r.said(s.Pointer + "/when")
		if here == path {
			if when != "" {
				*out = append(*out, rewritten(when, renamed))
			}
			if keep := r.said(s.Pointer + "/keep"); r.to.Kind == "outcome" && keep != "" {
				if r.to.Way == run.TurnedAway {
					keep = "!(" + keep + ")"
				}
				*out = append(*out, rewritten(keep, renamed))
			}
			return true
		}
		if strings.HasPrefix(path, here+".") || strings.HasPrefix(path, here+"/") {
			if when != "" {
				*out = append(*out, rewritten(when, renamed))
			}
			for i, w := range s.Ways {
				inside := here + "." + w.Name + "/"
				if !strings.HasPrefix(path, inside) {
					continue
				}
				*out = append(*out, r.way(s, i, renamed)...)
				return path == inside || r.block(w.Block, inside, path, renamed, out)
			}
			return r.block(s.Inside, here+"/", path, renamed, out)
		}
		switch s.Kind {
		case "filter":
			*out = append(*out, rewritten(r.said(s.Pointer+"/keep"), renamed))
		case "map":
			renamed = r.madeFrom(s, renamed)
		}
	}
	return false
}

// way gives what a message fits that takes a way of a route.
func (r *reaching) way(s *step.Compiled, at int, renamed map[string]string) (out []string) {
	if s.Kind != "route" {
		return nil
	}
	for i := range s.Ways {
		when := rewritten(r.said(fmt.Sprintf("%s/ways/%d/when", s.Pointer, i)), renamed)
		switch {
		case when == "": // the otherwise
		case i == at:
			return append(out, when)
		case !s.Every:
			out = append(out, "!("+when+")")
		}
	}
	return out
}

// said gives the text that stands at a place of the document, "" for none.
func (r *reaching) said(ptr string) string {
	if n := valueAt(r.p.Document.Source.Root, ptr); n != nil && n.Kind == message.String {
		return n.Text
	}
	return ""
}

var plainPath = regexp.MustCompile(`^(body|params|query)(\.[A-Za-z_]\w*)+$`)

// madeFrom gives the paths that a map makes, by the paths of the message as it came in. before
// are those of the maps before it; nil for none.
func (r *reaching) madeFrom(s *step.Compiled, before map[string]string) map[string]string {
	out := map[string]string{}
	fields := valueAt(r.p.Document.Source.Root, s.Pointer+"/fields")
	if fields == nil {
		return out
	}
	for i := range fields.Items {
		at := fmt.Sprintf("%s/fields/%d", s.Pointer, i)
		to, from := r.said(at+"/to"), r.said(at+"/from")
		if was, known := before[from]; known {
			from = was
		} else if before != nil && strings.HasPrefix(from, "body.") {
			continue // a map before it has made it of something else
		}
		if plainPath.MatchString(from) {
			out["body"+strings.ReplaceAll(to, "/", ".")] = from
		}
	}
	return out
}

// anyPath is a path in an expression, as far as names go.
var anyPath = regexp.MustCompile(`\bbody(\.[A-Za-z_]\w*)+`)

// rewritten gives a condition over the message as it came in: each path that a map has made
// is replaced once, by the longest that is known.
func rewritten(condition string, renamed map[string]string) string {
	return anyPath.ReplaceAllStringFunc(condition, func(path string) string {
		for at := len(path); at > 0; at = strings.LastIndexByte(path[:at], '.') {
			if from, known := renamed[path[:at]]; known {
				return from + path[at:]
			}
		}
		return path
	})
}
