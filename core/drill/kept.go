package drill

import (
	"math"
	"time"
)

// queue is what comes first goes first.
type queue struct {
	all  []*message
	head int
}

func (q *queue) len() int        { return len(q.all) - q.head }
func (q *queue) first() *message { return q.all[q.head] }
func (q *queue) push(m *message) { q.all = append(q.all, m) }

func (q *queue) pop() *message {
	m := q.all[q.head]
	q.all[q.head] = nil
	if q.head++; q.head > 1024 && q.head*2 > len(q.all) {
		q.all = append(q.all[:0], q.all[q.head:]...)
		q.head = 0
	}
	return m
}

// ages knows which of the messages that are not at their end came first: they come in order,
// and those at the front that are gone are dropped.
type ages struct{ queue }

func (a *ages) add(m *message) { a.push(m) }

func (a *ages) gone(m *message) {
	m.gone = true
	for a.len() > 0 && a.queue.first().gone {
		a.pop()
	}
}

// first gives the one that came first, or nil.
func (a *ages) first() *message {
	if a.len() == 0 {
		return nil
	}
	return a.queue.first()
}

func (a *ages) oldest(now time.Duration) time.Duration {
	if m := a.first(); m != nil {
		return now - m.came
	}
	return 0
}

// histogram keeps waits in classes that grow by a hundredth, and their sum exactly.
type histogram struct {
	n, waited  int64
	sum        float64 // seconds
	sumThrough float64
	longest    time.Duration
	classes    [2000]int64
}

const (
	smallest = float64(time.Microsecond)
	grows    = 1.01
)

func (h *histogram) add(wait time.Duration) {
	h.n++
	h.sum += wait.Seconds()
	h.longest = max(h.longest, wait)
	if wait <= 0 {
		h.classes[0]++
		return
	}
	h.waited++
	class := 1 + int(math.Log(math.Max(1, float64(wait)/smallest))/math.Log(grows))
	h.classes[min(class, len(h.classes)-1)]++
}

func (h *histogram) through(d time.Duration) { h.sumThrough += d.Seconds() }

func (h *histogram) into(r *Result) {
	if h.n == 0 {
		return
	}
	n := float64(h.n)
	r.MeanWait = time.Duration(h.sum / n * float64(time.Second))
	r.MeanThrough = time.Duration(h.sumThrough / n * float64(time.Second))
	r.LongestWait = h.longest
	r.Waited = float64(h.waited) / n
	seen := int64(0)
	for i, k := range h.classes {
		if seen += k; float64(seen) >= 0.95*n {
			if i > 0 {
				r.P95Wait = time.Duration(smallest * math.Pow(grows, float64(i)-0.5))
			}
			return
		}
	}
}

// sampler keeps the points of the curves. The end is not known beforehand, so points stand
// at distances that double when there are too many.
type sampler struct {
	step   time.Duration
	most   int
	points []Point
	tries  int64 // since the last point
}

func (s *sampler) begin(of *Scenario) {
	s.most = of.Points
	s.step = max(time.Millisecond, of.For/time.Duration(of.Points))
}

// until adds the points up to a time.
func (s *sampler) until(p *play, to time.Duration) {
	for next := time.Duration(len(s.points)+1) * s.step; next <= to; next = time.Duration(len(s.points)+1) * s.step {
		s.point(p, next)
		if len(s.points) >= 2*s.most {
			s.thin()
		}
	}
}

func (s *sampler) point(p *play, at time.Duration) {
	_, open := p.gate.Open()
	s.points = append(s.points, Point{
		At:       at,
		Backlog:  p.open,
		Tries:    float64(s.tries) / s.step.Seconds(),
		Oldest:   p.oldest.oldest(at),
		Dead:     p.r.DeadLetters,
		Open:     open,
		InFlight: len(p.flying),
	})
	s.tries = 0
}

// thin leaves every second point, at twice the distance.
func (s *sampler) thin() {
	half := s.points[:0]
	for i := 1; i < len(s.points); i += 2 {
		b := s.points[i]
		b.Tries = (s.points[i-1].Tries + b.Tries) / 2
		half = append(half, b)
	}
	s.points, s.step = half, 2*s.step
}

func (s *sampler) last(p *play) {
	if len(s.points) == 0 || s.points[len(s.points)-1].Backlog != p.open {
		s.point(p, p.now)
	}
}
