package group

import "time"

// Pace says how many messages of one key may go on within a time.
type Pace struct {
	Most   int
	Per    time.Duration
	Within time.Duration // longest wait; 0: for as long as it takes
}

// Slot gives the earliest time, not before now, at which another message may go
// when others went (or are to go) at these times, in order. So within any span
// as long as Per no more than Most go: a sliding window.
func (p *Pace) Slot(times []time.Time, now time.Time) time.Time {
	at := now
	if n := len(times); n > 0 && times[n-1].After(at) {
		at = times[n-1] // order of arrival stays
	}
	if n := len(times); n >= p.Most {
		if free := times[n-p.Most].Add(p.Per); free.After(at) {
			at = free
		}
	}
	return at
}

// Went adds a time and forgets those that no longer matter.
func (p *Pace) Went(times []time.Time, at time.Time) []time.Time {
	times = append(times[:len(times):len(times)], at)
	return times[max(0, len(times)-p.Most):]
}
