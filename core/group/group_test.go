package group

import (
	"strings"
	"testing"
	"time"
)

var opened = time.Date(2026, 3, 17, 9, 0, 0, 0, time.UTC)

func TestTimeClosesAGroupByWhicheverIsFirst(t *testing.T) {
	for _, c := range []struct {
		quiet, age time.Duration
		last       time.Duration // after opening
		at         time.Duration
		why        string
	}{
		{0, 0, 0, -1, ""},
		{0, 20 * time.Minute, 19 * time.Minute, 20 * time.Minute, "by age, 20m"},
		{5 * time.Minute, 0, 7 * time.Minute, 12 * time.Minute, "by quiet, 5m"},
		{5 * time.Minute, 20 * time.Minute, 3 * time.Minute, 8 * time.Minute, "by quiet, 5m"},
		{5 * time.Minute, 20 * time.Minute, 18 * time.Minute, 20 * time.Minute, "by age, 20m"},
		{5 * time.Minute, 20 * time.Minute, 15 * time.Minute, 20 * time.Minute, "by age, 20m"},
		{90 * time.Second, 0, 0, 90 * time.Second, "by quiet, 1m30s"},
		{0, 2 * time.Hour, 0, 2 * time.Hour, "by age, 2h"},
	} {
		r := Rules{Quiet: c.quiet, Age: c.age}
		at, why := r.Deadline(opened, opened.Add(c.last))
		want := opened.Add(c.at)
		if c.at < 0 {
			want = time.Time{}
		}
		if !at.Equal(want) || why != c.why {
			t.Errorf("%+v: %s %q", c, at, why)
		}
	}
}

func TestAGroupClosesWhenItsNewestMemberHasCome(t *testing.T) {
	when := func(g *Group) (bool, error) { return g.Count == 4, nil }
	for _, c := range []struct {
		rules   Rules
		count   int
		awaited int
		why     string
		missing string
	}{
		{Rules{Count: 2}, 1, -1, "", "1 more"},
		{Rules{Count: 2}, 2, -1, "by count, 2", "0 more"}, // a group of two closes on the second (common practice)
		{Rules{Count: 9, When: when, Condition: "x"}, 4, -1, "by condition", "5 more; until x"},
		{Rules{When: when, Condition: "x"}, 3, -1, "", "until x"},
		{Rules{Parts: "rows"}, 3, 2, "", "2 parts of rows"},
		{Rules{Parts: "rows"}, 3, 0, "all parts are here", "0 parts of rows"},
		{Rules{Parts: "rows"}, 3, -1, "", ""},
		{Rules{}, 3, 0, "", ""},
	} {
		g := &Group{Count: c.count, Awaited: c.awaited}
		why, err := c.rules.Closes(g)
		if err != nil || why != c.why || strings.Join(c.rules.Missing(g), "; ") != c.missing {
			t.Errorf("%+v: %q %v, missing %v", c, why, err, c.rules.Missing(g))
		}
	}
	r := Rules{Limit: 3, Bytes: 100}
	for _, c := range []struct {
		count       int
		bytes, more int64
		want        string
	}{{2, 50, 50, ""}, {3, 50, 1, "it has 3 members, its limit"}, {2, 50, 51,
		"its items have 50 bytes, and its limit is 100"}} {
		if got := r.Full(c.count, c.bytes, c.more); !strings.HasPrefix(got, c.want) || c.want == "" && got != "" {
			t.Errorf("%+v: %q", c, got)
		}
	}
}

func TestNumbersHaveTheirTurn(t *testing.T) {
	o := Order{First: 1}
	for _, c := range []struct {
		number, next int64
		want         Turn
	}{{1, 1, Now}, {2, 1, Wait}, {1, 2, Later}, {-1, 0, Later}, {0, 0, Now}} {
		if got := o.Turn(c.number, c.next); got != c.want {
			t.Errorf("%+v: %d", c, got)
		}
	}
}
