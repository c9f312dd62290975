package engine

import (
	"context"
	"encoding/json"
	"strings"
	"testing"
	"testing/synctest"

	"readyferry/core/run"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Walking a finished transaction again over its recorded effects gives the
// same bytes, now() and uuid() included, and the body that was really sent.
func TestInspectionShowsWhatWasSent(t *testing.T) { synctest.Test(t, testInspectionShowsWhatWasSent) }

func testInspectionShowsWhatWasSent(t *testing.T) {
	w := simpleWorld(t)
	id := w.accepted("/simple", `{"v":7,"ref":"R"}`)
	w.becomes(id, store.Delivered)
	var first string
	for range 3 {
		r, err := w.Inspect(id)
		if err != nil {
			t.Fatal(err)
		}
		b, err := json.Marshal(r)
		if err != nil {
			t.Fatal(err)
		}
		if first == "" {
			first = string(b)
		}
		if string(b) != first || *r.Trace[0].After.Text != w.out.got()[0].body {
			t.Fatalf("%s\n%s", first, b)
		}
	}
}

// A flow that is gone leaves its transactions to look at.
func TestARemovedFlowsTransactionsCanBeInspected(t *testing.T) {
	synctest.Test(t, testARemovedFlowsTransactionsCanBeInspected)
}

func testARemovedFlowsTransactionsCanBeInspected(t *testing.T) {
	w := simpleWorld(t)
	id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
	w.becomes(id, store.Delivered)
	if err := w.Delete(context.Background(), "simple", false); err != nil {
		t.Fatal(err)
	}
	if in, _ := w.Find("POST", "/simple"); in != nil {
		t.Error("its address still answers")
	}
	if r, err := w.Inspect(id); err != nil || len(r.Trace) != 3 {
		t.Errorf("%+v %v", r, err)
	}
	w.publish(simple) // under the same name it goes on counting
	if f, err := w.store.Flow("simple"); err != nil || f.Live != 2 {
		t.Errorf("%+v %v", f, err)
	}
}

// A duplicate did nothing, so nothing is shown of steps; and what its caller
// got is the first one's answer.
func TestInspectingADuplicateShowsNoSteps(t *testing.T) {
	synctest.Test(t, testInspectingADuplicateShowsNoSteps)
}

func testInspectingADuplicateShowsNoSteps(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(
		"readyferry: flow/1\nname: once\nintake: {kind: webhook, path: /once, once: body.n}\nsteps: [{id: d, kind: deliver, to: out}]\n",
	)
	first := w.accepted("/once", `{"n":"1"}`)
	if second := w.accepted("/once", `{"n":"1"}`); second != first {
		t.Fatalf("%s is not told as %s", second, first)
	}
	rows, err := w.store.Transactions(store.Filter{Limit: 1})
	if err != nil || rows[0].ID == first {
		t.Fatalf("%+v %v", rows, err)
	}
	r, err := w.Inspect(rows[0].ID)
	if err != nil || len(r.Trace) != 0 || len(r.Deliveries) != 0 || r.State != run.TurnedAway ||
		!strings.Contains(r.Answer.Body, first.String()) ||
		!strings.Contains(r.Intake.Outcome, "duplicate") {
		t.Errorf("%+v %v", r, err)
	}
}

// What was sent is shown also when it has arrived.
func TestInspectionShowsDeliveriesThatAreDone(t *testing.T) {
	synctest.Test(t, testInspectionShowsDeliveriesThatAreDone)
}

func testInspectionShowsDeliveriesThatAreDone(t *testing.T) {
	w := simpleWorld(t)
	id := w.accepted("/simple", `{"v":7,"ref":"R"}`)
	w.becomes(id, store.Delivered)
	r, err := w.Inspect(id)
	if err != nil || len(r.Deliveries) != 1 || *r.Deliveries[0].Request.Text != w.out.got()[0].body ||
		r.Deliveries[0].Request.Headers["Idempotency-Key"] != w.out.got()[0].key {
		t.Errorf("%+v %v", r.Deliveries, err)
	}
	// A preview shows only what would be sent anew.
	w.out.status(422)
	id = w.accepted("/simple", `{"v":8,"ref":"R"}`)
	w.becomes(id, store.DeadLetter)
	p, err := w.Preview(journal.Decision{IDs: []store.ID{w.letter(id).ID}})
	if err != nil || len(p[0].Rehearsal.Deliveries) != 1 {
		t.Errorf("%+v %v", p, err)
	}
}

func TestInspectionShowsAQueueThatNobodyReads(t *testing.T) {
	synctest.Test(t, testInspectionShowsAQueueThatNobodyReads)
}

func testInspectionShowsAQueueThatNobodyReads(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	const reader = "readyferry: flow/1\nname: reader\nintake: {kind: queue, queue: q}\nsteps: []\n"
	w.publish(reader)
	w.publish(
		"readyferry: flow/1\nname: filler\nintake: {kind: webhook, path: /fill}\nsteps: [{id: put, kind: deliver, to: {queue: q}}]\n",
	)
	if err := w.Delete(context.Background(), "reader", false); err != nil {
		t.Fatal(err)
	}
	id := w.accepted("/fill", `{}`)
	w.becomes(id, store.DeadLetter)
	r, err := w.Inspect(id)
	if err != nil || r.Trace[0].State != run.DeadLetter || r.Trace[0].Error == nil ||
		*r.Trace[0].Error != "no flow reads the queue q" {
		t.Errorf("%+v %v", r.Trace, err)
	}
}
