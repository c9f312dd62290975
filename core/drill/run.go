package drill

import (
	"container/heap"
	"context"
	"encoding/binary"
	"math/rand/v2"
	"slices"
	"time"

	"readyferry/core/retry"
)

// message is one that is under way.
type message struct {
	n       int64
	came    time.Duration
	key     int
	tries   int
	firstAt time.Duration // of its first try
	dueAt   time.Duration
	gone    bool // at its end
}

// dues are messages that wait for another try, the one that is due first on top.
type dues []*message

func (d dues) Len() int { return len(d) }
func (d dues) Less(i, j int) bool {
	return d[i].dueAt < d[j].dueAt || d[i].dueAt == d[j].dueAt && d[i].n < d[j].n
}
func (d dues) Swap(i, j int) { d[i], d[j] = d[j], d[i] }
func (d *dues) Push(x any)   { *d = append(*d, x.(*message)) }
func (d *dues) Pop() any {
	old := *d
	last := old[len(old)-1]
	*d = old[:len(old)-1]
	return last
}

// try is one that is under way.
type try struct {
	m       *message
	began   time.Duration
	ends    time.Duration
	outcome retry.Outcome
}

// tries are those under way, the one that ends first on top. They are most of what a drill
// does, so they are a heap of their own, without an interface around each.
type tries []try

func (t *tries) push(one try) {
	h := append(*t, one)
	i := len(h) - 1
	for i > 0 {
		up := (i - 1) / 2
		if h[up].ends <= h[i].ends {
			break
		}
		h[up], h[i] = h[i], h[up]
		i = up
	}
	*t = h
}

func (t *tries) pop() try {
	h := *t
	first, n := h[0], len(h)-1
	h[0] = h[n]
	h = h[:n]
	for i := 0; ; {
		least := i
		for _, down := range []int{2*i + 1, 2*i + 2} {
			if down < n && h[down].ends < h[least].ends {
				least = down
			}
		}
		if least == i {
			break
		}
		h[i], h[least] = h[least], h[i]
		i = least
	}
	*t = h
	return first
}

// play is a drill under way.
type play struct {
	*Scenario
	chance *rand.Rand
	now    time.Duration
	gate   retry.Gate

	nextAt  time.Duration // when the next message comes; below 0: none comes any more
	fresh   queue         // due, never tried yet
	waiting dues          // for their next try
	flying  tries
	lines   map[int][]*message // by order value: who waits for those before them; the first is on its way

	open    int64 // messages that are not at their end
	oldest  ages
	seed    [16]byte
	r       Result
	waits   histogram
	area    float64 // of the messages that wait, over time, in seconds
	areaTo  time.Duration
	sampled sampler
}

// epoch is when a drill begins: the gate counts in times of the day.
var epoch = time.Unix(0, 0).UTC()

// Run plays a scenario through. The error is that of Check, or of the context.
func Run(ctx context.Context, s Scenario) (*Result, error) {
	if err := s.Check(); err != nil {
		return nil, err
	}
	if s.Points == 0 {
		s.Points = 240
	}
	p := &play{Scenario: &s, chance: s.chance(), lines: map[int][]*message{}}
	binary.LittleEndian.PutUint64(p.seed[:], s.Seed)
	p.sampled.begin(&s)
	p.nextAt = p.gap(0)
	for range s.Backlog {
		p.come()
	}
	for steps := 0; ; steps++ {
		if steps%4096 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		p.launch()
		at, what := p.next()
		if what == nothing {
			break
		}
		p.pass(at)
		switch what {
		case landing:
			p.land()
		case arrival:
			p.arrive()
		}
	}
	p.end()
	return &p.r, nil
}

// What happens next.
type event int

const (
	nothing event = iota
	landing
	arrival
	turn // something may begin
)

// next gives what happens next, and when.
func (p *play) next() (at time.Duration, what event) {
	if len(p.flying) > 0 {
		at, what = p.flying[0].ends, landing
	}
	if p.nextAt >= 0 && (what == nothing || p.nextAt < at) {
		at, what = p.nextAt, arrival
	}
	if p.fresh.len() == 0 && len(p.waiting) == 0 {
		return at, what
	}
	due := p.now
	if p.fresh.len() == 0 {
		due = max(due, p.waiting[0].dueAt)
	}
	free, until := p.gate.Room(p.Limits, len(p.flying), epoch.Add(due))
	if !free && until.IsZero() {
		return at, what // the end of a try decides
	}
	if !free {
		due = max(until.Sub(epoch), p.now)
	}
	if (!free || due > p.now) && (what == nothing || due < at) {
		at, what = due, turn
	}
	return at, what
}

// gap draws when the next message comes behind a time; below 0 where none does. Chance has no
// memory, so where the rate changes it is drawn anew from there.
func (p *play) gap(from time.Duration) time.Duration {
	for {
		rate, until := p.rate(from)
		gap := 1 / rate
		if !p.Even {
			gap *= p.chance.ExpFloat64()
		}
		at := from + time.Duration(gap*float64(time.Second))
		if at > p.For && (p.Even || until >= p.For) {
			return -1
		}
		if p.Even || at <= until {
			return at
		}
		from = until
	}
}

// rate gives how many messages come a second at a time, and until when that is so.
func (p *play) rate(at time.Duration) (rate float64, until time.Duration) {
	rate, until = p.Rate, p.For
	for _, w := range p.Bursts {
		switch {
		case at >= w.From && at < w.To:
			rate, until = p.Rate*w.Factor, min(until, w.To)
		case w.From > at:
			until = min(until, w.From)
		}
	}
	return rate, until
}

func (p *play) arrive() {
	p.come()
	p.nextAt = p.gap(p.now)
}

// come takes a message in.
func (p *play) come() {
	p.r.Messages++
	m := &message{n: p.r.Messages, came: p.now, key: -1, dueAt: p.now}
	p.open++
	if p.open > p.r.PeakBacklog {
		p.r.PeakBacklog, p.r.PeakAt = p.open, p.now
	}
	p.oldest.add(m)
	if p.Keys > 0 {
		m.key = p.chance.IntN(p.Keys)
		line := append(p.lines[m.key], m)
		p.lines[m.key] = line
		if len(line) > 1 {
			return // its turn comes when those before it are at their end
		}
	}
	p.fresh.push(m)
}

// launch begins what may begin: the longest due first.
func (p *play) launch() {
	for {
		free, _ := p.gate.Room(p.Limits, len(p.flying), epoch.Add(p.now))
		if !free {
			return
		}
		m := p.take()
		if m == nil {
			return
		}
		p.gate.Began(p.Limits, epoch.Add(p.now))
		p.begin(m)
	}
}

// take gives the message that has been due for the longest, or nil.
func (p *play) take() *message {
	again := len(p.waiting) > 0 && p.waiting[0].dueAt <= p.now
	if again && (p.fresh.len() == 0 || p.waiting[0].dueAt <= p.fresh.first().dueAt) {
		return heap.Pop(&p.waiting).(*message)
	}
	if p.fresh.len() == 0 {
		return nil
	}
	return p.fresh.pop()
}

// begin makes a try.
func (p *play) begin(m *message) {
	if m.tries == 0 {
		m.firstAt = p.now
	}
	m.tries++
	p.r.Tries++
	p.sampled.tries++
	t := try{m: m, began: p.now, outcome: retry.Delivered}
	took := p.serves()
	if w, ok := in(p.Slow, p.now); ok {
		took = time.Duration(float64(took) * w.Factor)
	}
	if _, out := in(p.Outages, p.now); out {
		t.outcome, took = retry.Again, p.Fails
	}
	t.ends = p.now + took
	p.flying.push(t)
}

// serves draws how long a try takes.
func (p *play) serves() time.Duration {
	switch p.Spread {
	case Exponential:
		return time.Duration(p.chance.ExpFloat64() * float64(p.Service))
	case Measured:
		return p.Times[p.chance.IntN(len(p.Times))]
	}
	return p.Service
}

// land takes what a try came to.
func (p *play) land() {
	t := p.flying.pop()
	p.gate.Judge(t.outcome, p.Limits, epoch.Add(p.now))
	m := t.m
	if t.outcome == retry.Delivered {
		p.r.Delivered++
		p.waits.add(t.began - m.came)
		p.waits.through(p.now - m.came)
		p.leave(m)
		return
	}
	binary.LittleEndian.PutUint64(p.seed[8:], uint64(m.n))
	// As the engine has it: the time that has passed since the first try began counts.
	next, ok, _ := p.Plan.Next(p.seed[:], m.tries, p.now-m.firstAt, 0)
	if !ok {
		p.r.DeadLetters++
		p.leave(m)
		return
	}
	m.dueAt = m.firstAt + next
	heap.Push(&p.waiting, m)
}

// leave ends a message, and lets the next of its order value go.
func (p *play) leave(m *message) {
	p.open--
	p.oldest.gone(m)
	if m.key < 0 {
		return
	}
	line := p.lines[m.key][1:]
	if len(line) == 0 {
		delete(p.lines, m.key)
		return
	}
	p.lines[m.key] = line
	line[0].dueAt = p.now
	p.fresh.push(line[0])
}

// pass lets time go by.
func (p *play) pass(to time.Duration) {
	waits := p.open - int64(len(p.flying))
	if until := min(to, p.For); until > p.areaTo {
		p.area += float64(waits) * (until - p.areaTo).Seconds()
		p.areaTo = until
	}
	p.sampled.until(p, to)
	if end := p.windowEnd(); p.now < end && end <= to && p.open <= int64(len(p.flying)) {
		p.r.NormalAt = end // nothing waited when it ended
	}
	p.now = to
	age := p.oldest.oldest(p.now)
	if age > p.r.OldestAge {
		p.r.OldestAge = age
	}
	p.normal()
}

// normal notes when, behind the last window, nothing waits any more: what is under way is so
// at any time.
func (p *play) normal() {
	end := p.windowEnd()
	if p.r.NormalAt > 0 || p.now < end || end == 0 && p.Backlog == 0 || p.open > int64(len(p.flying)) {
		return
	}
	p.r.NormalAt, p.r.DrainTime = p.now, p.now-end
}

// windowEnd is when the last outage, slowness or burst ends.
func (s *Scenario) windowEnd() (end time.Duration) {
	for _, all := range [][]Window{s.Outages, s.Slow, s.Bursts} {
		for _, w := range all {
			end = max(end, w.To)
		}
	}
	return end
}

// end works the averages out.
func (p *play) end() {
	p.r.EndedAt = p.now
	p.sampled.last(p)
	p.waits.into(&p.r)
	if p.areaTo > 0 {
		p.r.MeanWaiting = p.area / p.areaTo.Seconds()
	}
	p.r.Curve = p.sampled.points
	busiest := slices.MaxFunc(append(p.r.Curve, Point{}), func(a, b Point) int {
		switch {
		case a.Tries < b.Tries:
			return -1
		case a.Tries > b.Tries:
			return 1
		}
		return 0
	})
	p.r.PeakTries = busiest.Tries
}
