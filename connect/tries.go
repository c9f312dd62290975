package connect

import (
	"math"
	"time"
)

// How the tries at a system went is kept in minutes of the last day, with how long they took
// in classes that grow by half, so that a percentile is known to within a fourth.
const (
	keptMinutes = 24 * 60
	tookClasses = 32
	tookFirst   = 500 * time.Microsecond // the end of the first class
)

type minuteOfTries struct {
	at        int64 // minutes since 1970 that the counts are of
	good, bad int32
	tooks     [tookClasses]int32
}

// Tries is how tries at a system went in a time.
type Tries struct {
	Good, Bad     int64
	P50, P95, P99 time.Duration // how long the good ones took; 0 without any
}

// Tried notes that a try has come to its end.
func (p *Pulses) Tried(name string, good bool, took time.Duration, now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.of(name)
	if one.tries == nil {
		one.tries = map[int64]*minuteOfTries{}
	}
	at := now.Unix() / 60
	m := one.tries[at]
	if m == nil {
		m = &minuteOfTries{at: at}
		one.tries[at] = m
		for old := range one.tries { // the map holds a day at most
			if old <= at-keptMinutes {
				delete(one.tries, old)
			}
		}
	}
	if !good {
		m.bad++
		return
	}
	m.good++
	m.tooks[classOf(took)]++
}

func classOf(took time.Duration) int {
	if took <= tookFirst {
		return 0
	}
	return min(tookClasses-1, int(math.Ceil(math.Log(float64(took)/float64(tookFirst))/math.Log(1.5))))
}

// endOf gives the longest time of a class.
func endOf(class int) time.Duration {
	return time.Duration(float64(tookFirst) * math.Pow(1.5, float64(class)))
}

// TriesSince tells how tries at a system went since a time, at most a day back and since the
// application has begun; minutes count as a whole.
func (p *Pulses) TriesSince(name string, since time.Time) (out Tries) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.all[name]
	if one == nil {
		return out
	}
	var tooks [tookClasses]int64
	for at, m := range one.tries {
		if at < since.Unix()/60 {
			continue
		}
		out.Good, out.Bad = out.Good+int64(m.good), out.Bad+int64(m.bad)
		for i, n := range m.tooks {
			tooks[i] += int64(n)
		}
	}
	share := func(q float64) time.Duration {
		if out.Good == 0 {
			return 0
		}
		seen := int64(0)
		for i, n := range tooks {
			if seen += n; float64(seen) >= q*float64(out.Good) {
				return endOf(i)
			}
		}
		return endOf(tookClasses - 1)
	}
	out.P50, out.P95, out.P99 = share(0.5), share(0.95), share(0.99)
	return out
}
