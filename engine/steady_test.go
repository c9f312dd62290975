package engine

import (
	"testing"
	"time"
)

// The clock is set back or forward by an hour: whatever is measured by the steady
// clock is late or early by a tenth of its time at most.
func TestAClockThatIsSetNeitherStallsNorRushes(t *testing.T) {
	begin := time.Date(2026, 3, 17, 9, 0, 0, 0, time.UTC)
	for _, step := range []time.Duration{0, time.Hour, -time.Hour, 5 * time.Minute, -23 * time.Hour, 30 * time.Millisecond} {
		var passed, set time.Duration
		s := newSteady(func() time.Time { return begin.Add(passed + set) }, func() time.Duration { return passed })
		for range 60 {
			passed += time.Second
			s.Now()
		}
		set = step
		from := s.Now()
		last := from
		for range 600 { // ten minutes
			passed += time.Second
			now := s.Now()
			if went := now.Sub(last); went < 900*time.Millisecond-time.Microsecond || went > 1150*time.Millisecond {
				t.Fatalf("set by %s: in a second %s passed", step, went)
			}
			last = now
		}
		for range 20 * 3600 {
			passed += 20 * time.Second
			s.Now()
		}
		if off := s.Now().Sub(begin.Add(passed + set)); off > time.Second || off < -time.Second {
			t.Errorf("set by %s: it is off by %s after days", step, off)
		}
	}
	var passed time.Duration
	wall := begin
	s := newSteady(func() time.Time { return wall }, func() time.Duration { return passed })
	wall = begin.AddDate(20, 0, 0)
	if got := s.Now(); !got.Equal(wall) {
		t.Errorf("a clock that was not set at all: %s", got)
	}
}
