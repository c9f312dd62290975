package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// breakVersion leaves the versions of a flow as no program can read them.
func breakVersion(t *testing.T, dir, flow string) {
	t.Helper()
	tampered(dir)
	db, err := sql.Open("sqlite3", filepath.Join(dir, store.File))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("UPDATE versions SET document = 'readyferry: flow/99' WHERE flow = ?", flow); err != nil {
		t.Fatal(err)
	}
}

var jsonHeaders = []message.Header{{Name: "Content-Type", Value: "application/json"}}

// A try whose result cannot go on with its message is recorded, and a dead letter says
// so: it is not made again, and holds up nobody else.
func TestATryOfAVersionThatCannotBeReadIsRecorded(t *testing.T) {
	synctest.Test(t, testATryOfAVersionThatCannotBeRead)
}

func testATryOfAVersionThatCannotBeRead(t *testing.T) {
	dir, out := t.TempDir(), &target{}
	w := start(t, dir, out)
	w.connect("out", fast)
	w.publish(
		"readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: [{id: d, kind: deliver, to: out}, " +
			"{id: e, kind: deliver, to: out, path: /second}]\n",
	)
	out.status(503)
	id := w.accepted("/f", `{}`)
	w.becomes(id, store.Waiting)
	w.close()
	breakVersion(t, dir, "f")
	out.status(200)
	again := start(t, dir, out)
	again.publish(
		"readyferry: flow/1\nname: g\nintake: {kind: webhook, path: /g}\nsteps: [{id: d, kind: deliver, to: out}]\n",
	)
	again.becomes(id, store.DeadLetter)
	if l := again.letter(id); l.Phase != "version" ||
		!strings.Contains(l.Reason, "version 1 of f: it can no longer be read") {
		t.Errorf("%+v", l)
	}
	again.becomes(again.accepted("/g", `{}`), store.Delivered)
	calls := len(out.got())
	again.close()
	third := start(t, dir, out)
	time.Sleep(time.Minute)
	if n := len(out.got()); n != calls {
		t.Errorf("%d more tries after a restart", n-calls)
	}
	if d, err := third.store.Deliveries(id); err != nil || d[0].State != store.Done {
		t.Errorf("%+v, %v", d, err)
	}
}

// How far a poll has come is not forgotten because its flow's version cannot be read
// once.
func TestAMarkOutlivesAVersionThatCannotBeRead(t *testing.T) { synctest.Test(t, testAMarkOutlives) }

func testAMarkOutlives(t *testing.T) {
	dir := t.TempDir()
	w := start(t, dir, &target{})
	w.publish("readyferry: flow/1\nname: f\nintake: {kind: schedule, every: 1h}\nsteps: []\n")
	if err := w.SetMark("f", []byte(`"here"`)); err != nil {
		t.Fatal(err)
	}
	w.close()
	breakVersion(t, dir, "f")
	again := start(t, dir, &target{})
	again.publish("readyferry: flow/1\nname: other\nintake: {kind: webhook, path: /o}\nsteps: []\n")
	if c, err := again.store.Clock("f"); err != nil || string(c.Mark) != `"here"` {
		t.Errorf("%+v, %v", c, err)
	}
}

const onceDoc = `
readyferry: flow/1
name: f
intake: {kind: webhook, path: /f, once: 'headers["request-id"]'%s}
steps:
  - {id: d, kind: deliver, to: out}
`

// While the first message is a dead letter a repeat joins it; its failure is not what a
// repeat gets for ever, and after it was given up the next one is taken anew.
func TestAFailureIsNotRemembered(t *testing.T) { synctest.Test(t, testAFailureIsNotRemembered) }

func testAFailureIsNotRemembered(t *testing.T) {
	for _, finished := range []bool{true, false} {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", fast)
		more := ""
		if finished {
			more = ", answer: finished"
		}
		w.publish(fmt.Sprintf(onceDoc, more))
		w.out.status(422)
		a, err := w.post("/f", `{"n":1}`, "request-id: A")
		if finished && (err != nil || a.Status != 500) {
			t.Fatalf("%+v, %v", a, err)
		}
		w.until("it is dead", func() bool { n, _ := w.store.CountOpenLetters(); return n == 1 })
		letters, _ := w.store.OpenLetters("", "", nil, 5)
		first := letters[0]
		a, err = w.post("/f", `{"n":1}`, "request-id: A")
		var refused *run.RefusedError
		switch {
		case finished && (!errors.As(err, &refused) || refused.Status != 503 ||
			!strings.Contains(refused.Detail, first.Tx.String())):
			t.Errorf("%+v, %v", a, err)
		case !finished && (err != nil || a.Status != 202 || !strings.Contains(string(a.Body), first.Tx.String())):
			t.Errorf("%+v, %v", a, err)
		}
		w.out.status(200)
		if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{first.ID}}); err != nil {
			t.Fatal(err)
		}
		w.becomes(first.Tx, store.Delivered)
		a, err = w.post("/f", `{"n":1}`, "request-id: A")
		if want := map[bool]int{true: 200, false: 202}[finished]; err != nil || a.Status != want ||
			!strings.Contains(string(a.Body), first.Tx.String()) {
			t.Errorf("once it was mended: %+v, %v", a, err)
		}
		w.out.status(422)
		_, _ = w.post("/f", `{"n":2}`, "request-id: B")
		w.until("it is dead", func() bool { n, _ := w.store.CountOpenLetters(); return n == 1 })
		letters, _ = w.store.OpenLetters("", "", nil, 5)
		if err := w.Discard(context.Background(), journal.Decision{IDs: []store.ID{letters[0].ID}}); err != nil {
			t.Fatal(err)
		}
		w.out.status(200)
		a, err = w.post("/f", `{"n":2}`, "request-id: B")
		if err != nil || strings.Contains(string(a.Body), letters[0].Tx.String()) {
			t.Errorf("after a discard: %+v, %v", a, err)
		}
		w.close()
	}
}

// A repeat in a flow whose caller waits gets the first one's answer, also when that
// has yet to come.
func TestARepeatInACalledFlowGetsTheFirstAnswer(t *testing.T) {
	synctest.Test(t, testARepeatInACalledFlow)
}

func testARepeatInACalledFlow(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(
		"readyferry: flow/1\nname: inner\nintake: {kind: subflow, once: body.k}\nsteps: [{id: h, kind: hold, for: " +
			"3s}, {id: a, kind: answer, status: 201, text: '{\"u\": \"${uuid()}\"}'}]\n",
	)
	w.publish(
		"readyferry: flow/1\nname: outer\nintake: {kind: webhook, path: /outer, answer: finished}\nsteps: [{id: s, " +
			"kind: subflow, flow: inner, wait: true, within: 30s}, {id: a, kind: answer, text: '${replies.s.body.u}'}]\n",
	)
	answers := make(chan string, 3)
	for range 2 {
		go func() {
			a, err := w.post("/outer", `{"k": "x"}`)
			answers <- fmt.Sprintf("%s %v", a.Body, err)
		}()
	}
	one, two := <-answers, <-answers
	a, err := w.post("/outer", `{"k": "x"}`)
	if three := fmt.Sprintf("%s %v", a.Body, err); one != two || three != one || !strings.HasSuffix(one, "<nil>") ||
		len(one) < 36 {
		t.Errorf("%s, %s, %s", one, two, three)
	}
}

// A caller hears at once that what it has called has failed, one dead letter stands for
// it, and sending that again calls anew.
func TestAFailedQuestionLeavesOneDeadLetter(t *testing.T) { synctest.Test(t, testAFailedQuestion) }

func testAFailedQuestion(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish("readyferry: flow/1\nname: deep\nintake: {kind: subflow}\nsteps: [{id: d, kind: deliver, to: out}]\n")
	w.publish(
		"readyferry: flow/1\nname: inner\nintake: {kind: queue, queue: q}\nsteps: [{id: c, kind: subflow, flow: deep, " +
			"wait: true, within: 1h}, {id: r, kind: deliver, to: {queue: '${headers[\"reply-to\"]}'}, headers: {correlation-id: " +
			"'${headers[\"correlation-id\"]}'}}]\n",
	)
	w.publish("readyferry: flow/1\nname: outer\nintake: {kind: webhook, path: /outer}\nsteps: [{id: s, " +
		"kind: ask, of: {queue: q}, within: 1h}, {id: d, kind: deliver, to: out, path: /done}]\n")
	w.out.status(422)
	began := time.Now()
	id := w.accepted("/outer", `{}`)
	w.becomes(id, store.DeadLetter)
	if took := time.Since(began); took > time.Minute {
		t.Errorf("it heard after %s", took)
	}
	letters, err := w.store.OpenLetters("", "", nil, 10)
	if err != nil || len(letters) != 1 || letters[0].Tx != id ||
		!strings.Contains(letters[0].Reason, "the flow deep failed at d: out answered 422") {
		t.Fatalf("%+v, %v", letters, err)
	}
	w.out.status(200)
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{letters[0].ID}}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
}

// What a person has mended outside is seen when a message is sent again as it is, and a
// preview says the same as the resend does, or what it cannot know.
func TestAResendReadsAnew(t *testing.T) { synctest.Test(t, testAResendReadsAnew) }

func testAResendReadsAnew(t *testing.T) {
	ctx := context.Background()
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.table("name: places\n", "code,path\nELMS,old\n")
	w.publish(`
readyferry: flow/1
name: f
intake: {kind: webhook, path: /f}
steps:
  - {id: a, kind: ask, of: out, path: /ask}
  - {id: l, kind: lookup, in: places, key: body.branch, into: place}
  - {id: d, kind: deliver, to: out, path: '/${vars.place.path}/${replies.a.body.shelf}'}
`)
	shelf := "1"
	w.out.say(func(_ int, c call) (reply, error) {
		if c.path == "/ask" {
			return reply{Status: 200, Headers: jsonHeaders, Body: []byte(`{"shelf": "` + shelf + `"}`)}, nil
		}
		if strings.HasSuffix(c.path, "/2") && strings.HasPrefix(c.path, "/new") {
			return reply{Status: 200}, nil
		}
		return reply{Status: 404}, nil
	})
	id := w.accepted("/f", `{"branch": "ELMS"}`)
	w.becomes(id, store.DeadLetter)
	if _, err := w.Import(ctx, "places", "csv", []byte("code,path\nELMS,new\n"), true, false); err != nil {
		t.Fatal(err)
	}
	shelf = "2"
	d := journal.Decision{IDs: []store.ID{w.letter(id).ID}}
	r, err := w.Preview(d)
	if err != nil || len(r[0].Rehearsal.Unknown) != 1 || r[0].Rehearsal.Unknown[0].Path != "a" ||
		len(r[0].Rehearsal.Deliveries) != 1 {
		t.Fatalf("%+v, %v", r[0].Rehearsal, err)
	}
	d.Replies = map[string]want.Effect{"a": catalog.Reply{Status: 200, Body: `{"shelf": "2"}`,
		Headers: map[string]string{"Content-Type": "application/json"}}.Effect()}
	if r, err = w.Preview(d); err != nil || len(r[0].Rehearsal.Unknown) != 0 {
		t.Fatalf("%+v, %v", r, err)
	}
	shown := r[0].Rehearsal.Deliveries[len(r[0].Rehearsal.Deliveries)-1].Request.URL
	if _, err := w.Resend(ctx, d); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
	calls := w.out.got()
	if sent := calls[len(calls)-1].path; sent != shown || sent != "/new/2" {
		t.Errorf("sent to %s, shown as %s", sent, shown)
	}
}

// A message that is kept as a sample rehearses to what happened.
func TestAKeptSampleRehearsesToWhatHappened(t *testing.T) { synctest.Test(t, testAKeptSample) }

func testAKeptSample(t *testing.T) {
	ctx := context.Background()
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.table("name: places\n", "code,path\nELMS,/old\n")
	w.publish(`
readyferry: flow/1
name: f
intake: {kind: webhook, path: '/f/{portal}'}
steps:
  - {id: a, kind: ask, of: out, path: '/ask/${params.portal}/${headers["x-a"]}'}
  - {id: l, kind: lookup, in: places, key: body.branch, into: place}
  - id: w
    kind: route
    ways:
      - {name: two, when: 'replies.a.body.shelf == "2"', steps: [{id: n, kind: note, text: '${vars.place.path} ${replies.a.status}'}]}
    otherwise: {steps: []}
`)
	w.out.say(func(int, call) (reply, error) {
		return reply{Status: 203, Headers: jsonHeaders, Body: []byte(`{"shelf": "2"}`)}, nil
	})
	id := w.accepted("/f/kiosk", `{"branch": "ELMS"}`, "x-a: 7")
	w.becomes(id, store.Delivered)
	was, err := w.Inspect(id)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Import(ctx, "places", "csv", []byte("code,path\nELMS,/new\n"), true, false); err != nil {
		t.Fatal(err)
	}
	s, err := w.KeepTransaction(ctx, id, "kept")
	if err != nil || s.Params["portal"] != "kiosk" || s.Headers["x-a"] != "7" || s.Replies["a"].Status != 203 {
		t.Fatalf("%+v, %v", s, err)
	}
	all, _, err := w.RehearseSamples("f", nil, []catalog.Sample{*s})
	if err != nil || len(all) != 1 || all[0].State != was.State || len(all[0].Trace) != len(was.Trace) {
		t.Fatalf("%+v, %v", all, err)
	}
	for i, e := range all[0].Trace {
		if e.Path != was.Trace[i].Path || i > 0 && e.Outcome != was.Trace[i].Outcome {
			t.Errorf("%s: %s, it was %s: %s", e.Path, e.Outcome, was.Trace[i].Path, was.Trace[i].Outcome)
		}
	}
	if len(all[0].Notes) != 1 || all[0].Notes[0].Text != "/old 203" {
		t.Errorf("%+v", all[0].Notes)
	}
}
