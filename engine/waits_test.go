package engine

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/engine/design"
	"readyferry/engine/journal"
	"readyferry/store"
)

func TestOnceTurnsRepeatsAway(t *testing.T) { synctest.Test(t, testOnceTurnsRepeatsAway) }

func testOnceTurnsRepeatsAway(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(`
readyferry: flow/1
name: o
intake: {kind: webhook, path: /o}
steps:
  - {id: seen, kind: once, key: body.k, for: 1h, reason: '${body.k} is known'}
  - {id: d, kind: deliver, to: out}
`)
	first := w.accepted("/o", `{"k": "a"}`)
	again := w.accepted("/o", `{"k": "a", "more": 1}`)
	other := w.accepted("/o", `{"k": "b"}`)
	w.becomes(first, store.Delivered)
	w.becomes(other, store.Delivered)
	if got := w.becomes(again, store.TurnedAway); got.Reason != "a is known" {
		t.Errorf("%q", got.Reason)
	}
	if n := len(w.out.got()); n != 2 {
		t.Errorf("%d deliveries", n)
	}
}

func TestHoldForATimeAlsoAcrossARestart(t *testing.T) {
	synctest.Test(t, testHoldForATimeAlsoAcrossARestart)
}

func testHoldForATimeAlsoAcrossARestart(t *testing.T) {
	dir, out := t.TempDir(), &target{}
	w := start(t, dir, out)
	w.connect("out", fast)
	w.publish(`
readyferry: flow/1
name: h
intake: {kind: webhook, path: /h}
steps:
  - {id: wait, kind: hold, for: 700ms}
  - {id: d, kind: deliver, to: out}
`)
	began := time.Now()
	id := w.accepted("/h", `{}`)
	if got := w.becomes(id, store.Waiting); !strings.HasPrefix(got.PlaceText, "held until ") {
		t.Errorf("%+v", got)
	}
	w.close()
	again := start(t, dir, out)
	again.becomes(id, store.Delivered)
	if took := out.got()[0].at.Sub(began); took < 700*time.Millisecond {
		t.Errorf("it went on after %s", took)
	}
}

func TestHoldUntilARowFits(t *testing.T) { synctest.Test(t, testHoldUntilARowFits) }

func testHoldUntilARowFits(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.table("name: branches\n", "code,open\nELMS,no\n")
	w.publish(`
readyferry: flow/1
name: h
intake: {kind: webhook, path: /h}
steps:
  - {id: wait, kind: hold, until: {in: branches, key: body.branch, fits: 'row.open == "yes"'}, within: 5s}
  - {id: d, kind: deliver, to: out, path: /opened}
`)
	w.publish(strings.ReplaceAll(lateFlow, "{{LATE}}", "go on"))
	a, b := w.accepted("/h", `{"branch": "ELMS"}`), w.accepted("/h", `{"branch": "NEW"}`)
	w.becomes(a, store.Waiting)
	w.becomes(b, store.Waiting)
	edit := func(value string) {
		rows, err := w.store.TableRows("branches", 1<<40, 0, "", 10)
		if err != nil {
			t.Fatal(err)
		}
		e := design.RowEdit{Value: node(t, value)}
		for _, r := range rows {
			if strings.Contains(string(r.Body), `"ELMS"`) && strings.Contains(value, `"ELMS"`) {
				e.Row = r.N
			}
		}
		if _, err := w.EditRows(context.Background(), "branches", nil, []design.RowEdit{e}); err != nil {
			t.Fatal(err)
		}
	}
	edit(`{"code":"ELMS","open":"yes"}`)
	w.becomes(a, store.Delivered)
	if got := w.becomes(b, store.Waiting); got.PlaceText != "held for a row of branches" {
		t.Errorf("%+v", got)
	}
	edit(`{"code":"NEW","open":"yes"}`)
	w.becomes(b, store.Delivered)
	r, err := w.Inspect(b)
	if err != nil || r.Trace[0].Outcome != "the row is there" || len(r.Trace[0].Looked) != 1 {
		t.Errorf("%+v, %v", r.Trace, err)
	}
	w.becomes(w.accepted("/late", `{"branch": "GONE"}`), store.Delivered)
	w.publish(strings.ReplaceAll(lateFlow, "{{LATE}}", "turn away"))
	if got := w.becomes(w.accepted("/late", `{"branch": "GONE"}`), store.TurnedAway); !strings.Contains(
		got.Reason,
		"no row of the table",
	) {
		t.Errorf("%q", got.Reason)
	}
	w.publish(strings.ReplaceAll(lateFlow, "{{LATE}}", "dead letter"))
	id := w.accepted("/late", `{"branch": "GONE"}`)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Kind != "hold" || l.Reason != `no row of the table "branches" fitted within 100ms` {
		t.Errorf("%+v", l)
	}
	// A person makes the row and sends it again.
	edit(`{"code":"GONE","open":"yes"}`)
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(id).ID},
		Version: "own"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
}

const lateFlow = `
readyferry: flow/1
name: late
intake: {kind: webhook, path: /late}
steps:
  - {id: wait, kind: hold, until: {in: branches, key: body.branch}, within: 100ms, late: '{{LATE}}'}
  - {id: d, kind: deliver, to: out, path: /late}
`

func TestAPaceIsKeptPerKey(t *testing.T) { synctest.Test(t, testAPaceIsKeptPerKey) }

func testAPaceIsKeptPerKey(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(`
readyferry: flow/1
name: p
intake: {kind: webhook, path: /p}
steps:
  - {id: gently, kind: pace, key: body.k, most: 2, per: 400ms, within: 1s}
  - {id: d, kind: deliver, to: out, path: '/${body.k}'}
`)
	var ids []store.ID
	for i := range 6 {
		ids = append(ids, w.accepted("/p", fmt.Sprintf(`{"k": "a", "i": %d}`, i)))
	}
	free := w.accepted("/p", `{"k": "b"}`)
	w.becomes(free, store.Delivered)
	for _, id := range ids {
		w.becomes(id, store.Delivered)
	}
	var at []time.Time
	for _, c := range w.out.got() {
		if c.path == "/a" {
			at = append(at, c.at)
		}
	}
	for i := 2; i < len(at); i++ {
		if gap := at[i].Sub(at[i-2]); gap < 300*time.Millisecond { // the deliveries behind it leave a little unevenly
			t.Errorf("three within %s", gap)
		}
	}
	// What would wait too long is refused.
	var last store.ID
	for i := range 9 {
		last = w.accepted("/p", fmt.Sprintf(`{"k": "c", "i": %d}`, i))
	}
	w.becomes(last, store.DeadLetter)
	if l := w.letter(last); !strings.Contains(l.Reason, "at 2 per 400ms, c has so many messages waiting") {
		t.Errorf("%s", l.Reason)
	}
}

// The next part of a split in order waits for one that is held: only what waits
// for other messages lets them go first.
func TestPartsInOrderWaitForOneThatIsHeld(t *testing.T) {
	synctest.Test(t, testPartsInOrderWaitForOneThatIsHeld)
}

func testPartsInOrderWaitForOneThatIsHeld(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(`
readyferry: flow/1
name: s
intake: {kind: webhook, path: /s}
steps:
  - id: each
    kind: split
    each: body.l
    parts: in order
    steps:
      - {id: h, kind: hold, for: 150ms, when: 'part == 1'}
      - {id: d, kind: deliver, to: out, path: '/${part}'}
`)
	id := w.accepted("/s", `{"l": [1, 2, 3]}`)
	w.becomes(id, store.Delivered)
	var got []string
	for _, c := range w.out.got() {
		got = append(got, c.path)
	}
	if fmt.Sprint(got) != "[/1 /2 /3]" {
		t.Errorf("%v", got)
	}
}
