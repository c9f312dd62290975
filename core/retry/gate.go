package retry

import "time"

// Limits are what a connection allows.
type Limits struct {
	InFlight  int           // tries at once
	PerSecond float64       // that may begin; 0 for no limit
	Trip      int           // "again" outcomes in a row that open the breaker; 0 for no breaker
	Probe     time.Duration // how often one try goes out while it is open
}

// Gate lets tries at one target begin. It keeps the breaker and the limit per second; how
// many tries are under way its owner knows. The zero value is a closed breaker.
type Gate struct {
	again   int       // "again" outcomes in a row
	probeAt time.Time // while the breaker is open: when the next probe may go
	slotAt  time.Time // when the next try may begin under the limit per second
}

// Judge learns what a try came to: after Trip "again" outcomes in a row the breaker opens,
// and one delivered or refused try closes it. An outcome of "" says nothing.
func (g *Gate) Judge(o Outcome, l Limits, now time.Time) {
	if o == Again {
		g.again++
	} else if o != "" {
		g.again = 0
	}
	if l.Trip > 0 && g.again >= l.Trip {
		g.probeAt = now.Add(l.Probe)
	} else {
		g.probeAt = time.Time{}
	}
}

// Open tells whether the breaker is open, and when the next probe may go.
func (g *Gate) Open() (probeAt time.Time, open bool) { return g.probeAt, !g.probeAt.IsZero() }

// Failures tells how many tries in a row came to "again".
func (g *Gate) Failures() int { return g.again }

// Close closes the breaker, because a person says so.
func (g *Gate) Close() { g.again, g.probeAt = 0, time.Time{} }

// Room tells whether a try may begin beside those that are under way. Where it may not,
// until is when it is to be asked again; zero where the end of a try decides.
func (g *Gate) Room(l Limits, underWay int, now time.Time) (free bool, until time.Time) {
	limit := l.InFlight
	if !g.probeAt.IsZero() {
		if now.Before(g.probeAt) {
			return false, g.probeAt
		}
		limit = 1
	}
	if underWay >= limit {
		return false, time.Time{}
	}
	if l.PerSecond > 0 && now.Before(g.slotAt) {
		return false, g.slotAt
	}
	return true, time.Time{}
}

// Began notes that a try has begun, for the limit per second.
func (g *Gate) Began(l Limits, now time.Time) {
	if l.PerSecond <= 0 {
		return
	}
	if g.slotAt.Before(now) {
		g.slotAt = now
	}
	g.slotAt = g.slotAt.Add(time.Duration(float64(time.Second) / l.PerSecond))
}
