package intake

import (
	"testing"
	"time"

	"readyferry/store"
)

// What several partitions have refused is told as one, and goes on to be counted where another member leads one of them.
func TestRefusedInAllPartitions(t *testing.T) {
	at := func(n int) Refusal { return Refusal{At: time.Unix(int64(n), 0), Flow: "f"} }
	there := refusals{run: store.NewID(), counts: map[string]int64{}}
	k := &Intakes{refused: refusals{run: store.NewID(), counts: map[string]int64{}}}
	k.refused.add(at(2))
	hear := func(wanted int) {
		t.Helper()
		now := there.beyond(k.refused.known(1))
		if len(now.Last) != wanted {
			t.Errorf("it tells of %d calls, not %d", len(now.Last), wanted)
		}
		k.refused.hear(1, now)
	}
	is := func(counted int64, times ...int64) {
		t.Helper()
		last, counts := k.Refusals()
		if counts["f"] != counted || len(last) != len(times) {
			t.Fatalf("%d are counted and %d known, not %d and %d", counts["f"], len(last), counted, len(times))
		}
		for i, one := range last {
			if one.At.Unix() != times[i] {
				t.Errorf("call %d is of %d, not %d", i, one.At.Unix(), times[i])
			}
		}
	}
	k.refused.hear(1, Refused{}) // an earlier release says nothing
	is(1, 2)
	there.add(at(1))
	there.add(at(3))
	hear(2)
	is(3, 3, 2, 1)
	hear(0) // nothing is new
	is(3, 3, 2, 1)
	there.add(at(4))
	hear(3)
	is(4, 4, 3, 2, 1)
	there = refusals{run: store.NewID(), counts: map[string]int64{}} // another member leads it
	there.add(at(5))
	hear(1)
	is(5, 5, 2)
	for range keptRefusals {
		there.add(at(6))
	}
	hear(keptRefusals)
	if last, counts := k.Refusals(); counts["f"] != keptRefusals+5 || len(last) != keptRefusals {
		t.Errorf("%d are counted and %d known", counts["f"], len(last))
	}
}
