package perform

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/step"
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

// TopicMessage is a message of a topic.
type TopicMessage = store.TopicMessage

// Leased is a message that somebody outside works on until a time.
type Leased struct {
	N       int64
	Lease   store.ID
	Until   time.Time
	Headers []message.Header
	Body    []byte
	PutAt   time.Time
	Lapsed  int // leases of it that ended without a word
}

// Bounds of taking.
const (
	MostTaken   = 100
	LongestWait = time.Minute
	MostLease   = 12 * time.Hour
	mostLapses  = 5 // leases of one message that may end without a word
)

// TakeFrom hands up to limit messages of a queue to somebody outside, for so long as lease
// says. Where there are none it waits for one, at most so long.
func (p *Performers) TakeFrom(ctx context.Context, queue, key string, limit int, wait, lease time.Duration) ([]Leased, error) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	heard := p.waiting.enter(queue)
	defer p.waiting.leave(queue, heard)
	for {
		out, err := p.takeNow(ctx, queue, key, limit, lease)
		if err != nil || len(out) > 0 {
			return out, err
		}
		select {
		case <-heard:
		case <-timer.C:
			return []Leased{}, nil
		case <-p.Life.Closing():
			return []Leased{}, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (p *Performers) takeNow(ctx context.Context, queue, key string, limit int, lease time.Duration) ([]Leased, error) {
	if free, err := p.Store.Free(queue, 1); err != nil || len(free) == 0 {
		return nil, err
	}
	var out []Leased
	err := p.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		out = nil
		if paused, err := tx.QueuePaused(queue); paused || err != nil {
			return err
		}
		items, err := tx.Free(queue, limit)
		if err != nil {
			return err
		}
		now := p.Now()
		for i := range items {
			if at := items[i].ExpiresAt; at != nil && !at.After(now) {
				continue // it is late, and becomes a dead letter
			}
			one, err := p.hand(tx, &items[i], key, now.Add(lease))
			if err != nil {
				return err
			}
			out = append(out, one)
		}
		n.Taken[queue] += len(out)
		n.Events[journal.EventQueues] = true
		return nil
	})
	if len(out) > 0 {
		wake(p.leased)
	}
	return out, err
}

// hand takes one message for somebody.
func (p *Performers) hand(tx *store.Tx, item *store.QueueItem, key string, until time.Time) (Leased, error) {
	l := store.Lease{ID: store.NewID(), Queue: item.Queue, N: item.N, Until: until, Key: key}
	out := Leased{N: item.N, Lease: l.ID, Until: until, Headers: []message.Header{}, Body: item.Body, PutAt: item.PutAt}
	if err := json.Unmarshal(item.Headers, &out.Headers); err != nil {
		return out, err
	}
	lapsed, err := tx.Lapses(item.N)
	out.Lapsed = lapsed
	return out, errors.Join(err, tx.AddLease(&l))
}

// OfTopic names the queues of all subscriptions of a topic, for EndLease.
func OfTopic(topic string) string { return topic + subscribing }

// EndLease ends a lease: done takes the message out of its queue for good, else it goes
// back. journal.ErrNotFound tells that there is no such lease: its time may be over, and
// the message with somebody else.
func (p *Performers) EndLease(ctx context.Context, queue, key string, id store.ID, done bool) error {
	return p.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		l, err := tx.Lease(id)
		ofTopic := strings.HasSuffix(queue, subscribing) && strings.HasPrefix(l.Queue, queue)
		if err == nil && (l.Queue != queue && !ofTopic || l.Key != key || !p.Now().Before(l.Until)) {
			err = store.ErrNotFound
		}
		if err != nil {
			return err
		}
		n.Events[journal.EventQueues] = true
		if err := tx.EndLease(id); err != nil {
			return err
		}
		if done {
			return errors.Join(tx.ForgetLapses(l.N), tx.Finish(l.N))
		}
		n.Channels[l.Queue] = true
		return tx.FreeItem(l.N)
	})
}

// lapser gives messages back whose lease has ended without a word.
func (p *Performers) lapser() {
	for {
		wait := idle
		more, err := p.lapse(p.Life.Context())
		if err == nil && !more {
			var next *time.Time
			if next, err = p.Store.NextLeaseOver(); err == nil && next != nil {
				wait = max(min(idle, next.Sub(p.Now())), time.Millisecond)
			}
		}
		if err != nil && !p.Life.Over() {
			p.Log.Error("giving messages back whose lease has ended", "error", err)
		}
		if more && err == nil {
			continue
		}
		timer := time.NewTimer(wait)
		select {
		case <-p.Life.Context().Done():
			timer.Stop()
			return
		case <-p.leased:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// lapse ends some leases whose time is over; more tells that there may be others.
func (p *Performers) lapse(ctx context.Context) (more bool, err error) {
	over, err := p.Store.LeasesOver(p.Now(), batch)
	if err != nil || len(over) == 0 {
		return false, err
	}
	for i := range over {
		if err := p.lapseOne(ctx, over[i].ID); err != nil {
			return false, err
		}
	}
	return len(over) == batch, nil
}

func (p *Performers) lapseOne(ctx context.Context, id store.ID) error {
	return p.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		l, err := tx.Lease(id)
		if errors.Is(err, store.ErrNotFound) {
			return nil // it was ended meanwhile
		}
		if err != nil {
			return err
		}
		if err := tx.EndLease(id); err != nil {
			return err
		}
		n.Events[journal.EventQueues] = true
		item, err := tx.Item(l.N)
		if err != nil {
			return err
		}
		count, err := tx.Lapsed(l.N)
		if err != nil {
			return err
		}
		if count >= mostLapses {
			if given, err := p.givenUp(tx, n, &item, l.Key); given || err != nil {
				return err
			}
		}
		n.Channels[l.Queue] = true
		return tx.FreeItem(l.N)
	})
}

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
func (p *Performers) pull(ctx context.Context, topic, subscription string, earliest bool, limit int) (pulled int, err error) {
	queue := subscribed(topic, subscription)
	err = p.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		pulled = 0
		t, err := tx.Topic(topic)
		if err != nil {
			return err
		}
		if t.Next == 0 && !p.known(catalog.TopicChannel(topic)) {
			return fmt.Errorf("%w: no flow reads the topic %s, and none has put anything there", journal.ErrDecision, topic)
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
			if err := tx.Put(&store.QueueItem{Queue: queue, From: m.From, Path: m.Path, Headers: m.Headers, Body: m.Body,
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

// givenUp makes a dead letter of a message that was taken so often and never done: of the
// flow that put it there, or where it came from outside of the one that reads the queue.
// Where no flow is left that could have it, it stays in its queue.
func (p *Performers) givenUp(tx *store.Tx, n *journal.Notice, item *store.QueueItem, key string) (bool, error) {
	f := step.Failure{Kind: "deliver", Phase: journal.PhaseLease, Class: step.Target,
		Reason: fmt.Sprintf("it was taken from the queue %s %d times, and never said to be done; the last time by %s", item.Queue, mostLapses, key)}
	if strings.Contains(item.Queue, subscribing) {
		return p.parked(tx, n, item, f)
	}
	if item.From != (store.ID{}) {
		w, err := p.Open(tx, n, item.From)
		if err != nil {
			return false, err
		}
		f.Path, f.Step = item.Path, run.GroupPath(item.Path)
		if err := w.Fails(f); err != nil {
			return false, err
		}
		if err := w.Settle(); err != nil {
			return false, err
		}
		return true, errors.Join(tx.ForgetLapses(item.N), tx.Finish(item.N))
	}
	for _, name := range p.Catalog.Readers(item.Queue, false) {
		reader := p.Catalog.Flow(name)
		if reader == nil || reader.Live == nil {
			continue
		}
		in, err := p.Receive(name, reader.Version, reader.Live, FromQueue(item))
		if err != nil {
			return false, err
		}
		in.Tx.Unbegun, f.Kind = true, "intake"
		if err := p.DeadOnArrival(tx, n, &in.Tx, in.Message, f); err != nil {
			return false, err
		}
		return true, errors.Join(tx.ForgetLapses(item.N), tx.Finish(item.N))
	}
	return false, nil
}

// parked makes a dead letter of a message of a topic that one subscription has not done
// with: others have it, so it is not published again. It stays beside its queue until a
// person decides.
func (p *Performers) parked(tx *store.Tx, n *journal.Notice, item *store.QueueItem, f step.Failure) (bool, error) {
	if item.From == (store.ID{}) {
		return false, nil // no flow has put it there, so there is none whose letter it could be
	}
	w, err := p.Open(tx, n, item.From)
	if err != nil {
		return false, err
	}
	f.Path, f.Step, f.Phase = item.Path, run.GroupPath(item.Path), journal.Parked(item.N)
	if err := w.Fails(f); err != nil {
		return false, err
	}
	if err := w.Settle(); err != nil {
		return false, err
	}
	return true, errors.Join(tx.ForgetLapses(item.N), tx.Take(item.N, item.From))
}

// waiting are those outside who wait for a message of a queue or topic. The zero value is
// ready.
type waiting struct {
	mu  sync.Mutex
	all map[string]map[chan struct{}]bool
}

func (w *waiting) enter(channel string) chan struct{} {
	c := make(chan struct{}, 1)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.all == nil {
		w.all = map[string]map[chan struct{}]bool{}
	}
	if w.all[channel] == nil {
		w.all[channel] = map[chan struct{}]bool{}
	}
	w.all[channel][c] = true
	return c
}

func (w *waiting) leave(channel string, c chan struct{}) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if delete(w.all[channel], c); len(w.all[channel]) == 0 {
		delete(w.all, channel)
	}
}

func (w *waiting) wake(channel string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.all[channel] {
		select {
		case c <- struct{}{}:
		default:
		}
	}
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
		case <-time.After(idle):
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
