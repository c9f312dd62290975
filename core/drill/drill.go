// Package drill plays an outage, a slow target or a burst through in virtual time: what a
// flow's deliveries to one target would come to, message by message.
//
// It is a discrete-event simulation (as in Law, Simulation Modeling and Analysis, chapter 1)
// around the engine's own rules: core/retry says when a try comes again and when a delivery is
// given up, and its Gate keeps the breaker and the limits, as it does in the lanes. So a
// drill answers what the engine would do, not what a formula says that it should. Without an
// outage, retries and order it is a queue, and agrees with the closed forms of queueing
// theory (drill_test.go).
package drill

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"readyferry/core/retry"
)

// Service says how a time is spread around its mean.
type Service string

// How times are spread.
const (
	Constant    Service = "constant"
	Exponential Service = "exponential"
	Measured    Service = "measured" // as Scenario.Times has them
)

// Scenario is what is played through.
type Scenario struct {
	// Rate is how many messages come a second. They come by chance (a Poisson process), or
	// with Even at equal distances.
	Rate float64
	Even bool
	// Service is how long a try takes that the target takes, and how that is spread.
	Service time.Duration
	Spread  Service
	Times   []time.Duration // for Measured
	// Fails is how long a try takes that the target does not take: a refusal is quick, a
	// timeout is as long as the connection waits.
	Fails time.Duration
	// Keys is how many order values there are, each as frequent as the others; messages of one
	// leave one after the other. 0: order does not matter.
	Keys   int
	Plan   retry.Plan
	Limits retry.Limits
	// Backlog is how many messages wait at the beginning.
	Backlog int
	// For is how long messages come; what waits then is still worked off.
	For     time.Duration
	Outages []Window // the target answers nobody
	Slow    []Window // it takes Factor times as long
	Bursts  []Window // Factor times as many messages come
	Seed    uint64
	// Points is how many points of the curves are kept.
	Points int
}

// Window is a time in which something is otherwise, from the beginning of the drill.
type Window struct {
	From   time.Duration
	To     time.Duration
	Factor float64
}

func in(all []Window, at time.Duration) (Window, bool) {
	for _, w := range all {
		if at >= w.From && at < w.To {
			return w, true
		}
	}
	return Window{}, false
}

// Most bounds how many messages a drill has.
const Most = 20_000_000

// Check says what of a scenario cannot be played, or nil.
func (s *Scenario) Check() error {
	expected := s.Rate * s.For.Seconds()
	for _, b := range s.Bursts {
		expected += s.Rate * (b.Factor - 1) * (b.To - b.From).Seconds()
	}
	switch {
	case !(s.Rate > 0) || math.IsInf(s.Rate, 0):
		return errors.New("the rate must be more than 0 messages a second")
	case s.For <= 0:
		return errors.New("it is not said for how long messages come")
	case expected+float64(s.Backlog) > Most:
		return fmt.Errorf("that would be %.0f messages; a drill has at most %d", expected, Most)
	case s.Service <= 0 && s.Spread != Measured:
		return errors.New("it is not said how long a try takes")
	case s.Spread == Measured && len(s.Times) == 0:
		return errors.New("no times were measured")
	case s.Spread != Constant && s.Spread != Exponential && s.Spread != Measured:
		return fmt.Errorf("times are spread constant, exponential or measured, not %q", s.Spread)
	case s.Limits.InFlight < 1:
		return errors.New("at least one try must be in flight at once")
	case s.Backlog < 0 || s.Keys < 0:
		return errors.New("a number must not be below 0")
	}
	for _, all := range [][]Window{s.Outages, s.Slow, s.Bursts} {
		for _, w := range all {
			if w.From < 0 || w.To <= w.From {
				return errors.New("a window must end behind its beginning")
			}
		}
	}
	for _, w := range append(s.Slow, s.Bursts...) {
		if !(w.Factor > 0) || w.Factor > 10_000 {
			return fmt.Errorf("a factor must be more than 0 and at most 10000, not %g", w.Factor)
		}
	}
	return s.Plan.Check()
}

// Result is what a scenario comes to.
type Result struct {
	Messages    int64
	Delivered   int64
	DeadLetters int64
	Tries       int64
	// Waits are measured over what was delivered: from coming in to the beginning of the try
	// that delivered it (Wait), and to its end (Through).
	MeanWait, MeanThrough time.Duration
	P95Wait, LongestWait  time.Duration
	Waited                float64 // the share of messages that waited at all
	// MeanWaiting is how many waited on average while messages came.
	MeanWaiting float64
	// PeakBacklog is the most that were not at their end at one time, PeakAt when.
	PeakBacklog int64
	PeakAt      time.Duration
	PeakTries   float64 // tries a second at the target, in the busiest point of the curve
	OldestAge   time.Duration
	// NormalAt is when, behind the last window, nothing was left of what had come before its
	// end; 0 where that never was, or where there is no window.
	NormalAt time.Duration
	// DrainTime is from the end of the last outage until then.
	DrainTime time.Duration
	EndedAt   time.Duration // when the last message was at its end
	Curve     []Point
}

// Point is how things stand at a time, and what went in the time up to it.
type Point struct {
	At       time.Duration
	Backlog  int64
	Tries    float64 // a second
	Oldest   time.Duration
	Dead     int64 // until then
	Open     bool  // the breaker
	InFlight int
}

// chance is where a scenario gets its numbers from: the same seed gives the same drill.
func (s *Scenario) chance() *rand.Rand { return rand.New(rand.NewPCG(s.Seed, 0x9e3779b97f4a7c15)) }
