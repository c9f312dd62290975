package watch

import (
	"slices"
	"sync"
	"time"

	"readyferry/core/retry"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Buckets are the upper bounds of the histograms of times, in seconds: from what is done inside
// of the application to what waits for another day.
var Buckets = []float64{.005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10, 30, 60, 300, 900, 3600, 21600, 86400}

// Meter counts what happens since the start, for metrics. Its labels are names of flows, steps
// and connections and words of the application: nothing of a message is among them.
type Meter struct {
	mu     sync.Mutex
	flows  map[string]*flowMeter
	steps  map[StepOutcome]uint64
	tries  map[TryOutcome]uint64
	took   map[string]*Times // tries, by connection
	all    uint64            // things that happened
	onward []func([]store.Happened)
}

// StepOutcome is what a step did to a message.
type StepOutcome struct{ Flow, Step, Outcome string }

// TryOutcome is what a try at a connection came to.
type TryOutcome struct{ Connection, Outcome string }

type flowMeter struct {
	came  uint64
	ended map[string]uint64 // by state
	took  Times
}

// Times is a histogram: Counts[i] is how many took at most Buckets[i].
type Times struct {
	Counts []uint64
	N      uint64
	Sum    float64 // seconds
}

func (t *Times) add(d time.Duration) {
	if t.Counts == nil {
		t.Counts = make([]uint64, len(Buckets))
	}
	s := d.Seconds()
	for i := len(Buckets) - 1; i >= 0 && s <= Buckets[i]; i-- {
		t.Counts[i]++
	}
	t.N++
	t.Sum += s
}

func newMeter() *Meter {
	return &Meter{flows: map[string]*flowMeter{}, steps: map[StepOutcome]uint64{}, tries: map[TryOutcome]uint64{},
		took: map[string]*Times{}}
}

// Pass has a function called with what happened, too. It is to be called before the start.
func (m *Meter) Pass(do func([]store.Happened)) { m.onward = append(m.onward, do) }

// happened counts what a commit brought.
func (m *Meter) happened(all []store.Happened) {
	m.mu.Lock()
	m.all += uint64(len(all))
	for i := range all {
		m.count(&all[i])
	}
	m.mu.Unlock()
	for _, do := range m.onward {
		do(all)
	}
}

// pace is how much has happened until some moment, and how fast it came since another.
type pace struct {
	at   time.Time
	all  uint64
	rate float64 // a second
}

// since tells how much has happened in a second since some moment.
func (m *Meter) since(before pace) pace {
	m.mu.Lock()
	defer m.mu.Unlock()
	p := pace{at: time.Now(), all: m.all}
	if d := p.at.Sub(before.at); !before.at.IsZero() && d > 0 {
		p.rate = float64(p.all-before.all) / d.Seconds()
	}
	return p
}

func (m *Meter) count(h *store.Happened) {
	switch h.What {
	case store.HasCome:
		if !h.Part {
			m.flow(h.Flow).came++
		}
	case store.HasEnded:
		if !h.Part {
			f := m.flow(h.Flow)
			f.ended[h.State.String()]++
			f.took.add(h.Took)
		}
	case store.HasDied:
		if !h.Part {
			m.flow(h.Flow).ended[h.State.String()]++
		}
		m.steps[StepOutcome{h.Flow, h.Step, h.State.String()}]++
	case store.WasTried:
		m.steps[StepOutcome{h.Flow, h.Step, tryWord(h.Outcome)}]++
		m.tries[TryOutcome{h.Target, h.Outcome}]++
		t := m.took[h.Target]
		if t == nil {
			t = &Times{}
			m.took[h.Target] = t
		}
		t.add(h.Took)
	case store.HasSettled:
	}
}

// tryWord says what a try came to as an outcome of its step.
func tryWord(outcome string) string {
	if outcome == string(retry.Delivered) {
		return outcome
	}
	return "try failed"
}

func (m *Meter) flow(name string) *flowMeter {
	f := m.flows[name]
	if f == nil {
		f = &flowMeter{ended: map[string]uint64{}}
		m.flows[name] = f
	}
	return f
}

// away counts messages that steps have turned away.
func (m *Meter) away(all []journal.Away) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, a := range all {
		m.steps[StepOutcome{a.Flow, a.Step, store.TurnedAway.String()}]++
	}
}

// FlowCount is what came of a flow since the start.
type FlowCount struct {
	Flow  string
	Came  uint64
	Ended map[string]uint64 // by state; a dead letter counts as often as it became one
	Took  Times             // from its coming to its end
}

// Counted is what a meter has counted.
type Counted struct {
	Flows []FlowCount
	Steps map[StepOutcome]uint64
	Tries map[TryOutcome]uint64
	Took  map[string]Times // of tries, by connection
}

// Counted gives what has been counted since the start.
func (m *Meter) Counted() Counted {
	m.mu.Lock()
	defer m.mu.Unlock()
	c := Counted{Steps: map[StepOutcome]uint64{}, Tries: map[TryOutcome]uint64{}, Took: map[string]Times{}}
	for name, f := range m.flows {
		one := FlowCount{Flow: name, Came: f.came, Ended: map[string]uint64{}, Took: f.took.copied()}
		for state, n := range f.ended {
			one.Ended[state] = n
		}
		c.Flows = append(c.Flows, one)
	}
	for k, n := range m.steps {
		c.Steps[k] = n
	}
	for k, n := range m.tries {
		c.Tries[k] = n
	}
	for name, t := range m.took {
		c.Took[name] = t.copied()
	}
	return c
}

func (t *Times) copied() Times { return Times{slices.Clone(t.Counts), t.N, t.Sum} }
