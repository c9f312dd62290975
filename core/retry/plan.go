// Package retry computes when a delivery is tried again and when it is given
// up. It is the only place in the product that computes such times: the
// preview, the engine and the command line all ask it.
//
// A plan always ends: after Tries tries, or when the next one would begin
// later than Within after the first, whichever comes first.
//
// The delay before try n+1, for n = 1, 2, …, is
//
//	constant     first
//	linear       first · n
//	exponential  first · factor^(n−1)
//
// and never more than Cap. Spread then takes it down so that many deliveries
// that failed together do not come back together:
//
//	none   d
//	equal  d/2 + u·d/2
//	full   u·d
//
// u lies in [0, 1) and comes from a hash of the delivery's id and n, so that a
// schedule can be shown exactly beforehand and is the same on every replay.
package retry

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"time"
)

// Growths and spreads, by the words that a flow document uses.
const (
	Constant    = "constant"
	Linear      = "linear"
	Exponential = "exponential"

	SpreadNone  = "none"
	SpreadEqual = "equal"
	SpreadFull  = "full"
)

// Plan says when to try again and when to give up.
type Plan struct {
	First  time.Duration // delay before the second try; more than 0
	Growth string        // Constant, Linear or Exponential
	Factor float64       // for Exponential; at least 1
	Cap    time.Duration // no delay is longer; at least First
	Spread string        // SpreadNone, SpreadEqual or SpreadFull
	Tries  int           // tries in all, the first included; 1 to MaxTries
	Within time.Duration // no try begins later than this after the first

	// Statuses that a flow moves from one outcome to another.
	Delivered, Again, Never []int
}

// MaxTries is the largest number of tries that a plan may ask for.
const MaxTries = 1000

// Default is the plan of a delivery for which nobody set one.
func Default() Plan {
	return Plan{
		First: 5 * time.Second, Growth: Exponential, Factor: 2, Cap: 10 * time.Minute,
		Spread: SpreadFull, Tries: 6, Within: 24 * time.Hour,
	}
}

// kept is a plan as it is kept with every delivery: what differs from Default. So Default is
// part of that form; a release with other defaults keeps these here.
type kept struct {
	First                   *time.Duration `json:",omitempty"`
	Growth                  *string        `json:",omitempty"`
	Factor                  *float64       `json:",omitempty"`
	Cap                     *time.Duration `json:",omitempty"`
	Spread                  *string        `json:",omitempty"`
	Tries                   *int           `json:",omitempty"`
	Within                  *time.Duration `json:",omitempty"`
	Delivered, Again, Never []int          `json:",omitempty"`
}

// Encode gives the plan as JSON; the shorter, the more of it is as in Default. It is kept with
// each delivery, which is written twice.
func (p Plan) Encode() ([]byte, error) {
	usual := Default()
	return json.Marshal(kept{
		First: other(p.First, usual.First), Growth: other(p.Growth, usual.Growth), Factor: other(p.Factor, usual.Factor),
		Cap: other(p.Cap, usual.Cap), Spread: other(p.Spread, usual.Spread), Tries: other(p.Tries, usual.Tries),
		Within: other(p.Within, usual.Within), Delivered: p.Delivered, Again: p.Again, Never: p.Never,
	})
}

// other gives a value that is not the usual one; nil where it is.
func other[T comparable](value, usual T) *T {
	if value == usual {
		return nil
	}
	return &value
}

// Decode reads what Encode wrote. Earlier releases wrote all of a plan; that is read, too.
func Decode(b []byte) (Plan, error) {
	p := Default()
	if err := json.Unmarshal(b, &p); err != nil {
		return Plan{}, fmt.Errorf("reading a retry plan: %w", err)
	}
	return p, nil
}

// Check says what is wrong with the plan's values, or nil.
func (p Plan) Check() error {
	switch {
	case p.First <= 0:
		return errors.New("first must be longer than 0")
	case p.Growth != Constant && p.Growth != Linear && p.Growth != Exponential:
		return fmt.Errorf("growth is %q; it must be constant, linear or exponential", p.Growth)
	case p.Growth == Exponential && !(p.Factor >= 1 && p.Factor <= 1000):
		return fmt.Errorf("factor is %g; it must be between 1 and 1000", p.Factor)
	case p.Cap < p.First:
		return fmt.Errorf("cap (%s) must not be shorter than first (%s)", p.Cap, p.First)
	case p.Spread != SpreadNone && p.Spread != SpreadEqual && p.Spread != SpreadFull:
		return fmt.Errorf("spread is %q; it must be none, equal or full", p.Spread)
	case p.Tries < 1 || p.Tries > MaxTries:
		return fmt.Errorf("tries is %d; it must be between 1 and %d", p.Tries, MaxTries)
	case p.Within <= 0:
		return errors.New("within must be longer than 0")
	}
	return nil
}

// Delay is the wait before try n+1 without spread; n counts from 1.
func (p Plan) Delay(n int) time.Duration {
	d := float64(p.First)
	switch p.Growth {
	case Linear:
		d *= float64(n)
	case Exponential:
		d *= math.Pow(p.Factor, float64(n-1))
	}
	if d >= float64(p.Cap) { // also when the power is infinite
		return p.Cap
	}
	return time.Duration(math.Round(d))
}

// Bounds are the shortest and longest wait before try n+1 under the spread.
func (p Plan) Bounds(n int) (low, high time.Duration) {
	d := p.Delay(n)
	switch p.Spread {
	case SpreadEqual:
		return d / 2, d
	case SpreadFull:
		return 0, d
	}
	return d, d
}

// Wait is the exact wait before try n+1 of the delivery with that seed.
func (p Plan) Wait(seed []byte, n int) time.Duration {
	low, high := p.Bounds(n)
	return low + time.Duration(unit(seed, n)*float64(high-low))
}

// unit gives u in [0, 1): the first 53 bits of SHA-256 over seed and n.
func unit(seed []byte, n int) float64 {
	h := sha256.New()
	h.Write(seed)
	var b [8]byte
	binary.BigEndian.PutUint64(b[:], uint64(n))
	h.Write(b[:])
	return float64(binary.BigEndian.Uint64(h.Sum(nil))>>11) / (1 << 53)
}

// Try is one row of a schedule. Offsets count from the beginning of the first
// try and take every try as answered at once.
type Try struct {
	N                         int
	Earliest, Planned, Latest time.Duration
}

// Schedule lists every try that the plan allows for the delivery with that
// seed. A try that would begin later than Within is not in it.
func (p Plan) Schedule(seed []byte) []Try {
	tries := []Try{{N: 1}}
	var at Try
	for n := 1; n < p.Tries; n++ {
		low, high := p.Bounds(n)
		at = Try{N: n + 1, Earliest: at.Earliest + low, Planned: at.Planned + p.Wait(seed, n), Latest: at.Latest + high}
		if at.Planned > p.Within {
			break
		}
		shown := at
		shown.Latest = min(shown.Latest, p.Within)
		tries = append(tries, shown)
	}
	return tries
}

// Span is how long a plan keeps trying, from the first try to the last.
type Span struct {
	Tries                      int
	Earliest, Expected, Latest time.Duration
}

// Span sums the plan up without a seed: bounds and mean over all deliveries.
// Tries counts those that the mean schedule reaches.
func (p Plan) Span() Span {
	s := Span{Tries: 1}
	for n := 1; n < p.Tries; n++ {
		low, high := p.Bounds(n)
		if s.Expected+(low+high)/2 > p.Within {
			break
		}
		s.Earliest += low
		s.Expected += (low + high) / 2
		s.Latest = min(s.Latest+high, p.Within)
		s.Tries++
	}
	return s
}

// Next says when try n+1 comes after try n ended without success: at, counted
// from the beginning of the first try. elapsed is when try n ended, on the
// same clock; retryAfter is the wait that the target asked for, or 0. A
// Retry-After moves a try later, never earlier, and not past the plan's end.
// ok is false when the plan has ended; reason then says by which rule.
func (p Plan) Next(seed []byte, n int, elapsed, retryAfter time.Duration) (at time.Duration, ok bool, reason string) {
	if n >= p.Tries {
		return 0, false, fmt.Sprintf("given up after %s", times(n))
	}
	elapsed = max(elapsed, 0) // a clock that was set back must not prolong a plan
	at = elapsed + p.Wait(seed, n)
	if at > p.Within {
		return 0, false, fmt.Sprintf(
			"given up after %s, because the next would come later than %s after the first",
			times(n),
			p.Within,
		)
	}
	if asked := elapsed + retryAfter; asked > at {
		at = min(asked, p.Within)
	}
	return at, true, ""
}

func times(n int) string {
	if n == 1 {
		return "1 try"
	}
	return fmt.Sprintf("%d tries", n)
}
