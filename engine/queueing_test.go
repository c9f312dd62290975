package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/engine/journal"
	"readyferry/store"
)

// queued is a world in which /fill puts into the queue q, which reader reads.
func queued(t *testing.T, settings string) *world {
	t.Helper()
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "")
	w.publish(
		"readyferry: flow/1\nname: reader\nintake: {kind: queue, queue: q, in-flight: 1}\nsteps: [{id: d, kind: deliver, to: out}]\n",
	)
	w.publish(
		"readyferry: flow/1\nname: filler\nintake: {kind: webhook, path: /fill, reference: body.ref}\nsteps: [{id: " +
			"put, kind: deliver, to: {queue: q" + settings + "}}]\n",
	)
	return w
}

func (w *world) pauseQueue(pause bool) {
	w.t.Helper()
	if err := w.PauseQueue(context.Background(), "q", pause); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) depth(queue string) int64 {
	d, err := w.store.QueueDepths()
	if err != nil {
		w.t.Fatal(err)
	}
	for _, q := range d {
		if q.Queue == queue {
			return q.Depth
		}
	}
	return 0
}

func TestAPausedQueueHandsOutNothingAndThenTheHighestPriorityFirst(t *testing.T) {
	synctest.Test(t, testAPausedQueueHandsOutNothingAndThenTheHighestPriorityFirst)
}

func testAPausedQueueHandsOutNothingAndThenTheHighestPriorityFirst(t *testing.T) {
	w := queued(t, ", priority: body.p")
	w.pauseQueue(true)
	for i, p := range []int{4, 0, 9, 4} {
		w.becomes(w.accepted("/fill", fmt.Sprintf(`{"ref":"P-%d","p":%d}`, i, p)), store.Delivered)
	}
	time.Sleep(50 * time.Millisecond)
	if got := w.out.got(); len(got) != 0 || w.depth("q") != 4 {
		t.Fatalf("%d calls, depth %d", len(got), w.depth("q"))
	}
	w.pauseQueue(false)
	w.until("all are delivered", func() bool { return len(w.out.got()) == 4 })
	var order []string
	for _, c := range w.out.got() {
		order = append(order, c.body[8:11])
	}
	if in, out := w.QueueRate("q"); in != 4 || out != 4 {
		t.Errorf("%d in and %d out in the last minute", in, out)
	}
	if strings.Join(order, " ") != "P-2 P-0 P-3 P-1" {
		t.Errorf("taken in the order %v", order)
	}
	id := w.accepted("/fill", `{"ref":"P-9","p":"high"}`)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Phase != "to/priority" ||
		!strings.Contains(l.Reason, `body.p is "high"; a priority is a whole number from 0 to 9`) {
		t.Errorf("%+v", l)
	}
}

func TestAMessageThatWaitsTooLongIsADeadLetterAndCanBeResent(t *testing.T) {
	synctest.Test(t, testAMessageThatWaitsTooLongIsADeadLetterAndCanBeResent)
}

func testAMessageThatWaitsTooLongIsADeadLetterAndCanBeResent(t *testing.T) {
	w := queued(t, ", expires: 80ms")
	w.pauseQueue(true)
	w.becomes(w.accepted("/fill", `{"ref":"E-1"}`), store.Delivered)
	var dead store.Transaction
	w.until("it expires", func() bool {
		rows, _ := w.store.Transactions(store.Filter{Flow: "reader", Limit: 1})
		if len(rows) == 1 {
			dead = rows[0]
		}
		return len(rows) == 1
	})
	if dead.State != store.DeadLetter || dead.Reference != "E-1" ||
		dead.Reason != "it expired: it waited longer than 80ms in the queue q" ||
		w.depth("q") != 0 {
		t.Fatalf("%+v", dead)
	}
	if l := w.letter(dead.ID); l.Phase != "expiry" || l.Class != "target" {
		t.Errorf("%+v", l)
	}
	if r, err := w.Inspect(dead.ID); err != nil || len(r.Trace) != 0 {
		t.Errorf("%+v %v", r, err)
	}
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(dead.ID).ID}}); err != nil {
		t.Fatal(err)
	}
	w.becomes(dead.ID, store.Delivered)
	if r, err := w.Inspect(dead.ID); err != nil || len(r.Trace) != 1 || len(w.out.got()) != 1 {
		t.Errorf("%+v %v", r, err)
	}
}

func TestMessagesAreMovedAndPurged(t *testing.T) { synctest.Test(t, testMessagesAreMovedAndPurged) }

func testMessagesAreMovedAndPurged(t *testing.T) {
	w := queued(t, "")
	w.publish(
		"readyferry: flow/1\nname: other\nintake: {kind: queue, queue: r}\nsteps: [{id: d, kind: deliver, to: out, path: /other}]\n",
	)
	w.pauseQueue(true)
	for i := range 5 {
		w.becomes(w.accepted("/fill", fmt.Sprintf(`{"ref":"M-%d"}`, i)), store.Delivered)
	}
	ctx := context.Background()
	for _, to := range []string{"q", "nobody"} {
		if n, err := w.MoveMessages(ctx, "q", to, nil); n != 0 || !errors.Is(err, ErrDecision) {
			t.Errorf("to %s: %d %v", to, n, err)
		}
	}
	items, err := w.store.Peek("q", 0, 10)
	if err != nil || len(items) != 5 {
		t.Fatal(items, err)
	}
	if n, err := w.MoveMessages(ctx, "q", "r", []int64{items[1].N, items[2].N, 9999}); n != 2 || err != nil {
		t.Errorf("%d %v", n, err)
	}
	w.until("the moved ones are delivered by the other flow", func() bool { return len(w.out.got()) == 2 })
	for _, c := range w.out.got() {
		if c.path != "/other" || !strings.Contains(c.body, "M-1") && !strings.Contains(c.body, "M-2") {
			t.Errorf("%+v", c)
		}
	}
	if n, err := w.PurgeMessages(ctx, "q", []int64{items[0].N}, "a test"); n != 1 || err != nil {
		t.Errorf("%d %v", n, err)
	}
	if n, err := w.PurgeMessages(ctx, "q", nil, ""); n != 2 || err != nil || w.depth("q") != 0 {
		t.Errorf("%d %v", n, err)
	}
	rows, err := w.store.Transactions(store.Filter{Flow: "reader", Limit: 10})
	if err != nil || len(rows) != 3 {
		t.Fatalf("every purged message leaves a transaction: %+v %v", rows, err)
	}
	for _, tx := range rows {
		if tx.State != store.TurnedAway || tx.FinishedAt == nil ||
			tx.Reason != "purged from the queue q" && tx.Reason != "purged from the queue q: a test" {
			t.Errorf("%+v", tx)
		}
		if r, err := w.Inspect(tx.ID); err != nil || len(r.Trace) != 0 || r.Intake.Outcome != tx.Reason {
			t.Errorf("%+v %v", r, err)
		}
	}
	w.pauseQueue(false)
	time.Sleep(30 * time.Millisecond)
	if len(w.out.got()) != 2 {
		t.Error("a purged message was delivered")
	}
}

func (w *world) pauseQueueNamed(queue string, pause bool) {
	w.t.Helper()
	if err := w.PauseQueue(context.Background(), queue, pause); err != nil {
		w.t.Fatal(err)
	}
}
