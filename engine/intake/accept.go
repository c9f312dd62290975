package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/connect/caller"
	"readyferry/connect/sign"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
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
	draft   bool // never published: the message becomes a sample
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
	if err := k.admit(in, c); err != nil && !c.Trusted {
		var refused *run.RefusedError
		if errors.As(err, &refused) {
			k.refused.add(Refusal{k.Now(), in.Flow, c.Method, "/in" + c.Path, c.From, refused.Unwrap().Error()})
		}
		return nil, err
	}
	headers := keptHeaders(c.Header, k.secretHeaders(in.plan))
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
	t := &taking{
		Intakes:  k,
		in:       in,
		id:       store.NewID(),
		envelope: run.Envelope{ReceivedAt: k.Now(), Headers: headers, Params: in.Params, Query: c.Query, Body: c.Body},
		source:   "webhook " + c.Method + " /in" + c.Path,
	}
	return t.accept(ctx, func() {})
}

// accept stores a message and gives what its caller gets. stored is called between the two.
func (t *taking) accept(ctx context.Context, stored func()) (*step.Answer, error) {
	t.envelope.ID = t.id.String()
	leave, err := t.Enter(ctx, t.envelope.Body)
	if err != nil {
		return nil, err
	}
	heard, forget := t.expect(t.id)
	defer forget()
	err = t.Do(ctx, t.in.Flow, t.take)
	leave()
	var refused *run.RefusedError
	switch {
	case errors.Is(err, journal.ErrSetAside):
		return t.setAside(err)
	case errors.As(err, &refused):
		return nil, t.undecodable(refused)
	case err != nil && ctx.Err() != nil:
		return nil, err
	case err != nil:
		// A full disk or a locked file: nothing is promised, and the caller is told to come again.
		t.Log.Error("storing a message", "flow", t.in.Flow, "error", err)
		return nil, &run.RefusedError{
			Status: 503,
			Title:  "The message was not stored",
			Detail: "nothing of it was kept; send it again later",
		}
	}
	stored()
	return t.answered(ctx, heard)
}

// undecodable keeps a message that its intake cannot read, with its bytes and why: the
// caller is told, and a person can see what came.
func (t *taking) undecodable(refused *run.RefusedError) error {
	arrived, err := journal.NewTransaction(t.in.Flow, t.in.version, t.id, t.envelope, run.Received{}, t.source)
	if err == nil {
		now := t.Now()
		arrived.Tx.State, arrived.Tx.Unbegun, arrived.Tx.FinishedAt = store.TurnedAway, true, &now
		arrived.Tx.Reason = fmt.Sprintf("%d, %s: %s", refused.Status, refused.Title, refused.Detail)
		err = t.Write(context.WithoutCancel(t.Life.Context()), func(tx *store.Tx, n *journal.Notice) error {
			n.Events[journal.EventTransactions] = true
			return tx.AddTransaction(&arrived.Tx, arrived.Message)
		})
	}
	if err != nil {
		t.Log.Error("keeping a message that cannot be read", "flow", t.in.Flow, "error", err)
		return refused
	}
	told := *refused
	told.Detail += "; what came is kept as transaction " + t.id.String()
	return &told
}

// setAside keeps a message that is not worked on any more, as a dead letter.
func (t *taking) setAside(why error) (*step.Answer, error) {
	arrived, err := journal.NewTransaction(t.in.Flow, t.in.version, t.id, t.envelope, run.Received{}, t.source)
	if err != nil {
		return nil, err
	}
	err = t.Write(context.WithoutCancel(t.Life.Context()), func(tx *store.Tx, n *journal.Notice) error {
		return t.DeadOnArrival(tx, n, &arrived.Tx, arrived.Message, journal.SetAside(why))
	})
	return run.StoredAnswer(t.id.String()), err
}

// taking is a call that is taken in.
type taking struct {
	*Intakes
	in       *Intake
	id       store.ID
	envelope run.Envelope
	source   string
	called   string // the id by which its system tells it from others; "" for none

	duplicate *store.ID
	answer    *step.Answer // what a step says before the first delivery; nil for none
}

// take works the message out as far as it goes before its caller is answered:
// what is inside the application is done by then.
func (t *taking) take(s *journal.Session) error {
	if err := s.Computes(t.in.Flow, t.envelope.Body); err != nil {
		return err
	}
	received, err := run.Receive(t.in.plan, t.envelope)
	if err != nil {
		return err
	}
	arrived, err := journal.NewTransaction(t.in.Flow, t.in.version, t.id, t.envelope, received, t.source)
	if err != nil {
		return err
	}
	arrived.Called(t.called)
	if t.duplicate, err = s.Once(t.in.plan, arrived); t.duplicate != nil || err != nil {
		return err
	}
	last, err := s.Begin(arrived, t.in.plan)
	if err != nil {
		return err
	}
	t.answer = last.Answer
	if kept := t.answer; kept != nil || !t.finished() {
		if kept == nil {
			kept = run.StoredAnswer(t.id.String())
		}
		arrived.Message.Answer, err = json.Marshal(kept)
	}
	return err
}

func (t *taking) finished() bool { return t.in.plan.Document.Intake.Finished }

// answered gives what the caller gets, now that the message is on disk.
func (t *taking) answered(ctx context.Context, heard <-chan *step.Answer) (*step.Answer, error) {
	wait := t.in.plan.Document.Intake.Wait
	if t.duplicate != nil && t.finished() && t.in.plan.Rules >= flow.Rules2 {
		a, err := t.finishedBefore(ctx, *t.duplicate, wait)
		if first, bad := t.Store.Transaction(*t.duplicate); bad == nil && first.State == store.DeadLetter {
			return nil, &run.RefusedError{
				Status: 503,
				Title:  "The first message waits for a person",
				Detail: fmt.Sprintf("the same message came before as transaction %s, which is a dead letter now; "+
					"it may be mended, so ask again later", first.ID),
			}
		}
		return a, err
	}
	switch {
	case t.duplicate != nil && t.finished():
		return t.finishedBefore(ctx, *t.duplicate, wait)
	case t.duplicate != nil:
		return t.Given(*t.duplicate)
	case t.answer != nil:
		return t.answer, nil
	case t.finished():
		return t.waitFor(ctx, t.id, heard, wait)
	}
	return run.StoredAnswer(t.id.String()), nil
}

// finishedBefore gives a repeat the answer of the first one, also when that is
// not finished yet.
func (k *Intakes) finishedBefore(ctx context.Context, id store.ID, wait time.Duration) (*step.Answer, error) {
	heard, forget := k.expect(id)
	defer forget()
	m, err := k.Store.FirstMessage(id)
	if err != nil || len(m.Answer) > 0 {
		return k.Given(id)
	}
	if t, err := k.Store.Transaction(id); err != nil || t.State == store.DeadLetter {
		return k.Given(id) // no end is in sight
	}
	return k.waitFor(ctx, id, heard, wait)
}

// admit checks who calls.
func (k *Intakes) admit(in *Intake, c Call) error {
	names := in.plan.Document.Intake.Callers
	if len(names) == 0 {
		return nil
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
	if key := presented(c.Header); key != "" {
		if _, err := k.Catalog.Permits(context.Background(), key, catalog.MaySend, "flow:"+in.Flow, k.Now()); err == nil {
			return nil
		}
	}
	if _, err := k.verifier.Verify(callers, signed, k.Now()); err != nil {
		return &run.RefusedError{
			Status: 401,
			Title:  "The caller is not known",
			Why:    err,
			Detail: "send the key or signature that was agreed for " + in.Flow,
		}
	}
	return nil
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

// capturedSamples is how many messages an unpublished flow keeps.
const capturedSamples = 20

// keepSample keeps a message for a flow that was never published.
func (k *Intakes) keepSample(ctx context.Context, in *Intake, c Call, headers []message.Header) (*step.Answer, error) {
	now := k.Now()
	received := "received " + now.Format("2006-01-02 15.04.05.000")
	s := catalog.Sample{
		Headers: map[string]string{},
		Params:  map[string]string{},
		Query:   map[string]string{},
		At:      now.Truncate(time.Millisecond),
	}
	for _, h := range headers {
		s.Headers[strings.ToLower(h.Name)] = h.Value
	}
	for _, p := range in.Params {
		s.Params[p.Name] = p.Value
	}
	for _, q := range c.Query {
		s.Query[q.Name] = q.Value
	}
	s.SetBody(c.Body)
	full := false
	err := k.Store.Write(ctx, func(tx *store.Tx) error {
		n, err := tx.CountSamples(in.Flow)
		if full = n >= capturedSamples; full || err != nil {
			return err
		}
		if s.Name, err = tx.FreeSampleName(in.Flow, received); err != nil {
			return err
		}
		return catalog.SaveSample(tx, in.Flow, s)
	})
	if err != nil {
		return nil, fmt.Errorf("keeping the message as a sample: %w", err)
	}
	if full {
		return nil, &run.RefusedError{
			Status: 503,
			Title:  "The flow is not published",
			Detail: fmt.Sprintf(
				"%s keeps %d samples already and takes no more until it is published",
				in.Flow,
				capturedSamples,
			),
		}
	}
	k.Announce(journal.EventFlows)
	body, err := json.Marshal(
		map[string]string{
			"sample": s.Name,
			"detail": in.Flow + " is not published yet; the message is kept as a sample",
		},
	)
	return &step.Answer{
		Status:  202,
		Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
		Body:    body,
	}, err
}
