package lane

import (
	"sync"
	"sync/atomic"
	"time"

	"readyferry/core/retry"
	"readyferry/engine/journal"
	"readyferry/engine/waker"
	"readyferry/store"
)

// A lane sends the deliveries of one target. It knows some that are due, which were handed
// to it when they were stored or found in the file; whether the file has others; and when
// the next one there will be due. So it asks the file only when it has nothing left, and
// what it holds does not grow with what waits.
type lane struct {
	*Lanes
	target string
	awake  chan struct{}
	ended  chan ended

	mu    sync.Mutex
	inbox []journal.Ready // just stored, and due
	asked bool            // the file has others
	hands *hands

	// Only the lane's own goroutine touches these.
	lines     map[string]*line   // by flow
	turn      float64            // of the line that went last
	known     map[store.ID]*line // ready, running or being recorded
	running   map[store.ID]bool  // the target has not answered yet
	recording int                // answered, and not stored yet
	more      bool               // the file may have due ones of flows that have no line here
	gate      retry.Gate         // the breaker, and the limit per second

	stands atomic.Pointer[Standing] // for those who look on
	closes atomic.Bool              // a person says that the breaker is to close
}

const (
	// mostReady is how many deliveries a lane knows to be due; others stay in the file.
	mostReady = 1024
	// foundAtOnce is how many it reads there.
	foundAtOnce = 256
	// spareRecords is how many tries may have ended and not be stored yet, beside those
	// that the connection allows in flight.
	spareRecords = 64
)

// ended is a try that the target has answered, and with stored what it came to is recorded.
type ended struct {
	id      store.ID
	outcome retry.Outcome
	stored  bool
	next    *time.Time // of its next try
}

// offer hands over deliveries that were just stored and are due.
func (l *lane) offer(due []journal.Ready) {
	l.mu.Lock()
	if len(l.inbox)+len(due) > mostReady {
		l.asked = true
	} else {
		l.inbox = append(l.inbox, due...)
	}
	l.mu.Unlock()
	l.nudge()
}

// look lets the lane look into the file.
func (l *lane) look() {
	l.mu.Lock()
	l.asked = true
	l.mu.Unlock()
	l.nudge()
}

func (l *lane) nudge() {
	select {
	case l.awake <- struct{}{}:
	default:
	}
}

func (l *lane) run() {
	sleeper := l.Waker.Sleeper()
	defer sleeper.End()
	sleeper.Wake()
	for slept := time.Now(); ; slept = time.Now() {
		select {
		case <-l.Life.Context().Done():
			for len(l.running)+l.recording > 0 {
				l.hear(<-l.ended)
			}
			return
		case r := <-l.ended:
			l.hear(r)
		case <-l.awake:
		case <-sleeper.Woken():
			// Who has slept as long as anybody may looks into the file: the clock may have jumped.
			l.more = l.more || time.Since(slept) >= waker.Longest-time.Second
		}
		next, err := l.launch()
		if err != nil && !l.Life.Over() {
			l.Log.Error("looking for due deliveries", "target", l.target, "error", err)
			next = l.Now().Add(time.Second)
		}
		sleeper.Until(next)
	}
}

// hear learns of a try that has ended.
func (l *lane) hear(r ended) {
	if !r.stored {
		delete(l.running, r.id)
		l.recording++
		l.gate.Judge(r.outcome, l.limits(), l.Now())
		return
	}
	l.recording--
	one := l.known[r.id]
	delete(l.known, r.id)
	if one == nil {
		return
	}
	one.known--
	if r.next != nil && (one.nextAt.IsZero() || r.next.Before(one.nextAt)) {
		one.nextAt = *r.next
	}
}

// limits are what the connection allows now.
func (l *lane) limits() retry.Limits {
	c := l.Catalog.Connection(l.target)
	if c == nil {
		return retry.Limits{InFlight: 8} // as one has that says nothing
	}
	perSecond := c.PerSecond
	if !l.Partition.Whole() { // the others have their shares of it
		perSecond /= float64(l.Partition.Of)
	}
	return retry.Limits{InFlight: max(1, l.Partition.Share(c.InFlight)), PerSecond: perSecond, Trip: c.Trip, Probe: c.Probe}
}

// take learns of what was handed over. While the file has others of a flow those come first,
// so that what waits there the longest is not overtaken for ever.
func (l *lane) take() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.more = l.more || l.asked
	l.asked = false
	for _, r := range l.inbox {
		switch one := l.lineOf(r.Flow); {
		case l.known[r.ID] != nil:
		case l.more || one.more || len(one.ready) >= l.most():
			one.more = true
		default:
			l.add(one, r)
		}
	}
	clear(l.inbox)
	l.inbox = l.inbox[:0]
}

// launch starts what is due, within the connection's limits, and says when
// the next is due; zero where that is for others to tell.
func (l *lane) launch() (next time.Time, err error) {
	limits := l.limits()
	l.take()
	if l.Life.Ending() {
		return next, nil // what waits is found at the next start
	}
	now := l.Now()
	if l.closes.Swap(false) {
		l.gate.Close()
	}
	defer l.stand()
	if until, held := l.heldUntil(l.target, now); held {
		return until, nil // its release wakes the lane, where a person holds it
	}
	if at, open := l.gate.Open(); open && now.Before(at) {
		return at, nil
	}
	if l.more {
		if err := l.discover(); err != nil {
			return next, err
		}
		l.more = false
	}
	l.come(now)
	for l.recording < limits.InFlight+spareRecords {
		free, until := l.gate.Room(limits, len(l.running), now)
		if !free {
			return until, nil // zero: the end of a try wakes the lane
		}
		r, ok, err := l.next(now)
		if err != nil {
			return next, err
		}
		if !ok {
			return l.come(now), nil
		}
		if !l.start(r) {
			return next, nil // the application stops, and what waits is found at the next start
		}
		l.gate.Began(limits, now)
	}
	return next, nil // the end of a try wakes the lane
}

func (l *lane) start(r journal.Ready) (begun bool) {
	l.tries.Add(1)
	begun = l.hands.do(func() {
		defer l.tries.Add(-1)
		next := l.try(&r, func(o retry.Outcome) { l.ended <- ended{id: r.ID, outcome: o} })
		l.ended <- ended{id: r.ID, stored: true, next: next}
	})
	if begun {
		l.running[r.ID] = true
	} else {
		l.tries.Add(-1)
	}
	return begun
}

// Held tells what the lanes hold in memory: what the fullest of them knows to be due.
func (k *Lanes) Held() []store.InMemory {
	k.mu.Lock()
	defer k.mu.Unlock()
	fullest := 0
	for _, l := range k.lanes {
		l.mu.Lock()
		fullest = max(fullest, len(l.inbox))
		l.mu.Unlock()
	}
	return []store.InMemory{{What: "due deliveries handed to one target", N: int64(fullest), Most: mostReady}}
}
