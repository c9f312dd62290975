package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/synctest"

	"readyferry/core/run"
	"readyferry/store"
)

func TestDuplicatesGetTheFirstAnswer(t *testing.T) { synctest.Test(t, testDuplicatesGetTheFirstAnswer) }

func testDuplicatesGetTheFirstAnswer(t *testing.T) {
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
	if err != nil || len(rows) != 4 ||
		!strings.HasPrefix(rows[0].Reason, "400, The message cannot be told from others") {
		t.Fatalf("%d transactions, %v", len(rows), err)
	}
	if dup := rows[2]; dup.State != store.TurnedAway || !strings.HasPrefix(dup.Reason, "duplicate of ") {
		t.Errorf("%+v", dup)
	}
}

func TestTheDoor(t *testing.T) { synctest.Test(t, testTheDoor) }

func testTheDoor(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	if _, err := w.SaveConnection(context.Background(), "key", []byte("{readyferry: connection/1, name: key, kind: "+
		"caller, sign-in: {kind: api-key, secret: s3cret}}"), nil); err != nil {
		t.Fatal(err)
	}
	doc := "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: '/f/{p}', callers: [key], limit: 30}\nsteps: [{id: d, kind: deliver, to: out}]\n"
	if _, _, err := w.SaveDraft(context.Background(), "f", []byte(doc), nil); err != nil {
		t.Fatal(err)
	}
	// Until it is published, messages become samples.
	if a, err := w.post("/f/x", `{"a":1}`, "x-api-key: s3cret"); err != nil || a.Status != 202 ||
		!strings.Contains(string(a.Body), "sample") {
		t.Errorf("%+v %v", a, err)
	}
	samples, err := w.Engine.Catalog.Samples("f")
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
	if err := w.Pause(context.Background(), "f", true, false); err != nil {
		t.Fatal(err)
	}
	refused(503, "/f/x", `{}`, "x-api-key: s3cret")
	if err := w.Pause(context.Background(), "f", false, false); err != nil {
		t.Fatal(err)
	}
	// What cannot be read is kept as it came; a caller who is not known is counted.
	rows, _ := w.store.Transactions(store.Filter{Limit: 5})
	if len(rows) != 2 || rows[1].State != store.TurnedAway ||
		!strings.HasPrefix(rows[1].Reason, "400, The body cannot be read") ||
		!strings.HasPrefix(rows[0].Reason, "413, ") {
		t.Errorf("%+v", rows)
	}
	if m, err := w.store.Message(rows[1].ID); err != nil || string(m.Body.Bytes()) != `{"a":` {
		t.Errorf("%s, %v", m.Body.Bytes(), err)
	}
	if r, err := w.Inspect(rows[1].ID); err != nil || r.State != "turned away" {
		t.Errorf("%+v, %v", r, err)
	}
	if last, counts := w.Refusals(); len(last) != 2 || counts["f"] != 2 || last[0].Path != "/in/f/x" ||
		last[0].Why == "" {
		t.Errorf("%+v %v", last, counts)
	}
	id := w.accepted("/f/x", `{}`, "x-api-key: s3cret")
	m, err := w.store.FirstMessage(id)
	if err != nil || strings.Contains(string(m.Headers), "s3cret") {
		t.Errorf("the key is kept: %s", m.Headers)
	}
	if in, allowed := w.Find("GET", "/f/x"); in != nil || len(allowed) != 1 {
		t.Errorf("GET: %v %v", in, allowed)
	}
	if in, _ := w.Find("POST", "/f/a%2Fb"); in == nil || in.Params[0].Value != "a/b" {
		t.Errorf("an escaped slash: %+v", in)
	}
}

// Of two paths that fit, the one that is in words earlier is taken, always.
func TestThePathIsChosenByRule(t *testing.T) { synctest.Test(t, testThePathIsChosenByRule) }

func testThePathIsChosenByRule(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	for name, path := range map[string]string{"a": "/x/{p}", "b": "/{p}/y", "c": "/{p}/{q}", "d": "/x/{p}/z"} {
		w.publish("readyferry: flow/1\nname: " + name + "\nintake: {kind: webhook, path: '" + path + "'}\nsteps: []\n")
	}
	for range 50 {
		for path, want := range map[string]string{"/x/y": "a", "/w/y": "b", "/w/w": "c", "/x/y/z": "d"} {
			if in, _ := w.Find("POST", path); in == nil || in.Flow != want {
				t.Fatalf("%s goes to %+v, want %s", path, in, want)
			}
		}
	}
}

// 202 for a sample is kept, also when many come in one millisecond.
func TestEveryCapturedSampleIsKept(t *testing.T) { synctest.Test(t, testEveryCapturedSampleIsKept) }

func testEveryCapturedSampleIsKept(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	if _, _, err := w.SaveDraft(context.Background(), "f", []byte("readyferry: flow/1\nname: f\nintake: {kind: "+
		"webhook, path: /f}\nsteps: []\n"), nil); err != nil {
		t.Fatal(err)
	}
	names := map[string]bool{}
	var mu sync.Mutex
	var all sync.WaitGroup
	for i := range 15 {
		all.Go(func() {
			a, err := w.post("/f", fmt.Sprintf(`{"i":%d}`, i))
			if err != nil {
				t.Error(err)
				return
			}
			var got struct{ Sample string }
			_ = json.Unmarshal(a.Body, &got)
			mu.Lock()
			names[got.Sample] = true
			mu.Unlock()
		})
	}
	all.Wait()
	samples, err := w.Engine.Catalog.Samples("f")
	if err != nil || len(samples) != 15 || len(names) != 15 {
		t.Errorf("%d samples, %d names, %v", len(samples), len(names), err)
	}
}
