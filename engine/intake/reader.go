package intake

import (
	"context"
	"errors"
	"fmt"
	"time"

	"readyferry/core/step"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/engine/perform"
	"readyferry/engine/waker"
	"readyferry/store"
)

// A consumer reads the source of one flow: it keeps at most a set number of
// messages in flight, from taking them until their transactions end.
type consumer struct {
	*Intakes
	flow   string
	source catalog.Source
	wake   *waker.Sleeper
	stop   context.CancelFunc
	begun  int   // messages that were taken last
	bytes  int64 // of them
}

// startConsumers sets a consumer going for every live flow with a source, and
// ends those that have lost theirs.
func (k *Intakes) startConsumers() {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.Life.Ending() {
		return
	}
	reads := map[string]catalog.Source{}
	k.Catalog.Each(func(f *catalog.Flow) {
		if f.Live == nil || f.Paused {
			return
		}
		if s, ok := catalog.SourceOf(&f.Live.Document.Intake); ok {
			reads[f.Name] = s
		}
	})
	for name, c := range k.consumers {
		if s, ok := reads[name]; !ok || s != c.source {
			c.stop()
			delete(k.consumers, name)
		}
	}
	for name, s := range reads {
		if k.consumers[name] != nil {
			continue
		}
		ctx, stop := context.WithCancel(k.Life.Taking())
		c := &consumer{Intakes: k, flow: name, source: s, wake: k.Waker.Sleeper(), stop: stop}
		k.consumers[name] = c
		k.Life.Go(func() { c.run(ctx) })
	}
}

// wakeReaders wakes the readers of a queue, or of all subscriptions of a topic.
func (k *Intakes) wakeReaders(channel string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, c := range k.consumers {
		if c.source.Channel() == channel {
			c.wake.Wake()
		}
	}
}

func (c *consumer) run(ctx context.Context) {
	c.wake.Keep(ctx.Done(), func() (more bool, next time.Time, err error) {
		more, err = c.takeSome(ctx)
		if err == nil && !more && c.source.Kind == "queue" {
			next, err = c.nextExpiry()
		}
		if ctx.Err() != nil {
			return false, next, nil
		}
		if c.troubled(c.flow, err); err != nil {
			c.Log.Error("reading messages", c.source.Kind, c.source.Name, "flow", c.flow, "error", err)
		}
		return more && err == nil, next, nil // what is wrong may last: it is woken when that may have changed
	}, nil)
}

// taken is how many messages one database transaction takes, at most.
const taken = 16

// takeSome takes messages and begins their transactions, in one database
// transaction. more tells that there may be others at once.
func (c *consumer) takeSome(ctx context.Context) (more bool, err error) {
	f := c.Catalog.Flow(c.flow)
	if !c.takes(f) || ctx.Err() != nil {
		return false, nil
	}
	take := c.takeFromQueue
	if c.source.Kind == "topic" {
		take = c.takeFromTopic
	}
	if err := errors.Join(c.patient(f), c.paced(ctx, f)); err != nil {
		return false, err
	}
	err = c.Do(ctx, c.flow, func(s *journal.Session) (err error) {
		now := c.Catalog.Flow(c.flow)
		if more = c.takes(now); !more {
			return nil
		}
		if more, err = take(s, now); err != nil || !more {
			return err
		}
		// Whoever has paused the flow relies on it that nothing is begun behind that.
		s.Then(func(*store.Tx, *journal.Notice) error {
			if at := c.Catalog.Flow(c.flow); at == nil || at.Live != now.Live || at.Trial.Other(now.Trial) || at.Paused {
				return journal.ErrStale
			}
			return nil
		})
		return nil
	})
	if err == nil && more {
		c.came(f, c.begun, c.bytes)
	}
	return more && err == nil, err
}

// patient gives an error where as many messages of a flow as may wait for another try. It is
// asked behind what is in flight: of what comes to wait in between only this sees it twice.
func (c *consumer) patient(f *catalog.Flow) error {
	lent, err := c.Store.Lent(c.flow)
	if in := &f.Live.Document.Intake; err == nil && in.InFlight > 1 && lent >= int64(in.Waiting) {
		err = fmt.Errorf("%d messages of it wait for another try of a delivery, as many as may (waiting: %d); "+
			"it takes more when some of them have ended", lent, in.Waiting)
	}
	return err
}

// takes tells whether a flow takes messages.
func (c *consumer) takes(f *catalog.Flow) bool { return f != nil && f.Live != nil && !f.Paused }

// atOnce is how many messages a session may take.
func atOnce(s *journal.Session, free int) int {
	if s.Crowded() {
		return min(free, 1)
	}
	return min(free, taken)
}

// nextExpiry tells when a message of the queue expires next; zero for none.
func (c *consumer) nextExpiry() (time.Time, error) {
	at, err := c.Store.NextExpiry(c.source.Name)
	if err != nil || at == nil {
		return time.Time{}, err
	}
	return *at, nil
}

func (c *consumer) takeFromQueue(s *journal.Session, f *catalog.Flow) (more bool, err error) {
	queue := c.source.Name
	late, err := c.Store.Expired(queue, s.At, taken)
	if err != nil {
		return false, err
	}
	for i := range late {
		if err := c.expire(s, f, &late[i]); err != nil {
			return false, fmt.Errorf("message %d: %w", late[i].N, err)
		}
	}
	more = len(late) > 0
	if paused, err := c.Store.QueuePaused(queue); paused || err != nil {
		return more, err
	}
	inFlight, err := c.Store.Taken(queue, f.Name)
	if err != nil {
		return false, err
	}
	free := mostAtOnce(f, atOnce(s, f.Live.Document.Intake.InFlight-int(inFlight)))
	if free <= 0 {
		return more, nil
	}
	if err := c.patient(f); err != nil {
		return false, err
	}
	items, err := c.Store.Free(queue, free+len(late)) // those that are late stand among them still
	if err != nil {
		return false, err
	}
	begun, bytes := 0, int64(0)
	for i := range items {
		item := &items[i]
		if item.ExpiresAt != nil && !item.ExpiresAt.After(s.At) {
			continue
		}
		if begun == free || begun > 0 && s.Tired() {
			break
		}
		begun, bytes = begun+1, bytes+int64(len(item.Body))
		if err := c.takeItem(s, f, item); err != nil {
			return false, fmt.Errorf("message %d: %w", item.N, err)
		}
	}
	c.begun, c.bytes = begun, bytes
	if begun > 0 {
		s.Then(func(tx *store.Tx, n *journal.Notice) error {
			n.Taken[queue] += begun
			if paused, err := tx.QueuePaused(queue); paused || err != nil {
				return staleOr(err)
			}
			return nil
		})
	}
	return more || begun > 0, nil
}

func (c *consumer) takeItem(s *journal.Session, f *catalog.Flow, item *store.QueueItem) error {
	free := func(tx *store.Tx) error {
		if err := tx.StillFree(item); !errors.Is(err, store.ErrNotFound) {
			return err
		}
		return journal.ErrStale
	}
	return s.Take(f, perform.FromQueue(item), func(tx *store.Tx, t *store.Transaction) error {
		if err := free(tx); err != nil {
			return err
		}
		t.QueueItem = item.N
		return tx.Take(item.N, t.ID)
	}, func(tx *store.Tx) error {
		if err := free(tx); err != nil {
			return err
		}
		return tx.Finish(item.N)
	})
}

func staleOr(err error) error {
	if err != nil {
		return err
	}
	return journal.ErrStale
}

// expire makes a dead letter of a message that has waited too long.
func (c *consumer) expire(s *journal.Session, f *catalog.Flow, item *store.QueueItem) error {
	in, err := c.Receive(f.Name, f.Version, f.Live, perform.FromQueue(item))
	if err != nil {
		return err
	}
	in.Tx.Unbegun = true
	reason := fmt.Sprintf(
		"it expired: it waited longer than %s in the queue %s",
		item.ExpiresAt.Sub(item.PutAt),
		item.Queue,
	)
	s.Then(func(tx *store.Tx, n *journal.Notice) error {
		if err := tx.StillFree(item); errors.Is(err, store.ErrNotFound) {
			return journal.ErrStale
		} else if err != nil {
			return err
		}
		n.Events[journal.EventQueues] = true
		if err := c.DeadOnArrival(tx, n, &in.Tx, in.Message, step.Failure{Kind: "intake", Phase: "expiry",
			Class: step.Target, Reason: reason}); err != nil {
			return err
		}
		return tx.Finish(item.N)
	})
	return nil
}

// takeFromTopic takes the next messages of a subscription. Its position moves
// in the database transaction in which the messages' own transactions begin,
// so several flows that share a subscription never take the same one.
func (c *consumer) takeFromTopic(s *journal.Session, f *catalog.Flow) (more bool, err error) {
	topic, name := c.source.Name, c.source.Subscription
	sub, err := c.Store.Subscription(topic, name)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil // a person has removed it
	}
	if err != nil {
		return false, err
	}
	inFlight, err := c.Store.TakenFromTopic(topic, name, f.Name)
	if err != nil {
		return false, err
	}
	free := mostAtOnce(f, atOnce(s, f.Live.Document.Intake.InFlight-int(inFlight)))
	if free <= 0 {
		return false, nil
	}
	if err := c.patient(f); err != nil {
		return false, err
	}
	rows, err := c.Store.ReadTopic(&sub, free)
	if err != nil || len(rows) == 0 {
		return false, err
	}
	begun, bytes := 0, int64(0)
	for i := range rows {
		if i > 0 && s.Tired() {
			break
		}
		m := &rows[i]
		begun, bytes = begun+1, bytes+int64(len(m.Body))
		a := journal.Arrival{
			Headers:   m.Headers,
			Body:      m.Body,
			Reference: m.Reference,
			Source:    fmt.Sprintf("topic %s, offset %d", topic, m.N),
			From:      m.From,
			Journey:   m.Journey,
		}
		err := s.Take(f, a, func(tx *store.Tx, t *store.Transaction) error {
			t.FromTopic = true
			return tx.TakeFromTopic(&store.TopicTaken{Tx: t.ID, Topic: topic, Subscription: name, Flow: f.Name, N: m.N})
		}, nil)
		if err != nil {
			return false, fmt.Errorf("offset %d: %w", m.N, err)
		}
	}
	c.begun, c.bytes = begun, bytes
	was, next := sub.Position, rows[begun-1].N+1
	s.Then(func(tx *store.Tx, n *journal.Notice) error {
		now, err := tx.Subscription(topic, name)
		if errors.Is(err, store.ErrNotFound) || err == nil && now.Position != was {
			return journal.ErrStale
		}
		if err != nil {
			return err
		}
		n.Taken[catalog.SubscriptionChannel(topic, name)] += begun
		now.Position = next
		return tx.SaveSubscription(&now)
	})
	return true, nil
}
