package alarm

import (
	"encoding/json"
	"math/rand/v2"
	"testing"
	"time"
)

var began = time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)

// plainly is the same rule told without states: minute by minute, what rings follows from the
// values before.
func plainly(r *Rule, values []Value) (rings [][2]int) {
	open, need := -1, int(time.Duration(r.For)/time.Minute)
	run := 0 // minutes out of bounds without a break, up to now
	for i, v := range values {
		if r.Out(v) {
			run++
			if open < 0 && run > need {
				open = len(rings)
				rings = append(rings, [2]int{i, -1})
			}
			continue
		}
		run = 0
		if open >= 0 && i > 0 && !r.Out(values[i-1]) && i-1 > rings[open][0] {
			rings[open][1], open = i, -1
		}
	}
	return rings
}

func TestTheJudgeAgreesWithItsDescription(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	for n := range 2000 {
		watch := []string{"depth", "disk"}[n%2]
		r := Rule{Title: "x", Watch: watch, Limit: 5, For: Span(time.Duration(random.IntN(5)) * time.Minute)}
		values := make([]Value, 200)
		level := 5.0
		for i := range values {
			level += random.Float64()*4 - 2 + (5-level)/10
			values[i] = Value{N: level, Known: random.IntN(20) > 0}
		}
		want := plainly(&r, values)
		got := r.Past(began, time.Minute, values, nil)
		if len(got) != len(want) {
			t.Fatalf("%d: it rings %d times, not %d", n, len(got), len(want))
		}
		for i, ring := range got {
			end := -1
			if !ring.Ended.IsZero() {
				end = int(ring.Ended.Sub(began) / time.Minute)
			}
			if int(ring.Began.Sub(began)/time.Minute) != want[i][0] || end != want[i][1] {
				t.Fatalf("%d: ring %d goes from %s to %s, not %v", n, i, ring.Began, ring.Ended, want[i])
			}
			for j := want[i][0]; j < len(values) && (end < 0 || j < end); j++ {
				if v := values[j]; r.Out(v) &&
					(watch == "depth" && v.N > ring.Worst || watch == "disk" && v.N < ring.Worst) {
					t.Fatalf("%d: the worst of ring %d is %g, and there was %g", n, i, ring.Worst, v.N)
				}
			}
		}
	}
}

func TestSilenceAgreesWithCounting(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	open := func(at time.Time) bool { return at.Minute() < 40 } // of each hour
	within := func(from, to time.Time) (d time.Duration) {
		for at := from; at.Before(to); at = at.Add(time.Second) {
			if open(at) {
				d += time.Second
			}
		}
		return d
	}
	came := make([]int64, 300)
	for i := range came {
		if random.IntN(40) == 0 {
			came[i] = 1
		}
	}
	last := began.Add(-30 * time.Minute)
	for i, v := range Silence(began, came, last, within) {
		at := began.Add(time.Duration(i) * time.Minute)
		if came[i] > 0 {
			last = at
		}
		if want := within(last, at).Minutes(); !v.Known || v.N != want {
			t.Fatalf("minute %d: %v, not %g", i, v, want)
		}
	}
	if v := Silence(began, make([]int64, 3), time.Time{}, within)[2]; v.Known {
		t.Errorf("of what never had a message it is known: %v", v)
	}
}

func TestWindowsAgreeWithAdding(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for window := 1; window < 20; window++ {
		came := make([]int64, 100)
		for i := range came {
			came[i] = random.Int64N(5)
		}
		for i, got := range Windows(came, window) {
			var want int64
			for _, n := range came[i : i+window] {
				want += n
			}
			if got != want {
				t.Fatalf("window %d at %d: %d, not %d", window, i, got, want)
			}
		}
	}
}

func TestSpansAreReadAndWritten(t *testing.T) {
	for text, want := range map[string]time.Duration{"15m": 15 * time.Minute, "1h30m": 90 * time.Minute, "2d": 48 * time.Hour,
		"30s": 30 * time.Second, "": 0} {
		var s Span
		b, _ := json.Marshal(text)
		if err := json.Unmarshal(b, &s); err != nil || time.Duration(s) != want {
			t.Errorf("%q: %s %v", text, s, err)
		}
		var again Span
		if b, err := json.Marshal(s); err != nil || json.Unmarshal(b, &again) != nil || again != s {
			t.Errorf("%q: written as %s", text, b)
		}
	}
	for _, text := range []string{`"soon"`, `15`, `"-5m"`, `"5000d"`} {
		var s Span
		if err := json.Unmarshal([]byte(text), &s); err == nil {
			t.Errorf("%s is taken for %s", text, s)
		}
	}
	if got := Span(90 * time.Minute).String(); got != "1h30m" {
		t.Errorf("it is written %s", got)
	}
}

func TestEveryKindIsWhole(t *testing.T) {
	for _, k := range Kinds {
		r := Rule{Title: "x", Watch: k.Name, Limit: k.Limit}
		if err := r.Check(); err != nil || k.Advice == "" || k.Unit == "" || r.Words() == "" {
			t.Errorf("%s: %v", k.Name, err)
		}
		if Find(k.Name) == nil || k.Window && k.Sampled {
			t.Errorf("%s", k.Name)
		}
	}
}
