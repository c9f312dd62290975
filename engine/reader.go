package engine

import (
	"context"
	"encoding/json"
	"time"

	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// A source is where a flow reads inside the application: a queue, or a
// subscription to a topic.
type source struct{ kind, name, subscription string }

// sourceOf gives what an intake reads; ok is false for one that others call.
func sourceOf(in *flow.Intake) (s source, ok bool) {
	switch in.Kind {
	case "queue":
		return source{kind: in.Kind, name: in.Queue}, true
	case "topic":
		return source{in.Kind, in.Topic, in.Subscription}, true
	}
	return source{}, false
}

// channel is what readers are woken by and rates are kept under: a queue by its
// name, which has no slash, and a topic behind one.
func (s source) channel() string {
	if s.kind == "topic" {
		return topicChannel(s.name)
	}
	return s.name
}

func topicChannel(topic string) string { return "topic/" + topic }

func subscriptionChannel(topic, subscription string) string {
	return "topic/" + topic + "/" + subscription
}

// A consumer reads the source of one flow: it keeps at most a set number of
// messages in flight, from taking them until their transactions end.
type consumer struct {
	e      *Engine
	flow   string
	source source
	wake   chan struct{}
	stop   context.CancelFunc
}

// startConsumers sets a consumer going for every live flow with a source, and
// ends those that have lost theirs.
func (e *Engine) startConsumers() {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.ctx.Err() != nil {
		return
	}
	reads := func(f *flowState) (source, bool) {
		if f == nil || f.live == nil || f.paused {
			return source{}, false
		}
		return sourceOf(&f.live.Document.Intake)
	}
	for name, c := range e.consumers {
		if s, ok := reads(e.flows[name]); !ok || s != c.source {
			c.stop()
			delete(e.consumers, name)
		}
	}
	for name, f := range e.flows {
		s, ok := reads(f)
		if !ok || e.consumers[name] != nil {
			continue
		}
		ctx, stop := context.WithCancel(e.ctx)
		c := &consumer{e: e, flow: name, source: s, wake: make(chan struct{}, 1), stop: stop}
		e.consumers[name] = c
		e.work.Go(func() { c.run(ctx) })
	}
}

// wakeReaders wakes the readers of a queue, or of all subscriptions of a topic.
func (e *Engine) wakeReaders(channel string) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, c := range e.consumers {
		if c.source.channel() == channel {
			select {
			case c.wake <- struct{}{}:
			default:
			}
		}
	}
}

func (c *consumer) run(ctx context.Context) {
	for {
		more, err := c.takeSome(ctx)
		wait := idle
		if err == nil && !more && c.source.kind == "queue" {
			wait, err = c.untilExpiry()
		}
		if err != nil && ctx.Err() == nil {
			c.e.log.Error("reading messages", c.source.kind, c.source.name, "flow", c.flow, "error", err)
			more = false
		}
		if more {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-c.wake:
		case <-time.After(wait):
		}
	}
}

// takeSome takes messages and begins their transactions, in one database
// transaction. more tells that there may be others at once.
func (c *consumer) takeSome(ctx context.Context) (more bool, err error) {
	f := c.e.flow(c.flow)
	if f == nil || f.live == nil || f.paused || ctx.Err() != nil {
		return false, nil
	}
	take := c.takeFromQueue
	if c.source.kind == "topic" {
		take = c.takeFromTopic
	}
	after := newAftermath()
	err = c.e.store.Write(ctx, func(tx *store.Tx) (err error) {
		*after = *newAftermath()
		more, err = take(tx, f, after)
		return err
	})
	if err == nil {
		c.e.after(after)
	}
	return more && err == nil, err
}

// taken is how many messages one database transaction takes, at most.
const taken = 16

// arrival is a message that comes from inside the application.
type arrival struct {
	headers, body []byte
	reference     string
	source        string // in words
}

// receive makes the transaction of an arrival; refused says why the intake
// cannot read it.
func (e *Engine) receive(flow string, version int, p *plan.Plan, a arrival) (t *store.Transaction, m *store.Message, r run.Received, refused, err error) {
	id := store.NewID()
	envelope := run.Envelope{ID: id.String(), ReceivedAt: e.clock(), Params: []message.Header{}, Query: []message.Header{}, Body: a.body, Reference: a.reference}
	if err := json.Unmarshal(a.headers, &envelope.Headers); err != nil {
		return nil, nil, r, nil, err
	}
	r, refused = run.Receive(p, envelope)
	t, m, err = newTransaction(flow, version, id, envelope, r, a.source)
	if err == nil && refused != nil {
		t.Reference = a.reference
	}
	return t, m, r, refused, err
}

// take begins the transaction of an arrival. hold marks what it works on, until
// it ends; release gives back what is not begun.
func (e *Engine) take(tx *store.Tx, f *flowState, a arrival, after *aftermath, hold func(*store.Transaction) error, release func() error) error {
	t, m, received, refused, err := e.receive(f.name, f.version, f.live, a)
	if err != nil {
		return err
	}
	after.events[TopicTransactions], after.events[TopicQueues] = true, true
	if refused != nil {
		if err := e.deadOnArrival(tx, t, m, "intake", step.Data, refused.Error(), after); err != nil {
			return err
		}
		return release()
	}
	dup, err := e.once(tx, f.live, t, received.Once)
	if err != nil {
		return err
	}
	if dup != nil {
		if err := tx.AddTransaction(t, m); err != nil {
			return err
		}
		return release()
	}
	if err := hold(t); err != nil {
		return err
	}
	_, err = e.begin(tx, f.live, t, m, received, nil, after)
	return err
}

// deadOnArrival keeps a message that no step has seen, as a dead letter.
func (e *Engine) deadOnArrival(tx *store.Tx, t *store.Transaction, m *store.Message, phase string, class step.Class, reason string, after *aftermath) error {
	t.State, t.Reason, t.PlaceText = store.DeadLetter, reason, "intake"
	if err := tx.AddTransaction(t, m); err != nil {
		return err
	}
	w := &walking{e: e, tx: tx, t: t, after: after}
	return w.die(nil, step.Failure{Kind: "intake", Phase: phase, Class: class, Reason: reason})
}
