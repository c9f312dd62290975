package watch

import (
	"sync"

	"readyferry/core/retry"
	"readyferry/store"
)

// passed keeps what has happened lately, for the engine of the first partition of a fleet, which counts and lists
// what all partitions do.
type passed struct {
	mu    sync.Mutex
	id    store.ID // of this run: another one counts anew
	all   []store.Happened
	first int64 // the number of the first that is kept
}

// keptPassed is how many are kept for one that asks several times a second; where it does not, what is older is
// counted by nobody.
const keptPassed = 50_000

// passedAtOnce is how many are given at once.
const passedAtOnce = 5_000

func (p *passed) add(all []store.Happened) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.all = append(p.all, all...)
	if over := len(p.all) - keptPassed; over > keptPassed/5 { // seldom, as it copies them
		p.all = append([]store.Happened(nil), p.all[over:]...)
		p.first += int64(over)
	}
}

// Passed is what has happened behind a place, and which run of an engine says so.
type Passed struct {
	Run  store.ID
	Next int64 // the place behind it
	All  []store.Happened
	// Packed is All, packed, for one that asks for it so.
	Packed []byte `json:",omitempty"`
}

// Pack packs it.
func (p Passed) Pack() Passed {
	p.Packed, p.All = store.PackHappened(p.All), nil
	return p
}

// Happened gives it, packed or not.
func (p Passed) Happened() ([]store.Happened, error) {
	if len(p.Packed) == 0 {
		return p.All, nil
	}
	return store.UnpackHappened(p.Packed)
}

// Passed gives what has happened behind a place. Who asks for the first time, with no run, hears of what happens from now
// on, and who has asked another run before, of all that this one has done.
func (w *Watch) Passed(run store.ID, behind int64) Passed {
	p := &w.passed
	p.mu.Lock()
	defer p.mu.Unlock()
	end := p.first + int64(len(p.all))
	switch run {
	case p.id:
	case store.ID{}:
		return Passed{Run: p.id, Next: end}
	default:
		behind = 0
	}
	from := max(behind, p.first)
	to := min(end, from+passedAtOnce)
	return Passed{Run: p.id, Next: to, All: append([]store.Happened(nil), p.all[from-p.first:to-p.first]...)}
}

// HeardOf takes in what has happened in another partition.
func (w *Watch) HeardOf(all []store.Happened) {
	for i := range all {
		if h := &all[i]; h.What == store.WasTried {
			w.links.Pulses.Tried(h.Target, h.Outcome == string(retry.Delivered), h.Took, h.At.Add(h.Took))
		}
	}
	w.Meter.happened(all)
}
