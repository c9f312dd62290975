package alarm

import "time"

// Value is what was measured.
type Value struct {
	N     float64
	Known bool
}

// Known makes a value that is known.
func Known(n float64) Value { return Value{n, true} }

// Calm is how long a value must have been in bounds before its alarm is over.
const Calm = time.Minute

// State is how a rule stands with one thing that it watches.
type State struct {
	OutSince time.Time // without a break; zero: it is in bounds
	InSince  time.Time // while it rings: since when it has been in bounds again
	Began    time.Time // ringing; zero: it does not
	Last     float64
	Worst    float64 // since it began
}

// Turn is what a moment brought.
type Turn uint8

// The turns that a moment may bring.
const (
	Nothing Turn = iota
	Begins
	Ends
)

// Hours tells whether a moment is within the hours of a rule; nil: it always is.
type Hours interface{ Covers(at time.Time) bool }

// Step judges a value of a moment, which is not before the last one.
func (r *Rule) Step(s State, at time.Time, v Value, hours Hours) (State, Turn) {
	out := r.Out(v)
	if v.Known {
		s.Last = v.N
	}
	if !s.Began.IsZero() {
		return r.goesOn(s, at, v, out)
	}
	if !out || hours != nil && !hours.Covers(at) {
		return State{Last: s.Last}, Nothing
	}
	if s.OutSince.IsZero() {
		s.OutSince = at
	}
	if at.Sub(s.OutSince) < time.Duration(r.For) {
		return s, Nothing
	}
	s.Began, s.Worst = at, v.N
	return s, Begins
}

func (r *Rule) goesOn(s State, at time.Time, v Value, out bool) (State, Turn) {
	switch {
	case out:
		s.InSince = time.Time{}
		if worse := v.N > s.Worst; worse != Find(r.Watch).Below {
			s.Worst = v.N
		}
		return s, Nothing
	case s.InSince.IsZero():
		s.InSince = at
		return s, Nothing
	case at.Sub(s.InSince) < Calm:
		return s, Nothing
	}
	return State{Last: s.Last}, Ends
}

// Ring is one time that a rule rang.
type Ring struct {
	Began time.Time
	Ended time.Time // zero: it rings still
	Worst float64
}

// Past judges values that were measured every so long from a moment on.
func (r *Rule) Past(from time.Time, every time.Duration, values []Value, hours Hours) (rings []Ring) {
	var s State
	var turn Turn
	for i, v := range values {
		at := from.Add(time.Duration(i) * every)
		was := s
		switch s, turn = r.Step(s, at, v, hours); turn {
		case Begins:
			rings = append(rings, Ring{Began: at, Worst: v.N})
		case Ends:
			last := &rings[len(rings)-1]
			last.Ended, last.Worst = at, was.Worst
		default:
			if !s.Began.IsZero() {
				rings[len(rings)-1].Worst = s.Worst
			}
		}
	}
	return rings
}

// Silence gives how many minutes of the hours of a rule have passed since the last message, at
// each of so many minutes from one on. came tells, by the minute, how many messages there were;
// last is when the one before all of them came.
func Silence(from time.Time, came []int64, last time.Time, within func(from, to time.Time) time.Duration) []Value {
	out := make([]Value, len(came))
	quiet := time.Duration(0)
	known := !last.IsZero()
	if known && last.Before(from) {
		quiet = within(last, from)
	}
	for i, n := range came {
		at := from.Add(time.Duration(i) * time.Minute)
		if n > 0 {
			known, quiet = true, 0
		}
		if known {
			out[i] = Known(quiet.Minutes())
		}
		quiet += within(at, at.Add(time.Minute))
	}
	return out
}

// Windows sums what came by the minute over a window that ends with each of them; the first
// values of came are those of the window before.
func Windows(came []int64, window int) []int64 {
	out := make([]int64, max(0, len(came)-window+1))
	var sum int64
	for i, n := range came {
		sum += n
		if i >= window {
			sum -= came[i-window]
		}
		if i >= window-1 {
			out[i-window+1] = sum
		}
	}
	return out
}
