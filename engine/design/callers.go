package design

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/flow"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
)

// ForCallers is what whoever sends messages to a flow has to know.
type ForCallers struct {
	Flow    string   `json:"flow"`
	Title   string   `json:"title"`
	Note    string   `json:"note"`
	Version int      `json:"version"` // live; 0: it was never published, and this is of the draft
	Kind    string   `json:"kind"`    // of the intake
	Address string   `json:"address"` // of the application, as callers reach it
	Path    string   `json:"path"`    // of a webhook, below that address
	Methods []string `json:"methods"`
	Channel string   `json:"channel"` // the queue or topic
	Types   []string `json:"types"`   // media types that it reads
	Limit   int      `json:"limit"`   // bytes of a body
	Once    string   `json:"once"`    // by what repeats are told; an expression
	Order   string   `json:"order"`   // by what order is kept; an expression
	// SignIns are how a caller proves who it is; none lets anybody in.
	SignIns []CallerSignIn  `json:"signIns"`
	Schema  json.RawMessage `json:"schema"` // JSON Schema of a message, null where none is checked
	// Example is a real sample, with what is sent besides its body.
	Example *CallerExample `json:"example"`
	Answers []CallerAnswer `json:"answers"`
	// Hands are what the flow hands on inside the application.
	Hands []Handed `json:"hands"`
}

// CallerSignIn is how a caller proves who it is. It holds no secret.
type CallerSignIn struct {
	Name   string `json:"name"`
	Kind   string `json:"kind"` // api-key, basic or hmac
	Header string `json:"header"`
	User   string `json:"user"`
	Scheme string `json:"scheme"`
	// Signed are the headers of a signed example, under the secret that is named beside it.
	Signed map[string]string `json:"signed,omitempty"`
	Secret string            `json:"secret,omitempty"` // of the example, and of nothing else
}

// CallerExample is a message as it is sent.
type CallerExample struct {
	Sample  string            `json:"sample"`
	Method  string            `json:"method"`
	Path    string            `json:"path"` // with its parameters filled in, and its query
	Headers map[string]string `json:"headers"`
	Body    string            `json:"body"`
}

// CallerAnswer is an answer that a caller may get, and what it means.
type CallerAnswer struct {
	Status  int    `json:"status"`
	Meaning string `json:"meaning"`
	Body    string `json:"body,omitempty"` // as an example shows it
}

// Handed is a queue or topic that a flow fills.
type Handed struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
}

// ForCallers tells what callers of a flow have to know: of its live version, or of its draft
// where it was never published. authority is the host, with its port, that callers ask: a
// signature may cover it.
func (g *Designs) ForCallers(name, authority string) (*ForCallers, error) {
	f := g.Catalog.Flow(name)
	if f == nil {
		return nil, journal.ErrNotFound
	}
	p := f.Live
	if p == nil {
		p = f.Draft
	}
	if p == nil {
		return nil, fmt.Errorf("%w: its draft cannot be read", journal.ErrDecision)
	}
	in := &p.Document.Intake
	out := &ForCallers{
		Flow:    name,
		Title:   p.Document.Title,
		Version: f.Version,
		Kind:    in.Kind,
		Limit:   in.Limit,
		Once:    in.Once,
		Order:   in.Order,
		Methods: in.Methods,
		Channel: in.Queue + in.Topic,
		SignIns: []CallerSignIn{},
		Hands:   []Handed{},
	}
	if note := p.Document.Source.Root.Get("note"); note != nil {
		out.Note = note.Text
	}
	if in.Kind == "webhook" {
		out.Path = "/in" + in.Path
	}
	out.Types = typesOf(in)
	files, err := g.Store.Files(name)
	if err != nil {
		return nil, err
	}
	out.Schema = schemaOf(p, files)
	for _, u := range p.Uses {
		if h := (Handed{u.Kind, u.Name}); (u.Kind == "queue" || u.Kind == "topic") && !slices.Contains(out.Hands, h) {
			out.Hands = append(out.Hands, h)
		}
	}
	if err := g.exampleOf(out, p); err != nil {
		return nil, err
	}
	for _, caller := range in.Callers {
		if c := g.Catalog.Connection(caller); c != nil {
			out.SignIns = append(out.SignIns, signInOf(c, out.Example, authority, g.Now()))
		}
	}
	out.Answers = answersIn(p, len(out.SignIns) > 0, out.Once != "")
	return out, nil
}

// typesOf gives the media types that an intake reads.
func typesOf(in *flow.Intake) []string {
	if in.Format == "auto" {
		return []string{"application/json", "application/xml", "text/csv", "text/plain"}
	}
	if t := format.ContentType(in.Format); t != "" {
		return []string{t}
	}
	return []string{"application/octet-stream"}
}

// schemaOf gives the JSON Schema that the first steps check a message against, before anything
// has changed it; nil for none.
func schemaOf(p *plan.Plan, files map[string][]byte) json.RawMessage {
	steps := p.Document.Source.Root.Get("steps")
	for i := 0; steps != nil && i < len(steps.Items); i++ {
		s := steps.Items[i]
		switch kind := s.Get("kind"); {
		case kind == nil:
			return nil
		case kind.Text == "validate":
			n := s.Get("schema")
			if n == nil || n.Kind != message.Map {
				return nil
			}
			if ref := n.Get("$ref"); ref != nil && len(n.Members) == 1 {
				d, err := jsonfmt.Decode(files[ref.Text])
				if err != nil {
					return nil
				}
				n = d.Root
			}
			return jsonfmt.Encode(n)
		case kind.Text != "note" && kind.Text != "filter" && kind.Text != "once":
			return nil
		}
	}
	return nil
}

var pathParameter = regexp.MustCompile(`\{([^}]*)\}`)

// exampleOf takes the first sample that is taken in, or else the first.
func (g *Designs) exampleOf(out *ForCallers, p *plan.Plan) error {
	samples, err := g.Catalog.Samples(out.Flow)
	if err != nil || len(samples) == 0 {
		return err
	}
	chosen := samples[0]
	for i, r := range g.rehearse(p, out.Flow, samples, func(string) bool { return false }) {
		if r.State == "delivered" {
			chosen = samples[i]
			break
		}
	}
	x := &CallerExample{Sample: chosen.Name, Method: "POST", Headers: map[string]string{}, Body: chosen.Body}
	if len(out.Methods) > 0 {
		x.Method = out.Methods[0]
	}
	x.Path = pathParameter.ReplaceAllStringFunc(out.Path, func(m string) string {
		if v := chosen.Params[strings.Trim(m, "{}")]; v != "" {
			return v
		}
		return m
	})
	var query []string
	for _, h := range catalog.Pairs(chosen.Query) {
		query = append(query, h.Name+"="+h.Value)
	}
	if len(query) > 0 {
		x.Path += "?" + strings.Join(query, "&")
	}
	for name, v := range chosen.Headers {
		if secretHeader := strings.ToLower(name); secretHeader == "authorization" || secretHeader == "x-api-key" ||
			strings.HasPrefix(secretHeader, "webhook-") || strings.Contains(secretHeader, "signature") {
			continue // what proves a caller is each caller's own
		}
		x.Headers[strings.ToLower(name)] = v
	}
	if x.Headers["content-type"] == "" && len(out.Types) > 0 {
		x.Headers["content-type"] = out.Types[0]
	}
	out.Example = x
	return nil
}

// signInOf tells how a caller proves who it is, and signs the example as it would.
func signInOf(c *connect.Connection, x *CallerExample, authority string, now time.Time) CallerSignIn {
	s := CallerSignIn{
		Name:   c.Name,
		Kind:   c.SignIn.Kind,
		Header: c.SignIn.Header,
		User:   c.SignIn.User,
		Scheme: c.SignIn.Scheme,
	}
	if s.Kind == connect.SignInHMAC {
		s.sign(c, x, authority, now)
	}
	if s.Kind == "api-key" && s.Header == "" {
		s.Header = "x-api-key"
	}
	return s
}

// answersIn lists what a caller of a webhook may be answered.
func answersIn(p *plan.Plan, signed, once bool) []CallerAnswer {
	in := &p.Document.Intake
	out := []CallerAnswer{}
	if in.Kind != "webhook" {
		return out
	}
	add := func(status int, meaning, body string) {
		if !slices.ContainsFunc(out, func(a CallerAnswer) bool { return a.Status == status && a.Meaning == meaning }) {
			out = append(out, CallerAnswer{status, meaning, body})
		}
	}
	if in.Finished {
		add(200, "it was worked on to its end", `{"transaction": "…", "state": "delivered"}`)
		add(202, "it is stored, and not at its end within the time that a caller waits", `{"transaction": "…"}`)
		add(500, "it could not be worked on; it is kept, and a person decides about it", "")
	} else {
		add(202, "it is stored, and will be worked on; nothing of it is lost", `{"transaction": "…"}`)
	}
	var walk func(n *message.Node)
	walk = func(n *message.Node) {
		if kind := n.Get("kind"); n.Kind == message.Map && kind != nil {
			id := n.Get("id")
			if status := n.Get("status"); kind.Text == "answer" && id != nil {
				code := 200
				if status != nil {
					if v, err := strconv.Atoi(status.Text); err == nil {
						code = v
					}
				}
				text := ""
				if t := n.Get("text"); t != nil {
					text = t.Text
				}
				add(code, "as the step "+id.Text+" says", text)
			}
			if otherwise := n.Get("else"); otherwise != nil && otherwise.Kind == message.Map &&
				otherwise.Get("answer") != nil &&
				id != nil {
				if code, err := strconv.Atoi(otherwise.Get("answer").Text); err == nil {
					add(code, "it does not pass the step "+id.Text+"; the body says where", "")
				}
			}
		}
		for _, m := range n.Members {
			walk(m.Value)
		}
		for _, item := range n.Items {
			walk(item)
		}
	}
	walk(p.Document.Source.Root)
	add(400, "the body cannot be read", "")
	if once {
		add(400, "it has nothing by which a repeat could be told", "")
	}
	if signed {
		add(401, "it is not proven who calls", "")
	}
	add(413, "the body is larger than "+strconv.Itoa(in.Limit)+" bytes", "")
	add(429, "there is no room now; come again when Retry-After says", "")
	add(503, "the flow is paused or cannot take it now; come again later", "")
	sort.SliceStable(out, func(i, j int) bool { return out[i].Status < out[j].Status })
	return out
}
