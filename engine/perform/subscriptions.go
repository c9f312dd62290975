package perform

import (
	"context"
	"fmt"
	"time"

	"readyferry/core/flow"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/engine/waker"
	"readyferry/store"
)

// TopicMessage is a message of a topic.
type TopicMessage = store.TopicMessage

// OfTopic names the queues of all subscriptions of a topic, for EndLease.
func OfTopic(topic string) string { return topic + subscribing }

// TakeFromTopic hands messages of a topic to somebody outside, under a subscription: what
// it has not read is put into a queue of its own, and leased from there. A subscription that
// is not there is made, and begins with what comes from now on, or with the oldest.
func (p *Performers) TakeFromTopic(
	ctx context.Context,
	topic, subscription, key string,
	earliest bool,
	limit int,
	wait, lease time.Duration,
) ([]Leased, error) {
	queue := subscribed(topic, subscription)
	timer := time.NewTimer(wait)
	defer timer.Stop()
	comes, back := p.waiting.enter(catalog.TopicChannel(topic)), p.waiting.enter(queue)
	defer p.waiting.leave(catalog.TopicChannel(topic), comes)
	defer p.waiting.leave(queue, back)
	for {
		pulled, err := p.pull(ctx, topic, subscription, earliest, limit)
		if err != nil {
			return nil, err
		}
		out, err := p.takeNow(ctx, queue, key, limit, lease)
		if err != nil || len(out) > 0 {
			return out, err
		}
		if pulled > 0 {
			continue // somebody else was faster
		}
		select {
		case <-comes:
		case <-back:
		case <-timer.C:
			return []Leased{}, nil
		case <-p.Life.Closing():
			return []Leased{}, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// subscribing stands in the name of the queue of a subscription from outside; the name of no
// other queue can have it.
const subscribing = ":"

// subscribed names the queue of a subscription from outside. People see it among the others,
// and can look into it, pause it and move what is in it.
func subscribed(topic, subscription string) string { return topic + subscribing + subscription }

// pull puts what a subscription has not read into its queue, so much as is asked for beyond
// what waits there already.
func (p *Performers) pull(
	ctx context.Context,
	topic, subscription string,
	earliest bool,
	limit int,
) (pulled int, err error) {
	queue := subscribed(topic, subscription)
	err = p.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		pulled = 0
		t, err := tx.Topic(topic)
		if err != nil {
			return err
		}
		if t.Next == 0 && !p.known(catalog.TopicChannel(topic)) {
			return fmt.Errorf(
				"%w: no flow reads the topic %s, and none has put anything there",
				journal.ErrDecision,
				topic,
			)
		}
		begin := func(t store.Topic) (int64, error) { return beginAt(tx, t, flow.Begin{Latest: !earliest}) }
		if err := tx.Subscribe(topic, subscription, p.Now(), begin); err != nil {
			return err
		}
		s, err := tx.Subscription(topic, subscription)
		if err != nil {
			return err
		}
		waits, err := tx.Free(queue, limit)
		if err != nil || len(waits) >= limit {
			return err
		}
		some, err := tx.ReadTopic(&s, limit-len(waits))
		if err != nil || len(some) == 0 {
			return err
		}
		for i := range some {
			m := &some[i]
			if err := tx.Put(&store.QueueItem{Queue: queue, From: m.From, Journey: m.Journey, Path: m.Path, Headers: m.Headers, Body: m.Body,
				Reference: m.Reference, PutAt: m.PutAt, Priority: usualPriority}); err != nil {
				return err
			}
		}
		pulled = len(some)
		s.Position = some[pulled-1].N + 1
		n.Events[journal.EventQueues] = true
		return tx.SaveSubscription(&s)
	})
	return pulled, err
}

// Follow gives messages of a topic from an offset on, as they come, until ctx ends or the
// application closes; hand is called for each, one after the other, and
// with nil now and then while nothing comes.
func (p *Performers) Follow(ctx context.Context, topic string, from int64, hand func(m *TopicMessage) error) error {
	channel := catalog.TopicChannel(topic)
	heard := p.waiting.enter(channel)
	defer p.waiting.leave(channel, heard)
	for {
		some, err := p.Store.ReadTopic(&store.Subscription{Topic: topic, Position: from}, batch)
		if err != nil {
			return err
		}
		for i := range some {
			if err := hand(&some[i]); err != nil {
				return err
			}
			from = some[i].N + 1
		}
		if len(some) > 0 {
			continue
		}
		select {
		case <-heard:
		case <-time.After(waker.Longest):
			if err := hand(nil); err != nil {
				return err
			}
		case <-p.Life.Closing():
			return nil
		case <-ctx.Done():
			return nil
		}
	}
}
