package timing

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"
)

// The tables of github.com/robfig/cron/v3 v3.0.1, see testdata/SOURCE.md.
func TestPublishedTables(t *testing.T) {
	b, err := os.ReadFile("testdata/cron.json")
	if err != nil {
		t.Fatal(err)
	}
	var file struct {
		Cases []struct {
			Kind, Spec, At, After string
			Timezone, Next        *string
			Active                bool
			ID                    int
		}
	}
	if err := json.Unmarshal(b, &file); err != nil {
		t.Fatal(err)
	}
	ran := 0
	for _, c := range file.Cases {
		zone := ""
		if c.Timezone != nil {
			zone = *c.Timezone
		}
		s, err := Cron(c.Spec, zone)
		if c.Kind == "error" {
			if err == nil {
				t.Errorf("case %d: %q is taken", c.ID, c.Spec)
			}
			ran++
			continue
		}
		if err != nil {
			t.Errorf("case %d: %v", c.ID, err)
			continue
		}
		parse := func(text string) time.Time {
			at, err := time.Parse(time.RFC3339, text)
			if err != nil {
				if at, err = time.Parse("2006-01-02T15:04:05", text); err != nil {
					t.Fatal(err)
				}
			}
			return at
		}
		if c.Kind == "active" {
			at := parse(c.At)
			if got := s.Next(at.Add(-time.Second)).Equal(at); got != c.Active {
				t.Errorf("case %d: %q at %s: %v", c.ID, c.Spec, c.At, got)
			}
			ran++
			continue
		}
		got := s.Next(parse(c.After))
		if c.Next == nil {
			if !got.IsZero() {
				t.Errorf("case %d: %q after %s: %s", c.ID, c.Spec, c.After, got)
			}
		} else if !got.Equal(parse(*c.Next)) {
			t.Errorf("case %d: %q after %s: %s, want %s", c.ID, c.Spec, c.After, got, *c.Next)
		}
		ran++
	}
	if ran != len(file.Cases) || ran < 50 {
		t.Errorf("%d cases ran", ran)
	}
}

// The dates of the changes are those of the IANA time zone database: Ireland
// 29 March and 25 October 2026, New York 8 March and 1 November 2026.
func TestDaylightSavingInBothDirections(t *testing.T) {
	for _, c := range []struct {
		zone, spec, after string
		want              []string
	}{
		{"Europe/Dublin", "30 1 * * *", "2026-03-28T00:00:00Z", []string{"2026-03-28T01:30:00Z",
			"2026-03-30T01:30:00+01:00"}},
		{"Europe/Dublin", "30 0 * * *", "2026-03-28T12:00:00Z", []string{"2026-03-29T00:30:00Z",
			"2026-03-30T00:30:00+01:00"}},
		{"Europe/Dublin", "30 1 * * *", "2026-10-24T12:00:00+01:00", []string{"2026-10-25T01:30:00+01:00",
			"2026-10-25T01:30:00Z", "2026-10-26T01:30:00Z"}},
		{"Europe/Dublin", "0 * * * *", "2026-03-29T00:00:00Z", []string{"2026-03-29T02:00:00+01:00",
			"2026-03-29T03:00:00+01:00"}},
		{"America/New_York", "30 2 * * *", "2026-03-07T12:00:00-05:00", []string{"2026-03-09T02:30:00-04:00"}},
		{"America/New_York", "30 1 * * *", "2026-11-01T00:00:00-04:00", []string{"2026-11-01T01:30:00-04:00",
			"2026-11-01T01:30:00-05:00", "2026-11-02T01:30:00-05:00"}},
		{"America/New_York", "0 * * * *", "2026-11-01T00:30:00-04:00", []string{"2026-11-01T01:00:00-04:00",
			"2026-11-01T01:00:00-05:00", "2026-11-01T02:00:00-05:00"}},
		{"UTC", "30 1 * * *", "2026-03-28T12:00:00Z", []string{"2026-03-29T01:30:00Z", "2026-03-30T01:30:00Z"}},
	} {
		s, err := Cron(c.spec, c.zone)
		if err != nil {
			t.Fatal(err)
		}
		after, err := time.Parse(time.RFC3339, c.after)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, at := range s.Times(after, len(c.want)) {
			got = append(got, at.Format(time.RFC3339))
		}
		if fmt.Sprint(got) != fmt.Sprint(c.want) {
			t.Errorf("%s in %s after %s:\n%v, want\n%v", c.spec, c.zone, c.after, got, c.want)
		}
	}
}

func TestEveryIsDueAtTheSameTimesAfterEveryStart(t *testing.T) {
	s, err := Every(15 * time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 3, 17, 9, 41, 7, 0, time.UTC)
	if got := fmt.Sprint(s.Times(at, 2)); got != "[2026-03-17 09:45:00 +0000 UTC 2026-03-17 10:00:00 +0000 UTC]" {
		t.Error(got)
	}
	if n, last := s.Missed(at, at.Add(time.Hour), 100); n != 4 ||
		!last.Equal(time.Date(2026, 3, 17, 10, 30, 0, 0, time.UTC)) {
		t.Errorf("%d, %s", n, last)
	}
	for _, bad := range []func() error{
		func() error { _, err := Every(time.Millisecond); return err },
		func() error { _, err := Cron("* * * * *", "Atlantis"); return err },
		func() error { _, err := Cron("TZ=UTC * * * * *", ""); return err },
		func() error { _, err := Cron("@every 1m", ""); return err },
	} {
		if bad() == nil {
			t.Error("a wrong schedule is taken")
		}
	}
	if s, err := Cron("0 8 * * 7", "UTC"); err != nil || s.Next(at).Weekday() != time.Sunday {
		t.Errorf("%v", err)
	}
}

// What the reader of cron expressions says has words of its own, and of Go.
func TestAWrongExpressionIsSaidInWords(t *testing.T) {
	for spec, want := range map[string]string{
		"x": "it has 1 fields; there are five", "a 8 * * *": "a is no number, and no name of a month or day",
		"99 * * * *": "99 is above 59", "* * 0 * *": "0 is below 1", "5-1 * * * *": "a range begins with 5 and ends with 1",
		"*/0 * * * *": "a step must be 1 or more", "1-2-3 * * * *": "1-2-3 is no range",
	} {
		if _, err := Cron(spec, ""); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", spec, err, want)
		}
	}
}
