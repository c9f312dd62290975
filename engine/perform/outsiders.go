package perform

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"readyferry/core/message"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Offered is a message that somebody outside puts into a queue or topic.
type Offered struct {
	Headers []message.Header
	Body    []byte
	Once    string // by which a repeat is told; "" for none
}

// onceFor is how long a repeat of what came from outside is told.
const onceFor = 7 * 24 * time.Hour

// outsideKey makes the once value of what somebody outside offers to a queue or topic.
func (p *Performers) outsideKey(channel, once string, now time.Time) *store.OnceKey {
	sum := sha256.Sum256([]byte(once))
	return &store.OnceKey{Flow: "outside " + channel, Key: sum[:], Tx: store.NewID(), Until: now.Add(onceFor)}
}

// Put puts messages from outside into a queue, all or none, and tells how many were there
// already. journal.ErrDecision says why the queue takes nothing.
func (p *Performers) Put(ctx context.Context, queue string, all []Offered) (repeated int, err error) {
	err = p.offer(ctx, queue, all, &repeated, func(tx *store.Tx, n *journal.Notice, o *Offered, headers []byte) error {
		if failure, err := p.refuses(tx.View, queue); failure != nil || err != nil {
			if failure != nil {
				err = fmt.Errorf("%w: %s", journal.ErrDecision, failure.Reason)
			}
			return err
		}
		n.Put[queue]++
		return tx.Put(&store.QueueItem{Queue: queue, Headers: headers, Body: o.Body, PutAt: p.Now(), Priority: usualPriority})
	})
	return repeated, err
}

// usualPriority is that of a message that says nothing of it.
const usualPriority = 4

// PublishFrom puts messages from outside into a topic, all or none.
func (p *Performers) PublishFrom(ctx context.Context, topic string, all []Offered) (repeated int, err error) {
	channel := catalog.TopicChannel(topic)
	err = p.offer(ctx, channel, all, &repeated, func(tx *store.Tx, n *journal.Notice, o *Offered, headers []byte) error {
		if !p.known(channel) {
			if t, err := tx.Topic(topic); err != nil || t.Next == 0 {
				return errors.Join(err, fmt.Errorf("%w: no flow reads the topic %s, and none has put anything there", journal.ErrDecision, topic))
			}
		}
		n.Put[channel]++
		_, err := tx.Append(&store.TopicMessage{Topic: topic, Headers: headers, Body: o.Body, PutAt: p.Now()})
		return err
	})
	return repeated, err
}

func (p *Performers) offer(
	ctx context.Context,
	channel string,
	all []Offered,
	repeated *int,
	keep func(tx *store.Tx, n *journal.Notice, o *Offered, headers []byte) error,
) error {
	return p.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		*repeated = 0
		for i := range all {
			o := &all[i]
			if o.Once != "" {
				key := p.outsideKey(channel, o.Once, p.Now())
				_, first, err := tx.Once(key, p.Now())
				if err != nil {
					return err
				}
				if !first {
					*repeated++
					continue
				}
			}
			headers, err := json.Marshal(orNone(o.Headers))
			if err != nil {
				return err
			}
			if err := keep(tx, n, o, headers); err != nil {
				return err
			}
		}
		n.Channels[channel], n.Events[journal.EventQueues] = true, true
		return nil
	})
}

func orNone(h []message.Header) []message.Header {
	if h == nil {
		return []message.Header{}
	}
	return h
}
