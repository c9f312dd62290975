package cause

import (
	"slices"
	"strings"
	"testing"
	"time"
)

// What belongs to one message goes, what the flow itself names stays and tells causes apart.
func TestText(t *testing.T) {
	known := func(s string) bool { return slices.Contains([]string{"branches", "portals", "code"}, s) }
	for reason, want := range map[string]string{
		`the table "branches" has no row for code "MARL"`:                      `the table "branches" has no row for code "…"`,
		`the table "portals" has no row for code "MARL"`:                       `the table "portals" has no row for code "…"`,
		`body.card is missing: body has no card; it has "request", "item"`:     `body.card is missing: body has no card`,
		`400 for 0198c0de-0000-7000-8000-000000000000`:                         `400 for …`,
		`item 31408 is not known, error 12`:                                    `item … is not known, error 12`,
		strings.Repeat("ä", 300):                                               strings.Repeat("ä", 200),
		`"MARL" is no "code"`:                                                  `"…" is no "code"`,
		`the answer was 503 on each of 5 tries, the last at 2026-03-17T09:00Z`: `the answer was 503 on each of 5 tries, the last at …-03-17T09:00Z`,
	} {
		if got := Text(reason, known); got != want {
			t.Errorf("%s\nis  %s\nnot %s", reason, got, want)
		}
	}
}

// Whose matter it is follows from what else happened.
func TestJudge(t *testing.T) {
	at := time.Date(2026, 3, 17, 9, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		e    Evidence
		want Class
		says string
	}{
		"a misspelt path": {
			Evidence{Said: Data, Flow: "holds", Count: 28, Since: at.Add(3 * time.Minute), Version: 4, Began: at},
			Flow, "no message has come through under version 4, which began 3 min before",
		},
		"one message of many": {
			Evidence{Said: Data, Flow: "holds", Count: 1, Since: at.Add(3 * time.Minute), Version: 4, Began: at, Sound: 900},
			Data, "900 other messages of holds came through",
		},
		"one that no message shows to be the flow's": {
			Evidence{Said: Flow, Flow: "holds", Count: 2, Since: at, Version: 4, Began: at.Add(-48 * time.Hour), Sound: 900},
			Data, "so the flow can do it",
		},
		"a target that is out": {
			Evidence{Said: Target, Target: "lender", Phase: "tries", Status: 503, Count: 5, Since: at, Failed: 30},
			Target, "lender took nothing else",
		},
		"a target that refuses some": {
			Evidence{Said: Target, Target: "lender", Phase: "tries", Status: 404, Count: 5, Since: at, Through: 30},
			Data, "took 30 others",
		},
		"a full group":  {Evidence{Said: Data, Phase: "limit", Count: 5, Since: at}, Limit, "a limit was reached"},
		"nothing known": {Evidence{Said: Data, Count: 1, Since: at}, Data, ""},
	} {
		got, why := Judge(c.e)
		if got != c.want || !strings.Contains(strings.Join(why, "; "), c.says) {
			t.Errorf("%s: %s, %q", name, got, why)
		}
	}
}
