package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/flow"
	"readyferry/engine/journal"
	"readyferry/engine/perform"
	"readyferry/store"
)

const scans = "readyferry: flow/1\nname: scans\nintake: {kind: webhook, path: /scan, reference: " +
	"body.ref}\nsteps: [{id: put, kind: deliver, to: {topic: returns}}]\n"

func topicReader(name, settings, to string) string {
	return fmt.Sprintf(
		"readyferry: flow/1\nname: %s\nintake: {kind: topic, topic: returns%s}\nsteps: [{id: d, kind: deliver, to: %s, path: '/%s'}]\n",
		name,
		settings,
		to,
		name,
	)
}

func (w *world) scan(n int) {
	w.t.Helper()
	w.becomes(w.accepted("/scan", fmt.Sprintf(`{"ref":"S-%d"}`, n)), store.Delivered)
}

// heardBy lists the references that each reader sent on.
func (w *world) heardBy(name string) []string {
	var out []string
	for _, c := range w.out.got() {
		if c.path == "/"+name {
			out = append(out, strings.Trim(strings.TrimPrefix(c.body, `{"ref":"`), `"}`))
		}
	}
	slices.Sort(out)
	return out
}

// Two subscriptions each get every message, two readers of one subscription
// share them (common practice).
func TestSubscriptionsEachGetEverythingAndReadersShare(t *testing.T) {
	synctest.Test(t, testSubscriptionsEachGetEverythingAndReadersShare)
}

func testSubscriptionsEachGetEverythingAndReadersShare(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(scans)
	w.publish(topicReader("alone", "", "out"))
	w.publish(topicReader("left", ", subscription: pair, in-flight: 1", "out"))
	w.publish(topicReader("right", ", subscription: pair, in-flight: 1", "out"))
	var all []string
	for i := range 9 {
		w.scan(i)
		all = append(all, fmt.Sprintf("S-%d", i))
	}
	w.until("all is read", func() bool { return len(w.out.got()) == 18 })
	if got := w.heardBy("alone"); !slices.Equal(got, all) {
		t.Errorf("alone got %v", got)
	}
	pair := append(w.heardBy("left"), w.heardBy("right")...)
	slices.Sort(pair)
	if !slices.Equal(pair, all) {
		t.Errorf("the pair got %v", pair)
	}
	w.until(
		"9 in, 9 out",
		func() bool { return w.TopicRate("returns") == 9 && w.SubscriptionRate("returns", "pair") == 9 },
	)
}

func TestASubscriptionBeginsWhereItSays(t *testing.T) {
	synctest.Test(t, testASubscriptionBeginsWhereItSays)
}

func testASubscriptionBeginsWhereItSays(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(scans)
	w.scan(0)
	w.scan(1)
	time.Sleep(5 * time.Millisecond)
	at := w.Engine.Journal.Now().Format(time.RFC3339Nano)
	time.Sleep(5 * time.Millisecond)
	w.scan(2)
	for name, begin := range map[string]string{
		"early": "", "late": ", begin: latest", "third": ", begin: {time: '" + at + "'}", "second": ", begin: {offset: 1}",
		"beyond": ", begin: {offset: 99}",
	} {
		w.publish(topicReader(name, begin, "out"))
	}
	w.scan(3)
	w.until("all is read", func() bool { return len(w.out.got()) == 4+1+2+3+1 })
	for name, want := range map[string]string{"early": "S-0 S-1 S-2 S-3", "late": "S-3", "third": "S-2 S-3",
		"second": "S-1 S-2 S-3", "beyond": "S-3"} {
		if got := strings.Join(w.heardBy(name), " "); got != want {
			t.Errorf("%s got %s, want %s", name, got, want)
		}
	}
	// Rewound, it reads again; the others do not notice.
	one := int64(1)
	if at, err := w.Rewind(context.Background(), "returns", "late", flow.Begin{Offset: &one}); err != nil || at != 1 {
		t.Fatal(at, err)
	}
	w.until("late reads again", func() bool { return len(w.heardBy("late")) == 4 })
	nine := int64(9)
	if _, err := w.Rewind(context.Background(), "returns", "late", flow.Begin{Offset: &nine}); !errors.Is(
		err,
		ErrDecision,
	) ||
		!strings.Contains(err.Error(), "holds the offsets from 0 to 3") {
		t.Error(err)
	}
	if err := w.Unsubscribe(context.Background(), "returns", "late"); !errors.Is(err, ErrInUse) {
		t.Error(err)
	}
	w.until(
		"all of late has ended, and it goes",
		func() bool { return w.Delete(context.Background(), "late", false) == nil },
	)
	if err := w.Unsubscribe(context.Background(), "returns", "late"); err != nil {
		t.Error(err)
	}
}

// A topic that nobody reads keeps the message and counts a warning.
func TestATopicThatNobodyReadsIsAWarning(t *testing.T) {
	synctest.Test(t, testATopicThatNobodyReadsIsAWarning)
}

func testATopicThatNobodyReadsIsAWarning(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	_, findings, err := w.SaveDraft(context.Background(), "scans", []byte(scans), nil)
	if err != nil ||
		!slices.ContainsFunc(
			findings,
			func(f flow.Finding) bool { return f.Code == "topic-unread" && f.Level == flow.Warning },
		) {
		t.Fatalf("%v %v", findings, err)
	}
	w.publish(scans)
	id := w.accepted("/scan", `{"ref":"S-0"}`)
	w.becomes(id, store.Delivered)
	topics, err := w.store.Topics()
	if err != nil || len(topics) != 1 || topics[0].Unheard != 1 {
		t.Errorf("%+v %v", topics, err)
	}
	r, err := w.Inspect(id)
	if err != nil || r.Trace[0].Outcome != "put, nobody reads it" || len(r.Notes) != 1 ||
		r.Notes[0].Level != "warning" {
		t.Errorf("%+v %v", r, err)
	}
	w.publish(topicReader("early", "", "out"))
	w.until("it is read after all", func() bool { return len(w.out.got()) == 1 })
}

// What is in flight when the process ends goes on after the next start, and
// nothing is taken twice.
func TestATopicSurvivesARestart(t *testing.T) { synctest.Test(t, testATopicSurvivesARestart) }

func testATopicSurvivesARestart(t *testing.T) {
	dir, out := t.TempDir(), &target{}
	w := start(t, dir, out)
	w.connect("out", "retry: {first: 20ms, growth: constant, cap: 20ms, spread: none, tries: 500, within: 1m}")
	w.publish(scans)
	w.publish(topicReader("alone", ", in-flight: 2", "out"))
	answer := out.holds()
	for i := range 5 {
		w.scan(i)
	}
	w.until("two are in flight", func() bool { f, _ := w.store.TopicFlights(); return len(f) == 1 && f[0].N == 2 })
	w.close()
	w = start(t, dir, out)
	w.until(
		"two are in flight again",
		func() bool { f, _ := w.store.TopicFlights(); return len(f) == 1 && f[0].N == 2 },
	)
	answer()
	w.until("nothing is in flight", func() bool {
		f, _ := w.store.TopicFlights()
		rows, _ := w.store.Transactions(store.Filter{Flow: "alone", Limit: 10})
		return len(f) == 0 && len(rows) == 5
	})
}

func TestRetentionNeverDropsTheUnreadUnlessTold(t *testing.T) {
	synctest.Test(t, testRetentionNeverDropsTheUnreadUnlessTold)
}

func testRetentionNeverDropsTheUnreadUnlessTold(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(scans)
	w.publish(topicReader("alone", "", "out"))
	if err := w.Pause(context.Background(), "alone", true, false); err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		w.scan(i)
	}
	kept := func() int { rows, _ := w.store.ReadLog("returns", 0, false, 10); return len(rows) }
	small := perform.Retention{KeepBytes: 1}
	if err := w.SetRetention(context.Background(), "returns", small); err != nil || kept() != 3 {
		t.Errorf("%d kept, %v", kept(), err)
	}
	small.DropUnread = true
	if err := w.SetRetention(context.Background(), "returns", small); err != nil || kept() != 0 {
		t.Errorf("%d kept, %v", kept(), err)
	}
	subs, err := w.store.Subscriptions("returns")
	if err != nil || len(subs) != 1 || subs[0].Missed != 3 || subs[0].Position != 3 {
		t.Errorf("%+v %v", subs, err)
	}
	if err := w.SetRetention(context.Background(), "returns", perform.Retention{KeepFor: -1}); !errors.Is(
		err,
		ErrDecision,
	) {
		t.Error(err)
	}
}

func TestAFullQueueRefusesAndLosesNothing(t *testing.T) {
	synctest.Test(t, testAFullQueueRefusesAndLosesNothing)
}

func testAFullQueueRefusesAndLosesNothing(t *testing.T) {
	w := queued(t, "")
	w.pauseQueue(true)
	if err := w.LimitQueue(context.Background(), "q", 2); err != nil {
		t.Fatal(err)
	}
	for i := range 2 {
		w.becomes(w.accepted("/fill", fmt.Sprintf(`{"ref":"F-%d"}`, i)), store.Delivered)
	}
	id := w.accepted("/fill", `{"ref":"F-2"}`)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Phase != "put" ||
		l.Reason != "the queue q is full: 2 messages wait in it, and its limit is 2" {
		t.Errorf("%+v", l)
	}
	w.pauseQueue(false)
	w.until("the queue is read", func() bool { return w.depth("q") == 0 })
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(id).ID}}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
	w.until("all are delivered", func() bool { return len(w.out.got()) == 3 })
	if err := w.LimitQueue(context.Background(), "q", 0); !errors.Is(err, ErrDecision) {
		t.Error(err)
	}
}

// A queue takes what finds room, and says how many that were.
func TestMessagesAreMovedAsFarAsThereIsRoom(t *testing.T) {
	synctest.Test(t, testMessagesAreMovedAsFarAsThereIsRoom)
}

func testMessagesAreMovedAsFarAsThereIsRoom(t *testing.T) {
	w := queued(t, "")
	w.publish(
		"readyferry: flow/1\nname: other\nintake: {kind: queue, queue: r}\nsteps: [{id: n, kind: note, text: x}]\n",
	)
	ctx := context.Background()
	for _, q := range []string{"q", "r"} {
		if err := w.PauseQueue(ctx, q, true); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 3 {
		w.becomes(w.accepted("/fill", fmt.Sprintf(`{"ref":"M-%d"}`, i)), store.Delivered)
	}
	if err := w.LimitQueue(ctx, "r", 2); err != nil {
		t.Fatal(err)
	}
	if n, err := w.MoveMessages(ctx, "q", "r", nil); n != 2 || !errors.Is(err, ErrDecision) ||
		!strings.Contains(err.Error(), "2 messages were moved before") ||
		w.depth("q") != 1 {
		t.Errorf("%d %v, %d left", n, err, w.depth("q"))
	}
	if err := w.LimitQueue(ctx, "r", 3); err != nil {
		t.Fatal(err)
	}
	if n, err := w.MoveMessages(ctx, "q", "r", nil); n != 1 || err != nil {
		t.Errorf("%d %v", n, err)
	}
}
