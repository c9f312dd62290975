package engine

import (
	"sync"
	"time"
)

// A steady clock tells the time of day, and never jumps. All waiting is measured by
// it: tries, holds, groups, turns, schedules. When the machine's clock is set, back or
// forward, what waits neither stands still for that time nor falls due at once; the
// steady clock goes on at its pace and comes nearer to the new time a little faster or
// slower than the seconds pass.
//
// A difference of more than a day is no correction but a clock that was not set at
// all: then the new time counts at once.
type steady struct {
	wall    func() time.Time     // what the machine says
	elapsed func() time.Duration // since some moment, whatever the clock is set to

	mu   sync.Mutex
	last time.Time     // what was told last
	at   time.Duration // when
}

const (
	// slew is by how much the steady clock may go faster or slower: one part in ten.
	slew = 10
	// jumped is the difference from which the new time counts at once.
	jumped = 24 * time.Hour
)

func newSteady(wall func() time.Time, elapsed func() time.Duration) *steady {
	return &steady{wall: wall, elapsed: elapsed, last: wall(), at: elapsed()}
}

// Now gives the time.
func (s *steady) Now() time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	wall, at := s.wall(), s.elapsed()
	passed := at - s.at
	if passed < 0 {
		passed = 0
	}
	next := s.last.Add(passed)
	switch off := wall.Sub(next); {
	case off > jumped || off < -jumped:
		next = wall
	case off > 0:
		next = next.Add(min(off, passed/slew+settled(off)))
	default:
		next = next.Add(max(off, -passed/slew))
	}
	if next.Before(s.last) && s.last.Sub(next) < jumped {
		next = s.last
	}
	s.last, s.at = next, at
	return next
}

// settled lets small differences, as the two clocks have them at any time, count at
// once: nobody waits for them.
func settled(off time.Duration) time.Duration {
	if off < 50*time.Millisecond {
		return off
	}
	return 0
}
