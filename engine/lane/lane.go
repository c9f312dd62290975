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
	"sync/atomic"
	"time"

	"readyferry/connect"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Lanes send deliveries. They are safe for concurrent use.
type Lanes struct {
	*journal.Journal
	links *connect.Links

	mu    sync.Mutex
	lanes map[string]*lane
	hands *hands       // make tries, and may be given up on
	tries atomic.Int64 // under way, until they are recorded
	held  map[string]store.Hold
	// others is how the lanes of other partitions stand, by partition and target.
	others map[int]map[string]Standing

	// Away tells whether a runner is away, and since when; nil: there are no runners. It is to be
	// set before the start.
	Away func(runner string) (since time.Time, away bool)
}

// New makes the lanes.
func New(j *journal.Journal, links *connect.Links) *Lanes {
	l := &Lanes{Journal: j, links: links, lanes: map[string]*lane{}, held: map[string]store.Hold{}}
	l.hands = newHands(func(work func()) bool { go work(); return true }, j.Life.Context().Done())
	j.Listen(l.heard)
	j.Catalog.OnChange(l.changed)
	return l
}

// HoldsChanged reads anew which targets people hold.
func (l *Lanes) HoldsChanged() error {
	holds, err := l.Store.HeldTargets()
	if err != nil {
		return err
	}
	now := map[string]store.Hold{}
	for _, h := range holds {
		now[h.Target] = h
	}
	l.mu.Lock()
	before := l.held
	l.held = now
	l.mu.Unlock()
	for target := range before {
		if _, held := now[target]; !held {
			l.wake(target)
		}
	}
	return nil
}

// Start goes on with the deliveries that wait.
func (l *Lanes) Start() error {
	if err := l.HoldsChanged(); err != nil {
		return err
	}
	targets, err := l.Store.PendingTargets()
	for _, t := range targets {
		l.wake(t)
	}
	return err
}

func (l *Lanes) heard(n *journal.Notice) {
	for target, due := range n.Ready {
		l.of(target, func(one *lane) { one.offer(due) })
	}
	for target := range n.Targets {
		l.wake(target)
	}
}

// changed lets every lane look anew: its connection may be another.
func (l *Lanes) changed() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, one := range l.lanes {
		one.look()
	}
}

// wake lets the lane of a target look into the file.
func (l *Lanes) wake(target string) { l.of(target, (*lane).look) }

// of tells something to the lane of a target, which is begun where there is none.
func (l *Lanes) of(target string, tell func(one *lane)) {
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
			known:   map[store.ID]*line{},
			lines:   map[string]*line{},
			ended:   make(chan ended, 64),
		}
		one.hands = newHands(l.Life.Go, l.Life.Context().Done())
		l.lanes[target] = one
		l.Life.Go(one.run)
	}
	tell(one)
}

// Finish waits until no try is under way, for so long at most.
func (l *Lanes) Finish(most time.Duration) {
	for began := time.Now(); l.tries.Load() > 0 && time.Since(began) < most; {
		time.Sleep(5 * time.Millisecond)
	}
}

// TryNow moves the next try of a waiting delivery to now.
func (l *Lanes) TryNow(ctx context.Context, id store.ID) error {
	if there, err := l.ElsewhereDo(ctx, "deliveries", id, journal.Asked{What: journal.AskTry, ID: id}); there || err != nil {
		return err
	}
	return l.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		d, err := tx.Delivery(id)
		if err != nil {
			return err
		}
		if d.State != store.Pending {
			return fmt.Errorf("%w: the delivery does not wait for a try", journal.ErrConflict)
		}
		now := l.Now()
		d.NextAt, d.NextWhy = &now, journal.AskedFor
		n.Targets[d.Target] = true
		n.Events[journal.EventTransactions] = true
		return tx.SaveDelivery(&d, now)
	})
}
