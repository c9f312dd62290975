package group

import (
	"math/rand/v2"
	"testing"
	"time"
)

// The rule checked is the sliding window's definition: in no span of length
// Per do more than Most go, none waits without need, and order stays.
func TestAPaceIsKept(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	begin := time.Date(2026, 3, 17, 9, 0, 0, 0, time.UTC)
	for range 300 {
		p := Pace{Most: 1 + r.IntN(5), Per: time.Duration(1+r.IntN(20)) * time.Second}
		now := begin
		var times, all []time.Time
		for range 60 {
			now = now.Add(time.Duration(r.IntN(4000)) * time.Millisecond)
			at := p.Slot(times, now)
			if at.Before(now) || len(all) > 0 && at.Before(all[len(all)-1]) {
				t.Fatalf("%v goes at %v, after %v", now, at, all)
			}
			if at.After(now) && len(all) >= p.Most && at.After(all[len(all)-1]) &&
				at.Sub(all[len(all)-p.Most]) > p.Per {
				t.Fatalf("%+v: it waits until %v although there is room before", p, at)
			}
			times, all = p.Went(times, at), append(all, at)
		}
		for i := p.Most; i < len(all); i++ {
			if all[i].Sub(all[i-p.Most]) < p.Per {
				t.Fatalf("%+v: %d go within %s", p, p.Most+1, all[i].Sub(all[i-p.Most]))
			}
		}
	}
}
