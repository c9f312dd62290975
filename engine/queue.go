package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// A consumer reads the queue of one flow: it keeps at most a set number of
// messages in flight, from taking them until their transactions end.
type consumer struct {
	e     *Engine
	flow  string
	queue string
	wake  chan struct{}
	stop  context.CancelFunc
}

// startConsumers sets a consumer going for every live flow with a queue, and
// ends those that have lost theirs.
func (e *Engine) startConsumers() {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.ctx.Err() != nil {
		return
	}
	for name, c := range e.consumers {
		f := e.flows[name]
		if f == nil || f.live == nil || f.paused || f.live.Document.Intake.Kind != "queue" || f.live.Document.Intake.Queue != c.queue {
			c.stop()
			delete(e.consumers, name)
		}
	}
	for name, f := range e.flows {
		if f.live == nil || f.paused || f.live.Document.Intake.Kind != "queue" || e.consumers[name] != nil {
			continue
		}
		ctx, stop := context.WithCancel(e.ctx)
		c := &consumer{e: e, flow: name, queue: f.live.Document.Intake.Queue, wake: make(chan struct{}, 1), stop: stop}
		e.consumers[name] = c
		e.work.Go(func() { c.run(ctx) })
	}
}

func (e *Engine) wakeQueue(queue string) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, c := range e.consumers {
		if c.queue == queue {
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
		if err == nil && !more {
			wait, err = c.untilExpiry()
		}
		if err != nil && ctx.Err() == nil {
			c.e.log.Error("reading a queue", "queue", c.queue, "flow", c.flow, "error", err)
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

// untilExpiry tells how long the consumer may sleep.
func (c *consumer) untilExpiry() (time.Duration, error) {
	at, err := c.e.store.NextExpiry(c.queue)
	if err != nil || at == nil {
		return idle, err
	}
	return max(min(idle, at.Sub(c.e.clock())), time.Millisecond), nil
}

// takeSome takes free messages and begins their transactions, in one database
// transaction. more tells that there may be others at once.
func (c *consumer) takeSome(ctx context.Context) (more bool, err error) {
	f := c.e.flow(c.flow)
	if f == nil || f.live == nil || f.paused || ctx.Err() != nil {
		return false, nil
	}
	after := newAftermath()
	err = c.e.store.Write(ctx, func(tx *store.Tx) error {
		*after = *newAftermath()
		late, err := tx.Expired(c.queue, c.e.clock(), 16)
		if err != nil {
			return err
		}
		for i := range late {
			if err := c.e.expire(tx, f.name, f.version, f.live, &late[i], after); err != nil {
				return fmt.Errorf("message %d: %w", late[i].N, err)
			}
		}
		more = len(late) > 0
		if paused, err := tx.QueuePaused(c.queue); paused || err != nil {
			return err
		}
		taken, err := tx.Taken(c.queue)
		if err != nil {
			return err
		}
		free := min(f.live.Document.Intake.InFlight-int(taken), 16)
		if free <= 0 {
			return nil
		}
		items, err := tx.Free(c.queue, free)
		if err != nil {
			return err
		}
		more = more || len(items) == free
		for i := range items {
			if err := c.e.takeItem(tx, f.name, f.version, f.live, &items[i], after); err != nil {
				return fmt.Errorf("message %d: %w", items[i].N, err)
			}
		}
		return nil
	})
	if err == nil {
		c.e.after(after)
	}
	return more && err == nil, err
}

// receiveItem makes the transaction of a queue's message; refused says why the
// intake cannot read it.
func (e *Engine) receiveItem(flow string, version int, p *plan.Plan, item *store.QueueItem) (t *store.Transaction, m *store.Message, r run.Received, refused, err error) {
	id := store.NewID()
	envelope := run.Envelope{ID: id.String(), ReceivedAt: e.clock(), Params: []message.Header{}, Query: []message.Header{}, Body: item.Body, Reference: item.Reference}
	if err := json.Unmarshal(item.Headers, &envelope.Headers); err != nil {
		return nil, nil, r, nil, err
	}
	r, refused = run.Receive(p, envelope)
	t, m, err = newTransaction(flow, version, id, envelope, r, "queue "+item.Queue)
	if err == nil && refused != nil {
		t.Reference = item.Reference
	}
	return t, m, r, refused, err
}

func (e *Engine) takeItem(tx *store.Tx, flow string, version int, p *plan.Plan, item *store.QueueItem, after *aftermath) error {
	t, m, received, refused, err := e.receiveItem(flow, version, p, item)
	if err != nil {
		return err
	}
	id := t.ID
	after.taken[item.Queue]++
	after.events[TopicTransactions], after.events[TopicQueues] = true, true
	if refused != nil {
		return e.deadOnArrival(tx, t, m, item, "intake", step.Data, refused.Error(), after)
	}
	dup, err := e.once(tx, p, t, received.Once)
	if err != nil {
		return err
	}
	if dup != nil {
		if err := tx.AddTransaction(t, m); err != nil {
			return err
		}
		return tx.Finish(item.N)
	}
	t.QueueItem = item.N
	if err := tx.Take(item.N, id); err != nil {
		return err
	}
	_, err = e.begin(tx, p, t, m, received, nil, after)
	return err
}

// deadOnArrival keeps a message that no step has seen, as a dead letter.
func (e *Engine) deadOnArrival(tx *store.Tx, t *store.Transaction, m *store.Message, item *store.QueueItem, phase string, class step.Class, reason string, after *aftermath) error {
	t.State, t.Reason, t.PlaceText = store.DeadLetter, reason, "intake"
	if err := tx.AddTransaction(t, m); err != nil {
		return err
	}
	w := &walking{e: e, tx: tx, t: t, after: after}
	if err := w.die(nil, step.Failure{Kind: "intake", Phase: phase, Class: class, Reason: reason}); err != nil {
		return err
	}
	return tx.Finish(item.N)
}

// expire makes a dead letter of a message that has waited too long.
func (e *Engine) expire(tx *store.Tx, flow string, version int, p *plan.Plan, item *store.QueueItem, after *aftermath) error {
	t, m, _, _, err := e.receiveItem(flow, version, p, item)
	if err != nil {
		return err
	}
	t.Unbegun = true
	after.events[TopicTransactions], after.events[TopicQueues] = true, true
	reason := fmt.Sprintf("it expired: it waited longer than %s in the queue %s", item.ExpiresAt.Sub(item.PutAt), item.Queue)
	return e.deadOnArrival(tx, t, m, item, "expiry", step.Target, reason, after)
}
