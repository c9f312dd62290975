package find

import (
	"errors"
	"strings"
	"testing"
	"time"
)

func TestRead(t *testing.T) {
	for text, want := range map[string]string{
		``:                                   ``,
		`flow:holds state:dead-letter`:       `flow=holds state=dead-letter`,
		`reference:"HR 20" overdue`:          `reference=HR 20 =overdue`,
		`tries:>2 took:<200ms size:>10kB`:    `tries>2 took<200ms size>10kB`,
		`-state:delivered "two words" -lost`: `-state=delivered =two words -=lost`,
		`FLOW:a  way:by-home.digital`:        `flow=a way=by-home.digital`,
		`header:x-portal=web note:"lent as"`: `header=x-portal=web note=lent as`,
		`from:2026-03-17T09:00 to:today`:     `from=2026-03-17T09:00 to=today`,
		`http://somewhere`:                   `! there is no filter "http"`,
		`nothing:x`:                          `! there is no filter "nothing"`,
		`tries:many`:                         `! tries does not take "many"`,
		`took:soon`:                          `! took does not take "soon"`,
		`state:lost`:                         `! state does not take "lost"`,
		`flow:`:                              `! nothing stands behind flow:`,
		`reference:"open`:                    `! the quote does not end`,
		`from:someday`:                       `! from does not take "someday"`,
	} {
		terms, err := Read(text)
		var out []string
		for _, x := range terms {
			sign := ""
			if x.Not {
				sign = "-"
			}
			op := x.Op
			if op == "" {
				op = "="
			}
			out = append(out, sign+x.Key+op+x.Value)
		}
		got := strings.Join(out, " ")
		var bad *Error
		if errors.As(err, &bad) {
			got = "! " + bad.Message
		}
		if got != want {
			t.Errorf("%q is read as %q, not %q", text, got, want)
		}
	}
}

func TestValues(t *testing.T) {
	now := time.Date(2026, 3, 17, 9, 30, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"2026-03-16": "2026-03-16T00:00:00Z", "today": "2026-03-17T00:00:00Z", "yesterday": "2026-03-16T00:00:00Z",
		"2h": "2026-03-17T07:30:00Z", "7d": "2026-03-10T09:30:00Z", "2024": "2024-01-01T00:00:00Z",
		"2026-03-17T09:00:00+01:00": "2026-03-17T09:00:00+01:00", "now": "2026-03-17T09:30:00Z",
	} {
		if got, err := Moment(text, now, time.UTC); err != nil || got.Format(time.RFC3339) != want {
			t.Errorf("%s is %s, %v", text, got.Format(time.RFC3339), err)
		}
	}
	for text, want := range map[string]int64{"512": 512, "10kB": 10_000, "10k": 10_000, "1.5MB": 1_500_000, "1GiB": 1 << 30, "2Ki": 2048} {
		if got, err := Bytes(text); err != nil || got != want {
			t.Errorf("%s is %d, %v", text, got, err)
		}
	}
	for _, pair := range [][2]string{{"HR 20-811", "hr20-811"}, {" Ä b\u00a0", "äb"}} {
		if got := Folded(pair[0]); got != pair[1] {
			t.Errorf("%q folds to %q", pair[0], got)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(`flow:a -"b c" tries:>2`)
	f.Fuzz(func(t *testing.T, text string) {
		terms, err := Read(text)
		for _, x := range terms {
			if err == nil && (x.At < 0 || x.At >= len(text)) {
				t.Errorf("%q: a term at %d", text, x.At)
			}
		}
	})
}
