package engine

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/message"
	"readyferry/engine/design"
	"readyferry/engine/journal"
	"readyferry/store"
)

const asking = `
readyferry: flow/1
name: front
intake: {kind: webhook, path: /front, answer: finished, wait: 20s}
steps:
  - {id: desk, kind: ask, of: {queue: asks}, within: 15s}
  - {id: reply, kind: answer, status: 200, text: '{"you": "${body.who}", "got": "${replies.desk.body.for}", "by": "${replies.desk.headers["x-by"]}"}'}
`

const replying = `
readyferry: flow/1
name: back
intake: {kind: queue, queue: asks, in-flight: 20}
steps:
  - {id: m, kind: map, fields: [{to: /for, from: body.who}]}
  - {id: r, kind: deliver, to: {queue: '${headers["reply-to"]}'}, headers: {correlation-id: '${headers["correlation-id"]}', x-by: back}}
`

// Correlation under load: 200 callers at once, none of whom may get the reply
// of another. That a reply is matched by its correlation id is common practice.
func TestTwoHundredCallersAtOnceGetTheirOwnReplies(t *testing.T) {
	synctest.Test(t, testTwoHundredCallersAtOnceGetTheirOwnReplies)
}

func testTwoHundredCallersAtOnceGetTheirOwnReplies(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.publish(replying0)
	w.publish(asking)
	w.publish(replying)
	var all sync.WaitGroup
	errs := make(chan string, 400)
	for i := range 200 {
		all.Go(func() {
			who := fmt.Sprintf("caller-%d", i)
			a, err := w.post("/front", `{"who": "`+who+`"}`)
			switch {
			case err != nil:
				errs <- err.Error()
			case a.Status != 200 || string(a.Body) != `{"you": "`+who+`", "got": "`+who+`", "by": "back"}`:
				errs <- fmt.Sprintf("%s: %d %s", who, a.Status, a.Body)
			}
		})
	}
	all.Wait()
	close(errs)
	for e := range errs {
		t.Error(e)
	}
	queues, err := w.store.QueueDepths()
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range queues {
		if q.Depth > 0 {
			t.Errorf("%+v", q)
		}
	}
}

// replying0 lets the flow that asks be published before the one that replies.
const replying0 = `
readyferry: flow/1
name: back
intake: {kind: queue, queue: asks}
steps: []
`

func TestARepliesThatIsLateOrComesTwiceIsKept(t *testing.T) {
	synctest.Test(t, testARepliesThatIsLateOrComesTwiceIsKept)
}

func testARepliesThatIsLateOrComesTwiceIsKept(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(replying0)
	front := strings.Replace(asking, "within: 15s", "within: 300ms", 1)
	w.publish(front)
	w.publish(strings.Replace(replying0, "steps: []", `steps:
  - {id: wait, kind: hold, for: 600ms}
  - {id: m, kind: map, fields: [{to: /for, from: body.who}]}
  - {id: r, kind: deliver, to: {queue: asks.replies}, headers: {correlation-id: '${headers["correlation-id"]}', x-by: back}}
  - {id: again, kind: deliver, to: {queue: asks.replies}, headers: {correlation-id: '${headers["correlation-id"]}'}}`,
		1))
	a, err := w.post("/front", `{"who": "x"}`)
	if err != nil || a.Status != 500 ||
		!strings.Contains(string(a.Body), "no reply came in asks.replies within 300ms") {
		t.Fatalf("%+v, %v", a, err)
	}
	depth := func() int64 {
		queues, err := w.store.QueueDepths()
		if err != nil {
			t.Fatal(err)
		}
		for _, q := range queues {
			if q.Queue == "asks.replies" {
				return q.Depth
			}
		}
		return 0
	}
	w.until("both replies are kept", func() bool { return depth() == 2 })
	rows, err := w.store.Transactions(store.Filter{Flow: "front", Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	// Sent again by a person it asks anew, with time enough now.
	w.publish(strings.Replace(asking, "within: 15s", "within: 5s", 1))
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(rows[0].ID).ID},
		Version: "live"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(rows[0].ID, store.Delivered)
	w.until("the second reply of the second question is kept, too", func() bool { return depth() == 3 })
}

func TestAskOverHTTPAndItsFailures(t *testing.T) { synctest.Test(t, testAskOverHTTPAndItsFailures) }

func testAskOverHTTPAndItsFailures(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("desk", fast)
	w.connect("out", fast)
	w.publish(`
readyferry: flow/1
name: a
intake: {kind: webhook, path: /a, answer: finished, wait: 5s}
steps:
  - {id: record, kind: ask, of: desk, path: '/members/${body.id}', retry: {first: 10ms, cap: 20ms, tries: 2, delivered: [404]}}
  - {id: known, kind: filter, keep: replies.record.status == 200, else: {answer: 404}, reason: 'there is no ${body.id}'}
  - {id: m, kind: map, fields: [{to: /name, from: replies.record.body.name}]}
  - {id: d, kind: deliver, to: out}
  - {id: r, kind: answer, status: 201}
`)
	w.out.say(func(_ int, c call) (reply, error) {
		switch {
		case c.to == "desk" && c.body != "":
			return reply{Status: 400}, nil // nothing is sent
		case c.path == "/members/1":
			return reply{
				Status:  200,
				Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
				Body:    []byte(`{"name": "maud"}`),
			}, nil
		case c.path == "/members/2":
			return reply{Status: 404}, nil
		case c.path == "/members/3":
			return reply{Status: 500}, nil
		}
		return reply{Status: 200}, nil
	})
	for body, want := range map[string]string{
		`{"id": 1}`: `201 {"name":"maud"}`,
		`{"id": 2}`: `404 {"type":"about:blank","title":"The message is turned away","status":404,"detail":"there is no 2"}`,
		`{"id": 3}`: `500 {"type":"about:blank","title":"The message could not be worked on","status":500,"detail":"desk answered 500, `,
	} {
		a, err := w.post("/a", body)
		if err != nil || !strings.HasPrefix(fmt.Sprintf("%d %s", a.Status, a.Body), want) {
			t.Errorf("%s: %d %s, %v", body, a.Status, a.Body, err)
		}
	}
}

func TestAFlowCallsAnother(t *testing.T) { synctest.Test(t, testAFlowCallsAnother) }

func testAFlowCallsAnother(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(`
readyferry: flow/1
name: screen
intake: {kind: subflow, format: json}
steps:
  - {id: fit, kind: filter, keep: body.age > 11, reason: too young}
  - {id: d, kind: deliver, to: out, path: /seen, when: body.?slow.orValue(false)}
  - {id: m, kind: map, start: body, fields: [{to: /screened, from: 'true'}]}
`)
	w.publish(`
readyferry: flow/1
name: caller
intake: {kind: webhook, path: /caller, answer: finished, wait: 5s}
steps:
  - {id: s, kind: subflow, flow: '${body.to}', wait: true, within: 3s}
  - {id: r, kind: answer, status: 200, text: '{"screened": ${replies.s.body.?screened.orValue(false)}}'}
`)
	for body, want := range map[string]string{
		`{"to": "screen", "age": 12}`:               `200 {"screened": true}`,
		`{"to": "screen", "age": 12, "slow": true}`: `200 {"screened": true}`,
		`{"to": "screen", "age": 3}`:                `500`,
		`{"to": "nowhere", "age": 3}`:               `500`,
	} {
		a, err := w.post("/caller", body)
		if err != nil || !strings.HasPrefix(fmt.Sprintf("%d %s", a.Status, a.Body), want) {
			t.Errorf("%s: %d %s, %v", body, a.Status, a.Body, err)
		}
	}
	letters := map[string]bool{}
	rows, err := w.store.Transactions(store.Filter{Flow: "caller", Limit: 10})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rows {
		letters[r.Reason] = true
		if called, err := w.store.Called(r.ID, 10); err != nil || len(called) > 1 {
			t.Errorf("%+v, %v", called, err)
		}
	}
	if !letters["the flow screen turned the message away: too young"] ||
		!letters[`there is no published flow "nowhere"`] {
		t.Errorf("%v", letters)
	}
}

func TestFlowsThatCallEachOtherInACircleAreRefused(t *testing.T) {
	synctest.Test(t, testFlowsThatCallEachOtherInACircleAreRefused)
}

func testFlowsThatCallEachOtherInACircleAreRefused(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	one := func(name, calls string) string {
		return "readyferry: flow/1\nname: " + name + "\nintake: {kind: subflow, format: json}\nsteps:\n  - {id: s, " +
			"kind: subflow, flow: '" + calls + "', wait: true, within: 2s}\n"
	}
	w.publish("readyferry: flow/1\nname: c\nintake: {kind: subflow}\nsteps: []\n")
	w.publish(one("b", "c"))
	w.publish(one("a", "b"))
	_, findings, err := w.SaveDraft(context.Background(), "c", []byte(one("c", "a")), nil)
	if err != nil || !strings.Contains(fmt.Sprint(findings), "in a circle: c → a → b → c") {
		t.Errorf("%v, %v", findings, err)
	}
	if _, _, err := w.Publish(context.Background(), "c", design.Word{}); err == nil {
		t.Error("a circle is published")
	}
	_, findings, _ = w.SaveDraft(context.Background(), "c", []byte(one("c", "c")), nil)
	if !strings.Contains(fmt.Sprint(findings), "the flow calls itself") {
		t.Errorf("%v", findings)
	}
	// A circle that only the content makes ends at the depth limit.
	w.publish(
		"readyferry: flow/1\nname: loop\nintake: {kind: webhook, path: /loop, answer: finished, wait: 5s}\nsteps:\n  " +
			"- {id: s, kind: subflow, flow: '${body.to}', wait: true, within: 2s}\n",
	)
	a, err := w.post("/loop", `{"to": "loop"}`)
	if err != nil {
		t.Fatal(err)
	}
	var deepest store.Transaction
	rows, _ := w.store.Transactions(store.Filter{Flow: "loop", Limit: 50})
	for _, r := range rows {
		if r.Depth > deepest.Depth {
			deepest = r
		}
	}
	first := rows[len(rows)-1] // the one that a person decides about
	if letters, err := w.store.OpenLetters("", "", nil, 10); err != nil || len(letters) != 1 ||
		letters[0].Tx != first.ID {
		t.Errorf("%+v, %v", letters, err)
	}
	if deepest.Depth != 8 || deepest.State != store.TurnedAway ||
		!strings.Contains(first.Reason, "8 flows have called each other in a row") || len(first.Reason) > 200 {
		t.Errorf("%d %s; %d transactions, the deepest %+v", a.Status, a.Body, len(rows), deepest)
	}
}

func TestTheCallerWaitsAtMostSoLong(t *testing.T) { synctest.Test(t, testTheCallerWaitsAtMostSoLong) }

func testTheCallerWaitsAtMostSoLong(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(`
readyferry: flow/1
name: slow
intake: {kind: webhook, path: /slow, answer: finished, wait: 100ms, once: body.id}
steps:
  - {id: h, kind: hold, for: 700ms}
  - {id: r, kind: answer, status: 200, text: 'done ${body.id}'}
`)
	a, err := w.post("/slow", `{"id": 1}`)
	if err != nil || a.Status != 202 {
		t.Fatalf("%+v, %v", a, err)
	}
	time.Sleep(50 * time.Millisecond)
	w.until("a repeat gets the answer of the first", func() bool {
		a, err := w.post("/slow", `{"id": 1}`)
		return err == nil && a.Status == 200 && string(a.Body) == "done 1"
	})
}

// An answer that is not what it says, and a query that gives too few rows, are
// dead letters; sent again, the question is asked anew.
func TestAnAnswerThatIsNotInItsFormatIsAskedAnewWhenAPersonSaysSo(t *testing.T) {
	synctest.Test(t, testAnAnswerThatIsNotInItsFormatIsAskedAnewWhenAPersonSaysSo)
}

func testAnAnswerThatIsNotInItsFormatIsAskedAnewWhenAPersonSaysSo(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("desk", fast)
	w.publish(`
readyferry: flow/1
name: f
intake: {kind: webhook, path: /f}
steps:
  - {id: a, kind: ask, of: desk, path: /m}
  - {id: n, kind: note, text: '${replies.a.body.x}'}
`)
	answer := func(body string) {
		w.out.say(func(int, call) (reply, error) {
			return reply{
				Status:  200,
				Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
				Body:    []byte(body),
			}, nil
		})
	}
	answer(`{"x": 1`)
	id := w.accepted("/f", `{}`)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Phase != "reply" ||
		!strings.HasPrefix(l.Reason, "the answer is not JSON, as its Content-Type says: ") {
		t.Errorf("%+v", l)
	}
	answer(`{"x": 1}`)
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(id).ID},
		Version: "own"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
	if n := len(w.out.got()); n != 2 {
		t.Errorf("it was asked %d times", n)
	}
}

// A dead letter stays until a person decides, also when another way of the same
// message moves on meanwhile.
func TestADeadLetterStaysWhenAnotherWayMovesOn(t *testing.T) {
	synctest.Test(t, testADeadLetterStaysWhenAnotherWayMovesOn)
}

func testADeadLetterStaysWhenAnotherWayMovesOn(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "retry: {first: 150ms, growth: constant, cap: 150ms, spread: none, tries: 5, within: 5s}")
	w.table("name: k\n", "k,v\na,1\n")
	w.publish(`
readyferry: flow/1
name: two
intake: {kind: webhook, path: /two}
steps:
  - id: r
    kind: route
    take: every
    ways:
      - {name: x, when: 'true', steps: [{id: f, kind: lookup, in: k, key: body.k}, {id: e, kind: deliver, to: out, path: /x}]}
      - {name: y, when: 'true', steps: [{id: d, kind: deliver, to: out, path: /y}]}
    otherwise: {steps: []}
`)
	w.out.say(func(n int, _ call) (reply, error) {
		if n == 1 {
			return reply{Status: 503}, nil
		}
		return reply{Status: 200}, nil
	})
	id := w.accepted("/two", `{"k": "b"}`)
	w.becomes(id, store.DeadLetter)
	if _, err := w.EditRows(context.Background(), "k", nil, []design.RowEdit{{Value: node(t,
		`{"k":"b","v":"2"}`)}}); err != nil {
		t.Fatal(err)
	}
	w.until("the other way is delivered", func() bool { return len(w.out.got()) == 2 })
	time.Sleep(100 * time.Millisecond)
	if l := w.letter(id); l.State != store.LetterOpen {
		t.Errorf("the letter is %s", l.State)
	}
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(id).ID},
		Version: "own"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
}
