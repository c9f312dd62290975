package engine

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/cause"
	"readyferry/engine/journal"
	"readyferry/engine/repair"
	"readyferry/engine/watch"
	"readyferry/store"
)

const broken = `
readyferry: flow/1
name: holds
intake: {kind: webhook, path: /holds, reference: body.ref}
steps:
  - {id: first, kind: deliver, to: out, path: '/first/${body.ref}'}
  - {id: shape, kind: set, vars: {shelf: body.self}}
  - {id: second, kind: deliver, to: out, path: '/second/${body.ref}'}
`

// diedUnder lets messages die under a version that is broken, and publishes one that is not.
func diedUnder(t *testing.T, w *world, n int) {
	t.Helper()
	w.connect("out", fast)
	w.publish(broken)
	for i := range n {
		w.accepted("/holds", fmt.Sprintf(`{"ref":"R-%d","shelf":"S-%d"}`, i, i))
	}
	w.until(
		"all are dead",
		func() bool { k, _ := w.store.CountOpenLetters(); return k == int64(n) && len(w.out.got()) == n },
	)
	w.publish(strings.Replace(broken, "body.self", "body.shelf", 1))
}

// looked waits for a look to come to its end.
func (w *world) looked(o repair.Order) repair.Look {
	w.t.Helper()
	l, err := w.Repair.Preview(context.Background(), o)
	if err != nil {
		w.t.Fatal(err)
	}
	w.until("the look is done", func() bool {
		if l, err = w.Repair.Look(l.ID); err != nil {
			w.t.Fatal(err)
		}
		return l.State != "running"
	})
	return l
}

// ends waits for the end of a repair.
func (w *world) ends(id store.ID) *repair.Report {
	w.t.Helper()
	var r *repair.Report
	w.until("the repair is done", func() bool {
		var err error
		if r, err = w.Repair.Report(id); err != nil {
			w.t.Fatal(err)
		}
		return r.State == "done" && r.Outcomes["under way"]+r.Outcomes["waiting"] == 0
	})
	return r
}

// The version that the evidence speaks for is the live one, and a whole cause is repaired under
// it: none dies again under the broken version, and what was delivered before is not sent twice.
func TestAWholeCauseIsRepairedUnderTheVersionThatWorks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := start(t, t.TempDir(), &target{})
		diedUnder(t, w, 28)
		causes, err := w.Watch.Causes(10)
		if err != nil || len(causes) != 1 || causes[0].N != 28 {
			t.Fatalf("%+v %v", causes, err)
		}
		if c := causes[0]; c.Judged != cause.Flow ||
			!strings.Contains(strings.Join(c.Why, " "), "no message has come through under version 1") {
			t.Errorf("judged %s: %q", c.Judged, c.Why)
		}
		o := repair.Order{
			What:     "resend",
			Choice:   repair.Choice{Cause: causes[0].Cause.Cause},
			Decision: journal.Decision{By: "Ines"},
		}
		l := w.looked(o)
		if l.Version != "live" || l.Total != 28 || l.Made != 28 ||
			!strings.Contains(l.Why, "28 of 28 come through under the live version") {
			t.Errorf("%+v", l)
		}
		if own := l.Under["own"]; len(own) != 1 || own[0].State != "dead letter" || own[0].Count != 28 {
			t.Errorf("under its own version: %+v", own)
		}
		if seen, total, err := w.Repair.Seen(l.ID, "", "delivered", 20, 100); err != nil || total != 28 ||
			len(seen) != 8 ||
			seen[0].Made[0].Path != "first" {
			t.Errorf("%d of %d, %v", len(seen), total, err)
		}
		o.Decision.Version = l.Version
		begun, err := w.Repair.Begin(context.Background(), o)
		if err != nil {
			t.Fatal(err)
		}
		if r := w.ends(begun.ID); r.Outcomes["delivered"] != 28 || r.By != "Ines" || r.Waits+r.Refused != 0 {
			t.Errorf("%+v", r)
		}
		times := map[string]int{}
		for _, c := range w.out.got() {
			times[c.path]++
		}
		if len(times) != 56 {
			t.Errorf("%d deliveries, not 56", len(times))
		}
		for path, n := range times {
			if n != 1 {
				t.Errorf("%s was sent %d times", path, n)
			}
		}
	})
}

// A repair that is cut off goes on at the next start, and the report is right.
func TestARepairGoesOnBehindARestart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir, out := t.TempDir(), &target{}
		w := start(t, dir, out)
		diedUnder(t, w, 40)
		row, err := w.Repair.Begin(context.Background(), repair.Order{What: "resend", Pace: 10,
			Choice:   repair.Choice{Letters: &store.LetterFilter{Flow: "holds"}},
			Decision: journal.Decision{Version: "live", Replace: &journal.Replace{Find: "S-", With: "T-"}}})
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(1500 * time.Millisecond) // of the bubble's clock: some fifteen have gone
		w.close()
		w = start(t, dir, out)
		w.ends(row.ID)
		r, err := w.Repair.Report(row.ID)
		if err != nil || r.Outcomes["delivered"] != 40 || r.Total != 40 {
			t.Errorf("%+v %v", r, err)
		}
		times := map[string]int{}
		for _, c := range out.got() {
			times[c.path]++
			if strings.HasPrefix(c.path, "/second/") && !strings.Contains(c.body, `"T-`) {
				t.Errorf("%s is not mended: %s", c.path, c.body)
			}
		}
		if len(times) != 80 {
			t.Errorf("%d deliveries", len(times))
		}
		for path, n := range times {
			if n != 1 {
				t.Errorf("%s was sent %d times", path, n)
			}
		}
		items, err := w.Repair.Items(row.ID, 30, 100)
		if err != nil || len(items) != 10 || items[0].N != 31 || items[0].State != "delivered" ||
			items[0].Reference == "" {
			t.Errorf("%+v %v", items, err)
		}
	})
}

// A repair can be stopped and goes on when it is told to; what was sent stays sent.
func TestARepairIsStoppedAndGoesOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := start(t, t.TempDir(), &target{})
		diedUnder(t, w, 20)
		ctx := context.Background()
		row, err := w.Repair.Begin(
			ctx,
			repair.Order{What: "resend", Pace: 10, Choice: repair.Choice{Letters: &store.LetterFilter{}},
				Decision: journal.Decision{Version: "live"}},
		)
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(550 * time.Millisecond)
		if err := w.Repair.Stop(ctx, row.ID); err != nil {
			t.Fatal(err)
		}
		time.Sleep(10 * time.Second)
		r, err := w.Repair.Report(row.ID)
		if err != nil || r.State != "stopped" || r.Waits < 10 || r.Waits > 16 {
			t.Fatalf("%+v %v", r, err)
		}
		if err := w.Repair.Resume(ctx, row.ID); err != nil {
			t.Fatal(err)
		}
		if r := w.ends(row.ID); r.Outcomes["delivered"] != 20 {
			t.Errorf("%+v", r)
		}
	})
}

// At night, at most so many; the rest the next night. And not before its target answers.
func TestARepairWaitsForItsTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := start(t, t.TempDir(), &target{})
		diedUnder(t, w, 12)
		night := w.Now().Add(time.Minute)
		row, err := w.Repair.Begin(
			context.Background(),
			repair.Order{What: "resend", BeginAt: night, Nightly: true, Most: 10,
				When: "out", Choice: repair.Choice{Letters: &store.LetterFilter{}}, Decision: journal.Decision{Version: "live"}},
		)
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(50 * time.Second)
		r, err := w.Repair.Report(row.ID)
		if err != nil || r.Waits != 12 || r.State != "planned" {
			t.Fatalf("before the night: %+v %v", r, err)
		}
		time.Sleep(30 * time.Second)
		if r, err = w.Repair.Report(row.ID); err != nil || r.Waits != 2 || r.State != "planned" ||
			r.Outcomes["delivered"] != 10 ||
			!r.BeginAt.Equal(night.Add(24*time.Hour)) {
			t.Errorf("behind the night: %+v %v", r, err)
		}
		if err := w.Repair.Resume(context.Background(), row.ID); err != nil { // somebody does not want to wait
			t.Fatal(err)
		}
		if r := w.ends(row.ID); r.Outcomes["delivered"] != 12 {
			t.Errorf("%+v", r)
		}
	})
}

// Who insists sends what was delivered once more, under the key that it had. A discard is taken
// back, and says why on the transaction.
func TestInsistingAndTakingBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var later atomic.Int64
		out := &target{}
		w := startAt(t, t.TempDir(), out, func() time.Time { return time.Now().Add(time.Duration(later.Load())) })
		w.out = out
		diedUnder(t, w, 2)
		ctx := context.Background()
		letters, err := w.store.OpenLetters("", "", nil, 10)
		if err != nil {
			t.Fatal(err)
		}
		d := journal.Decision{IDs: []store.ID{letters[0].ID}, Version: "live", Insist: true}
		if _, err := w.Resend(ctx, d); err != nil {
			t.Fatal(err)
		}
		w.becomes(letters[0].Tx, store.Delivered)
		first := map[string]int{}
		for _, c := range w.out.got() {
			if c.path == "/first/"+letters[0].Reference {
				first[c.key]++
			}
		}
		if len(first) != 1 || len(w.out.got()) != 4 {
			t.Errorf("%+v", w.out.got())
		}
		for _, n := range first {
			if n != 2 {
				t.Errorf("the first delivery went out %d times under its key", n)
			}
		}
		d = journal.Decision{IDs: []store.ID{letters[1].ID}, Why: "asked by phone", By: "Ines"}
		if err := w.Discard(ctx, d); err != nil {
			t.Fatal(err)
		}
		if tx := w.becomes(letters[1].Tx, store.TurnedAway); !strings.HasPrefix(
			tx.Reason,
			"discarded: asked by phone (",
		) {
			t.Errorf("%q", tx.Reason)
		}
		if err := w.Restore(ctx, d); err != nil {
			t.Fatal(err)
		}
		w.becomes(letters[1].Tx, store.DeadLetter)
		if err := w.Assign(ctx, d, "Tomas"); err != nil {
			t.Fatal(err)
		}
		if l := w.letter(letters[1].Tx); l.Assignee != "Tomas" || l.State != store.LetterOpen {
			t.Errorf("%+v", l)
		}
		if err := w.Discard(ctx, d); err != nil {
			t.Fatal(err)
		}
		later.Store(int64(journal.UndoFor + time.Minute))
		if err := w.Restore(ctx, d); err == nil {
			t.Error("a discard of yesterday is taken back")
		}
	})
}

// What was delivered is sent again by filter: under its old keys, or new ones.
func TestDeliveredOnesAreSentAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", fast)
		w.publish(strings.Replace(broken, "body.self", "body.shelf", 1))
		for i := range 3 {
			w.becomes(w.accepted("/holds", fmt.Sprintf(`{"ref":"R-%d","shelf":"S"}`, i)), store.Delivered)
		}
		state := store.Delivered
		for round, newKeys := range []bool{false, true} {
			o := repair.Order{What: "again", NewKeys: newKeys,
				Choice: repair.Choice{Transactions: &watch.Found{Filter: store.Filter{Flow: "holds", State: &state, Reference: "R-1"}}}}
			if round == 0 {
				l := w.looked(o)
				if l.Total != 1 || l.Under["own"][0].State != "delivered" {
					t.Errorf("%+v", l)
				}
			}
			row, err := w.Repair.Begin(context.Background(), o)
			if err != nil {
				t.Fatal(err)
			}
			if r := w.ends(row.ID); r.Outcomes["delivered"] != int64(1+round) {
				t.Errorf("%+v", r)
			}
		}
		keys := map[string]int{}
		for _, c := range w.out.got() {
			if c.path == "/first/R-1" {
				keys[c.key]++
			}
		}
		// Once at first, once under the old key; then both of them under keys of their own.
		if len(keys) != 3 {
			t.Errorf("%v", keys)
		}
	})
}
