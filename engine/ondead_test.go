package engine

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/engine/journal"
	"readyferry/store"
)

const telling = `
readyferry: flow/1
name: telling
intake: {kind: webhook, path: /telling, reference: body.ref}
steps:
  - {id: d, kind: deliver, to: out, path: '/x/${body.v}'}
on-dead-letter:
  steps:
    - {id: ticket, kind: map, fields: [{to: /what, from: letter.reason}, {to: /ref, from: letter.reference},
        {to: /step, from: letter.step}, {to: /body, from: 'body.?v.orValue("unreadable")'}]}
    - {id: open, kind: deliver, to: desk, path: /tickets}
`

func TestADeadLetterIsToldOnceAndCannotLoop(t *testing.T) {
	synctest.Test(t, testADeadLetterIsToldOnceAndCannotLoop)
}

func testADeadLetterIsToldOnceAndCannotLoop(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.connect("desk", fast)
	w.publish(telling)
	w.out.say(func(_ int, c call) (reply, error) {
		if c.to == "out" || strings.Contains(c.body, `"ref":"loop"`) {
			return reply{Status: 400}, nil
		}
		return reply{Status: 201}, nil
	})
	tickets := func() (out []string) {
		for _, c := range w.out.got() {
			if c.to == "desk" {
				out = append(out, c.body)
			}
		}
		return out
	}
	id := w.accepted("/telling", `{"ref": "R-1", "v": "1"}`)
	w.becomes(id, store.DeadLetter)
	w.until("a ticket is opened", func() bool { return len(tickets()) == 1 })
	if got := tickets()[0]; got != `{"what":"out answered 400","ref":"R-1","step":"d","body":"1"}` {
		t.Errorf("%s", got)
	}
	// Sent again and dead again, it is the same letter.
	if _, err := w.Resend(t.Context(), journal.Decision{IDs: []store.ID{w.letter(id).ID}, Version: "own"}); err != nil {
		t.Fatal(err)
	}
	w.until("it is tried again", func() bool { return len(w.out.got()) >= 3 })
	w.becomes(id, store.DeadLetter)
	time.Sleep(50 * time.Millisecond)
	if n := len(tickets()); n != 1 {
		t.Errorf("%d tickets", n)
	}
	// The steps for it can become a dead letter, too; that one is not told.
	w.becomes(w.accepted("/telling", `{"ref": "loop", "v": "2"}`), store.DeadLetter)
	w.until("both are dead", func() bool {
		totals, err := w.store.Totals()
		n := int64(0)
		for _, c := range totals {
			if c.State == store.DeadLetter {
				n += c.N
			}
		}
		return err == nil && n == 3
	})
	time.Sleep(50 * time.Millisecond)
	if n := len(tickets()); n != 2 {
		t.Errorf("%d tickets", n)
	}
	all, err := w.store.Transactions(store.Filter{Limit: 10})
	if err != nil || len(all) != 4 || all[0].OfLetter == nil || all[0].Reference != "loop" {
		t.Fatalf("%+v, %v", all, err)
	}
	r, err := w.Inspect(all[2].ID)
	if err != nil || len(r.Trace) != 2 || r.Trace[1].Path != "on-dead-letter/open" ||
		r.Intake.Outcome != "steps for a dead letter" {
		t.Errorf("%+v, %v", r, err)
	}
}

func TestAStepsElse(t *testing.T) { synctest.Test(t, testAStepsElse) }

func testAStepsElse(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.table("name: known\n", "k,v\na,1\n")
	w.publish(`
readyferry: flow/1
name: catching
intake: {kind: webhook, path: /catching}
steps:
  - {id: find, kind: lookup, in: known, key: body.k, into: row, else: {default: {row: '{"v": "none, " + caught.kind}'}}}
  - {id: m, kind: map, fields: [{to: /v, from: vars.row.v}, {to: /n, from: body.?n.orValue("")}]}
  - {id: odd, kind: set, vars: {x: body.missing}, else: skip}
  - {id: d, kind: deliver, to: out, path: /first, else: {steps: [
      {id: why, kind: set, vars: {why: caught.reason}},
      {id: other, kind: deliver, to: out, path: /second}], then: go on}}
  - {id: last, kind: deliver, to: out, path: '/last/${vars.?why.orValue("fine")}'}
`)
	w.out.say(func(_ int, c call) (reply, error) {
		if c.path == "/first" && strings.Contains(c.body, "bad") {
			return reply{Status: 422}, nil
		}
		return reply{Status: 200}, nil
	})
	paths := func() string {
		var all []string
		for _, c := range w.out.got() {
			all = append(all, c.path+" "+c.body)
		}
		return strings.Join(all, "\n")
	}
	w.becomes(w.accepted("/catching", `{"k": "a"}`), store.Delivered)
	if got := paths(); got != "/first {\"v\":\"1\",\"n\":\"\"}\n/last/fine {\"v\":\"1\",\"n\":\"\"}" {
		t.Errorf("%s", got)
	}
	id := w.accepted("/catching", `{"k": "zz", "n": "bad"}`)
	w.becomes(id, store.Delivered)
	if got := paths(); !strings.Contains(got, `/second {"v":"none, lookup","n":"bad"}`) ||
		!strings.HasSuffix(got, `/last/out%20answered%20422 {"v":"none, lookup","n":"bad"}`) {
		t.Errorf("%s", got)
	}
	r, err := w.Inspect(id)
	if err != nil {
		t.Fatal(err)
	}
	said := map[string]string{}
	for _, e := range r.Trace {
		said[e.Path] = e.Outcome
	}
	if said["d"] != "caught: out answered 422" || said["d.else/other"] != "200, 1st try" || said["odd"] == "" ||
		len(r.Notes) < 3 {
		t.Errorf("%v, notes %+v", said, r.Notes)
	}
}
