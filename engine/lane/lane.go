// Package lane is how deliveries go out: one lane for each target, which sends
// what is due, in order where order matters, within the connection's limits.
//
// It promises that a delivery is tried on exactly the plan that was previewed,
// until it is delivered, given up or withdrawn; that every try of it carries the
// same key; and that a slow target slows only itself. What a try came to is
// stored before anything follows from it. A try that was under way when the
// process died is simply still due.
package lane

import (
	"context"
	"fmt"
	"sync"
	"time"

	"readyferry/connect"
	"readyferry/core/retry"
	"readyferry/engine/journal"
	"readyferry/store"
)

// idle is how long a lane sleeps at most; it guards against a clock that jumps.
const idle = 15 * time.Second

// Lanes send deliveries. They are safe for concurrent use.
type Lanes struct {
	*journal.Journal
	links *connect.Links

	mu    sync.Mutex
	lanes map[string]*lane
}

// New makes the lanes.
func New(j *journal.Journal, links *connect.Links) *Lanes {
	l := &Lanes{Journal: j, links: links, lanes: map[string]*lane{}}
	j.Listen(l.heard)
	j.Catalog.OnChange(l.changed)
	return l
}

// Start goes on with the deliveries that wait.
func (l *Lanes) Start() error {
	targets, err := l.Store.PendingTargets()
	for _, t := range targets {
		l.wake(t)
	}
	return err
}

func (l *Lanes) heard(n *journal.Notice) {
	for t := range n.Targets {
		l.wake(t)
	}
}

// changed lets every lane look anew: its connection may be another.
func (l *Lanes) changed() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, one := range l.lanes {
		one.nudge()
	}
}

func (l *Lanes) wake(target string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.Life.Over() {
		return
	}
	one := l.lanes[target]
	if one == nil {
		one = &lane{
			Lanes:   l,
			target:  target,
			awake:   make(chan struct{}, 1),
			running: map[store.ID]bool{},
			ended:   make(chan ended, 64),
		}
		l.lanes[target] = one
		l.Life.Go(one.run)
	}
	one.nudge()
}

// A lane sends the deliveries of one target.
type lane struct {
	*Lanes
	target string
	awake  chan struct{}
	ended  chan ended

	// Only the lane's own goroutine touches these.
	running map[store.ID]bool
	again   int       // "again" outcomes in a row
	probeAt time.Time // while the breaker is open: when the next probe may go
	slotAt  time.Time // when the next try may begin under the limit per second
}

// ended is a try that has ended and is recorded.
type ended struct {
	id      store.ID
	outcome retry.Outcome
}

func (l *lane) nudge() {
	select {
	case l.awake <- struct{}{}:
	default:
	}
}

func (l *lane) run() {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-l.Life.Context().Done():
			for len(l.running) > 0 {
				delete(l.running, (<-l.ended).id)
			}
			return
		case r := <-l.ended:
			delete(l.running, r.id)
			l.judge(r.outcome)
		case <-l.awake:
		case <-timer.C:
		}
		wait, err := l.launch()
		if err != nil && !l.Life.Over() {
			l.Log.Error("looking for due deliveries", "target", l.target, "error", err)
			wait = time.Second
		}
		timer.Reset(min(wait, idle))
	}
}

// judge keeps the breaker: after Trip "again" outcomes in a row it opens, and
// one delivered or refused try closes it.
func (l *lane) judge(o retry.Outcome) {
	if o == retry.Again {
		l.again++
	} else if o != "" {
		l.again = 0
	}
	if c := l.Catalog.Connection(l.target); c != nil && c.Trip > 0 && l.again >= c.Trip {
		l.probeAt = l.Now().Add(c.Probe)
	} else {
		l.probeAt = time.Time{}
	}
}

// launch starts what is due, within the connection's limits, and says how long
// there is nothing to do.
func (l *lane) launch() (time.Duration, error) {
	limit, perSecond := 8, 0.0
	if c := l.Catalog.Connection(l.target); c != nil {
		limit, perSecond = c.InFlight, c.PerSecond
	}
	now := l.Now()
	if !l.probeAt.IsZero() {
		if now.Before(l.probeAt) {
			return l.probeAt.Sub(now), nil
		}
		limit = 1
	}
	free := limit - len(l.running)
	if free <= 0 {
		return idle, nil // the end of a try wakes the lane
	}
	if perSecond > 0 && now.Before(l.slotAt) {
		return l.slotAt.Sub(now), nil
	}
	due, err := l.Store.Due(l.target, now, free+len(l.running))
	if err != nil {
		return 0, err
	}
	for i := range due {
		if free == 0 || l.running[due[i].ID] {
			continue
		}
		free--
		l.start(&due[i])
		if perSecond > 0 {
			if wait := l.nextSlot(now, perSecond); wait > 0 {
				return wait, nil
			}
		}
	}
	if free == 0 {
		return idle, nil
	}
	return l.untilNext(now)
}

func (l *lane) start(d *store.Delivery) {
	if l.Life.Go(func() { l.ended <- ended{d.ID, l.try(d)} }) {
		l.running[d.ID] = true
	}
}

// nextSlot tells how long the next try has to wait under the limit per second.
func (l *lane) nextSlot(now time.Time, perSecond float64) time.Duration {
	if l.slotAt.Before(now) {
		l.slotAt = now
	}
	l.slotAt = l.slotAt.Add(time.Duration(float64(time.Second) / perSecond))
	return l.slotAt.Sub(now)
}

func (l *lane) untilNext(now time.Time) (time.Duration, error) {
	if len(l.running) > 0 { // those under way are due still; their end wakes the lane
		due, err := l.Store.After(l.target, now)
		if err != nil || due == nil {
			return idle, err
		}
		return max(due.Sub(now), time.Millisecond), nil
	}
	at, ok, err := l.Store.NextDue(l.target)
	if err != nil || !ok {
		return idle, err
	}
	return max(at.Sub(now), time.Millisecond), nil
}

// TryNow moves the next try of a waiting delivery to now.
func (l *Lanes) TryNow(ctx context.Context, id store.ID) error {
	return l.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		d, err := tx.Delivery(id)
		if err != nil {
			return err
		}
		if d.State != store.Pending {
			return fmt.Errorf("%w: the delivery does not wait for a try", journal.ErrConflict)
		}
		now := l.Now()
		d.NextAt, d.NextWhy = &now, "asked for by a person"
		n.Targets[d.Target] = true
		n.Events[journal.EventTransactions] = true
		return tx.SaveDelivery(&d, now)
	})
}
