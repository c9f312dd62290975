package engine

import (
	"context"
	"fmt"
	"math"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/drill"
	"readyferry/core/retry"
	"readyferry/store"
)

// A real outage, run by the engine against a target that is out for a time, comes to what the
// drill of it says, within a tenth: what waits at most, what dies, how often the target is
// tried, and how long it takes until nothing waits. Time is virtual in both.
func TestADrillSaysWhatARealOutageComesTo(t *testing.T) {
	for name, c := range map[string]struct{ retry, more string }{
		"with a breaker":    {"first: 2s, growth: exponential, cap: 20s, spread: none, tries: 6, within: 10m", "breaker: {trip: 3, probe: 3s}\n"},
		"that gives up":     {"first: 1s, growth: constant, cap: 1s, spread: none, tries: 5, within: 10m", ""},
		"with a slow drain": {"first: 2s, growth: constant, cap: 2s, spread: none, tries: 100, within: 10m", "breaker: {trip: 2, probe: 2s}\n"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) { drilled(t, c.retry, c.more) })
		})
	}
}

func drilled(t *testing.T, plan, more string) {
	const (
		every   = 100 * time.Millisecond
		takes   = 60 * time.Millisecond
		refuses = 20 * time.Millisecond
		outAt   = 5 * time.Second
		backAt  = 15 * time.Second
		until   = 45 * time.Second
	)
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "retry: {"+plan+"}\n"+more+"limits: {in-flight: 1}\n")
	w.publish(
		"readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps:\n- {id: d, kind: deliver, to: out, path: /x}\n",
	)
	began := time.Now()
	var tries atomic.Int64
	w.out.say(func(int, call) (reply, error) {
		tries.Add(1)
		at := time.Since(began)
		if at >= outAt && at < backAt {
			time.Sleep(refuses)
			return reply{Status: 503}, nil
		}
		time.Sleep(takes)
		return reply{Status: 200}, nil
	})
	peak, drained := int64(0), time.Duration(0)
	accepted := 0
	for at := every; at <= until; at += every {
		time.Sleep(at - time.Since(began))
		w.accepted("/f", fmt.Sprintf(`{"n":%d}`, accepted))
		accepted++
		open := w.unended(t)
		peak = max(peak, open)
		if drained == 0 && at > backAt && open <= 1 {
			drained = at - backAt
		}
	}
	w.until("all are at their end", func() bool { return w.unended(t) == 0 })
	dead, err := w.store.CountOpenLetters()
	if err != nil {
		t.Fatal(err)
	}
	c := w.Engine.Catalog.Connection("out")
	r, err := drill.Run(context.Background(), drill.Scenario{
		Rate: 10, Even: true, Service: takes, Spread: drill.Constant, Fails: refuses, Plan: *c.Retry,
		Limits:  retry.Limits{InFlight: c.InFlight, Trip: c.Trip, Probe: c.Probe},
		For:     until,
		Outages: []drill.Window{{From: outAt, To: backAt}},
	})
	if err != nil {
		t.Fatal(err)
	}
	within := func(what string, real, said, floor float64) {
		if math.Abs(real-said) > max(0.1*real, floor) {
			t.Errorf("%s: %.4g in truth, %.4g in the drill", what, real, said)
		}
	}
	t.Logf(
		"%d messages: at most %d wait (%d), %d die (%d), %d tries (%d), drained behind %s (%s)",
		accepted,
		peak,
		r.PeakBacklog,
		dead,
		r.DeadLetters,
		tries.Load(),
		r.Tries,
		drained,
		r.DrainTime,
	)
	within("what waits at most", float64(peak), float64(r.PeakBacklog), 3)
	within("dead letters", float64(dead), float64(r.DeadLetters), 3)
	within("tries", float64(tries.Load()), float64(r.Tries), 5)
	within("seconds to drain", drained.Seconds(), r.DrainTime.Seconds(), 0.5)
}

// unended counts messages that are not at their end.
func (w *world) unended(t *testing.T) int64 {
	t.Helper()
	all, err := w.store.Totals()
	if err != nil {
		t.Fatal(err)
	}
	n := int64(0)
	for _, c := range all {
		if c.State == store.UnderWay || c.State == store.Waiting {
			n += c.N
		}
	}
	return n
}
