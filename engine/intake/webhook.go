package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"readyferry/connect"
	"readyferry/connect/caller"
	"readyferry/connect/sign"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/catalog"
	"readyferry/store"
)

// Call is a request to a webhook.
type Call struct {
	Method string
	Path   string // below /in
	Header http.Header
	Query  []message.Header
	Body   []byte
	From   string // the address that it comes from
	// Trusted tells that a person sends it from the flow's own page: who calls is not asked.
	Trusted bool
	// Stream is the body in place of Body, where Streams says that it may come so; it must end
	// within the intake's limit, or with an error.
	Stream io.Reader
	// Signed is the request as its signature covers it; of what stands above where nil.
	Signed *sign.Request
}

// Intake is the webhook that a call goes to.
type Intake struct {
	Flow    string
	Limit   int // largest body
	Params  []message.Header
	version int
	paused  bool
	plan    *plan.Plan
	trial   *catalog.Trial // of the live version; nil where it takes all
	draft   bool           // never published: the message becomes a sample
}

// Find gives the webhook for a method and a path as it was sent, escaped. Of
// several that fit, a live flow comes before a draft, so that nobody's draft
// takes the messages of a flow at work; then the one whose path is in words
// earlier; then the first by name. When only the method does not fit, allowed
// names those that would.
func (k *Intakes) Find(method, path string) (in *Intake, allowed []string) {
	segments := strings.Split(strings.Trim(path, "/"), "/")
	for i, escaped := range segments {
		plain, err := url.PathUnescape(escaped)
		if err != nil {
			return nil, nil
		}
		segments[i] = plain
	}
	best := ""
	k.Catalog.Each(func(f *catalog.Flow) {
		p, draft := f.Live, false
		if p == nil && f.Version == 0 {
			p, draft = f.Draft, true
		}
		if p == nil || p.Document.Intake.Kind != "webhook" {
			return
		}
		params, shape, ok := match(p.Document.Intake.Path, segments)
		if !ok {
			return
		}
		if !slices.Contains(p.Document.Intake.Methods, method) {
			allowed = append(allowed, p.Document.Intake.Methods...)
			return
		}
		rank := "a " + shape + " " + f.Name
		if draft {
			rank = "b " + shape + " " + f.Name
		}
		if best == "" || rank < best {
			best = rank
			in = &Intake{
				Flow:    f.Name,
				Limit:   p.Document.Intake.Limit,
				Params:  params,
				version: f.Version,
				paused:  f.Paused,
				plan:    p,
				trial:   f.Trial,
				draft:   draft,
			}
		}
	})
	return in, allowed
}

// match compares a path with a pattern. shape has a letter for each segment,
// a for one that is equal and b for a parameter, so that shapes sort as paths
// are preferred.
func match(pattern string, segments []string) (params []message.Header, shape string, ok bool) {
	want := strings.Split(strings.Trim(pattern, "/"), "/")
	if len(want) != len(segments) {
		return nil, "", false
	}
	for i, w := range want {
		switch {
		case strings.HasPrefix(w, "{"):
			if segments[i] == "" {
				return nil, "", false
			}
			params = append(params, message.Header{Name: strings.Trim(w, "{}"), Value: segments[i]})
			shape += "b"
		case w != segments[i]:
			return nil, "", false
		default:
			shape += "a"
		}
	}
	return params, shape, true
}

// Accept takes a message in. When it returns without error, the message is on
// disk and the answer is what its caller gets. A *run.RefusedError says why a
// message is not taken; then nothing is kept.
func (k *Intakes) Accept(ctx context.Context, in *Intake, c Call) (*step.Answer, error) {
	a, err := k.answered(ctx, in, c)
	if in.plan == nil || in.plan.Document.Intake.Faults == "" {
		return a, err
	}
	var refused *run.RefusedError
	if errors.As(err, &refused) {
		a, err = run.RefusalAnswer(refused), nil
	}
	if a != nil {
		a = run.Faulted(in.plan.Document.Intake.Faults, a)
	}
	return a, err
}

func (k *Intakes) answered(ctx context.Context, in *Intake, c Call) (*step.Answer, error) {
	if err := k.stopping(); err != nil {
		return nil, err
	}
	key, err := k.admit(in, c)
	if err != nil && !c.Trusted {
		var refused *run.RefusedError
		if errors.As(err, &refused) {
			k.refused.add(Refusal{k.Now(), in.Flow, c.Method, "/in" + c.Path, c.From, refused.Unwrap().Error()})
		}
		return nil, err
	}
	headers := keptHeaders(c.Header, k.secretHeaders(in.plan))
	t := &taking{
		Intakes:  k,
		in:       in,
		id:       store.NewID(),
		envelope: run.Envelope{ReceivedAt: k.Now(), Headers: headers, Params: in.Params, Query: c.Query, Body: c.Body},
		source:   "webhook " + c.Method + " /in" + c.Path,
	}
	t.envelope.ID, t.envelope.Apart = t.id.String(), c.Stream != nil
	if t.read, err = k.here(ctx, in, t.envelope); err != nil {
		return nil, err
	}
	if in.draft {
		return k.keepSample(ctx, in, c, headers)
	}
	if in.paused {
		return nil, &run.RefusedError{
			Status: 503,
			Title:  "The flow is paused",
			Detail: fmt.Sprintf("%s takes no messages now; nothing was stored, send it again later", in.Flow),
		}
	}
	if c.Stream != nil {
		return k.streamed(ctx, in, c, headers, key)
	}
	if err := errors.Join(k.Roomy(), k.crowded(in), k.within(in, c.Body)); err != nil {
		return nil, err
	}
	return t.accept(ctx, func() {})
}

// admit checks who calls, and gives the name of the key that they have; "" for none.
func (k *Intakes) admit(in *Intake, c Call) (key string, err error) {
	names := in.plan.Document.Intake.Callers
	if len(names) == 0 {
		return "", nil
	}
	var callers []*connect.Connection
	for _, n := range names {
		if k := k.Catalog.Connection(n); k != nil && k.Kind == caller.Kind {
			callers = append(callers, k)
		}
	}
	signed := c.Signed
	if signed == nil {
		signed = &sign.Request{Method: c.Method, Path: c.Path, Header: c.Header, Body: c.Body}
	}
	if given := presented(c.Header); given != "" {
		name, err := k.Catalog.Permits(context.Background(), given, catalog.MaySend, "flow:"+in.Flow, k.Now())
		if err == nil {
			return name, k.Catalog.Within(name, int64(len(c.Body)))
		}
	}
	if _, err := k.verifier.Verify(callers, signed, k.Now()); err != nil {
		return "", &run.RefusedError{
			Status: 401,
			Title:  "The caller is not known",
			Why:    err,
			Detail: "send the key or signature that was agreed for " + in.Flow,
		}
	}
	return "", nil
}

// presented gives the key of a program: as a bearer token (RFC 6750, 2.1) or in X-Api-Key.
func presented(h http.Header) string {
	if token, is := strings.CutPrefix(h.Get("Authorization"), "Bearer "); is {
		return strings.TrimSpace(token)
	}
	return h.Get("X-Api-Key")
}

// secretHeaders names the headers that prove who calls; they are not kept.
func (k *Intakes) secretHeaders(p *plan.Plan) map[string]bool {
	out := map[string]bool{
		"authorization":       true,
		"x-api-key":           true,
		"cookie":              true,
		"proxy-authorization": true,
		"webhook-signature":   true,
		"signature":           true,
		"x-signature":         true,
	}
	for _, n := range p.Document.Intake.Callers {
		if c := k.Catalog.Connection(n); c != nil && c.SignIn.Header != "" {
			out[strings.ToLower(c.SignIn.Header)] = true
		}
	}
	return out
}

func keptHeaders(h http.Header, secret map[string]bool) []message.Header {
	out := []message.Header{}
	for name, values := range h {
		if secret[strings.ToLower(name)] {
			continue
		}
		for _, v := range values {
			out = append(out, message.Header{Name: name, Value: strings.ToValidUTF8(v, "\uFFFD")})
		}
	}
	slices.SortStableFunc(out, func(a, b message.Header) int { return strings.Compare(a.Name, b.Name) })
	return out
}
