// Package waker wakes all that waits for a time: tries that come again, holds, groups, gaps,
// limits of time, leases, clocks, loads.
//
// What waits stands in the file, each row with the time at which it is due and an index by
// that time; there is no second list of timers that could disagree with it or be lost. Who
// looks after rows of a kind asks the file for the next time alone, and sleeps until then.
// So a million rows that wait cost what ten do: one question, and one place here.
//
// All sleepers share one timer. Nobody sleeps longer than Longest, whatever the clock says,
// so a clock that is set never makes anything stand still.
package waker

import (
	"sync"
	"time"
)

// Longest is how long anything sleeps at most; it guards against a clock that jumps, and
// against a change that nobody tells of.
const Longest = 15 * time.Second

// soonest is the least that a sleeper sleeps for something that is due by now: whoever
// cannot do it yet does not spin.
const soonest = time.Millisecond

// failing is how long a sleeper waits behind an error.
const failing = time.Second

// Waker wakes sleepers at their times. It is safe for concurrent use.
type Waker struct {
	now func() time.Time

	mu       sync.Mutex
	sleepers map[*Sleeper]bool // those that wait for a time
	timer    *time.Timer
	fires    time.Time // when the timer does, by the machine's own clock; zero: it does not
}

// New makes a waker for times that are told by now.
func New(now func() time.Time) *Waker {
	return &Waker{now: now, sleepers: map[*Sleeper]bool{}}
}

// Sleeper is somebody who looks after what waits. It is woken by its time or by a word, and
// does not learn by which; waking it twice before it listens is waking it once.
type Sleeper struct {
	of    *Waker
	woken chan struct{}
	at    time.Time // by the waker's clock; zero: none
	limit time.Time // by the machine's own, which only goes forward
}

// Sleeper makes one that waits for no time yet.
func (w *Waker) Sleeper() *Sleeper { return &Sleeper{of: w, woken: make(chan struct{}, 1)} }

// Woken gets a value when it is woken.
func (s *Sleeper) Woken() <-chan struct{} { return s.woken }

// Wake wakes it at once.
func (s *Sleeper) Wake() {
	select {
	case s.woken <- struct{}{}:
	default:
	}
}

// Until has it woken at a time, or after Longest when that comes before; zero says that it
// waits for none. It takes the place of what was said before.
func (s *Sleeper) Until(at time.Time) {
	began := time.Now()
	limit := began.Add(Longest)
	if !at.IsZero() {
		if wait := max(at.Sub(s.of.now()), soonest); wait < Longest {
			limit = began.Add(wait)
		}
	}
	w := s.of
	w.mu.Lock()
	defer w.mu.Unlock()
	s.at, s.limit = at, limit
	w.sleepers[s] = true
	w.arm(limit)
}

// End has it woken by its time no more.
func (s *Sleeper) End() {
	s.of.mu.Lock()
	defer s.of.mu.Unlock()
	delete(s.of.sleepers, s)
}

// arm has the timer fire no later than at a time. It may fire too early for all, and is then
// set again: that is cheaper than to keep the sleepers in order.
func (w *Waker) arm(at time.Time) {
	switch wait := time.Until(at); {
	case !w.fires.IsZero() && !at.Before(w.fires):
		return
	case w.timer == nil:
		w.timer = time.AfterFunc(wait, w.fire)
	default:
		w.timer.Reset(wait)
	}
	w.fires = at
}

// fire wakes those whose time has come.
func (w *Waker) fire() {
	w.mu.Lock()
	defer w.mu.Unlock()
	now, clock := time.Now(), w.now()
	w.fires = time.Time{}
	next := time.Time{}
	for s := range w.sleepers {
		if early := s.limit.Sub(now); early > 0 && (s.at.IsZero() || s.at.After(clock)) {
			if next.IsZero() || s.limit.Before(next) {
				next = s.limit
			}
			continue
		}
		delete(w.sleepers, s)
		s.Wake()
	}
	if !next.IsZero() {
		w.arm(next)
	}
}

// Keep looks again and again until done is closed: at once while there is more, else when s
// is woken or the time comes that look gives, zero for none. An error is told; with nothing
// more to do, it looks again after a second.
func (s *Sleeper) Keep(done <-chan struct{}, look func() (more bool, next time.Time, err error), failed func(error)) {
	defer s.End()
	for {
		select {
		case <-done:
			return
		default:
		}
		more, next, err := look()
		if err != nil {
			failed(err)
			next = s.of.now().Add(failing)
		}
		if more {
			continue
		}
		s.Until(next)
		select {
		case <-done:
			return
		case <-s.woken:
		}
	}
}
