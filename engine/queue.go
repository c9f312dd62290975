package engine

import (
	"fmt"
	"time"

	"readyferry/core/plan"
	"readyferry/core/step"
	"readyferry/store"
)

// untilExpiry tells how long the reader of a queue may sleep.
func (c *consumer) untilExpiry() (time.Duration, error) {
	at, err := c.e.store.NextExpiry(c.source.name)
	if err != nil || at == nil {
		return idle, err
	}
	return max(min(idle, at.Sub(c.e.clock())), time.Millisecond), nil
}

func (c *consumer) takeFromQueue(tx *store.Tx, f *flowState, after *aftermath) (more bool, err error) {
	queue := c.source.name
	late, err := tx.Expired(queue, c.e.clock(), taken)
	if err != nil {
		return false, err
	}
	for i := range late {
		if err := c.e.expire(tx, f.name, f.version, f.live, &late[i], after); err != nil {
			return false, fmt.Errorf("message %d: %w", late[i].N, err)
		}
	}
	more = len(late) > 0
	if paused, err := tx.QueuePaused(queue); paused || err != nil {
		return more, err
	}
	inFlight, err := tx.Taken(queue, f.name)
	if err != nil {
		return false, err
	}
	free := min(f.live.Document.Intake.InFlight-int(inFlight), taken)
	if free <= 0 {
		return more, nil
	}
	items, err := tx.Free(queue, free)
	if err != nil {
		return false, err
	}
	for i := range items {
		item := &items[i]
		after.taken[queue]++
		err := c.e.take(tx, f, fromQueue(item), after, func(t *store.Transaction) error {
			t.QueueItem = item.N
			return tx.Take(item.N, t.ID)
		}, func() error { return tx.Finish(item.N) })
		if err != nil {
			return false, fmt.Errorf("message %d: %w", item.N, err)
		}
	}
	return more || len(items) == free, nil
}

// fromQueue gives a message of a queue as it arrives at its reader.
func fromQueue(item *store.QueueItem) arrival {
	return arrival{item.Headers, item.Body, item.Reference, "queue " + item.Queue}
}

// expire makes a dead letter of a message that has waited too long.
func (e *Engine) expire(tx *store.Tx, flow string, version int, p *plan.Plan, item *store.QueueItem, after *aftermath) error {
	t, m, _, _, err := e.receive(flow, version, p, fromQueue(item))
	if err != nil {
		return err
	}
	t.Unbegun = true
	after.events[TopicTransactions], after.events[TopicQueues] = true, true
	reason := fmt.Sprintf("it expired: it waited longer than %s in the queue %s", item.ExpiresAt.Sub(item.PutAt), item.Queue)
	if err := e.deadOnArrival(tx, t, m, "expiry", step.Target, reason, after); err != nil {
		return err
	}
	return tx.Finish(item.N)
}
