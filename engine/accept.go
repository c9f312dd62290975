package engine

import (
	"context"
	"crypto/sha256"
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
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// Call is a request to a webhook.
type Call struct {
	Method string
	Path   string // below /in
	Header http.Header
	Query  []message.Header
	Body   []byte
}

// Intake is the webhook that a call goes to.
type Intake struct {
	Flow    string
	Limit   int // largest body
	params  []message.Header
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
func (e *Engine) Find(method, path string) (in *Intake, allowed []string) {
	segments := strings.Split(strings.Trim(path, "/"), "/")
	for i, escaped := range segments {
		plain, err := url.PathUnescape(escaped)
		if err != nil {
			return nil, nil
		}
		segments[i] = plain
	}
	best := ""
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, f := range e.flows {
		p, draft := f.live, false
		if p == nil && f.version == 0 {
			p, draft = f.draft, true
		}
		if p == nil || p.Document.Intake.Kind != "webhook" {
			continue
		}
		params, shape, ok := match(p.Document.Intake.Path, segments)
		if !ok {
			continue
		}
		if !slices.Contains(p.Document.Intake.Methods, method) {
			allowed = append(allowed, p.Document.Intake.Methods...)
			continue
		}
		rank := "a " + shape + " " + f.name
		if draft {
			rank = "b " + shape + " " + f.name
		}
		if best == "" || rank < best {
			best = rank
			in = &Intake{Flow: f.name, Limit: p.Document.Intake.Limit, params: params, version: f.version, paused: f.paused, plan: p, draft: draft}
		}
	}
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
func (e *Engine) Accept(ctx context.Context, in *Intake, c Call) (*step.Answer, error) {
	if err := e.admit(in, c); err != nil {
		return nil, err
	}
	headers := keptHeaders(c.Header, e.secretHeaders(in.plan))
	if in.draft {
		return e.keepSample(ctx, in, c, headers)
	}
	if in.paused {
		return nil, &run.RefusedError{Status: 503, Title: "The flow is paused", Detail: fmt.Sprintf("%s takes no messages now; nothing was stored, send it again later", in.Flow)}
	}
	id, now := store.NewID(), e.clock()
	envelope := run.Envelope{ID: id.String(), ReceivedAt: now, Headers: headers, Params: in.params, Query: c.Query, Body: c.Body}
	received, err := run.Receive(in.plan, envelope)
	if err != nil {
		return nil, err
	}
	first := run.Walk(in.plan, run.Input{Message: received.Message})
	answer := first.Answer
	if answer == nil {
		answer = run.StoredAnswer(id.String())
	}
	t, m, err := newTransaction(in.Flow, in.version, id, envelope, received, "webhook "+c.Method+" /in"+c.Path)
	if err != nil {
		return nil, err
	}
	finished := in.plan.Document.Intake.Finished
	if !finished || first.Answer != nil {
		if m.Answer, err = json.Marshal(answer); err != nil {
			return nil, err
		}
	}
	heard, forget := e.expect(id)
	defer forget()
	var after *aftermath
	var duplicate *store.ID
	err = e.store.Write(ctx, func(tx *store.Tx) error {
		after, duplicate = newAftermath(), nil
		if dup, err := e.once(tx, in.plan, t, received.Once); dup != nil || err != nil {
			duplicate = dup
			if err == nil {
				after.events[TopicTransactions] = true
				err = tx.AddTransaction(t, m)
			}
			return err
		}
		last, err := e.begin(tx, in.plan, t, m, received, first, after)
		if err != nil || last.Answer == nil || first.Answer != nil || finished {
			return err
		}
		// An answer behind a queue: what is inside the application is done before the caller is answered.
		answer = last.Answer
		if m.Answer, err = json.Marshal(answer); err != nil {
			return err
		}
		return tx.SaveAnswer(id, m.Answer)
	})
	if err != nil {
		// A full disk or a locked file: nothing is promised, and the caller is told to come again.
		e.log.Error("storing a message", "flow", in.Flow, "error", err)
		return nil, &run.RefusedError{Status: 503, Title: "The message was not stored", Detail: "nothing of it was kept; send it again later"}
	}
	e.after(after)
	switch {
	case duplicate != nil && finished:
		return e.finishedBefore(ctx, *duplicate, in.plan.Document.Intake.Wait)
	case duplicate != nil:
		return e.answerOf(*duplicate)
	case finished && first.Answer == nil:
		return e.finished(ctx, id, heard, in.plan.Document.Intake.Wait)
	}
	return answer, nil
}

// finishedBefore gives a repeat the answer of the first one, also when that is
// not finished yet.
func (e *Engine) finishedBefore(ctx context.Context, id store.ID, wait time.Duration) (*step.Answer, error) {
	heard, forget := e.expect(id)
	defer forget()
	m, err := e.store.FirstMessage(id)
	if err != nil || len(m.Answer) > 0 {
		return e.answerOf(id)
	}
	return e.finished(ctx, id, heard, wait)
}

// admit checks who calls.
func (e *Engine) admit(in *Intake, c Call) error {
	names := in.plan.Document.Intake.Callers
	if len(names) == 0 {
		return nil
	}
	var callers []*connect.Connection
	for _, n := range names {
		if k := e.connection(n); k != nil && k.Kind == connect.KindCaller {
			callers = append(callers, k)
		}
	}
	if _, err := caller.Verify(callers, c.Header, c.Body, e.clock()); err != nil {
		return &run.RefusedError{Status: 401, Title: "The caller is not known", Detail: "send the key or signature that was agreed for " + in.Flow}
	}
	return nil
}

// secretHeaders names the headers that prove who calls; they are not kept.
func (e *Engine) secretHeaders(p *plan.Plan) map[string]bool {
	out := map[string]bool{"authorization": true, "cookie": true, "proxy-authorization": true, "webhook-signature": true}
	for _, n := range p.Document.Intake.Callers {
		if c := e.connection(n); c != nil && c.SignIn.Header != "" {
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
	sortHeaders(out)
	return out
}

func newTransaction(flow string, version int, id store.ID, in run.Envelope, r run.Received, source string) (*store.Transaction, *store.Message, error) {
	t := &store.Transaction{
		ID: id, Flow: flow, Version: version, Reference: r.Reference, OrderValue: r.Order, ReceivedAt: in.ReceivedAt,
	}
	m := &store.Message{Tx: id, Body: in.Body, Source: source}
	for _, part := range []struct {
		from any
		into *[]byte
	}{{in.Headers, &m.Headers}, {in.Params, &m.Params}, {in.Query, &m.Query}, {r.Warnings, &m.Warnings}} {
		b, err := json.Marshal(part.from)
		if err != nil {
			return nil, nil, err
		}
		*part.into = b
	}
	return t, m, nil
}

// once tells whether the message came before; then t is filled in as turned
// away, and the first one's id is given.
func (e *Engine) once(tx *store.Tx, p *plan.Plan, t *store.Transaction, value string) (*store.ID, error) {
	if p.Once == nil || value == "" {
		return nil, nil
	}
	now := e.clock()
	sum := sha256.Sum256([]byte(value))
	first, fresh, err := tx.Once(&store.OnceKey{Flow: t.Flow, Key: sum[:], Tx: t.ID, Until: now.Add(p.Document.Intake.OnceFor)}, now)
	if err != nil || fresh {
		return nil, err
	}
	t.State, t.FinishedAt = store.TurnedAway, &now
	t.DuplicateOf, t.Reason = &first, "duplicate of "+first.String()
	return &first, nil
}

// begin stores a new transaction and takes it as far as it goes; last is the
// walk with which it stops there.
func (e *Engine) begin(tx *store.Tx, p *plan.Plan, t *store.Transaction, m *store.Message, r run.Received, first *run.Result, after *aftermath) (last *run.Result, err error) {
	if err := tx.AddTransaction(t, m); err != nil {
		return nil, err
	}
	w := &walking{e: e, tx: tx, t: t, p: p, begun: begun{input: run.Input{Message: r.Message, Effects: map[string]step.Effect{}}}, after: after, fresh: true}
	return w.advance(first)
}

// answerOf gives what the caller of a transaction got.
func (e *Engine) answerOf(id store.ID) (*step.Answer, error) {
	m, err := e.store.FirstMessage(id)
	if errors.Is(err, ErrNotFound) || err == nil && len(m.Answer) == 0 {
		return run.StoredAnswer(id.String()), nil
	}
	if err != nil {
		return nil, err
	}
	var a step.Answer
	return &a, json.Unmarshal(m.Answer, &a)
}

// capturedSamples is how many messages an unpublished flow keeps.
const capturedSamples = 20

// keepSample keeps a message for a flow that was never published.
func (e *Engine) keepSample(ctx context.Context, in *Intake, c Call, headers []message.Header) (*step.Answer, error) {
	now := e.clock()
	received := "received " + now.Format("2006-01-02 15.04.05.000")
	s := Sample{Headers: map[string]string{}, Params: map[string]string{}, Query: map[string]string{}, At: now.Truncate(time.Millisecond)}
	for _, h := range headers {
		s.Headers[strings.ToLower(h.Name)] = h.Value
	}
	for _, p := range in.params {
		s.Params[p.Name] = p.Value
	}
	for _, q := range c.Query {
		s.Query[q.Name] = q.Value
	}
	s.setBody(c.Body)
	full := false
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		n, err := tx.CountSamples(in.Flow)
		if full = n >= capturedSamples; full || err != nil {
			return err
		}
		if s.Name, err = tx.FreeSampleName(in.Flow, received); err != nil {
			return err
		}
		return saveSample(tx, in.Flow, s)
	})
	if err != nil {
		return nil, fmt.Errorf("keeping the message as a sample: %w", err)
	}
	if full {
		return nil, &run.RefusedError{Status: 503, Title: "The flow is not published", Detail: fmt.Sprintf("%s keeps %d samples already and takes no more until it is published", in.Flow, capturedSamples)}
	}
	e.Events.Publish(TopicFlows)
	body, err := json.Marshal(map[string]string{"sample": s.Name, "detail": in.Flow + " is not published yet; the message is kept as a sample"})
	return &step.Answer{Status: 202, Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}}, Body: body}, err
}
