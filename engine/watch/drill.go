package watch

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"readyferry/core/drill"
	"readyferry/core/retry"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// DrillFacts is what a flow's deliveries to one target were like lately, as a drill takes it.
type DrillFacts struct {
	Flow   string
	Step   string
	Target string
	// Rate is how many deliveries began a second, in the span that Of says.
	Rate    float64
	Of      time.Duration
	Times   []time.Duration // of tries that were delivered
	Mean    time.Duration
	P95     time.Duration
	Size    int64 // bytes that one hands over, on average
	Keys    int   // order values among those that were looked at; 0 where order does not matter
	Plan    retry.Plan
	Limits  retry.Limits
	Limit   time.Duration // for one try
	Looked  int           // deliveries that this is drawn from
	Backlog int64         // deliveries to the target that wait now, counted to a limit
}

// How many transactions of a flow facts are drawn from, and how much backlog is counted.
const (
	factsFrom     = 500
	countedUpTo   = 100_000
	factsOfAnHour = time.Hour
)

// Facts tells what the deliveries of a flow were like lately, the step with most first.
func (w *Watch) Facts(flow string) ([]DrillFacts, error) {
	return FactsOf(w.Store.All(), w.Catalog, flow, w.Now())
}

// FactsOf is Facts over a file that is not worked on.
func FactsOf(v store.View, known *catalog.Catalog, flow string, now time.Time) ([]DrillFacts, error) {
	if known.Flow(flow) == nil {
		return nil, journal.ErrNotFound
	}
	rows, err := v.Transactions(store.Filter{Flow: flow, Limit: factsFrom})
	if err != nil {
		return nil, err
	}
	byStep := map[string]*DrillFacts{}
	keys := map[string]map[string]bool{}
	for i := range rows {
		deliveries, err := v.Deliveries(rows[i].ID)
		if err != nil {
			return nil, err
		}
		for j := range deliveries {
			if err := factsOne(v, byStep, keys, &deliveries[j]); err != nil {
				return nil, err
			}
		}
	}
	rate, of, err := rateOf(v, flow, now)
	if err != nil {
		return nil, err
	}
	out := make([]DrillFacts, 0, len(byStep))
	for name, f := range byStep {
		f.Rate, f.Of = rate*float64(f.Looked)/float64(len(rows)), of
		f.Keys = len(keys[name])
		if len(f.Times) > 0 {
			slices.Sort(f.Times)
			f.P95 = f.Times[len(f.Times)*95/100]
			var sum time.Duration
			for _, t := range f.Times {
				sum += t
			}
			f.Mean = sum / time.Duration(len(f.Times))
		}
		f.Size /= int64(f.Looked)
		f.Limits, f.Limit = retry.Limits{InFlight: 8}, time.Minute
		if c := known.Connection(f.Target); c != nil {
			f.Limits = retry.Limits{InFlight: c.InFlight, PerSecond: c.PerSecond, Trip: c.Trip, Probe: c.Probe}
			f.Limit = c.TimeLimit
		}
		if f.Backlog, err = v.CountPending(f.Target, countedUpTo); err != nil {
			return nil, err
		}
		f.Flow = flow
		out = append(out, *f)
	}
	slices.SortFunc(out, func(a, b DrillFacts) int {
		if a.Looked != b.Looked {
			return b.Looked - a.Looked
		}
		return slices.Compare([]string{a.Step}, []string{b.Step})
	})
	return out, nil
}

// factsOne adds a delivery to the facts of its step.
func factsOne(v store.View, byStep map[string]*DrillFacts, keys map[string]map[string]bool, d *store.Delivery) error {
	f := byStep[d.Step]
	if f == nil {
		f = &DrillFacts{Step: d.Step, Target: d.Target}
		byStep[d.Step], keys[d.Step] = f, map[string]bool{}
		plan, err := retry.Decode(d.Plan)
		if err != nil {
			return err
		}
		f.Plan = plan
	}
	f.Looked++
	f.Size += d.Body.Size()
	if d.OrderValue != "" {
		keys[d.Step][d.OrderValue] = true
	}
	all, err := v.Tries(d.ID)
	for _, t := range all {
		if t.Outcome == string(retry.Delivered) {
			f.Times = append(f.Times, time.Duration(t.Took)*time.Microsecond)
		}
	}
	return err
}

// rateOf tells how many messages of a flow came a second: in the last hour, or where none
// did in the last day.
func rateOf(v store.View, flow string, now time.Time) (float64, time.Duration, error) {
	for _, span := range []time.Duration{factsOfAnHour, 24 * time.Hour} {
		counts, err := v.Counts(store.OfFlow(flow), now.Add(-span), now)
		if err != nil {
			return 0, span, err
		}
		n := int64(0)
		for _, c := range counts {
			n += c.N
		}
		if n > 0 {
			return float64(n) / span.Seconds(), span, nil
		}
	}
	return 0, 24 * time.Hour, nil
}

// DrillOrder is a drill of a flow, or of typed figures alone; what is zero is as measured.
type DrillOrder struct {
	Flow, Step string
	Scenario   drill.Scenario
	Other      *drill.Scenario // with another plan or other limits beside it; nil for none
}

// ErrNoFacts is what a drill comes to of a flow that has not delivered anything yet.
var ErrNoFacts = errors.New("nothing of it was delivered yet, so nothing was measured; say the figures")

// Fill puts what was measured where nothing was said. Has names what was said, by the name of
// its member.
func (f *DrillFacts) Fill(s *drill.Scenario, has func(name string) bool) error {
	if !has("rate") {
		s.Rate = f.Rate
	}
	if !has("service") {
		if len(f.Times) == 0 {
			return fmt.Errorf("%w: %w", journal.ErrDecision, ErrNoFacts)
		}
		s.Times, s.Spread, s.Service = f.Times, drill.Measured, f.Mean
	}
	if !has("fails") {
		s.Fails = f.Mean
	}
	if !has("keys") {
		s.Keys = f.Keys
	}
	if !has("plan") {
		s.Plan = f.Plan
	}
	if !has("limits") {
		s.Limits = f.Limits
	}
	return nil
}

// Drill plays a scenario through.
func (w *Watch) Drill(ctx context.Context, s drill.Scenario) (*drill.Result, error) {
	r, err := drill.Run(ctx, s)
	if err != nil && ctx.Err() == nil {
		err = fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	return r, err
}
