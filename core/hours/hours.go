// Package hours reads calendars and tells which times they cover: opening hours, holidays,
// nights of maintenance.
//
// A calendar is an iCalendar file (RFC 5545). Each of its events covers the time from its start
// to its end, as often as it recurs (RRULE, RDATE, EXDATE, and single occurrences moved by
// RECURRENCE-ID); what is cancelled or transparent covers nothing. A calendar may leave out what
// other calendars cover: opening hours without the holidays. Local times follow the clock on the
// wall of their zone, also over a change to summer time: what opens at nine opens at nine.
//
// A Calendar does not change and is safe for concurrent use.
package hours

import (
	"sort"
	"sync"
	"time"
)

// Span is the time from a moment on and up to another, which is not part of it.
type Span struct{ From, To time.Time }

// Calendar is a calendar that was read.
type Calendar struct {
	events []event
	except []*Calendar
	stamp  string

	mu    sync.Mutex
	known map[int64][]Span // by the number of their block
}

// block is the piece of time whose spans are worked out at once and remembered.
const block = 32 * 24 * time.Hour

// mostKnown is how many blocks are remembered.
const mostKnown = 100

// Except gives a calendar that covers what this one does and none of the others.
func (c *Calendar) Except(others ...*Calendar) *Calendar {
	if len(others) == 0 {
		return c
	}
	stamp := c.stamp
	for _, o := range others {
		stamp += "-" + o.stamp
	}
	return &Calendar{events: c.events, except: append(append([]*Calendar{}, c.except...), others...), stamp: stamp}
}

// Stamp is the same for calendars that were read from the same texts, and for no others.
func (c *Calendar) Stamp() string { return c.stamp }

// Covers tells whether a moment is covered.
func (c *Calendar) Covers(at time.Time) bool {
	_, in := c.find(at)
	return in
}

// find gives the span that covers a moment.
func (c *Calendar) find(at time.Time) (Span, bool) {
	spans := c.blockOf(number(at))
	i := sort.Search(len(spans), func(i int) bool { return spans[i].To.After(at) })
	if i < len(spans) && !spans[i].From.After(at) {
		return spans[i], true
	}
	return Span{}, false
}

// Spans lists what is covered between two moments, in order, without overlap and cut at both.
func (c *Calendar) Spans(from, to time.Time) []Span {
	var out []Span
	for n := number(from); !begin(n).After(to); n++ {
		for _, s := range c.blockOf(n) {
			s.From, s.To = later(s.From, from), earlier(s.To, to)
			if s.From.Before(s.To) {
				out = append(out, s)
			}
		}
	}
	return joined(out)
}

// Within measures how much of the time between two moments is covered.
func (c *Calendar) Within(from, to time.Time) (d time.Duration) {
	for _, s := range c.Spans(from, to) {
		d += s.To.Sub(s.From)
	}
	return d
}

// Horizon is how far ahead one looks for the next change.
const Horizon = 400 * 24 * time.Hour

// NextStart gives the first moment at or after another that is covered; zero where none is
// within the horizon.
func (c *Calendar) NextStart(at time.Time) time.Time {
	for n := number(at); begin(n).Before(at.Add(Horizon)); n++ {
		for _, s := range c.blockOf(n) {
			if s.To.After(at) {
				return later(s.From, at)
			}
		}
	}
	return time.Time{}
}

// NextEnd gives the first moment at or after another that is not covered; zero where there is
// none within the horizon.
func (c *Calendar) NextEnd(at time.Time) time.Time {
	until := at.Add(Horizon)
	for at.Before(until) {
		s, in := c.find(at)
		if !in {
			return at
		}
		at = s.To
	}
	return time.Time{}
}

func number(at time.Time) int64 { return at.Unix() / int64(block/time.Second) }

func begin(n int64) time.Time { return time.Unix(n*int64(block/time.Second), 0).UTC() }

// blockOf gives what is covered of a block.
func (c *Calendar) blockOf(n int64) []Span {
	c.mu.Lock()
	defer c.mu.Unlock()
	if spans, ok := c.known[n]; ok {
		return spans
	}
	from, to := begin(n), begin(n+1)
	var spans []Span
	for i := range c.events {
		spans = append(spans, c.events[i].spans(from, to)...)
	}
	spans = joined(spans)
	for _, other := range c.except {
		spans = without(spans, other.Spans(from, to))
	}
	if c.known == nil || len(c.known) >= mostKnown {
		c.known = map[int64][]Span{}
	}
	c.known[n] = spans
	return spans
}

// joined puts spans in order and makes one of those that touch.
func joined(spans []Span) []Span {
	sort.Slice(spans, func(i, j int) bool { return spans[i].From.Before(spans[j].From) })
	out := spans[:0]
	for _, s := range spans {
		if last := len(out) - 1; last >= 0 && !s.From.After(out[last].To) {
			out[last].To = later(out[last].To, s.To)
			continue
		}
		out = append(out, s)
	}
	return out
}

// without takes spans away from others; both are in order.
func without(spans, gone []Span) (out []Span) {
	for _, s := range spans {
		for _, g := range gone {
			if !g.To.After(s.From) || !g.From.Before(s.To) {
				continue
			}
			if s.From.Before(g.From) {
				out = append(out, Span{s.From, g.From})
			}
			s.From = g.To
		}
		if s.From.Before(s.To) {
			out = append(out, s)
		}
	}
	return out
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}
