package perform

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/journal"
	"readyferry/store"
)

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
		p.leased.Wake()
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

// lapse ends some leases whose time is over; more tells that there may be others,
// next when the next one ends.
func (p *Performers) lapse() (more bool, next time.Time, err error) {
	over, err := p.Store.LeasesOver(p.Now(), batch)
	if err != nil {
		return false, next, err
	}
	for i := range over {
		if err := p.lapseOne(p.Life.Context(), over[i].ID); err != nil {
			return false, next, err
		}
	}
	if len(over) == batch {
		return true, next, nil
	}
	next, err = timeOf(p.Store.NextLeaseOver())
	return false, next, err
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
