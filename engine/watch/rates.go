package watch

import (
	"errors"
	"sync"
	"time"

	"readyferry/engine/catalog"
	"readyferry/store"
)

// rates count what goes into queues and out of them, by the second over the
// last minute. They are for looking at, so they begin anew after a restart.
type rates struct {
	mu     sync.Mutex
	queues map[string]*[60]second
}

type second struct {
	at      int64 // Unix time that the counts are of
	in, out int
}

func newRates() *rates { return &rates{queues: map[string]*[60]second{}} }

func (r *rates) add(queue string, in, out int, now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	ring := r.queues[queue]
	if ring == nil {
		ring = &[60]second{}
		r.queues[queue] = ring
	}
	at := now.Unix()
	s := &ring[at%60]
	if s.at != at {
		*s = second{at: at}
	}
	s.in += in
	s.out += out
}

func (r *rates) lastMinute(queue string, now time.Time) (in, out int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	ring, at := r.queues[queue], now.Unix()
	if ring == nil {
		return 0, 0
	}
	for _, s := range ring {
		if s.at > at-60 && s.at <= at {
			in, out = in+s.in, out+s.out
		}
	}
	return in, out
}

// QueueRate tells how many messages were put into a queue and how many were
// taken out of it by readers in the last minute, since the last start.
func (w *Watch) QueueRate(queue string) (in, out int) { return w.rates.lastMinute(queue, w.Now()) }

// TopicRate tells how many messages were put into a topic in the last minute,
// and SubscriptionRate how many were read, since the last start.
func (w *Watch) TopicRate(topic string) int {
	in, _ := w.rates.lastMinute(catalog.TopicChannel(topic), w.Now())
	return in
}

// SubscriptionRate tells how many messages a subscription took in the last minute.
func (w *Watch) SubscriptionRate(topic, subscription string) int {
	_, out := w.rates.lastMinute(catalog.SubscriptionChannel(topic, subscription), w.Now())
	return out
}

// TopicSpan gives the first and the next offset of a topic.
func (w *Watch) TopicSpan(topic string) (first, next int64, err error) {
	t, err := w.Topic(topic)
	return t.First, t.Next, err
}

// LeasedBy gives the name of the key that holds a lease, "" where there is no such lease.
func (w *Watch) LeasedBy(lease store.ID) (string, error) {
	l, err := w.Lease(lease)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	return l.Key, err
}
