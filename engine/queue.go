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
		case <-time.After(idle):
		}
	}
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
		more = len(items) == free
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

func (e *Engine) takeItem(tx *store.Tx, flow string, version int, p *plan.Plan, item *store.QueueItem, after *aftermath) error {
	id := store.NewID()
	envelope := run.Envelope{ID: id.String(), ReceivedAt: e.clock(), Params: []message.Header{}, Query: []message.Header{}, Body: item.Body, Reference: item.Reference}
	if err := json.Unmarshal(item.Headers, &envelope.Headers); err != nil {
		return err
	}
	received, refused := run.Receive(p, envelope)
	t, m, err := newTransaction(flow, version, id, envelope, received, "queue "+item.Queue)
	if err != nil {
		return err
	}
	after.events[TopicTransactions], after.events[TopicQueues] = true, true
	if refused != nil {
		return e.deadOnArrival(tx, t, m, item, refused, after)
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

// deadOnArrival keeps a message that its intake cannot read.
func (e *Engine) deadOnArrival(tx *store.Tx, t *store.Transaction, m *store.Message, item *store.QueueItem, refused error, after *aftermath) error {
	t.State, t.Reason, t.PlaceText = store.DeadLetter, refused.Error(), "intake"
	t.Reference = item.Reference
	if err := tx.AddTransaction(t, m); err != nil {
		return err
	}
	w := &walking{e: e, tx: tx, t: t, after: after}
	if err := w.die(nil, step.Failure{Kind: "intake", Phase: "intake", Class: step.Data, Reason: refused.Error()}); err != nil {
		return err
	}
	return tx.Finish(item.N)
}
