package perform

import (
	"context"
	"fmt"
	"time"

	"readyferry/core/flow"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// beginAt gives the offset at which a new subscription begins, or an old one is
// set to.
func beginAt(tx *store.Tx, t store.Topic, b flow.Begin) (int64, error) {
	switch {
	case b.Latest:
		return t.Next, nil
	case b.Offset != nil:
		return max(t.First, min(*b.Offset, t.Next)), nil
	case !b.Time.IsZero():
		return tx.OffsetAt(t, b.Time)
	}
	return t.First, nil
}

// Subscribe makes the subscription that an intake reads, unless it is there.
func (p *Performers) Subscribe(tx *store.Tx, in *flow.Intake) error {
	if in.Kind != "topic" {
		return nil
	}
	return tx.Subscribe(
		in.Topic,
		in.Subscription,
		p.Now(),
		func(t store.Topic) (int64, error) { return beginAt(tx, t, in.Begin) },
	)
}

// Rewind sets a subscription to another place in its topic, back or forward.
// What it works on goes on. It gives the new position.
func (p *Performers) Rewind(ctx context.Context, topic, subscription string, to flow.Begin) (at int64, err error) {
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		s, err := tx.Subscription(topic, subscription)
		if err != nil {
			return err
		}
		t, err := tx.Topic(topic)
		if err != nil {
			return err
		}
		if to.Offset != nil && (*to.Offset < t.First || *to.Offset > t.Next) {
			return fmt.Errorf(
				"%w: the topic %s holds the offsets from %d to %d; %d is none of them",
				journal.ErrDecision,
				topic,
				t.First,
				t.Next-1,
				*to.Offset,
			)
		}
		if at, err = beginAt(tx, t, to); err != nil {
			return err
		}
		s.Position = at
		return tx.SaveSubscription(&s)
	})
	if err == nil {
		p.Announce(journal.EventQueues)
		p.wakeReaders(catalog.TopicChannel(topic))
	}
	return at, err
}

// Unsubscribe removes a subscription that no live flow reads.
func (p *Performers) Unsubscribe(ctx context.Context, topic, subscription string) error {
	if readers := p.Catalog.TopicReaders()[catalog.Source{Kind: "topic", Name: topic,
		Subscription: subscription}.Key()]; len(
		readers,
	) > 0 {
		return fmt.Errorf("%w: the flow %s reads the subscription %s", journal.ErrInUse, readers[0], subscription)
	}
	err := p.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Subscription(topic, subscription); err != nil {
			return err
		}
		return tx.Unsubscribe(topic, subscription)
	})
	if err == nil {
		p.Announce(journal.EventQueues)
	}
	return err
}

// Retention says how old and how large the log of a topic may become.
type Retention struct {
	KeepFor    time.Duration // 0: no bound
	KeepBytes  int64         // 0: no bound
	DropUnread bool
}

// SetRetention sets the retention of a topic that exists.
func (p *Performers) SetRetention(ctx context.Context, topic string, r Retention) error {
	if r.KeepFor < 0 || r.KeepBytes < 0 {
		return fmt.Errorf("%w: an age or a size cannot be negative; 0 stands for no bound", journal.ErrDecision)
	}
	err := p.Store.Write(ctx, func(tx *store.Tx) error {
		all, err := tx.Topic(topic)
		if err != nil {
			return err
		}
		if all.Next == 0 && !p.known(catalog.TopicChannel(topic)) {
			return journal.ErrNotFound
		}
		all.KeepFor, all.KeepBytes, all.DropUnread = r.KeepFor, r.KeepBytes, r.DropUnread
		return tx.SaveTopic(&all)
	})
	if err != nil {
		return err
	}
	p.Announce(journal.EventQueues)
	return p.retain(ctx)
}

// retain drops what topics need not keep any longer, a little at a time.
func (p *Performers) retain(ctx context.Context) error {
	topics, err := p.Store.Topics()
	if err != nil {
		return err
	}
	for _, t := range topics {
		for {
			dropped := 0
			err := p.Store.Write(ctx, func(tx *store.Tx) (err error) {
				dropped, err = tx.Retain(t.Name, p.Now(), batch)
				return err
			})
			if err != nil {
				return fmt.Errorf("topic %s: %w", t.Name, err)
			}
			if dropped > 0 {
				p.Announce(journal.EventQueues)
			}
			if dropped < batch {
				break
			}
		}
	}
	return nil
}
