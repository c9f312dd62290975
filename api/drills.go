package api

import (
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/drill"
	"readyferry/core/retry"
	"readyferry/engine"
	"readyferry/engine/watch"
)

// drillIn is a drill as it is asked for; durations in milliseconds. What is not said of a
// flow's drill is as it was measured.
type drillIn struct {
	Flow    string      `json:"flow"`
	Step    string      `json:"step"`
	Rate    *float64    `json:"rate"` // messages a second
	Even    bool        `json:"even"`
	Service *float64    `json:"service"`
	Spread  string      `json:"spread"`
	Fails   *float64    `json:"fails"`
	Keys    *int        `json:"keys"`
	Plan    *planView   `json:"plan"`
	Limits  *limitsView `json:"limits"`
	Backlog int         `json:"backlog"`
	For     float64     `json:"for"`
	Outages []windowIn  `json:"outages"`
	Slow    []windowIn  `json:"slow"`
	Bursts  []windowIn  `json:"bursts"`
	Seed    uint64      `json:"seed"`
	Other   *struct {
		Plan   *planView   `json:"plan"`
		Limits *limitsView `json:"limits"`
	} `json:"other"`
}

type limitsView struct {
	InFlight  int     `json:"inFlight"`
	PerSecond float64 `json:"perSecond"`
	Trip      int     `json:"trip"`
	Probe     float64 `json:"probe"`
}

type windowIn struct {
	From   float64 `json:"from"`
	To     float64 `json:"to"`
	Factor float64 `json:"factor"`
}

func spanOf(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }
func ms(d time.Duration) float64      { return float64(d) / float64(time.Millisecond) }

func (l *limitsView) limits() retry.Limits {
	return retry.Limits{InFlight: l.InFlight, PerSecond: l.PerSecond, Trip: l.Trip, Probe: spanOf(l.Probe)}
}

func viewLimits(l retry.Limits) limitsView {
	return limitsView{l.InFlight, l.PerSecond, l.Trip, ms(l.Probe)}
}

func (p *planView) plan() retry.Plan {
	return retry.Plan{First: time.Duration(p.First) * time.Millisecond, Growth: p.Growth, Factor: p.Factor,
		Cap: time.Duration(p.Cap) * time.Millisecond, Spread: p.Spread, Tries: p.Tries,
		Within: time.Duration(p.Within) * time.Millisecond}
}

func windows(all []windowIn, usual float64) (out []drill.Window) {
	for _, w := range all {
		if w.Factor == 0 {
			w.Factor = usual
		}
		out = append(out, drill.Window{From: spanOf(w.From), To: spanOf(w.To), Factor: w.Factor})
	}
	return out
}

// scenario gives what is said.
func (in *drillIn) scenario() drill.Scenario {
	s := drill.Scenario{
		Even:    in.Even,
		Spread:  drill.Service(in.Spread),
		Backlog: in.Backlog,
		For:     spanOf(in.For),
		Seed:    in.Seed,
		Outages: windows(in.Outages, 1),
		Slow:    windows(in.Slow, 10),
		Bursts:  windows(in.Bursts, 10),
		Plan:    retry.Default(),
		Limits:  retry.Limits{InFlight: 8},
	}
	if in.Rate != nil {
		s.Rate = *in.Rate
	}
	if in.Service != nil {
		s.Service = spanOf(*in.Service)
	}
	if in.Fails != nil {
		s.Fails = spanOf(*in.Fails)
	}
	if in.Keys != nil {
		s.Keys = *in.Keys
	}
	if in.Plan != nil {
		s.Plan = in.Plan.plan()
	}
	if in.Limits != nil {
		s.Limits = in.Limits.limits()
	}
	if s.Spread == "" {
		s.Spread = drill.Exponential
	}
	return s
}

// said tells whether a member was given.
func (in *drillIn) said(name string) bool {
	return map[string]bool{"rate": in.Rate != nil, "service": in.Service != nil, "fails": in.Fails != nil,
		"keys": in.Keys != nil, "plan": in.Plan != nil, "limits": in.Limits != nil}[name]
}

type drillFactsView struct {
	Flow    string     `json:"flow"`
	Step    string     `json:"step"`
	Target  string     `json:"target"`
	Rate    float64    `json:"rate"`
	Of      float64    `json:"of"`
	Mean    float64    `json:"mean"`
	P95     float64    `json:"p95"`
	Size    int64      `json:"size"`
	Keys    int        `json:"keys"`
	Plan    planView   `json:"plan"`
	Limits  limitsView `json:"limits"`
	Limit   float64    `json:"limit"`
	Looked  int        `json:"looked"`
	Backlog int64      `json:"backlog"`
}

func viewFacts(f *watch.DrillFacts) drillFactsView {
	return drillFactsView{
		f.Flow,
		f.Step,
		f.Target,
		f.Rate,
		ms(f.Of),
		ms(f.Mean),
		ms(f.P95),
		f.Size,
		f.Keys,
		viewPlan(f.Plan),
		viewLimits(f.Limits),
		ms(f.Limit),
		f.Looked,
		f.Backlog,
	}
}

// drillFacts tells what the deliveries of a flow were like lately.
func (s *Server) drillFacts(c *gin.Context) error {
	all, err := s.engine.Watch.Facts(c.Param("name"))
	if err != nil {
		return err
	}
	out := make([]drillFactsView, len(all))
	for i := range all {
		out[i] = viewFacts(&all[i])
	}
	return reply(c, out)
}

type drillPoint struct {
	At       float64 `json:"at"`
	Backlog  int64   `json:"backlog"`
	Tries    float64 `json:"tries"`
	Oldest   float64 `json:"oldest"`
	Dead     int64   `json:"dead"`
	Open     bool    `json:"open"`
	InFlight int     `json:"inFlight"`
}

type drillView struct {
	Messages    int64        `json:"messages"`
	Delivered   int64        `json:"delivered"`
	DeadLetters int64        `json:"deadLetters"`
	Tries       int64        `json:"tries"`
	MeanWait    float64      `json:"meanWait"`
	MeanThrough float64      `json:"meanThrough"`
	P95Wait     float64      `json:"p95Wait"`
	LongestWait float64      `json:"longestWait"`
	Waited      float64      `json:"waited"`
	MeanWaiting float64      `json:"meanWaiting"`
	PeakBacklog int64        `json:"peakBacklog"`
	PeakAt      float64      `json:"peakAt"`
	PeakTries   float64      `json:"peakTries"`
	OldestAge   float64      `json:"oldestAge"`
	NormalAt    float64      `json:"normalAt"`
	DrainTime   float64      `json:"drainTime"`
	EndedAt     float64      `json:"endedAt"`
	Curve       []drillPoint `json:"curve"`
}

func viewDrill(r *drill.Result) *drillView {
	v := &drillView{r.Messages, r.Delivered, r.DeadLetters, r.Tries, ms(r.MeanWait), ms(r.MeanThrough), ms(r.P95Wait),
		ms(
			r.LongestWait,
		), r.Waited, r.MeanWaiting, r.PeakBacklog, ms(r.PeakAt), r.PeakTries, ms(r.OldestAge), ms(r.NormalAt),
		ms(r.DrainTime), ms(r.EndedAt), make([]drillPoint, len(r.Curve))}
	for i, p := range r.Curve {
		v.Curve[i] = drillPoint{ms(p.At), p.Backlog, p.Tries, ms(p.Oldest), p.Dead, p.Open, p.InFlight}
	}
	return v
}

// drill plays an outage, a slow target or a burst through; closing the request stops it.
func (s *Server) drill(c *gin.Context) error {
	var in drillIn
	if err := input(c, &in); err != nil {
		return err
	}
	if in.Flow != "" {
		if err := s.mayFlows(c, access.See, in.Flow); err != nil {
			return err
		}
	}
	scenario := in.scenario()
	out := struct {
		Facts  *drillFactsView `json:"facts"` // that were taken
		Result *drillView      `json:"result"`
		Other  *drillView      `json:"other"` // with the other plan or limits
	}{}
	if in.Flow != "" {
		all, err := s.engine.Watch.Facts(in.Flow)
		if err != nil {
			return err
		}
		facts, err := factsFor(all, in.Step)
		if err != nil {
			return err
		}
		if err := facts.Fill(&scenario, in.said); err != nil {
			return err
		}
		v := viewFacts(facts)
		out.Facts = &v
	}
	r, err := s.engine.Watch.Drill(c.Request.Context(), scenario)
	if err != nil {
		return err
	}
	out.Result = viewDrill(r)
	if in.Other != nil {
		if in.Other.Plan != nil {
			scenario.Plan = in.Other.Plan.plan()
		}
		if in.Other.Limits != nil {
			scenario.Limits = in.Other.Limits.limits()
		}
		if r, err = s.engine.Watch.Drill(c.Request.Context(), scenario); err != nil {
			return err
		}
		out.Other = viewDrill(r)
	}
	return reply(c, out)
}

// factsFor gives the facts of a step, or of the one with most deliveries.
func factsFor(all []watch.DrillFacts, step string) (*watch.DrillFacts, error) {
	for i := range all {
		if step == "" || all[i].Step == step {
			return &all[i], nil
		}
	}
	if step != "" {
		return nil, engine.ErrNotFound
	}
	return &watch.DrillFacts{}, nil
}
