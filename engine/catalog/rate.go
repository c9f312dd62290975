package catalog

import (
	"time"

	"golang.org/x/time/rate"

	"readyferry/core/flow"
)

// Rate bounds messages, and their bytes, in a second: so many may come at once, and as many
// in each second behind that. A nil one bounds nothing. It is safe for concurrent use.
type Rate struct {
	Bounds          flow.Bounds
	messages, bytes *rate.Limiter // nil: not bounded
}

// NewRate makes a rate.
func NewRate(b flow.Bounds) *Rate {
	r := &Rate{Bounds: b}
	if b.PerSecond > 0 {
		r.messages = rate.NewLimiter(rate.Limit(b.PerSecond), b.PerSecond)
	}
	if b.Bytes > 0 {
		r.bytes = rate.NewLimiter(rate.Limit(b.Bytes), int(b.Bytes))
	}
	return r
}

// Take takes one message, or tells after how long it may come. One that is larger than what
// may come in a second comes alone.
func (r *Rate) Take(bytes int64, now time.Time) (after time.Duration) {
	if r == nil {
		return 0
	}
	first := reserve(r.messages, 1, now)
	second := reserve(r.bytes, bytes, now)
	if after = max(delay(first, now), delay(second, now)); after > 0 {
		give(first, now)
		give(second, now)
	}
	return after
}

// Spend notes messages that have come. They may be more than come in a second: then Wait
// tells how long to wait for the next.
func (r *Rate) Spend(messages int, bytes int64, now time.Time) {
	if r == nil {
		return
	}
	for n := int64(messages); n > 0; n -= int64(r.Bounds.PerSecond) {
		if reserve(r.messages, n, now) == nil {
			break
		}
	}
	for n := bytes; n > 0; n -= r.Bounds.Bytes {
		if reserve(r.bytes, n, now) == nil {
			break
		}
	}
}

// Wait tells how long to wait until the next message may come.
func (r *Rate) Wait(now time.Time) time.Duration {
	if r == nil {
		return 0
	}
	return max(missing(r.messages, now), missing(r.bytes, now))
}

// reserve takes so many out of what a second allows; more than that counts as that much.
func reserve(l *rate.Limiter, n int64, now time.Time) *rate.Reservation {
	if l == nil {
		return nil
	}
	return l.ReserveN(now, int(min(n, int64(l.Burst()))))
}

func delay(r *rate.Reservation, now time.Time) time.Duration {
	if r == nil {
		return 0
	}
	return r.DelayFrom(now)
}

func give(r *rate.Reservation, now time.Time) {
	if r != nil {
		r.CancelAt(now)
	}
}

// missing is how long it takes until one more may come.
func missing(l *rate.Limiter, now time.Time) time.Duration {
	if l == nil {
		return 0
	}
	if short := 1 - l.TokensAt(now); short > 0 {
		return time.Duration(short / float64(l.Limit()) * float64(time.Second))
	}
	return 0
}
