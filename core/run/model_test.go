package run

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"
)

// randomMessages makes messages of some keys with numbers, some seconds apart.
func randomMessages(
	r *rand.Rand,
	n int,
	number func(key string) int,
) (in []Envelope, opt []Options, keys []string, numbers []int, at []time.Duration) {
	now := time.Duration(0)
	for i := range n {
		now += time.Duration(r.IntN(8000)) * time.Millisecond
		key := fmt.Sprint("k", r.IntN(9))
		keys, at = append(keys, key), append(at, now)
		numbers = append(numbers, number(key))
		e := envelope(fmt.Sprintf(`{"k":%q,"n":%d}`, key, numbers[i]))
		e.ID, e.ReceivedAt = DeliveryID(e.ID, fmt.Sprint(i)), e.ReceivedAt.Add(now)
		in, opt = append(in, e), append(opt, Options{NoBodies: true})
	}
	return in, opt, keys, numbers, at
}

// Thousands of random messages for an aggregate that closes by count, quiet and
// age agree with a map of lists.
func TestAnAggregateAgreesWithAMapOfLists(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 4))
	const count, quiet, age = 6, 50 * time.Second, 150 * time.Second
	p := read(
		t,
		splitHead+fmt.Sprintf(
			"- {id: agg, kind: aggregate, key: body.k, item: body.n, unique: body.n, close: {count: %d, quiet: %s, age: "+
				"%s}, result: text, separator: ' '}\n- {id: d, kind: deliver, to: out, path: '/${group.key}/${group.why}'}\n",
			count,
			quiet,
			age,
		),
	)
	in, opt, keys, numbers, at := randomMessages(r, 5000, func(string) int { return r.IntN(60) })

	type list struct {
		items        []string
		opened, last time.Duration
	}
	open := map[string]*list{}
	var want []string
	away := 0
	shut := func(key, why string) {
		want = append(want, "/"+key+"/"+strings.ReplaceAll(why, " ", "%20")+" "+strings.Join(open[key].items, " "))
		delete(open, key)
	}
	tick := func(now time.Duration) {
		for key, l := range open {
			quietAt, ageAt := l.last+quiet, l.opened+age
			switch {
			case ageAt <= now && ageAt <= quietAt:
				shut(key, "by age, 2m30s")
			case quietAt <= now:
				shut(key, "by quiet, 50s")
			}
		}
	}
	for i, key := range keys {
		tick(at[i])
		l := open[key]
		if l == nil {
			l = &list{opened: at[i]}
			open[key] = l
		}
		n := fmt.Sprint(numbers[i])
		if slices.Contains(l.items, n) {
			away++
			continue
		}
		l.items, l.last = append(l.items, n), at[i]
		if len(l.items) == count {
			shut(key, "by count, 6")
		}
	}
	tick(1 << 60)

	var got []string
	turned := 0
	for _, x := range RehearseAll(p, in, opt) {
		if x.State == TurnedAway {
			turned++
		}
		for _, d := range x.Deliveries {
			got = append(got, strings.ReplaceAll(d.Request.URL, "%2C", ",")+" "+*d.Request.Text)
		}
	}
	sort.Strings(got)
	sort.Strings(want)
	if turned != away || !slices.Equal(got, want) {
		t.Fatalf(
			"%d were turned away, want %d; %d groups, want %d\n%.300s\n%.300s",
			turned,
			away,
			len(got),
			len(want),
			strings.Join(got, "\n"),
			strings.Join(want, "\n"),
		)
	}
	if len(got) < 500 {
		t.Errorf("only %d groups", len(got))
	}
}

// Thousands of random numbers for a resequence, with gaps, twins and late ones,
// agree with a list that is searched from its beginning.
func TestAResequenceAgreesWithAList(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 5))
	const wait = 90 * time.Second
	p := read(
		t,
		splitHead+"- {id: seq, kind: resequence, key: body.k, number: body.n, wait: "+wait.String()+
			"}\n- {id: d, kind: deliver, to: out}\n",
	)
	next := map[string]int{}
	in, opt, keys, numbers, at := randomMessages(r, 5000, func(key string) int {
		next[key]++
		switch r.IntN(12) {
		case 0:
			next[key]++ // one is lost
		case 1:
			return max(1, next[key]-r.IntN(6)) // a twin, or late
		}
		return next[key] + r.IntN(3) // they overtake each other
	})

	type waiting struct{ i, number int }
	turn, held, said := map[string]int{}, map[string][]waiting{}, make([]string, len(in))
	release := func(key string, gap int) {
		for len(held[key]) > 0 && held[key][0].number <= turn[key] {
			w := held[key][0]
			held[key] = held[key][1:]
			turn[key] = max(turn[key], w.number+1)
			said[w.i] = BehindSaid(int64(w.number), int64(gap))
			gap = -1
		}
	}
	tick := func(now time.Duration) {
		for {
			key, until := "", time.Duration(1<<62)
			for k, list := range held {
				for _, w := range list {
					if u := at[w.i] + wait; u <= now && u < until {
						key, until = k, u
					}
				}
			}
			if key == "" {
				return
			}
			gap := turn[key]
			turn[key] = held[key][0].number
			release(key, gap)
		}
	}
	for i, key := range keys {
		tick(at[i])
		if turn[key] == 0 {
			turn[key] = 1
		}
		switch n := numbers[i]; {
		case n < turn[key]:
			said[i] = "turned away"
		case n > turn[key]:
			held[key] = append(held[key], waiting{i, n})
			sort.SliceStable(held[key], func(a, b int) bool { return held[key][a].number < held[key][b].number })
		default:
			said[i] = fmt.Sprint(n)
			turn[key]++
			release(key, -1)
		}
	}
	tick(1 << 61)

	outcomes := map[string]int{}
	for i, x := range RehearseAll(p, in, opt) {
		if got := x.Trace[0].Outcome; got != said[i] {
			t.Fatalf("message %d, number %d of %s: %q, want %q", i, numbers[i], keys[i], got, said[i])
		}
		kind, _, _ := strings.Cut(strings.TrimLeft(said[i], "0123456789, "), " ")
		outcomes[kind]++
	}
	for _, kind := range []string{"", "behind", "without", "turned"} {
		if outcomes[kind] < 50 {
			t.Errorf("only %d %q of %v", outcomes[kind], kind, outcomes)
		}
	}
}
