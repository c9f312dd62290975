package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"

	"readyferry/core/run"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Common practice: a plan of two repeats ends after the third try, and a resent
// dead letter that succeeds is gone from the list.
func TestGivingUpRepairingAndResending(t *testing.T) {
	synctest.Test(t, testGivingUpRepairingAndResending)
}

func testGivingUpRepairingAndResending(t *testing.T) {
	w := simpleWorld(t)
	w.out.status(503)
	id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
	tx := w.becomes(id, store.DeadLetter)
	if tx.Tries != 3 || tx.Reason != "out answered 503, given up after 3 tries" {
		t.Errorf("%+v", tx)
	}
	l := w.letter(id)
	if l.Class != "target" || l.Path != "d" || l.Phase != "delivery" {
		t.Errorf("%+v", l)
	}
	ctx := context.Background()
	// A resend that fails adds to the same dead letter.
	if _, err := w.Resend(ctx, journal.Decision{IDs: []store.ID{l.ID}}); err != nil {
		t.Fatal(err)
	}
	w.until("it is dead again", func() bool { return w.letter(id).State == store.LetterOpen && len(w.out.got()) == 6 })
	w.out.say(nil)
	p, err := w.Preview(journal.Decision{IDs: []store.ID{l.ID}, Message: []byte(`{"v":2,"ref":"R"}`)})
	if err != nil || p[0].Rehearsal == nil || p[0].Rehearsal.Deliveries[0].Request.URL != "/x/2" {
		t.Fatalf("%+v %v", p, err)
	}
	if _, err := w.Resend(ctx, journal.Decision{IDs: []store.ID{l.ID}, Message: []byte(`{"v":2,"ref":"R"}`),
		Why: "asked by phone"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
	calls := w.out.got()
	if len(calls) != 7 || calls[6].path != "/x/2" {
		t.Fatalf("%+v", calls)
	}
	for _, c := range calls {
		if c.key != calls[0].key || c.key == "" {
			t.Errorf("the Idempotency-Key changed: %+v", calls)
		}
	}
	if n, _ := w.store.CountOpenLetters(); n != 0 {
		t.Errorf("%d open letters", n)
	}
	history, err := w.store.History(l.ID)
	if err != nil {
		t.Fatal(err)
	}
	var what []string
	for _, h := range history {
		what = append(what, h.What)
	}
	if got := strings.Join(what, " "); got != "died resent died resent resolved" {
		t.Error(got)
	}
	if _, err := w.Resend(ctx, journal.Decision{IDs: []store.ID{l.ID}}); !errors.Is(err, ErrDecision) {
		t.Errorf("a second resend: %v", err)
	}
	tries, err := w.store.Tries(mustID(t, run.DeliveryID(id.String(), "d")))
	if err != nil || len(tries) != 7 || tries[6].Round != 2 {
		t.Errorf("%d tries, %v", len(tries), err)
	}
}

func TestDiscardEndsAMessageWithAReason(t *testing.T) {
	synctest.Test(t, testDiscardEndsAMessageWithAReason)
}

func testDiscardEndsAMessageWithAReason(t *testing.T) {
	w := simpleWorld(t)
	id := w.accepted("/simple", `{"ref":"R"}`) // v is missing
	w.becomes(id, store.DeadLetter)
	l := w.letter(id)
	if l.Class != "data" || l.Phase != "fields/0 /v" || !strings.HasPrefix(l.Reason, "body.v is missing") {
		t.Errorf("%+v", l)
	}
	if err := w.Discard(context.Background(), journal.Decision{IDs: []store.ID{l.ID}, Why: "a test"}); err != nil {
		t.Fatal(err)
	}
	if tx := w.becomes(id, store.TurnedAway); !strings.HasPrefix(tx.Reason, "discarded: ") {
		t.Errorf("%+v", tx)
	}
	if len(w.out.got()) != 0 {
		t.Error("a discarded message was sent")
	}
}

func TestAPatchRepairsMany(t *testing.T) { synctest.Test(t, testAPatchRepairsMany) }

func testAPatchRepairsMany(t *testing.T) {
	w := simpleWorld(t)
	var ids []store.ID
	for i := range 3 {
		id := w.accepted("/simple", fmt.Sprintf(`{"ref":"R-%d","value":%d}`, i, i))
		w.becomes(id, store.DeadLetter)
		ids = append(ids, w.letter(id).ID)
	}
	causes, err := w.store.Causes(10)
	if err != nil || len(causes) != 1 || causes[0].N != 3 {
		t.Fatalf("%+v %v", causes, err)
	}
	bad := journal.Decision{IDs: ids, Patch: []byte(`[{"op":"move","from":"/nothing","path":"/v"}]`)}
	if _, err := w.Resend(context.Background(), bad); !errors.Is(err, ErrDecision) {
		t.Errorf("a patch that does not fit: %v", err)
	}
	if n, _ := w.store.CountOpenLetters(); n != 3 {
		t.Errorf("%d open letters after a refused resend", n)
	}
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: ids,
		Patch: []byte(`[{"op":"move","from":"/value","path":"/v"}]`)}); err != nil {
		t.Fatal(err)
	}
	w.until("all are delivered", func() bool { return len(w.out.got()) == 3 })
}

// A repaired message may take another way: the delivery of the old one is not
// wanted any more, and its dead letter is settled.
func TestARepairedMessageMayTakeAnotherWay(t *testing.T) {
	synctest.Test(t, testARepairedMessageMayTakeAnotherWay)
}

func testARepairedMessageMayTakeAnotherWay(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(twoWays)
	w.out.status(422)
	id := w.accepted("/ways", `{"to":"a"}`)
	w.becomes(id, store.DeadLetter)
	w.out.say(nil)
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(id).ID},
		Message: []byte(`{"to":"b"}`)}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
	w.until("the letter is resolved", func() bool { return w.letter(id).State == store.LetterResolved })
	d, err := w.store.Deliveries(id)
	if err != nil || len(d) != 2 || d[0].State != store.Withdrawn || d[1].State != store.Done {
		t.Errorf("%+v %v", d, err)
	}
	if calls := w.out.got(); len(calls) != 2 || calls[1].path != "/b" {
		t.Errorf("%+v", calls)
	}
}

// What a person has discarded does not come back when another way goes on.
func TestADiscardedWayStaysDiscarded(t *testing.T) { synctest.Test(t, testADiscardedWayStaysDiscarded) }

func testADiscardedWayStaysDiscarded(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(twoWays)
	hold := make(chan struct{})
	w.out.say(func(int, call) (reply, error) {
		<-hold
		return reply{Status: 200}, nil
	})
	id := w.accepted("/ways", `{"to":"a","bad":true}`)
	w.becomes(id, store.DeadLetter)
	if err := w.Discard(context.Background(), journal.Decision{IDs: []store.ID{w.letter(id).ID}}); err != nil {
		t.Fatal(err)
	}
	close(hold)
	w.becomes(id, store.TurnedAway)
	if l := w.letter(id); l.State != store.LetterDiscarded {
		t.Errorf("%+v", l)
	}
	if len(w.out.got()) != 1 {
		t.Error("the other way was not delivered")
	}
}
