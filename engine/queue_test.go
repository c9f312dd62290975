package engine

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"testing/synctest"

	"readyferry/engine/design"
	"readyferry/engine/journal"
	"readyferry/store"
)

func TestQueuesHandOverInOneStep(t *testing.T) { synctest.Test(t, testQueuesHandOverInOneStep) }

func testQueuesHandOverInOneStep(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "retry: {first: 20ms, growth: constant, cap: 20ms, spread: none, tries: 500, within: 1m}")
	const filler = `
readyferry: flow/1
name: filler
intake: {kind: webhook, path: /fill, reference: body.ref}
steps:
  - {id: put, kind: deliver, to: {queue: asks}, headers: {x-from: filler}}
`
	if _, findings, err := w.SaveDraft(context.Background(), "filler", []byte(filler), nil); err != nil ||
		findings[1].Code != "queue-unread" {
		t.Fatalf("%v %v", findings, err)
	}
	var refused *design.FindingsError
	if _, _, err := w.Publish(context.Background(), "filler", design.Word{}); !errors.As(err, &refused) {
		t.Fatalf("published although nobody reads the queue: %v", err)
	}
	reader := `
readyferry: flow/1
name: reader
intake: {kind: queue, queue: asks, in-flight: 2}
steps:
  - {id: f, kind: filter, keep: 'headers["x-from"] == "filler"'}
  - {id: d, kind: deliver, to: out}
`
	w.publish(reader)
	w.publish(filler)
	answer := w.out.holds()
	var ids []store.ID
	for i := range 5 {
		ids = append(ids, w.accepted("/fill", fmt.Sprintf(`{"ref":"Q-%d"}`, i)))
	}
	for _, id := range ids {
		w.becomes(id, store.Delivered) // the filler's part is done when the queue has it
	}
	// At most two are in flight at once; the rest stays in the queue.
	w.until(
		"two are in flight",
		func() bool { d, _ := w.store.QueueDepths(); return len(d) == 1 && d[0].InFlight == 2 },
	)
	if d, _ := w.store.QueueDepths(); d[0].Depth+d[0].InFlight > 5 || d[0].Oldest == nil {
		t.Errorf("%+v", d)
	}
	answer()
	w.until("the queue is empty", func() bool { d, _ := w.store.QueueDepths(); return len(d) == 0 })
	rows, _ := w.store.Transactions(store.Filter{Flow: "reader", Limit: 10})
	if len(rows) != 5 || rows[0].Reference == "" {
		t.Errorf("%+v", rows)
	}
	// At run time a queue that has lost its reader makes a dead letter.
	if err := w.Delete(context.Background(), "reader", false); err != nil {
		t.Fatal(err)
	}
	id := w.accepted("/fill", `{"ref":"Q-9"}`)
	tx := w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Reason != "no flow reads the queue asks" || l.Class != "flow" || tx.Place != "put" {
		t.Errorf("%+v", l)
	}
	w.publish(reader)
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(id).ID}}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
}

// The reference that a message had before its queue is the same on every walk.
func TestTheReferenceFromBeforeTheQueueStays(t *testing.T) {
	synctest.Test(t, testTheReferenceFromBeforeTheQueueStays)
}

func testTheReferenceFromBeforeTheQueueStays(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(
		"readyferry: flow/1\nname: reader\nintake: {kind: queue, queue: q}\nsteps: [{id: d, kind: deliver, to: out}, " +
			"{id: m, kind: map, fields: [{to: /r, from: message.reference}]}, {id: e, kind: deliver, to: out}]\n",
	)
	w.publish(
		"readyferry: flow/1\nname: filler\nintake: {kind: webhook, path: /fill, reference: body.ref}\nsteps: [{id: put, kind: deliver, to: {queue: q}}]\n",
	)
	w.accepted("/fill", `{"ref":"R-7"}`)
	w.until("both are sent", func() bool { return len(w.out.got()) == 2 })
	if got := w.out.got()[1].body; got != `{"r":"R-7"}` {
		t.Error(got)
	}
}

// Putting into a queue is inside the application, so an answer behind it is in time.
func TestAnAnswerBehindAQueueIsHeard(t *testing.T) { synctest.Test(t, testAnAnswerBehindAQueueIsHeard) }

func testAnAnswerBehindAQueueIsHeard(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(
		"readyferry: flow/1\nname: reader\nintake: {kind: queue, queue: q}\nsteps: [{id: d, kind: deliver, to: out}]\n",
	)
	w.publish(
		"readyferry: flow/1\nname: filler\nintake: {kind: webhook, path: /fill, once: body.n}\nsteps: [{id: put, " +
			"kind: deliver, to: {queue: q}}, {id: a, kind: answer, status: 201, text: 'got ${body.n}'}]\n",
	)
	for range 2 { // the duplicate is told the same
		a, err := w.post("/fill", `{"n":"7"}`)
		if err != nil || a.Status != 201 || string(a.Body) != "got 7" {
			t.Fatalf("%+v %v", a, err)
		}
	}
	w.until("it is sent once", func() bool { return len(w.out.got()) == 1 })
}

// Several flows that read one queue compete for its messages, each with its own
// number in flight (common practice).
func TestReadersOfOneQueueCompete(t *testing.T) { synctest.Test(t, testReadersOfOneQueueCompete) }

func testReadersOfOneQueueCompete(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "retry: {first: 20ms, growth: constant, cap: 20ms, spread: none, tries: 500, within: 1m}")
	for _, name := range []string{"left", "right"} {
		w.publish(
			"readyferry: flow/1\nname: " + name + "\nintake: {kind: queue, queue: q, in-flight: 2}\nsteps: [{id: d, " +
				"kind: deliver, to: out, path: '/" + name + "'}]\n",
		)
	}
	w.publish(
		"readyferry: flow/1\nname: filler\nintake: {kind: webhook, path: /fill}\nsteps: [{id: put, kind: deliver, to: {queue: q}}]\n",
	)
	answer := w.out.holds()
	for i := range 7 {
		w.accepted("/fill", fmt.Sprintf(`{"n":%d}`, i))
	}
	flights := func() (left, right int) {
		for flow, n := range map[string]*int{"left": &left, "right": &right} {
			rows, _ := w.store.Transactions(store.Filter{Flow: flow, Limit: 10})
			*n = len(rows)
		}
		return left, right
	}
	w.until("each has two in flight", func() bool { l, r := flights(); return l == 2 && r == 2 })
	if d, _ := w.store.QueueDepths(); d[0].InFlight != 4 || d[0].Depth != 3 {
		t.Errorf("%+v", d)
	}
	answer()
	w.until("all are worked on", func() bool { l, r := flights(); return l+r == 7 })
	w.until("the queue is empty", func() bool { d, _ := w.store.QueueDepths(); return len(d) == 0 })
}
