package watch

import (
	"testing"
	"time"
)

func TestRatesAreOfTheLastMinute(t *testing.T) {
	r := newRates()
	at := func(s int) time.Time { return time.Unix(1_700_000_000+int64(s), 0) }
	r.add("q", 2, 0, at(0))
	r.add("q", 1, 1, at(30))
	r.add("q", 0, 5, at(59))
	r.add("other", 7, 7, at(59))
	for s, want := range map[int][2]int{0: {2, 0}, 30: {3, 1}, 59: {3, 6}, 60: {1, 6}, 89: {1, 6}, 90: {0, 5}, 119: {0,
		0}, 100_000: {0, 0}} {
		if in, out := r.lastMinute("q", at(s)); in != want[0] || out != want[1] {
			t.Errorf("at %d s: %d in, %d out, want %v", s, in, out, want)
		}
	}
	r.add("q", 4, 0, at(60)) // takes the place of second 0
	if in, _ := r.lastMinute("q", at(60)); in != 5 {
		t.Errorf("%d in", in)
	}
}
