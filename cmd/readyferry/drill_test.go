package main

import (
	"encoding/json"
	"math"
	"strings"
	"testing"
)

// The command plays queues that have closed forms (Erlang C) and an outage, and says the same in
// words and as JSON.
func TestDrillCommand(t *testing.T) {
	file := program(t)
	out, _, code := execute(t, file, "drill", "--rate", "8", "--service", "1s", "--in-flight", "10", "--json", "--for", "40h")
	var r struct{ MeanWait, PeakBacklog, DeadLetters float64 }
	if err := json.Unmarshal([]byte(out), &r); err != nil || code != 0 {
		t.Fatal(err, code, out)
	}
	const erlang = 204.6 // ms: M/M/10 at 0.8, Wq = C(10, 8) / (10 - 8)
	if math.Abs(r.MeanWait-erlang) > 0.04*erlang {
		t.Errorf("the mean wait is %.1f ms, not %.1f", r.MeanWait, erlang)
	}
	out, _, code = execute(t, file, "drill", "--rate", "10", "--even", "--service", "50ms", "--spread", "constant", "--in-flight", "1",
		"--outage", "60s", "--trip", "1", "--probe", "1s", "--tries", "100")
	if code != 0 || !strings.Contains(out, "drained 1m") || !strings.Contains(out, "dead letters 0") {
		t.Error(code, out)
	}
	if out, _, code = execute(t, file, "drill"); code == 0 {
		t.Error(out)
	}
}
