package retry

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"
)

func randomPlan(r *rand.Rand) Plan {
	p := Plan{
		First:  time.Duration(1+r.IntN(5000)) * time.Millisecond,
		Growth: []string{Constant, Linear, Exponential}[r.IntN(3)],
		Factor: 1 + 4*r.Float64(),
		Spread: []string{SpreadNone, SpreadEqual, SpreadFull}[r.IntN(3)],
		Tries:  1 + r.IntN(30),
		Within: time.Duration(1+r.IntN(600)) * time.Second,
	}
	p.Cap = p.First + time.Duration(r.IntN(60))*time.Second
	return p
}

// Whatever the plan: the schedule rises, keeps its bounds, ends within the
// plan, and walking it try by try with Next gives the same times.
func TestNextWalksTheSchedule(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	for i := range 3000 {
		p := randomPlan(r)
		if err := p.Check(); err != nil {
			t.Fatalf("%+v: %v", p, err)
		}
		id := fmt.Appendf(nil, "d%d", i)
		tries := p.Schedule(id)
		if len(tries) < 1 || len(tries) > p.Tries || tries[0].Planned != 0 {
			t.Fatalf("%+v: %+v", p, tries)
		}
		at := time.Duration(0)
		for n, try := range tries {
			if try.N != n+1 || try.Planned != at || try.Earliest > try.Planned || try.Planned > try.Latest ||
				try.Planned > p.Within ||
				try.Latest > p.Within {
				t.Fatalf("%+v: try %+v, walked to %s", p, try, at)
			}
			if n > 0 &&
				(try.Planned < tries[n-1].Planned || try.Earliest < tries[n-1].Earliest || try.Latest < tries[n-1].Latest) {
				t.Fatalf("%+v: %+v falls back behind %+v", p, try, tries[n-1])
			}
			next, ok, why := p.Next(id, try.N, at, 0)
			if ok != (n+1 < len(tries)) || !ok && why == "" {
				t.Fatalf("%+v: after try %d of %d, ok %v, %q", p, try.N, len(tries), ok, why)
			}
			at = next
		}
		span := p.Span()
		if span.Earliest > span.Expected || span.Expected > span.Latest && span.Latest < p.Within ||
			span.Latest > p.Within ||
			span.Tries > p.Tries {
			t.Fatalf("%+v: %+v", p, span)
		}
	}
}

// However a target asks and however long tries take, a plan is never left: no
// try beyond its end, none before its time, no more than it allows.
func TestNoAnswerLeadsOutOfThePlan(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 2))
	for i := range 3000 {
		p := randomPlan(r)
		id := fmt.Appendf(nil, "d%d", i)
		at, n := time.Duration(0), 1
		for {
			ended := at + time.Duration(r.IntN(5000))*time.Millisecond
			asked := time.Duration(r.IntN(4)*r.IntN(1000)) * time.Second
			next, ok, _ := p.Next(id, n, ended, asked)
			if !ok {
				break
			}
			if next < ended+p.Wait(id, n) && next != p.Within || next > p.Within ||
				asked > 0 && next < min(ended+asked, p.Within) {
				t.Fatalf("%+v: after try %d, ended %s, asked %s: next %s", p, n, ended, asked, next)
			}
			at = next
			if n++; n > p.Tries {
				t.Fatalf("%+v: try %d of %d", p, n, p.Tries)
			}
		}
	}
}

// A plan comes back as it was kept, and so does one that an earlier release has kept in full.
func TestPlansComeBackAsTheyWereKept(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 7))
	one := func(usual, other time.Duration) time.Duration {
		if r.IntN(2) == 0 {
			return usual
		}
		return other
	}
	for range 500 {
		p := Default()
		p.First, p.Cap, p.Within = one(p.First, time.Millisecond), one(p.Cap, time.Hour), one(p.Within, time.Minute)
		p.Growth, p.Spread = []string{Constant, Linear, Exponential}[r.IntN(3)], []string{SpreadNone, SpreadEqual, SpreadFull}[r.IntN(3)]
		p.Tries, p.Factor = 1+r.IntN(9), []float64{1, 2, 2.5}[r.IntN(3)]
		if r.IntN(2) == 0 {
			p.Again, p.Never = []int{404}, []int{500, 503}
		}
		short, err := p.Encode()
		if err != nil {
			t.Fatal(err)
		}
		long, err := json.Marshal(p)
		if err != nil {
			t.Fatal(err)
		}
		for _, kept := range [][]byte{short, long} {
			if got, err := Decode(kept); err != nil || !reflect.DeepEqual(got, p) {
				t.Fatalf("%s reads as %+v, %v; it was %+v", kept, got, err, p)
			}
		}
	}
	if b, err := Default().Encode(); err != nil || string(b) != "{}" {
		t.Errorf("the usual plan is kept as %s, %v", b, err)
	}
}
