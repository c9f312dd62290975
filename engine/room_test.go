package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/run"
	"readyferry/store"
)

// refused gives how a message was refused, or nil.
func refused(w *world, path, body string) *run.RefusedError {
	_, err := w.post(path, body)
	var r *run.RefusedError
	if err != nil && !errors.As(err, &r) {
		w.t.Fatal(err)
	}
	return r
}

func TestNothingIsTakenWhileTheJournalIsTooLarge(t *testing.T) { synctest.Test(t, testNoRoom) }

func testNoRoom(t *testing.T) {
	out := &target{}
	w := start(t, t.TempDir(), out)
	w.connect("shop", "")
	w.publish(`readyferry: flow/1
name: f
retain: {days: forever, bytes: 1KiB}
intake: {kind: webhook, path: /f, format: json}
steps: [{id: shop, kind: deliver, to: shop, path: /}]
`)
	w.publish(`readyferry: flow/1
name: tick
intake: {kind: schedule, every: 10s, missed: once}
steps: []
`)
	first := w.accepted("/f", `{"n":0}`)
	w.becomes(first, store.Delivered)
	is := w.Intake.Room()
	if is.Short() || is.Journal <= 0 || is.Free <= 0 {
		t.Fatalf("%+v", is)
	}
	ticks := func() int { return len(w.bodies("tick")) }
	limits := store.RoomLimits{MaxJournal: is.Journal + 1<<20}
	if err := w.SetRoomLimits(context.Background(), limits); err != nil {
		t.Fatal(err)
	}
	n := 0
	noise := rand.NewChaCha8([32]byte{})
	send := func() *run.RefusedError {
		text := make([]byte, 100_000)
		_, _ = noise.Read(text)
		return refused(w, "/f", fmt.Sprintf(`{"n":%d,"text":"%x"}`, n, text))
	}
	var r *run.RefusedError
	for ; r == nil && n < 1000; n++ {
		if r = send(); r != nil { // once what is written ahead is written back, there may be room again
			time.Sleep(7 * time.Second)
			r = send()
		}
		time.Sleep(100 * time.Millisecond)
	}
	if r == nil || r.Status != 429 || r.RetrySeconds() == 0 || !strings.Contains(r.Detail, "the journal has") {
		t.Fatalf("after %d messages: %+v", n, r)
	}
	before := ticks()
	time.Sleep(40 * time.Second)
	if now := ticks(); now > before {
		t.Errorf("a schedule made %d messages while nothing is taken in", now-before)
	}
	// What has ended goes, its room is given back, and messages are taken again.
	w.until("there is room again", func() bool { time.Sleep(time.Minute); now := w.Intake.Room(); return !now.Short() })
	if r := refused(w, "/f", `{"n":1}`); r != nil {
		t.Error(r)
	}
	time.Sleep(20 * time.Second)
	if ticks() == before {
		t.Error("the schedule does not go on")
	}
}

func TestAFlowTakesSoMuchInASecond(t *testing.T) { synctest.Test(t, testAFlowTakesSoMuch) }

func testAFlowTakesSoMuch(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.publish(
		"readyferry: flow/1\nname: slow\nlimits: {per-second: 2}\nintake: {kind: queue, queue: line}\nsteps: []\n",
	)
	w.publish(
		"readyferry: flow/1\nname: few\nlimits: {per-second: 5}\nintake: {kind: webhook, path: /few, format: json}\n" +
			"steps: [{id: on, kind: deliver, to: {queue: line}}]\n",
	)
	w.publish(
		"readyferry: flow/1\nname: small\nlimits: {bytes: 1KiB}\nintake: {kind: webhook, path: /small, format: json}\n" +
			"steps: []\n",
	)
	for round := range 3 {
		for i := range 5 {
			if r := refused(w, "/few", fmt.Sprintf(`{"n":%d}`, i)); r != nil {
				t.Fatal(round, i, r)
			}
		}
		if r := refused(w, "/few", `{"n":6}`); r == nil || r.Status != 429 || r.RetrySeconds() != 1 {
			t.Fatalf("the sixth in a second: %+v", r)
		}
		time.Sleep(time.Second)
	}
	large := fmt.Sprintf(`{"text":%q}`, strings.Repeat("x", 3000)) // larger than comes in a second: alone
	if r := refused(w, "/small", large); r != nil {
		t.Error(r)
	}
	if r := refused(w, "/small", `{"n":1}`); r == nil || r.Status != 429 {
		t.Errorf("one behind it: %+v", r)
	}
	time.Sleep(time.Second)
	if r := refused(w, "/small", `{"n":1}`); r != nil {
		t.Error(r)
	}
	// 15 messages came within 3 seconds into a queue whose reader takes two in a second.
	began := len(w.bodies("slow"))
	time.Sleep(2 * time.Second)
	if now := len(w.bodies("slow")) - began; now < 2 || now > 6 {
		t.Errorf("the reader took %d in two seconds", now)
	}
	w.until("all are taken", func() bool { time.Sleep(time.Second); return len(w.bodies("slow")) == 15 })
}
