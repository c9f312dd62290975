package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// target is an outside system: it notes what comes and answers as told.
type target struct {
	mu     sync.Mutex
	calls  []call
	answer func(n int, c call) (connect.Answer, error)
}

type call struct {
	to, key, path, body string
	at                  time.Time
}

func (f *target) Send(ctx context.Context, c *connect.Connection, r connect.Request) (connect.Answer, error) {
	f.mu.Lock()
	k := call{c.Name, r.ID, r.Path, string(r.Body), time.Now()}
	f.calls = append(f.calls, k)
	n := len(f.calls)
	answer := f.answer
	f.mu.Unlock()
	if answer == nil {
		return connect.Answer{Status: 200, Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}}, Body: fmt.Appendf(nil, `{"n":%d}`, n)}, nil
	}
	return answer(n, k)
}

func (f *target) say(answer func(n int, c call) (connect.Answer, error)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.answer = answer
}

func (f *target) status(code int) {
	f.say(func(int, call) (connect.Answer, error) { return connect.Answer{Status: code}, nil })
}

func (f *target) got() []call {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]call(nil), f.calls...)
}

type world struct {
	*Engine
	t   *testing.T
	dir string
	out *target
}

func start(t *testing.T, dir string, out *target) *world {
	t.Helper()
	s, err := store.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	reader, err := plan.NewReader()
	if err != nil {
		t.Fatal(err)
	}
	e, err := New(Config{Store: s, Reader: reader, Sender: out, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		t.Fatal(err)
	}
	if err := e.Start(); err != nil {
		t.Fatal(err)
	}
	w := &world{e, t, dir, out}
	t.Cleanup(w.close)
	return w
}

func (w *world) close() {
	w.Stop()
	if err := w.store.Close(); err != nil {
		w.t.Error(err)
	}
}

// fast is a retry plan that ends within a fifth of a second.
const fast = "retry: {first: 20ms, growth: constant, cap: 20ms, spread: none, tries: 3, within: 5s}"

func (w *world) connect(name, more string) {
	w.t.Helper()
	if _, err := w.SaveConnection(context.Background(), name, []byte("readyferry: connection/1\nname: "+name+"\nkind: http\naddress: http://127.0.0.1:1\n"+more), nil); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) publish(document string) {
	w.t.Helper()
	name := strings.Fields(strings.SplitN(document, "name:", 2)[1])[0]
	if _, _, err := w.SaveDraft(context.Background(), name, []byte(document), nil); err != nil {
		w.t.Fatal(err)
	}
	if _, _, err := w.Publish(context.Background(), name); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) post(path, body string, headers ...string) (*step.Answer, error) {
	w.t.Helper()
	in, _ := w.Find("POST", path)
	if in == nil {
		w.t.Fatalf("no flow at %s", path)
	}
	h := http.Header{"Content-Type": {"application/json"}}
	for _, p := range headers {
		k, v, _ := strings.Cut(p, ":")
		h.Set(k, strings.TrimSpace(v))
	}
	return w.Accept(context.Background(), in, Call{Method: "POST", Path: path, Header: h, Body: []byte(body)})
}

// accepted posts a message and gives its transaction.
func (w *world) accepted(path, body string, headers ...string) store.ID {
	w.t.Helper()
	a, err := w.post(path, body, headers...)
	if err != nil {
		w.t.Fatal(err)
	}
	var answer struct{ Transaction string }
	if err := json.Unmarshal(a.Body, &answer); err != nil || a.Status != 202 {
		w.t.Fatalf("%d %s", a.Status, a.Body)
	}
	id, err := store.ParseID(answer.Transaction)
	if err != nil {
		w.t.Fatal(err)
	}
	return id
}

func (w *world) until(what string, holds func() bool) {
	w.t.Helper()
	for range 1000 {
		if holds() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	w.t.Fatalf("it did not come to pass: %s", what)
}

func (w *world) becomes(id store.ID, state store.State) store.Transaction {
	w.t.Helper()
	var t store.Transaction
	w.until(state.String(), func() bool {
		t, _ = w.store.Transaction(id)
		return t.State == state
	})
	return t
}

func (w *world) letter(id store.ID) store.Letter {
	w.t.Helper()
	letters, err := w.store.LettersOf(id)
	if err != nil || len(letters) != 1 {
		w.t.Fatalf("%d dead letters, %v", len(letters), err)
	}
	return letters[0]
}

const simple = `
readyferry: flow/1
name: simple
intake: {kind: webhook, path: /simple, reference: body.ref, order: 'string(body.?order.orValue(""))'}
steps:
  - {id: m, kind: map, fields: [{to: /v, from: body.v}, {to: /key, from: uuid()}, {to: /at, from: string(now())}]}
  - {id: d, kind: deliver, to: out, path: '/x/${body.v}'}
  - {id: after, kind: note, text: 'answered ${replies.d.status}'}
`

func simpleWorld(t *testing.T) *world {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(simple)
	return w
}

func TestAMessageIsDelivered(t *testing.T) {
	w := simpleWorld(t)
	id := w.accepted("/simple", `{"v":7,"ref":"R-1"}`)
	tx := w.becomes(id, store.Delivered)
	if tx.Reference != "R-1" || tx.Tries != 1 || tx.FinishedAt == nil {
		t.Errorf("%+v", tx)
	}
	calls := w.out.got()
	if len(calls) != 1 || calls[0].path != "/x/7" || !strings.HasPrefix(calls[0].body, `{"v":7,"key":"`) {
		t.Errorf("%+v", calls)
	}
	r, err := w.Inspect(id)
	if err != nil {
		t.Fatal(err)
	}
	var outcomes []string
	for _, e := range r.Trace {
		outcomes = append(outcomes, e.Outcome)
	}
	if got := strings.Join(outcomes, "|"); got != "3 of 3 set|200, 1st try|answered 200" {
		t.Error(got)
	}
}

// Walking a finished transaction again over its recorded effects gives the
// same bytes, now() and uuid() included, and the body that was really sent.
func TestInspectionShowsWhatWasSent(t *testing.T) {
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

// Common practice: a plan of two repeats ends after the third try, and a resent
// dead letter that succeeds is gone from the list.
func TestGivingUpRepairingAndResending(t *testing.T) {
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
	if _, err := w.Resend(ctx, Decision{IDs: []store.ID{l.ID}}); err != nil {
		t.Fatal(err)
	}
	w.until("it is dead again", func() bool { return w.letter(id).State == store.LetterOpen && len(w.out.got()) == 6 })
	w.out.say(nil)
	p, err := w.Preview(Decision{IDs: []store.ID{l.ID}, Message: []byte(`{"v":2,"ref":"R"}`)})
	if err != nil || p[0].Rehearsal == nil || p[0].Rehearsal.Deliveries[0].Request.URL != "/x/2" {
		t.Fatalf("%+v %v", p, err)
	}
	if _, err := w.Resend(ctx, Decision{IDs: []store.ID{l.ID}, Message: []byte(`{"v":2,"ref":"R"}`), Why: "asked by phone"}); err != nil {
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
	if _, err := w.Resend(ctx, Decision{IDs: []store.ID{l.ID}}); !errors.Is(err, ErrDecision) {
		t.Errorf("a second resend: %v", err)
	}
	tries, err := w.store.Tries(mustID(t, run.DeliveryID(id.String(), "d")))
	if err != nil || len(tries) != 7 || tries[6].Round != 2 {
		t.Errorf("%d tries, %v", len(tries), err)
	}
}

func mustID(t *testing.T, s string) store.ID {
	t.Helper()
	id, err := store.ParseID(s)
	if err != nil {
		t.Fatal(err)
	}
	return id
}

func TestOutcomesOfATry(t *testing.T) {
	w := simpleWorld(t)
	for _, c := range []struct {
		answer connect.Answer
		err    error
		class  string
		tries  int
		reason string
	}{
		{connect.Answer{Status: 422}, nil, "data", 1, "out answered 422"},
		{connect.Answer{Status: 404}, nil, "target", 1, "out answered 404"},
		{connect.Answer{}, errors.New("out refused the connection"), "target", 3, "out refused the connection, given up after 3 tries"},
		{connect.Answer{}, fmt.Errorf("%w: bad url", connect.ErrCannotSend), "target", 1, "the request cannot be made: bad url"},
	} {
		w.out.say(func(int, call) (connect.Answer, error) { return c.answer, c.err })
		id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
		tx := w.becomes(id, store.DeadLetter)
		if l := w.letter(id); l.Class != c.class || tx.Tries != c.tries || l.Reason != c.reason {
			t.Errorf("%+v: %+v, %d tries", c, l, tx.Tries)
		}
	}
}

func TestRetryAfterMovesTheNextTry(t *testing.T) {
	w := simpleWorld(t)
	w.out.say(func(n int, _ call) (connect.Answer, error) {
		if n == 1 {
			return connect.Answer{Status: 429, Headers: []message.Header{{Name: "Retry-After", Value: "1"}}}, nil
		}
		return connect.Answer{Status: 200}, nil
	})
	id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
	w.becomes(id, store.Waiting)
	d, err := w.store.Deliveries(id)
	if err != nil || d[0].NextWhy != "as Retry-After asks" {
		t.Fatalf("%+v %v", d, err)
	}
	planned, err := w.Upcoming(&d[0])
	if err != nil || len(planned) != 2 || !planned[0].Planned.Equal(*d[0].NextAt) {
		t.Fatalf("%+v %v", planned, err)
	}
	w.becomes(id, store.Delivered)
	calls := w.out.got()
	if gap := calls[1].at.Sub(calls[0].at); gap < 950*time.Millisecond {
		t.Errorf("tried again after %s", gap)
	}
}

// The engine does what the previewed schedule says.
func TestTriesComeAsPreviewed(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "retry: {first: 60ms, growth: linear, spread: equal, tries: 4, within: 5s}")
	w.publish(simple)
	w.out.status(500)
	id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
	w.becomes(id, store.Waiting)
	d, _ := w.store.Deliveries(id)
	planned, err := w.Upcoming(&d[0])
	if err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.DeadLetter)
	tries, err := w.store.Tries(d[0].ID)
	if err != nil || len(tries) != 4 {
		t.Fatalf("%d tries, %v", len(tries), err)
	}
	for _, p := range planned {
		if at := tries[p.N-1].At; at.Before(p.Planned) {
			t.Errorf("try %d came %s early", p.N, p.Planned.Sub(at))
		}
	}
}

func TestDuplicatesGetTheFirstAnswer(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	const doc = `
readyferry: flow/1
name: once
intake: {kind: webhook, path: /once, once: 'headers["request-id"]'}
steps:
  - {id: a, kind: answer, status: 201, text: '{"id": "${uuid()}"}'}
  - {id: d, kind: deliver, to: out}
`
	w.publish(doc)
	first, err := w.post("/once", `{"n":1}`, "request-id: A")
	if err != nil {
		t.Fatal(err)
	}
	w.until("it is sent", func() bool { return len(w.out.got()) == 1 })
	w.close()
	w2 := start(t, w.dir, w.out) // also after a restart
	w.t = t
	second, err := w2.post("/once", `{"n":2}`, "request-id: A")
	if err != nil || string(second.Body) != string(first.Body) || second.Status != 201 {
		t.Errorf("%s, %v, want %s", second.Body, err, first.Body)
	}
	if other, _ := w2.post("/once", `{"n":3}`, "request-id: B"); string(other.Body) == string(first.Body) {
		t.Error("another request id got the first one's answer")
	}
	if _, err := w2.post("/once", `{"n":4}`); err == nil || !strings.Contains(err.Error(), "request-id") {
		t.Errorf("without a request id: %v", err)
	}
	w2.until("the second message is sent", func() bool { return len(w2.out.got()) == 2 })
	rows, err := w2.store.Transactions(store.Filter{Limit: 10})
	if err != nil || len(rows) != 3 {
		t.Fatalf("%d transactions, %v", len(rows), err)
	}
	if dup := rows[1]; dup.State != store.TurnedAway || !strings.HasPrefix(dup.Reason, "duplicate of ") {
		t.Errorf("%+v", dup)
	}
}

func TestQueuesHandOverInOneStep(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "retry: {first: 20ms, growth: constant, cap: 20ms, spread: none, tries: 500, within: 1m}")
	const filler = `
readyferry: flow/1
name: filler
intake: {kind: webhook, path: /fill, reference: body.ref}
steps:
  - {id: put, kind: deliver, to: {queue: asks}, headers: {x-from: filler}}
`
	if _, findings, err := w.SaveDraft(context.Background(), "filler", []byte(filler), nil); err != nil || findings[1].Code != "queue-unread" {
		t.Fatalf("%v %v", findings, err)
	}
	var refused *FindingsError
	if _, _, err := w.Publish(context.Background(), "filler"); !errors.As(err, &refused) {
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
	w.out.status(503)
	var ids []store.ID
	for i := range 5 {
		ids = append(ids, w.accepted("/fill", fmt.Sprintf(`{"ref":"Q-%d"}`, i)))
	}
	for _, id := range ids {
		w.becomes(id, store.Delivered) // the filler's part is done when the queue has it
	}
	// At most two are in flight at once; the rest stays in the queue.
	w.until("two are in flight", func() bool { d, _ := w.store.QueueDepths(); return len(d) == 1 && d[0].InFlight == 2 })
	if d, _ := w.store.QueueDepths(); d[0].Depth+d[0].InFlight > 5 || d[0].Oldest == nil {
		t.Errorf("%+v", d)
	}
	w.out.say(nil)
	w.until("the queue is empty", func() bool { d, _ := w.store.QueueDepths(); return len(d) == 0 })
	rows, _ := w.store.Transactions(store.Filter{Flow: "reader", Limit: 10})
	if len(rows) != 5 || rows[0].Reference == "" {
		t.Errorf("%+v", rows)
	}
	// At run time a queue that has lost its reader makes a dead letter.
	if err := w.Delete(context.Background(), "reader"); err != nil {
		t.Fatal(err)
	}
	id := w.accepted("/fill", `{"ref":"Q-9"}`)
	tx := w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Reason != "no flow reads the queue asks" || l.Class != "flow" || tx.Place != "put" {
		t.Errorf("%+v", l)
	}
	w.publish(reader)
	if _, err := w.Resend(context.Background(), Decision{IDs: []store.ID{w.letter(id).ID}}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
}

// Deliveries with the same order value leave one after the other in order of
// arrival; a head that waits blocks its own value only.
func TestOrderIsKeptPerValue(t *testing.T) {
	w := simpleWorld(t)
	fails := 2
	w.out.say(func(_ int, c call) (connect.Answer, error) {
		if c.path == "/x/0" && fails > 0 {
			fails--
			return connect.Answer{Status: 503}, nil
		}
		return connect.Answer{Status: 200}, nil
	})
	var last store.ID
	for i := range 6 {
		last = w.accepted("/simple", fmt.Sprintf(`{"v":%d,"ref":"R","order":"P"}`, i))
	}
	other := w.accepted("/simple", `{"v":100,"ref":"R","order":"Q"}`)
	w.becomes(other, store.Delivered)
	w.becomes(last, store.Delivered)
	var order []string
	for _, c := range w.out.got() {
		if c.path != "/x/100" {
			order = append(order, strings.TrimPrefix(c.path, "/x/"))
		}
	}
	if got := strings.Join(order, " "); got != "0 0 0 1 2 3 4 5" {
		t.Errorf("left in the order %s", got)
	}
}

func TestASlowTargetSlowsOnlyItself(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("slow", "limits: {in-flight: 1}\n"+fast)
	w.connect("quick", fast)
	hold := make(chan struct{})
	w.out.say(func(_ int, c call) (connect.Answer, error) {
		if c.to == "slow" {
			<-hold
		}
		return connect.Answer{Status: 200}, nil
	})
	for _, to := range []string{"slow", "quick"} {
		w.publish("readyferry: flow/1\nname: " + to + "\nintake: {kind: webhook, path: /" + to + "}\nsteps: [{id: d, kind: deliver, to: " + to + "}]\n")
	}
	for range 20 {
		w.accepted("/slow", `{}`)
	}
	for range 20 {
		w.becomes(w.accepted("/quick", `{}`), store.Delivered)
	}
	n := 0
	for _, c := range w.out.got() {
		if c.to == "slow" {
			n++
		}
	}
	if n != 1 {
		t.Errorf("%d tries at once to a target that takes one", n)
	}
	close(hold)
	w.until("the slow ones are through", func() bool { return len(w.out.got()) == 40 })
}

func TestABreakerProbesOneAtATime(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "breaker: {trip: 3, probe: 150ms}\nlimits: {in-flight: 1}\nretry: {first: 1ms, growth: constant, cap: 1ms, spread: none, tries: 50, within: 1h}")
	w.publish(simple)
	w.out.status(503)
	for i := range 5 {
		w.accepted("/simple", fmt.Sprintf(`{"v":%d,"ref":"R"}`, i))
	}
	w.until("it has tripped", func() bool { return len(w.out.got()) >= 3 })
	time.Sleep(500 * time.Millisecond)
	if n := len(w.out.got()); n > 8 {
		t.Errorf("%d tries although the breaker is open", n)
	}
	w.out.say(nil)
	w.until("all are delivered", func() bool {
		rows, _ := w.store.Transactions(store.Filter{Limit: 10})
		for _, r := range rows {
			if r.State != store.Delivered {
				return false
			}
		}
		return true
	})
}

func TestWorkGoesOnAfterARestart(t *testing.T) {
	w := simpleWorld(t)
	w.out.say(func(int, call) (connect.Answer, error) { return connect.Answer{Status: 503}, nil })
	id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
	w.becomes(id, store.Waiting)
	w.close()
	w.out.say(nil)
	w2 := start(t, w.dir, w.out)
	w2.becomes(id, store.Delivered)
}

func TestTheDoor(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	if _, err := w.SaveConnection(context.Background(), "key", []byte("{readyferry: connection/1, name: key, kind: caller, sign-in: {kind: api-key, secret: s3cret}}"), nil); err != nil {
		t.Fatal(err)
	}
	doc := "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: '/f/{p}', callers: [key], limit: 30}\nsteps: [{id: d, kind: deliver, to: out}]\n"
	if _, _, err := w.SaveDraft(context.Background(), "f", []byte(doc), nil); err != nil {
		t.Fatal(err)
	}
	// Until it is published, messages become samples.
	if a, err := w.post("/f/x", `{"a":1}`, "x-api-key: s3cret"); err != nil || a.Status != 202 || !strings.Contains(string(a.Body), "sample") {
		t.Errorf("%+v %v", a, err)
	}
	samples, err := w.Samples("f")
	if err != nil || len(samples) != 1 || samples[0].Params["p"] != "x" || samples[0].Headers["x-api-key"] != "" {
		t.Errorf("%+v %v", samples, err)
	}
	w.publish(doc)
	refused := func(status int, path, body string, headers ...string) {
		t.Helper()
		_, err := w.post(path, body, headers...)
		var r *run.RefusedError
		if !errors.As(err, &r) || r.Status != status {
			t.Errorf("%s %s: %v, want %d", path, body, err, status)
		}
	}
	refused(401, "/f/x", `{}`)
	refused(401, "/f/x", `{}`, "x-api-key: wrong")
	refused(400, "/f/x", `{"a":`, "x-api-key: s3cret")
	refused(413, "/f/x", `{"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa":1}`, "x-api-key: s3cret")
	if err := w.Pause(context.Background(), "f", true); err != nil {
		t.Fatal(err)
	}
	refused(503, "/f/x", `{}`, "x-api-key: s3cret")
	if err := w.Pause(context.Background(), "f", false); err != nil {
		t.Fatal(err)
	}
	if rows, _ := w.store.Transactions(store.Filter{Limit: 5}); len(rows) != 0 {
		t.Errorf("a refused message left %d transactions", len(rows))
	}
	id := w.accepted("/f/x", `{}`, "x-api-key: s3cret")
	m, err := w.store.FirstMessage(id)
	if err != nil || strings.Contains(string(m.Headers), "s3cret") {
		t.Errorf("the key is kept: %s", m.Headers)
	}
	if in, allowed := w.Find("GET", "/f/x"); in != nil || len(allowed) != 1 {
		t.Errorf("GET: %v %v", in, allowed)
	}
	if in, _ := w.Find("POST", "/f/a%2Fb"); in == nil || in.params[0].Value != "a/b" {
		t.Errorf("an escaped slash: %+v", in)
	}
}

func TestDiscardEndsAMessageWithAReason(t *testing.T) {
	w := simpleWorld(t)
	id := w.accepted("/simple", `{"ref":"R"}`) // v is missing
	w.becomes(id, store.DeadLetter)
	l := w.letter(id)
	if l.Class != "data" || l.Phase != "fields/0 /v" || !strings.HasPrefix(l.Reason, "body.v is missing") {
		t.Errorf("%+v", l)
	}
	if err := w.Discard(context.Background(), Decision{IDs: []store.ID{l.ID}, Why: "a test"}); err != nil {
		t.Fatal(err)
	}
	if tx := w.becomes(id, store.TurnedAway); !strings.HasPrefix(tx.Reason, "discarded: ") {
		t.Errorf("%+v", tx)
	}
	if len(w.out.got()) != 0 {
		t.Error("a discarded message was sent")
	}
}

func TestAPatchRepairsMany(t *testing.T) {
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
	bad := Decision{IDs: ids, Patch: []byte(`[{"op":"move","from":"/nothing","path":"/v"}]`)}
	if _, err := w.Resend(context.Background(), bad); !errors.Is(err, ErrDecision) {
		t.Errorf("a patch that does not fit: %v", err)
	}
	if n, _ := w.store.CountOpenLetters(); n != 3 {
		t.Errorf("%d open letters after a refused resend", n)
	}
	if _, err := w.Resend(context.Background(), Decision{IDs: ids, Patch: []byte(`[{"op":"move","from":"/value","path":"/v"}]`)}); err != nil {
		t.Fatal(err)
	}
	w.until("all are delivered", func() bool { return len(w.out.got()) == 3 })
}

// A version is immutable: what began under one ends under it, unless a person
// resends it under another.
func TestVersions(t *testing.T) {
	w := simpleWorld(t)
	id := w.accepted("/simple", `{"ref":"R","w":5}`)
	w.becomes(id, store.DeadLetter)
	w.publish(strings.Replace(simple, "from: body.v", "from: body.w", 1))
	ctx := context.Background()
	ids := []store.ID{w.letter(id).ID}
	if p, err := w.Preview(Decision{IDs: ids}); err != nil || p[0].Rehearsal.State != run.DeadLetter {
		t.Errorf("under its own version: %+v %v", p, err)
	}
	if _, err := w.Resend(ctx, Decision{IDs: ids, Version: "draft"}); !errors.Is(err, ErrDecision) {
		t.Errorf("under the draft: %v", err)
	}
	if _, err := w.Resend(ctx, Decision{IDs: ids, Version: "live"}); err != nil {
		t.Fatal(err)
	}
	if tx := w.becomes(id, store.Delivered); tx.Version != 2 {
		t.Errorf("%+v", tx)
	}
}

func TestDraftsThatCannotBeReadAreNotSaved(t *testing.T) {
	w := simpleWorld(t)
	ctx := context.Background()
	for name, doc := range map[string]string{
		"an unknown key":          strings.Replace(simple, "fields:", "feilds:", 1),
		"another name":            strings.Replace(simple, "name: simple", "name: other", 1),
		"no YAML":                 "a: [",
		"a schema with a mistake": strings.Replace(simple, "steps:", "steps:\n  - {id: v, kind: validate, schema: {type: objct}}", 1),
	} {
		var refused *FindingsError
		if _, _, err := w.SaveDraft(ctx, "simple", []byte(doc), nil); !errors.As(err, &refused) || len(refused.Findings) == 0 {
			t.Errorf("%s: %v", name, err)
		}
	}
	f, err := w.store.Flow("simple")
	if err != nil || f.Draft != simple || f.Revision != 1 {
		t.Errorf("half a state: %+v %v", f, err)
	}
	one := int64(1)
	if _, _, err := w.SaveDraft(ctx, "simple", []byte(strings.Replace(simple, "body.v}", "bdoy.v}", 1)), &one); err != nil {
		t.Errorf("a draft with a wrong expression is still a draft: %v", err)
	}
	if _, _, err := w.SaveDraft(ctx, "simple", []byte(simple), &one); !errors.Is(err, ErrConflict) {
		t.Errorf("a lost edit: %v", err)
	}
	var refused *FindingsError
	if _, _, err := w.Publish(ctx, "simple"); !errors.As(err, &refused) {
		t.Errorf("published with an error: %v", err)
	}
}

func TestSecretsStaySealed(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	ctx := context.Background()
	doc := "{readyferry: connection/1, name: c, kind: http, address: 'http://127.0.0.1:1', sign-in: {kind: bearer, secret: very-secret-token}}"
	if _, err := w.SaveConnection(ctx, "c", []byte(doc), nil); err != nil {
		t.Fatal(err)
	}
	row, err := w.store.Connection("c")
	if err != nil || strings.Contains(string(row.Document), "very-secret") || strings.Contains(string(row.Sealed), "very-secret") {
		t.Errorf("%s %q", row.Document, row.Sealed)
	}
	// Saved again without a secret, it keeps the one it has.
	if _, err := w.SaveConnection(ctx, "c", row.Document, nil); err != nil {
		t.Fatal(err)
	}
	if got := w.connection("c").SignIn.Secrets; len(got) != 1 || got[0] != "very-secret-token" {
		t.Errorf("%v", got)
	}
	// Another way to sign in needs a secret of its own.
	var refused *FindingsError
	if _, err := w.SaveConnection(ctx, "c", []byte(strings.Replace(string(row.Document), "bearer", "api-key", 1)), nil); !errors.As(err, &refused) {
		t.Errorf("%v", err)
	}
}

const twoWays = `
readyferry: flow/1
name: ways
intake: {kind: webhook, path: /ways}
steps:
  - id: r
    kind: route
    take: every
    ways:
      - {name: a, when: 'body.to == "a"', steps: [{id: da, kind: deliver, to: out, path: /a}]}
      - {name: b, when: 'body.to == "b"', steps: [{id: db, kind: deliver, to: out, path: /b}]}
      - {name: c, when: 'body.?bad.orValue(false)', steps: [{id: mc, kind: map, fields: [{to: /x, from: body.zz}]}]}
    otherwise: {steps: []}
`

// A repaired message may take another way: the delivery of the old one is not
// wanted any more, and its dead letter is settled.
func TestARepairedMessageMayTakeAnotherWay(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(twoWays)
	w.out.status(422)
	id := w.accepted("/ways", `{"to":"a"}`)
	w.becomes(id, store.DeadLetter)
	w.out.say(nil)
	if _, err := w.Resend(context.Background(), Decision{IDs: []store.ID{w.letter(id).ID}, Message: []byte(`{"to":"b"}`)}); err != nil {
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
func TestADiscardedWayStaysDiscarded(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(twoWays)
	hold := make(chan struct{})
	w.out.say(func(int, call) (connect.Answer, error) {
		<-hold
		return connect.Answer{Status: 200}, nil
	})
	id := w.accepted("/ways", `{"to":"a","bad":true}`)
	w.becomes(id, store.DeadLetter)
	if err := w.Discard(context.Background(), Decision{IDs: []store.ID{w.letter(id).ID}}); err != nil {
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

// A flow that is gone leaves its transactions to look at.
func TestARemovedFlowsTransactionsCanBeInspected(t *testing.T) {
	w := simpleWorld(t)
	id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
	w.becomes(id, store.Delivered)
	if err := w.Delete(context.Background(), "simple"); err != nil {
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

// Samples and their pinned outcomes.
func TestSamplesAreRehearsed(t *testing.T) {
	w := simpleWorld(t)
	ctx := context.Background()
	s := Sample{Name: "one", Body: `{"v":1,"ref":"R"}`, Replies: map[string]Reply{"d": {Status: 503}}}
	if err := w.SaveSample(ctx, "simple", s); err != nil {
		t.Fatal(err)
	}
	r, findings, err := w.RehearseSamples("simple", nil, nil)
	if err != nil || len(r) != 1 || r[0].State != run.Waiting || r[0].Expected != "none" || len(findings) != 1 {
		t.Fatalf("%+v %v %v", r, findings, err)
	}
	outcomes := map[string]string{}
	for _, e := range r[0].Trace {
		outcomes[e.Path] = e.Outcome
	}
	s.Expect = &Expectation{State: run.Waiting, Answer: 202, Outcomes: outcomes}
	for what, c := range map[string]struct {
		change func(*Sample)
		want   string
	}{
		"as it was":     {func(*Sample) {}, "as expected"},
		"another reply": {func(s *Sample) { s.Replies = nil }, "differs"},
		"another body":  {func(s *Sample) { s.Body = `{"ref":"R"}` }, "differs"},
		"no body":       {func(s *Sample) { s.Body = "" }, "differs"},
	} {
		changed := s
		c.change(&changed)
		r, _, err := w.RehearseSamples("simple", nil, []Sample{changed})
		if err != nil || r[0].Expected != c.want {
			t.Errorf("%s: %+v %v", what, r[0], err)
		}
	}
	if len(w.out.got()) != 0 {
		t.Error("a rehearsal has sent something")
	}
	if err := w.SaveSample(ctx, "nobody", s); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
}

// A version that can no longer be read stops its own flow and no other.
func TestABrokenVersionStopsOnlyItsFlow(t *testing.T) {
	w := simpleWorld(t)
	w.publish(strings.NewReplacer("name: simple", "name: other", "/simple", "/other").Replace(simple))
	if err := w.store.Write(context.Background(), func(tx *store.Tx) error {
		f, err := tx.Flow("other")
		if err != nil {
			return err
		}
		if err := tx.AddVersion(&store.Version{Flow: "other", Document: "readyferry: flow/9"}); err != nil {
			return err
		}
		f.Live = 2
		return tx.SaveFlow(&f)
	}); err != nil {
		t.Fatal(err)
	}
	w.close()
	w2 := start(t, w.dir, w.out)
	w2.becomes(w2.accepted("/simple", `{"v":1,"ref":"R"}`), store.Delivered)
	if in, _ := w2.Find("POST", "/other"); in != nil {
		t.Error("a flow without a readable version answers")
	}
}
