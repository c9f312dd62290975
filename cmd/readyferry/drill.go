package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"time"

	"github.com/spf13/cobra"

	"readyferry/connect/systems"
	"readyferry/core/drill"
	"readyferry/core/plan"
	"readyferry/core/retry"
	"readyferry/engine/catalog"
	"readyferry/engine/watch"
	"readyferry/store"
)

// steady is how many messages a drill without an outage has at least, so that chance evens
// out; the busier the target, the more.
func steady(s *drill.Scenario) time.Duration {
	busy := s.Rate * s.Service.Seconds() / float64(s.Limits.InFlight)
	n := 2_000_000.0
	if busy < 1 {
		n = min(drill.Most/2, max(n, 150_000/((1-busy)*(1-busy))))
	}
	return time.Duration(n / s.Rate * float64(time.Second))
}

func drillCommand() *cobra.Command {
	var data, step, spread string
	var asJSON bool
	var outage, after, slow, burst time.Duration
	var slowBy, burstBy float64
	s := drill.Scenario{Plan: retry.Default(), Limits: retry.Limits{InFlight: 8, Probe: 30 * time.Second}}
	c := &cobra.Command{
		Use: "drill [FLOW]", Short: "Play an outage through with the engine's own retry, order, breaker and limits",
		Args: cobra.MaximumNArgs(1),
		Long: "Simulates what the deliveries of a flow would come to, in virtual time. With FLOW and --data what is not\n" +
			"said is as it was measured there; else say --rate and --service. Without an outage it runs until chance has\n" +
			"evened out and prints how long messages wait.",
		RunE: func(c *cobra.Command, args []string) error {
			said := func(name string) bool {
				switch name {
				case "plan":
					return changed(c, "first", "growth", "factor", "cap", "retry-spread", "tries", "within")
				case "limits":
					return changed(c, "in-flight", "per-second", "trip", "probe")
				}
				return c.Flags().Changed(name)
			}
			if s.Spread = drill.Service(spread); len(args) == 1 {
				facts, err := factsIn(c.Context(), data, args[0], step)
				if err == nil {
					err = facts.Fill(&s, said)
				}
				if err != nil {
					return err
				}
			}
			if !said("cap") {
				s.Plan.Cap = max(s.Plan.Cap, s.Plan.First)
			}
			window := func(d time.Duration, factor float64) []drill.Window {
				if d <= 0 {
					return nil
				}
				return []drill.Window{{From: after, To: after + d, Factor: factor}}
			}
			s.Outages, s.Slow, s.Bursts = window(outage, 1), window(slow, slowBy), window(burst, burstBy)
			if s.For == 0 && outage+slow+burst > 0 {
				s.For = after + 3*max(outage, slow, burst) + 10*time.Minute
			} else if s.For == 0 && s.Rate > 0 {
				s.For = steady(&s)
			}
			r, err := drill.Run(c.Context(), s)
			if err != nil {
				return &exitError{1, err}
			}
			if asJSON {
				return printJSON(c.OutOrStdout(), drillJSON(r))
			}
			printDrill(c.OutOrStdout(), &s, r)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&data, "data", "data", "folder with the flow, where one is named")
	f.StringVar(&step, "step", "", "step of the flow that delivers; the one with most deliveries where it is not said")
	f.Float64Var(&s.Rate, "rate", 0, "messages a second")
	f.BoolVar(&s.Even, "even", false, "they come at equal distances, not by chance")
	f.DurationVar(&s.Service, "service", 0, "how long a try takes that the target takes")
	f.StringVar(&spread, "spread", string(drill.Exponential), "of that time: constant or exponential")
	f.DurationVar(&s.Fails, "fails", 10*time.Millisecond, "how long a try takes that the target does not take")
	f.IntVar(&s.Keys, "keys", 0, "order values; messages of one leave one after the other; 0: order does not matter")
	f.IntVar(&s.Backlog, "backlog", 0, "messages that wait at the beginning")
	f.DurationVar(&s.For, "for", 0, "how long messages come")
	f.DurationVar(&outage, "outage", 0, "how long the target answers nobody")
	f.DurationVar(&slow, "slow", 0, "how long it is slow")
	f.Float64Var(&slowBy, "slow-by", 10, "so many times as slow")
	f.DurationVar(&burst, "burst", 0, "how long more messages come")
	f.Float64Var(&burstBy, "burst-by", 10, "so many times as many")
	f.DurationVar(&after, "after", 0, "when that begins")
	f.IntVar(&s.Limits.InFlight, "in-flight", s.Limits.InFlight, "tries at once")
	f.Float64Var(&s.Limits.PerSecond, "per-second", 0, "tries a second at most; 0: no limit")
	f.IntVar(&s.Limits.Trip, "trip", 0, "failures in a row that open the breaker; 0: none")
	f.DurationVar(&s.Limits.Probe, "probe", s.Limits.Probe, "how often it probes then")
	f.DurationVar(&s.Plan.First, "first", s.Plan.First, "delay before the second try")
	f.StringVar(&s.Plan.Growth, "growth", s.Plan.Growth, "constant, linear or exponential")
	f.Float64Var(&s.Plan.Factor, "factor", s.Plan.Factor, "growth factor, for exponential")
	f.DurationVar(&s.Plan.Cap, "cap", s.Plan.Cap, "longest delay")
	f.StringVar(&s.Plan.Spread, "retry-spread", s.Plan.Spread, "none, equal or full")
	f.IntVar(&s.Plan.Tries, "tries", s.Plan.Tries, "tries in all")
	f.DurationVar(&s.Plan.Within, "within", s.Plan.Within, "no try begins later than this after the first")
	f.Uint64Var(&s.Seed, "seed", 1, "chance: the same seed gives the same drill")
	f.BoolVar(&asJSON, "json", false, "print JSON, times in milliseconds")
	return c
}

func changed(c *cobra.Command, names ...string) bool {
	for _, n := range names {
		if c.Flags().Changed(n) {
			return true
		}
	}
	return false
}

// factsIn reads what was measured of a flow in a folder.
func factsIn(ctx context.Context, data, flow, step string) (*watch.DrillFacts, error) {
	s, err := store.OpenToRead(data)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	all, err := systems.All(systems.Surroundings{})
	if err != nil {
		return nil, err
	}
	reader, err := plan.NewReader(all.Kinds()...)
	if err != nil {
		return nil, err
	}
	known, err := catalog.New(s, reader, all, nil, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		return nil, err
	}
	if known.Flow(flow) == nil {
		return nil, fmt.Errorf("there is no flow %s in %s", flow, data)
	}
	facts, err := watch.FactsOf(s.View, known, flow, time.Now())
	if err != nil {
		return nil, err
	}
	for i := range facts {
		if step == "" || facts[i].Step == step {
			return &facts[i], ctx.Err()
		}
	}
	if step != "" {
		return nil, fmt.Errorf("the step %s of %s has not delivered anything lately", step, flow)
	}
	return &watch.DrillFacts{}, nil
}

// drillJSON gives a result with times in milliseconds.
func drillJSON(r *drill.Result) map[string]any {
	ms := func(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }
	curve := make([]map[string]any, len(r.Curve))
	for i, p := range r.Curve {
		curve[i] = map[string]any{
			"at":       ms(p.At),
			"backlog":  p.Backlog,
			"tries":    p.Tries,
			"oldest":   ms(p.Oldest),
			"dead":     p.Dead,
			"open":     p.Open,
			"inFlight": p.InFlight,
		}
	}
	return map[string]any{
		"messages":    r.Messages,
		"delivered":   r.Delivered,
		"deadLetters": r.DeadLetters,
		"tries":       r.Tries,
		"meanWait": ms(
			r.MeanWait,
		),
		"meanThrough": ms(r.MeanThrough),
		"p95Wait":     ms(r.P95Wait),
		"longestWait": ms(r.LongestWait),
		"waited":      r.Waited,
		"meanWaiting": r.MeanWaiting,
		"peakBacklog": r.PeakBacklog,
		"peakAt":      ms(r.PeakAt),
		"peakTries":   r.PeakTries,
		"oldestAge":   ms(r.OldestAge),
		"normalAt":    ms(r.NormalAt),
		"drainTime":   ms(r.DrainTime),
		"endedAt":     ms(r.EndedAt),
		"curve":       json.RawMessage(mustJSON(curve)),
	}
}

func mustJSON(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		return []byte("null")
	}
	return b
}

func printDrill(out io.Writer, s *drill.Scenario, r *drill.Result) {
	short := func(d time.Duration) string { return d.Round(max(time.Microsecond, d/1000)).String() }
	fmt.Fprintf(
		out,
		"messages %d, delivered %d, dead letters %d, tries %d\n",
		r.Messages,
		r.Delivered,
		r.DeadLetters,
		r.Tries,
	)
	fmt.Fprintf(out, "wait: mean %s, 95%% within %s, longest %s; %.1f%% waited\n", short(r.MeanWait), short(r.P95Wait),
		short(r.LongestWait), 100*r.Waited)
	fmt.Fprintf(out, "backlog: at most %d at %s, oldest %s\n", r.PeakBacklog, short(r.PeakAt), short(r.OldestAge))
	fmt.Fprintf(out, "tries a second at the target: at most %.1f\n", r.PeakTries)
	switch end := s.Outages; {
	case len(end)+len(s.Slow)+len(s.Bursts) == 0 && s.Backlog == 0:
	case r.NormalAt == 0:
		fmt.Fprintln(out, "it does not drain: more comes than the target takes")
	default:
		fmt.Fprintf(out, "drained %s behind the end, at %s\n", short(r.DrainTime), short(r.NormalAt))
	}
}
