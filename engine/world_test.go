package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/store/body"

	"readyferry/engine/verify"

	"readyferry/connect"
	"readyferry/connect/systems"
	"readyferry/connect/testsystem"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/engine/design"
	"readyferry/engine/intake"
	"readyferry/engine/journal"
	"readyferry/engine/lane"
	"readyferry/engine/perform"
	"readyferry/engine/watch"
	"readyferry/store"
)

// TestMain lets what compresses bodies make its channels before any test has a clock of its
// own: nobody else could use them then.
func TestMain(m *testing.M) {
	b := body.Of(make([]byte, 5000)).Packed()
	if _, err := body.Unpack(b.Kept(), body.Zstd, b.Kept().Pieces[0]); err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}

// target is an outside system: it notes what comes and answers as told.
type target struct {
	mu     sync.Mutex
	calls  []call
	answer func(n int, c call) (reply, error)
}

type call struct {
	to, key, path, body string
	at                  time.Time
}

// reply is what a target answers.
type reply struct {
	Status  int
	Headers []message.Header
	Body    []byte
}

// registry holds the systems that the application has, and the test's own.
func registry(t *testing.T) *connect.Registry {
	t.Helper()
	r, err := systems.All(systems.Surroundings{}, testsystem.New())
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// Open implements connect.Opener.
func (f *target) Open(_ context.Context, c *connect.Connection) (connect.Link, error) {
	return &targetLink{f, c}, nil
}

type targetLink struct {
	*target
	c *connect.Connection
}

// Check implements connect.Link.
func (l *targetLink) Check(context.Context) (connect.Report, error) {
	return connect.Report{OK: true}, nil
}

// Close implements connect.Link.
func (l *targetLink) Close() error { return nil }

// Ask implements connect.Asker.
func (l *targetLink) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	return l.Send(ctx, r)
}

// Send implements connect.Sender.
func (l *targetLink) Send(_ context.Context, r connect.Request) (connect.Receipt, error) {
	a, err := l.call(l.c, r)
	if err != nil {
		return connect.Receipt{}, err
	}
	out := connect.Receipt{
		Outcome: r.Rules.Classify(a.Status),
		Code:    fmt.Sprint(a.Status),
		Headers: a.Headers,
		Answer:  bytes.NewReader(a.Body),
	}
	for _, h := range a.Headers {
		if h.Name == "Retry-After" {
			out.After, _ = retry.RetryAfter(h.Value, time.Now())
		}
	}
	return out, nil
}

func (f *target) call(c *connect.Connection, r connect.Request) (reply, error) {
	f.mu.Lock()
	k := call{c.Name, r.ID, r.Path, string(r.Body), time.Now()}
	f.calls = append(f.calls, k)
	n := len(f.calls)
	answer := f.answer
	f.mu.Unlock()
	if answer == nil {
		return reply{
			Status:  200,
			Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
			Body:    fmt.Appendf(nil, `{"n":%d}`, n),
		}, nil
	}
	return answer(n, k)
}

func (f *target) say(answer func(n int, c call) (reply, error)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.answer = answer
}

// holds lets the target answer nothing until the function is called.
func (f *target) holds() (answer func()) {
	gate := make(chan struct{})
	f.say(func(int, call) (reply, error) {
		<-gate
		return reply{Status: 200}, nil
	})
	return func() { close(gate) }
}

func (f *target) status(code int) {
	f.say(func(int, call) (reply, error) { return reply{Status: code}, nil })
}

func (f *target) got() []call {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]call(nil), f.calls...)
}

// world is an engine as a test uses it.
type world struct {
	*Engine
	*journal.Journal
	*design.Designs
	*intake.Intakes
	*lane.Lanes
	*perform.Performers
	*watch.Watch
	t     *testing.T
	dir   string
	out   *target
	store *store.Store
}

func newWorld(e *Engine, t *testing.T, dir string, out *target) *world {
	w := &world{e, e.Journal, e.Design, e.Intake, e.Lane, e.Perform, e.Watch, t, dir, out, e.Journal.Store}
	t.Cleanup(w.close)
	return w
}

func start(t *testing.T, dir string, out *target) *world {
	t.Helper()
	return startWith(t, dir, out, func(*Config) {})
}

func (w *world) close() {
	w.Stop()
	if err := w.store.Close(); err != nil {
		w.t.Error(err)
	}
	w.verified()
}

// verified looks whether the journal that a test leaves keeps what is promised.
func (w *world) verified() {
	if w.t.Failed() {
		return
	}
	s, err := store.OpenToRead(w.dir)
	if errors.Is(err, store.ErrInUse) || errors.Is(err, fs.ErrNotExist) {
		return // another world is in it, or the test has taken it away
	}
	if err != nil {
		w.t.Error(err)
		return
	}
	defer s.Close()
	if err := same(w.dir); err != nil {
		w.t.Errorf("a copy differs: %v", err)
	}
	findings, err := verify.Run(context.Background(), s, func(string) {})
	if err != nil || len(findings) > 0 {
		w.t.Errorf("verify: %+v %v", findings, err)
	}
}

// fast is a retry plan that ends within a fifth of a second.
const fast = "retry: {first: 20ms, growth: constant, cap: 20ms, spread: none, tries: 3, within: 5s}"

func (w *world) connect(name, more string) {
	w.t.Helper()
	if _, err := w.SaveConnection(context.Background(), name, []byte("readyferry: connection/1\nname: "+name+
		"\nkind: http\naddress: http://127.0.0.1:1\n"+more), nil); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) publish(document string) {
	w.t.Helper()
	name := strings.Fields(strings.SplitN(document, "name:", 2)[1])[0]
	if _, _, err := w.SaveDraft(context.Background(), name, []byte(document), nil); err != nil {
		w.t.Fatal(err)
	}
	if _, _, err := w.Publish(context.Background(), name, design.Word{}); err != nil {
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
	return w.Accept(context.Background(), in, intake.Call{Method: "POST", Path: path, Header: h, Body: []byte(body)})
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
	wait := 10 * time.Millisecond
	for i := range 1060 {
		if holds() {
			return
		}
		if i == 1000 {
			wait = time.Second
		}
		time.Sleep(wait)
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

func mustID(t *testing.T, s string) store.ID {
	t.Helper()
	id, err := store.ParseID(s)
	if err != nil {
		t.Fatal(err)
	}
	return id
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
