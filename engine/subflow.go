package engine

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// elsewhere hands a message to another flow, or asks by a queue; a step that
// waits gets no effect yet.
func (w *walking) elsewhere(want *step.Want, refused map[string]step.Failure) (moved bool, err error) {
	if w.held[want.Path] {
		return false, nil
	}
	do := w.callFlow
	if want.Kind == step.WantReply {
		do = w.question
	}
	effect, failure, err := do(want)
	switch {
	case err != nil:
		return false, err
	case failure != nil && want.Soft:
		return true, w.record(want.Path, step.Effect{Failed: failure.Reason})
	case failure != nil:
		failure.Kind = map[string]string{step.WantReply: "ask", step.WantFlow: "subflow"}[want.Kind]
		refused[want.Path] = *failure
		return false, nil
	case effect == nil:
		if w.held == nil {
			w.held = map[string]bool{}
		}
		w.held[want.Path] = true
		return false, nil
	}
	return true, w.record(want.Path, *effect)
}

// callFlow begins the transaction of another flow. Without effect and failure
// its answer is waited for.
func (w *walking) callFlow(want *step.Want) (*step.Effect, *step.Failure, error) {
	name := want.Subflow.Flow
	fails := func(class step.Class, reason string, args ...any) (*step.Effect, *step.Failure, error) {
		return nil, &step.Failure{Phase: "flow", Class: class, Reason: fmt.Sprintf(reason, args...)}, nil
	}
	f := w.e.flow(name)
	switch {
	case f == nil || f.live == nil:
		return fails(step.Flow, "there is no published flow %q", name)
	case f.paused:
		return fails(step.Target, "the flow %s is paused", name)
	case w.t.Depth+1 > step.MaxDepth:
		return fails(step.Flow, "%d flows have called each other in a row, which is the limit; %s would be one more", step.MaxDepth, name)
	}
	headers, err := json.Marshal(want.Request.Headers)
	if err != nil {
		return nil, nil, err
	}
	t, m, received, no, err := w.e.receive(f.name, f.version, f.live, arrival{headers, want.Request.Body, w.t.Reference, "flow " + w.t.Flow})
	if err != nil {
		return nil, nil, err
	}
	if no != nil {
		return fails(step.Data, "the flow %s does not take it: %v", name, no)
	}
	t.Caller, t.CallerPath, t.CallerWaits, t.Depth = &w.t.ID, want.Path, want.Subflow.Wait, w.t.Depth+1
	w.after.events[TopicTransactions] = true
	dup, err := w.e.once(w.tx, f.live, t, received.Once)
	if err != nil {
		return nil, nil, err
	}
	if dup != nil {
		if err := w.tx.AddTransaction(t, m); err != nil {
			return nil, nil, err
		}
		if want.Subflow.Wait {
			return fails(step.Data, "the flow %s turned the message away: %s", name, t.Reason)
		}
		return &step.Effect{Item: t.ID.String()}, nil, nil
	}
	if err := w.tx.AddTransaction(t, m); err != nil {
		return nil, nil, err
	}
	child := &walking{e: w.e, tx: w.tx, t: t, p: f.live, begun: begun{input: run.Input{Message: received.Message, Effects: map[string]step.Effect{}, Called: true}}, after: w.after, fresh: true, quiet: true}
	last, err := child.advance(nil)
	if err != nil {
		return nil, nil, fmt.Errorf("the flow %s: %w", name, err)
	}
	if !want.Subflow.Wait {
		return &step.Effect{Item: t.ID.String()}, nil, nil
	}
	if e := calledEffect(t, last); e != nil {
		if e.Failed != "" {
			return fails(step.Data, "%s", e.Failed)
		}
		return e, nil, nil
	}
	return nil, nil, w.waitsAt(want.Path, w.e.clock().Add(want.Subflow.Within), "", "waits for the flow "+name, false)
}

// The headers of a question by a queue, and of its reply. (From memory: these
// names are common practice in messaging.)
const (
	correlationHeader = "Correlation-Id"
	replyToHeader     = "Reply-To"
)

// question puts a question into a queue and waits for its reply.
func (w *walking) question(want *step.Want) (*step.Effect, *step.Failure, error) {
	q, now := want.Question, w.e.clock()
	id := run.DeliveryID(w.t.ID.String(), want.Path)
	set := []message.Header{{Name: correlationHeader, Value: id}, {Name: replyToHeader, Value: q.ReplyTo}}
	for _, h := range want.Request.Headers {
		if !strings.EqualFold(h.Name, correlationHeader) && !strings.EqualFold(h.Name, replyToHeader) {
			set = append(set, h)
		}
	}
	headers, err := json.Marshal(set)
	if err != nil {
		return nil, nil, err
	}
	item := &store.QueueItem{Queue: want.Target, From: w.t.ID, Path: want.Path, Headers: headers, Body: want.Request.Body, Reference: w.t.Reference, PutAt: now, Priority: want.Priority}
	failure, err := w.enqueue(item, q.Within)
	if failure != nil || err != nil {
		return nil, failure, err
	}
	w.after.queues[want.Target] = true
	w.after.put[want.Target]++
	w.after.events[TopicQueues] = true
	if err := w.tx.Ask(&store.Ask{Correlation: id, Tx: w.t.ID, Path: want.Path, ReplyTo: q.ReplyTo}); err != nil {
		return nil, nil, err
	}
	return nil, nil, w.waitsAt(want.Path, now.Add(q.Within), "", "waits for a reply in "+q.ReplyTo, false)
}

// takesReplies tells whether a live flow waits for replies in a queue.
func (e *Engine) takesReplies(queue string) bool { return len(e.asksBy(queue, false)) > 0 }

// asksBy names the live flows that wait for replies in a queue, and with drafts
// those whose draft does.
func (e *Engine) asksBy(queue string, drafts bool) (out []string) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, f := range e.flows {
		p := f.live
		if p == nil && drafts {
			p = f.draft
		}
		if p == nil {
			continue
		}
		for _, u := range p.Uses {
			if u.Kind == step.UseReplies && u.Name == queue {
				out = append(out, f.name)
				break
			}
		}
	}
	return out
}

// ReplyQueues lists the queues in which live flows wait for replies, with the flows.
func (e *Engine) ReplyQueues() map[string][]string {
	e.mu.RLock()
	defer e.mu.RUnlock()
	out := map[string][]string{}
	for _, f := range e.flows {
		if f.live == nil {
			continue
		}
		seen := map[string]bool{}
		for _, u := range f.live.Uses {
			if u.Kind == step.UseReplies && !seen[u.Name] {
				seen[u.Name] = true
				out[u.Name] = append(out[u.Name], f.name)
			}
		}
	}
	return out
}

// replied takes a question on when what was put into a queue is its reply. What
// nobody waits for any more stays in the queue, where people see it.
func (w *walking) replied(item *store.QueueItem, req *step.Request) {
	id := ""
	for _, h := range req.Headers {
		if strings.EqualFold(h.Name, correlationHeader) {
			id = h.Value
		}
	}
	if id == "" {
		return
	}
	w.next = append(w.next, func() error {
		a, err := w.tx.TakeAsk(id, item.Queue)
		if errors.Is(err, ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := w.tx.Finish(item.N); err != nil {
			return err
		}
		w.after.taken[item.Queue]++
		asker, err := w.e.load(w.tx, a.Tx, w.after)
		if err != nil {
			return err
		}
		l := &store.TimeLimit{Tx: a.Tx, Path: a.Path, Waits: true}
		return asker.goesOn(l, step.Effect{Status: 200, Headers: req.Headers, Body: req.Body, Item: fmt.Sprint(item.N)})
	})
}

// noReply ends the wait for an answer that has not come.
func (w *walking) noReply(l *store.TimeLimit, want *step.Want) error {
	f := step.Failure{Phase: "within", Class: step.Target}
	if want.Kind == step.WantReply {
		f.Reason = fmt.Sprintf("no reply came in %s within %s", want.Question.ReplyTo, want.Question.Within)
		if err := w.tx.DropAsk(run.DeliveryID(w.t.ID.String(), want.Path)); err != nil {
			return err
		}
	} else {
		f.Reason = fmt.Sprintf("the flow %s did not answer within %s", want.Subflow.Flow, want.Subflow.Within)
	}
	return w.inVain(l, want, f)
}

// calls finds a flow that is not there, or that leads back to this one.
func (e *Engine) calls(name string, u step.Use, add func(level flow.Level, code, stepID, ptr, msg, repair string)) {
	if u.Name == name {
		add(flow.Error, "cycle", u.Step, u.Pointer, "the flow calls itself", "call another flow, or use split or code to repeat something")
		return
	}
	f := e.flow(u.Name)
	if f == nil {
		add(flow.Error, "unknown-flow", u.Step, u.Pointer, fmt.Sprintf("there is no flow named %q", u.Name), "make it, or name another")
		return
	}
	if f.live == nil {
		add(flow.Warning, "unpublished-flow", u.Step, u.Pointer, fmt.Sprintf("the flow %s was never published; messages for it become dead letters", u.Name), "publish that flow first")
	}
	if way := e.leadsTo(u.Name, name, nil); way != nil {
		add(flow.Error, "cycle", u.Step, u.Pointer, fmt.Sprintf("the flows call each other in a circle: %s", strings.Join(append([]string{name}, way...), " → ")), "let one of them deliver to a queue instead")
	}
}

// leadsTo gives the way from one flow to another by its subflows, or nil.
func (e *Engine) leadsTo(from, to string, way []string) []string {
	way = append(way[:len(way):len(way)], from)
	f := e.flow(from)
	if f == nil || len(way) > 50 {
		return nil
	}
	for _, p := range []*plan.Plan{f.live, f.draft} {
		if p == nil {
			continue
		}
		for _, u := range p.Uses {
			if u.Kind != step.UseFlow {
				continue
			}
			if u.Name == to {
				return append(way, to)
			}
			seen := false
			for _, w := range way {
				seen = seen || w == u.Name
			}
			if !seen {
				if found := e.leadsTo(u.Name, to, way); found != nil {
					return found
				}
			}
		}
	}
	return nil
}
