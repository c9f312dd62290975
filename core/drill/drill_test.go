package drill

import (
	"context"
	"encoding/json"
	"math"
	"os"
	"strings"
	"testing"
	"time"

	"readyferry/core/retry"
)

type published struct {
	Cases []struct {
		Model       string
		Arrival     float64
		Service     float64
		Servers     int
		Utilisation float64
		PWait       float64 `json:"p_wait"`
		Wq, W, Lq   float64
		P95         float64 `json:"Wq_p95"`
	}
	Fluid []struct {
		Arrival, Service, Outage float64
		Before                   int      `json:"backlog_before"`
		Peak                     float64  `json:"peak_backlog"`
		Drain                    *float64 `json:"drain_time"`
		Longest                  float64  `json:"longest_wait"`
	}
}

func read(t *testing.T) (p published) {
	t.Helper()
	text, err := os.ReadFile("testdata/queueing.json")
	if err == nil {
		err = json.Unmarshal(text, &p)
	}
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func near(t *testing.T, what string, got, want, within float64) {
	t.Helper()
	if math.Abs(got-want) > within*math.Abs(want)+1e-9 {
		t.Errorf("%s is %.5g, not %.5g (%.1f %% off)", what, got, want, 100*(got/want-1))
	}
}

// With nothing out of the ordinary a drill is a queue, and agrees with the closed forms.
func TestADrillAgreesWithQueueingTheory(t *testing.T) {
	n := 0
	for _, c := range read(t).Cases {
		spread := Exponential
		switch {
		case c.Model == "M/D/1":
			spread = Constant
		case !strings.HasPrefix(c.Model, "M/M/") || strings.Count(c.Model, "/") != 2:
			continue
		}
		if c.Utilisation > 0.9 {
			continue // it would take longer than a test should until chance has evened out
		}
		n++
		// A second of the drill is a service time; the busier, the longer it has to go on.
		messages := math.Max(800_000, 20_000/math.Pow(1-c.Utilisation, 2))
		r, err := Run(context.Background(), Scenario{
			Rate: c.Arrival, Service: time.Duration(float64(time.Second) / c.Service), Spread: spread,
			Plan: retry.Default(), Limits: retry.Limits{InFlight: c.Servers}, Seed: 7,
			For: time.Duration(messages / c.Arrival * float64(time.Second)), Points: 10,
		})
		if err != nil {
			t.Fatal(err)
		}
		name := c.Model + " at " + time.Duration(c.Utilisation*float64(time.Second)).String()
		if c.Wq > 0.01 { // what waits once in hundreds of messages has to be waited for too long
			near(t, name+": the mean wait", r.MeanWait.Seconds(), c.Wq, 0.04)
			near(t, name+": who waits", r.MeanWaiting, c.Lq, 0.04)
		}
		near(t, name+": the mean time", r.MeanThrough.Seconds(), c.W, 0.04)
		if c.PWait > 0.01 {
			near(t, name+": the share that waits", r.Waited, c.PWait, 0.04)
		}
		if c.P95 > 0 {
			near(t, name+": the 95th percentile", r.P95Wait.Seconds(), c.P95, 0.05)
		}
	}
	if n < 12 {
		t.Fatalf("only %d cases", n)
	}
}

// An outage behind a breaker builds up what comes, and what is left of the target's time works
// it off (the fluid model).
func TestADrillAgreesWithTheFluidModel(t *testing.T) {
	for _, f := range read(t).Fluid {
		if f.Drain == nil || f.Arrival*f.Outage > 200_000 {
			continue
		}
		s := Scenario{
			Rate: f.Arrival, Even: true, Spread: Constant, Service: time.Duration(float64(time.Second) / f.Service),
			Fails: time.Microsecond, Backlog: f.Before, Plan: retry.Default(),
			Limits: retry.Limits{InFlight: 1, Trip: 1, Probe: time.Second}, Seed: 1,
			For: time.Duration((f.Outage + *f.Drain*1.2 + 10) * float64(time.Second)),
		}
		s.Plan.Tries, s.Plan.First, s.Plan.Cap, s.Plan.Spread = 1000, time.Second, time.Second, retry.SpreadNone
		if f.Outage > 0 {
			s.Outages = []Window{{To: time.Duration(f.Outage * float64(time.Second))}}
		}
		r, err := Run(context.Background(), s)
		if err != nil {
			t.Fatal(err)
		}
		near(t, "the peak", float64(r.PeakBacklog), f.Peak, 0.04)
		near(t, "the time to drain", r.DrainTime.Seconds(), *f.Drain, 0.04)
		if r.DeadLetters != 0 || r.Delivered != r.Messages {
			t.Errorf("%+v", r)
		}
	}
}

// Every try comes when the plan says; what the plan gives up is a dead letter; and order holds.
func TestADrillKeepsTheRules(t *testing.T) {
	s := Scenario{
		Rate: 10, Even: true, Spread: Constant, Service: 10 * time.Millisecond, Fails: time.Millisecond,
		Plan: retry.Plan{
			First:  time.Second,
			Growth: retry.Constant,
			Cap:    time.Second,
			Spread: retry.SpreadNone,
			Tries:  3,
			Within: time.Hour,
		},
		Limits: retry.Limits{
			InFlight: 100,
		}, For: 10 * time.Second, Outages: []Window{{From: time.Second, To: 5 * time.Second}},
	}
	r, err := Run(context.Background(), s)
	if err != nil {
		t.Fatal(err)
	}
	// Those that come between 1 s and 3 s have their three tries within the outage.
	if r.DeadLetters < 19 || r.DeadLetters > 21 || r.Delivered+r.DeadLetters != r.Messages {
		t.Errorf("%+v", r)
	}
	s.Limits.Trip, s.Limits.Probe = 2, 500*time.Millisecond
	with, err := Run(context.Background(), s)
	if err != nil {
		t.Fatal(err)
	}
	// Behind the breaker few tries are used up, so few die.
	if with.DeadLetters >= r.DeadLetters/2 || with.Tries >= r.Tries {
		t.Errorf(
			"with a breaker %d dead letters and %d tries, without %d and %d",
			with.DeadLetters,
			with.Tries,
			r.DeadLetters,
			r.Tries,
		)
	}
	s.Keys, s.Limits.Trip, s.Plan.Tries = 1, 0, 100
	ordered, err := Run(context.Background(), s)
	if err != nil {
		t.Fatal(err)
	}
	if ordered.PeakBacklog < 38 || ordered.DeadLetters != 0 {
		t.Errorf("in order: %+v", ordered)
	}
	if again, _ := Run(context.Background(), s); again.MeanWait != ordered.MeanWait || again.Tries != ordered.Tries {
		t.Error("the same drill comes to something else")
	}
}

func TestADrillRefusesWhatCannotBePlayed(t *testing.T) {
	good := Scenario{
		Rate:    1,
		Service: time.Second,
		Spread:  Constant,
		For:     time.Minute,
		Plan:    retry.Default(),
		Limits:  retry.Limits{InFlight: 1},
	}
	for says, change := range map[string]func(s *Scenario){
		"rate":          func(s *Scenario) { s.Rate = 0 },
		"how long":      func(s *Scenario) { s.For = 0 },
		"at most":       func(s *Scenario) { s.Rate = 1e9 },
		"a try takes":   func(s *Scenario) { s.Service = 0 },
		"measured":      func(s *Scenario) { s.Spread = Measured },
		"in flight":     func(s *Scenario) { s.Limits.InFlight = 0 },
		"window":        func(s *Scenario) { s.Outages = []Window{{From: 2, To: 1}} },
		"factor":        func(s *Scenario) { s.Slow = []Window{{To: 1}} },
		"tries is 0":    func(s *Scenario) { s.Plan.Tries = 0 },
		"below 0":       func(s *Scenario) { s.Backlog = -1 },
		"not \"often\"": func(s *Scenario) { s.Spread = "often" },
	} {
		s := good
		change(&s)
		if _, err := Run(context.Background(), s); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", says, err)
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if _, err := Run(ctx, good); err == nil {
		t.Error("a drill that was stopped goes on")
	}
}
