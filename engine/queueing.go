package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"readyferry/core/plan"
	"readyferry/store"
)

// batch is how many messages of a queue one database transaction moves or
// purges, so that nothing else waits for long.
const batch = 200

// PauseQueue stops a queue from handing out messages, or lets it go on. What
// is in flight goes on; what is put stays there.
func (e *Engine) PauseQueue(ctx context.Context, queue string, pause bool) error {
	if err := e.store.Write(ctx, func(tx *store.Tx) error { return tx.PauseQueue(queue, pause, e.clock()) }); err != nil {
		return err
	}
	e.Events.Publish(TopicQueues)
	e.wakeReaders(queue)
	return nil
}

// MoveMessages moves free messages of a queue to another one and tells how
// many; ns chooses some by number, nil takes all that are there. What is in
// flight stays. When ctx ends, what is moved stays moved.
func (e *Engine) MoveMessages(ctx context.Context, from, to string, ns []int64) (moved int64, err error) {
	switch {
	case from == to:
		return 0, fmt.Errorf("%w: the messages are in %s already", ErrDecision, to)
	case len(e.queueReaders(to, false)) == 0:
		return 0, fmt.Errorf("%w: no flow reads the queue %s; publish one that does", ErrDecision, to)
	}
	defer func() {
		if moved > 0 {
			e.Events.Publish(TopicQueues)
			e.wakeReaders(to)
		}
	}()
	for {
		n, asked := int64(0), int64(1)
		err := e.store.Write(ctx, func(tx *store.Tx) (err error) {
			free, limit, err := tx.QueueLimit(to)
			if err != nil {
				return err
			}
			if free >= limit {
				if rest, err := tx.FreeOf(from, ns, 1); err != nil || len(rest) == 0 {
					return err // all have found room
				}
				return fmt.Errorf("%w: %s", ErrDecision, full(to, free, limit))
			}
			asked = min(batch, limit-free)
			n, err = tx.MoveItems(from, to, ns, int(asked))
			return err
		})
		moved += n
		if errors.Is(err, ErrDecision) && moved > 0 {
			return moved, fmt.Errorf("%w; %d messages were moved before", err, moved)
		}
		if err != nil || n < asked {
			return moved, err
		}
		e.Events.Publish(TopicQueues)
	}
}

// full says that a queue takes no more.
func full(queue string, free, limit int64) string {
	return fmt.Sprintf("the queue %s is full: %d messages wait in it, and its limit is %d", queue, free, limit)
}

// LimitQueue sets how many messages may wait in a queue.
func (e *Engine) LimitQueue(ctx context.Context, queue string, limit int64) error {
	if limit < 1 {
		return fmt.Errorf("%w: the limit of a queue is 1 or more, not %d", ErrDecision, limit)
	}
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		free, _, err := tx.QueueLimit(queue)
		if err != nil {
			return err
		}
		if free == 0 && !e.known(queue) {
			return ErrNotFound
		}
		return tx.SetQueue(&store.QueueSettings{Queue: queue, Limit: limit})
	})
	if err == nil {
		e.Events.Publish(TopicQueues)
	}
	return err
}

// PurgeMessages takes free messages out of a queue for good and tells how
// many; ns chooses some by number, nil takes all. Each leaves a transaction
// that is turned away, with the reason. When ctx ends, what is purged stays so.
func (e *Engine) PurgeMessages(ctx context.Context, queue string, ns []int64, why string) (purged int64, err error) {
	reason := "purged from the queue " + queue
	if why != "" {
		reason += ": " + why
	}
	for {
		n := 0
		after := newAftermath()
		err := e.store.Write(ctx, func(tx *store.Tx) error {
			*after = *newAftermath()
			after.events[TopicTransactions], after.events[TopicQueues] = true, true
			items, err := tx.FreeOf(queue, ns, batch)
			if err != nil {
				return err
			}
			n = len(items)
			for i := range items {
				if err := e.purgeOne(tx, &items[i], reason); err != nil {
					return fmt.Errorf("message %d: %w", items[i].N, err)
				}
			}
			return nil
		})
		if err != nil {
			return purged, err
		}
		purged += int64(n)
		e.after(after)
		if n < batch {
			return purged, nil
		}
	}
}

func (e *Engine) purgeOne(tx *store.Tx, item *store.QueueItem, reason string) error {
	flow, version, p, err := e.ownerOf(tx, item)
	if err != nil {
		return err
	}
	t, m, _, _, err := e.receive(flow, version, p, fromQueue(item))
	if err != nil {
		return err
	}
	now := e.clock()
	t.State, t.Reason, t.FinishedAt, t.Unbegun = store.TurnedAway, reason, &now, true
	if err := tx.AddTransaction(t, m); err != nil {
		return err
	}
	return tx.Finish(item.N)
}

// ownerOf names the flow that a message of a queue belongs to: the first that
// reads the queue, else the one that put it there.
func (e *Engine) ownerOf(tx *store.Tx, item *store.QueueItem) (string, int, *plan.Plan, error) {
	readers := e.queueReaders(item.Queue, false)
	slices.Sort(readers)
	for _, name := range readers {
		if f := e.flow(name); f != nil && f.live != nil {
			return name, f.version, f.live, nil
		}
	}
	from, err := tx.Transaction(item.From)
	if err != nil {
		return "", 0, nil, err
	}
	p, err := e.plan(from.Flow, from.Version)
	return from.Flow, from.Version, p, err
}
