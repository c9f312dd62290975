package perform

import (
	"context"
	"errors"
	"fmt"

	"readyferry/core/plan"
	"readyferry/engine/journal"
	"readyferry/store"
)

// batch is how many messages of a queue one database transaction moves or
// purges, so that nothing else waits for long.
const batch = 100

// PauseQueue stops a queue from handing out messages, or lets it go on. What
// is in flight goes on; what is put stays there.
func (p *Performers) PauseQueue(ctx context.Context, queue string, pause bool) error {
	if err := p.Store.Write(ctx, func(tx *store.Tx) error { return tx.PauseQueue(queue, pause, p.Now()) }); err != nil {
		return err
	}
	p.Announce(journal.EventQueues)
	p.wakeReaders(queue)
	return nil
}

// MoveMessages moves free messages of a queue to another one and tells how
// many; ns chooses some by number, nil takes all that are there. What is in
// flight stays. When ctx ends, what is moved stays moved.
func (p *Performers) MoveMessages(ctx context.Context, from, to string, ns []int64) (moved int64, err error) {
	switch {
	case from == to:
		return 0, fmt.Errorf("%w: the messages are in %s already", journal.ErrDecision, to)
	case len(p.Catalog.Readers(to, false)) == 0 && !p.Catalog.ReadOutside(to):
		return 0, fmt.Errorf("%w: no flow reads the queue %s; publish one that does", journal.ErrDecision, to)
	}
	defer func() {
		if moved > 0 {
			p.Announce(journal.EventQueues)
			p.wakeReaders(to)
		}
	}()
	for {
		n, asked := int64(0), int64(1)
		err := p.Store.Write(ctx, func(tx *store.Tx) (err error) {
			free, limit, err := tx.QueueLimit(to)
			if err != nil {
				return err
			}
			if free >= limit {
				if rest, err := tx.FreeOf(from, ns, 1); err != nil || len(rest) == 0 {
					return err // all have found room
				}
				return fmt.Errorf("%w: %s", journal.ErrDecision, full(to, free, limit))
			}
			asked = min(batch, limit-free)
			n, err = tx.MoveItems(from, to, ns, int(asked))
			return err
		})
		moved += n
		if errors.Is(err, journal.ErrDecision) && moved > 0 {
			return moved, fmt.Errorf("%w; %d messages were moved before", err, moved)
		}
		if err != nil || n < asked {
			return moved, err
		}
		p.Announce(journal.EventQueues)
	}
}

// LimitQueue sets how many messages may wait in a queue.
func (p *Performers) LimitQueue(ctx context.Context, queue string, limit int64) error {
	if limit < 1 {
		return fmt.Errorf("%w: the limit of a queue is 1 or more, not %d", journal.ErrDecision, limit)
	}
	err := p.Store.Write(ctx, func(tx *store.Tx) error {
		free, _, err := tx.QueueLimit(queue)
		if err != nil {
			return err
		}
		if free == 0 && !p.known(queue) {
			return journal.ErrNotFound
		}
		return tx.SetQueue(&store.QueueSettings{Queue: queue, Limit: limit})
	})
	if err == nil {
		p.Announce(journal.EventQueues)
	}
	return err
}

// PurgeMessages takes free messages out of a queue for good and tells how
// many; ns chooses some by number, nil takes all. Each leaves a transaction
// that is turned away, with the reason. When ctx ends, what is purged stays so.
func (p *Performers) PurgeMessages(
	ctx context.Context,
	queue string,
	ns []int64,
	why string,
) (purged int64, err error) {
	reason := "purged from the queue " + queue
	if why != "" {
		reason += ": " + why
	}
	for {
		n := 0
		err := p.Do(ctx, queue, func(s *journal.Session) error {
			items, err := p.Store.FreeOf(queue, ns, batch)
			if err != nil {
				return err
			}
			n = len(items)
			for i := range items {
				if err := p.purgeOne(s, &items[i], reason); err != nil {
					return fmt.Errorf("message %d: %w", items[i].N, err)
				}
			}
			return nil
		})
		if err != nil {
			return purged, err
		}
		purged += int64(n)
		if n < batch {
			return purged, nil
		}
	}
}

func (p *Performers) purgeOne(s *journal.Session, item *store.QueueItem, reason string) error {
	flow, version, plan, err := p.ownerOf(item)
	if err != nil {
		return err
	}
	in, err := p.Receive(flow, version, plan, FromQueue(item))
	if err != nil {
		return err
	}
	s.Then(func(tx *store.Tx, n *journal.Notice) error {
		if err := tx.StillFree(item); err != nil {
			return stalled(err)
		}
		n.Events[journal.EventTransactions], n.Events[journal.EventQueues] = true, true
		now := p.Now()
		in.Tx.State, in.Tx.Reason, in.Tx.FinishedAt, in.Tx.Unbegun = store.TurnedAway, reason, &now, true
		if err := tx.AddTransaction(&in.Tx, in.Message); err != nil {
			return err
		}
		return tx.Finish(item.N)
	})
	return nil
}

// stalled gives ErrStale for a message that another has taken meanwhile.
func stalled(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return journal.ErrStale
	}
	return err
}

// FromQueue gives a message of a queue as it arrives at its reader.
func FromQueue(item *store.QueueItem) journal.Arrival {
	return journal.Arrival{
		Headers:   item.Headers,
		Body:      item.Body,
		Reference: item.Reference,
		Source:    "queue " + item.Queue,
		From:      item.From,
		Journey:   item.Journey,
	}
}

// ownerOf names the flow that a message of a queue belongs to: the first that
// reads the queue, else the one that put it there.
func (p *Performers) ownerOf(item *store.QueueItem) (string, int, *plan.Plan, error) {
	for _, name := range p.Catalog.Readers(item.Queue, false) {
		if f := p.Catalog.Flow(name); f != nil && f.Live != nil {
			return name, f.Version, f.Live, nil
		}
	}
	from, err := p.Store.Transaction(item.From)
	if err != nil {
		return "", 0, nil, err
	}
	version, err := p.Catalog.Plan(from.Flow, from.Version)
	return from.Flow, from.Version, version, err
}

// wakeReaders wakes the readers of a queue, or of all subscriptions of a topic.
func (p *Performers) wakeReaders(channel string) {
	n := journal.NewNotice()
	n.Channels[channel] = true
	p.Tell(n)
}

// known tells whether a live flow reads a queue or topic.
func (p *Performers) known(channel string) bool { return len(p.Catalog.Readers(channel, false)) > 0 }
