package hub

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/testsystem"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/retry"
	"readyferry/core/want"
	"readyferry/runner/agent"
	"readyferry/runner/line"
)

var silent = slog.New(slog.NewTextHandler(io.Discard, nil))

func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	for range 6000 {
		if is() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatal("it never came to that: " + what)
}

// world is an application's side, and runners with a system of their own.
type world struct {
	t       *testing.T
	hub     *Hub
	at      *url.URL
	systems *connect.Registry // at the runners: what lands there is seen by all of them
	mu      sync.Mutex
	none    bool // no key is good
}

func start(t *testing.T) *world {
	t.Helper()
	w := &world{t: t}
	var err error
	if w.systems, err = connect.NewRegistry(testsystem.New()); err != nil {
		t.Fatal(err)
	}
	w.begin()
	return w
}

// begin starts the application's side, as after a restart where there was one.
func (w *world) begin() {
	w.t.Helper()
	good := func(runner string) bool {
		w.mu.Lock()
		defer w.mu.Unlock()
		return !w.none
	}
	here, err := connect.NewRegistry(testsystem.New())
	if err != nil {
		w.t.Fatal(err)
	}
	w.hub = New(Config{Here: here, Log: silent, Permits: func(runner, key string) error {
		if key != "k" || !good(runner) {
			return errors.New("no")
		}
		return nil
	}})
	w.t.Cleanup(w.hub.Close)
	s := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		name, key, _ := r.BasicAuth()
		if err := w.hub.Begin(rw, r, name, key); err != nil {
			http.Error(rw, err.Error(), http.StatusUnauthorized)
		}
	}))
	w.t.Cleanup(s.Close)
	if w.at, err = url.Parse(s.URL); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) runner(dir string) *agent.Agent {
	w.t.Helper()
	a, err := agent.Start(context.Background(), agent.Config{Joining: line.Joining{Address: w.at, Name: "depot",
		Key: "k", Dir: dir,
		Log: silent}, Systems: w.systems, Version: "1"})
	if err != nil {
		w.t.Fatal(err)
	}
	return a
}

func (w *world) open(at string) connect.Link {
	w.t.Helper()
	d, bad := w.systems.Read([]byte("readyferry: connection/1\nname: loft\nkind: pigeon\naddress: loft://memory\n" +
		at))
	if d == nil {
		w.t.Fatal(bad)
	}
	l, err := w.hub.Open(w.t.Context(), d.Connection)
	if err != nil {
		w.t.Fatal(err)
	}
	return l
}

func (w *world) there(is bool) {
	w.t.Helper()
	eventually(w.t, fmt.Sprintf("the runner is there: %v", is), func() bool {
		_, away := w.hub.Away("depot")
		return away != is
	})
}

func request(id string, settings string) connect.Request {
	return connect.Request{ID: id, Rules: retry.Default(), Request: want.Request{Settings: []byte(settings),
		Format: "text",
		Body:   []byte("grain " + id)}}
}

// A try at a connection beyond the firewall is a try like any other; one that went through is not
// made twice, also where the runner has been started anew; and while it is away nobody is asked.
func TestTriesAtARunner(t *testing.T) {
	w := start(t)
	far := w.open("at: depot\n").(*far)
	receipt, err := far.Send(t.Context(), request("1", `{"perch":"north","weight":1}`))
	if err != nil || receipt.Outcome != retry.Again || !strings.Contains(receipt.Words, "is away") {
		t.Fatalf("%+v %v", receipt, err)
	}
	report, err := far.Check(t.Context())
	if err != nil || report.OK || !strings.Contains(report.Detail, "depot is away") {
		t.Errorf("%+v %v", report, err)
	}
	dir := t.TempDir()
	a := w.runner(dir)
	defer func() { a.Close() }()
	w.there(true)
	if report, err = far.Check(t.Context()); err != nil || !report.OK || report.Detail != "the loft is open" {
		t.Errorf("%+v %v", report, err)
	}
	beside, err := w.systems.Open(t.Context(), far.c)
	if err != nil {
		t.Fatal(err)
	}
	landed := func() (n int) {
		if _, err := beside.(connect.Sender).Send(t.Context(), request("end",
			`{"perch":"north","weight":1}`)); err != nil {
			t.Fatal(err)
		}
		in, err := jsonfmt.Decode([]byte(`{"perch":"north"}`))
		if err != nil {
			t.Fatal(err)
		}
		ended := errors.New("that was the last")
		_ = beside.(connect.Receiver).Receive(t.Context(), in.Root, nil,
			func(_ context.Context, list []connect.Arrival) ([]connect.Taken, error) {
				if list[0].ID == "end" {
					return nil, ended
				}
				n++
				return make([]connect.Taken, 1), nil
			})
		return n
	}
	for _, id := range []string{"1", "2", "1"} {
		if receipt, err = far.Send(t.Context(), request(id, `{"perch":"north","weight":1}`)); err != nil ||
			receipt.Outcome != retry.Delivered {
			t.Fatalf("%s: %+v %v", id, receipt, err)
		}
	}
	second := w.runner(t.TempDir()) // of the same name
	eventually(t, "a second one is turned away", func() bool {
		_, why := second.Linked()
		return strings.Contains(why, "is there already")
	})
	second.Close()
	a.Close()
	w.there(false)
	a = w.runner(dir)
	w.there(true)
	if receipt, err = far.Send(t.Context(), request("2", `{"perch":"north","weight":1}`)); err != nil ||
		receipt.Outcome != retry.Delivered {
		t.Fatalf("%+v %v", receipt, err)
	}
	if n := landed(); n != 2 {
		t.Errorf("%d have landed, not 2", n)
	}
	receipt, err = far.Send(t.Context(), request("3", `{"perch":"north","weight":100}`))
	if receipt.Outcome != retry.Never && !errors.Is(err, connect.ErrCannotSend) {
		t.Errorf("too much: %+v %v", receipt, err)
	}
	if _, err = far.Send(t.Context(), request("4", `"x"`)); !errors.Is(err, connect.ErrCannotSend) {
		t.Errorf("nonsense: %v", err)
	}
	// A connection that is not to be there any more is closed there, with its secrets.
	opened := func() int {
		all := w.hub.Runners()
		return len(all[0].Open)
	}
	eventually(t, "the runner says that it has it open", func() bool { return opened() == 1 })
	w.hub.Wants = func(string, string) bool { return false }
	w.hub.strays()
	eventually(t, "the runner has closed it", func() bool { return opened() == 0 })
	w.mu.Lock()
	w.none = true
	w.mu.Unlock()
	w.there(false)
	if receipt, err = far.Send(t.Context(), request("5", `{"perch":"north","weight":1}`)); err != nil ||
		receipt.Outcome != retry.Again {
		t.Errorf("without its key: %+v %v", receipt, err)
	}
}

// store is what the application keeps: messages, and the mark behind them.
type store struct {
	mu   sync.Mutex
	mark []byte
	got  []string
}

func (s *store) take(_ context.Context, list []connect.Arrival) ([]connect.Taken, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range list {
		s.got = append(s.got, string(a.Body))
		s.mark = a.Mark
	}
	return make([]connect.Taken, len(list)), nil
}

func (s *store) has(n int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.got) >= n
}

// What is received at a runner is handed over once and in its order, while the line is cut, the
// application stops and the runner is started anew.
func TestReceivingAtARunner(t *testing.T) {
	w := start(t)
	dir := t.TempDir()
	a := w.runner(dir)
	defer func() { a.Close() }()
	settings, err := jsonfmt.Decode([]byte(`{"perch":"north"}`))
	if err != nil {
		t.Fatal(err)
	}
	kept := &store{}
	receiving := func() (stop func()) {
		ctx, cancel := context.WithCancel(t.Context())
		link := w.open("at: depot\n").(connect.Receiver)
		ended := make(chan error, 1)
		go func() {
			for ctx.Err() == nil {
				kept.mu.Lock()
				mark := kept.mark
				kept.mu.Unlock()
				_ = link.Receive(connect.WithTelling(ctx, connect.Telling{Flow: "f"}), settings.Root, mark, kept.take)
			}
			ended <- nil
		}()
		return func() { cancel(); <-ended }
	}
	d, _ := w.systems.Read([]byte("readyferry: connection/1\nname: loft\nkind: pigeon\naddress: loft://memory\n"))
	beside, err := w.systems.Open(t.Context(), d.Connection)
	if err != nil {
		t.Fatal(err)
	}
	sent := 0
	send := func(n int) {
		t.Helper()
		for range n {
			sent++
			if _, err := beside.(connect.Sender).Send(t.Context(), request(fmt.Sprint(sent),
				`{"perch":"north","weight":1}`)); err != nil {
				t.Fatal(err)
			}
		}
	}
	stop := receiving()
	send(5)
	eventually(t, "the first are here", func() bool { return kept.has(5) })
	eventually(t, "the line is known", func() bool {
		w.hub.mu.Lock()
		defer w.hub.mu.Unlock()
		return w.hub.runners["depot"].line != 0
	})
	if err := w.hub.Cut("depot", 100*time.Millisecond); err != nil {
		t.Fatal(err)
	}
	send(5)
	eventually(t, "those of the cut line are here", func() bool { return kept.has(10) })
	// The application stops; the runner goes on receiving, and is started anew meanwhile.
	w.hub.Close()
	send(3)
	a.Close()
	stop()
	w.begin()
	a = w.runner(dir)
	send(3)
	stop = receiving()
	defer func() { stop() }()
	eventually(t, "those from before the start are here", func() bool { return kept.has(16) })
	send(2)
	eventually(t, "all are here", func() bool { return kept.has(18) })
	for i, got := range kept.got {
		if want := fmt.Sprintf("grain %d", i+1); got != want {
			t.Fatalf("message %d is %q, not %q: %q", i, got, want, kept.got)
		}
	}
}

// Without its line a runner that is started anew goes on as it was, and its folder alone tells nobody a
// secret; with another key it begins with nothing.
func TestARunnerWithoutItsLine(t *testing.T) {
	w := start(t)
	dir := t.TempDir()
	a := w.runner(dir)
	w.there(true)
	d, bad := w.systems.Read([]byte("readyferry: connection/1\nname: loft\nkind: pigeon\naddress: loft://memory\nat: depot\n"))
	if d == nil {
		t.Fatal(bad)
	}
	d.Connection.SignIn.Secrets = []string{"carrier-s3cret"}
	link, err := w.hub.Open(t.Context(), d.Connection)
	if err != nil {
		t.Fatal(err)
	}
	in, err := jsonfmt.Decode([]byte(`{"perch":"north"}`))
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	ended, inside := make(chan error, 1), &store{}
	go func() {
		ended <- link.(connect.Receiver).Receive(connect.WithTelling(ctx, connect.Telling{Flow: "f"}), in.Root, nil,
			inside.take)
	}()
	beside, err := w.systems.Open(t.Context(), d.Connection)
	if err != nil {
		t.Fatal(err)
	}
	send := func(id string) {
		t.Helper()
		if _, err := beside.(connect.Sender).Send(t.Context(), request(id, `{"perch":"north","weight":1}`)); err != nil {
			t.Fatal(err)
		}
	}
	send("1")
	eventually(t, "the first is inside", func() bool { return inside.has(1) })
	w.hub.Close() // the application is gone, and says nothing of what the runner is to have
	stop()
	<-ended
	a.Close()
	send("2")
	a = w.runner(dir)
	send("3")
	eventually(t, "it keeps what came without the line", func() bool { return a.Kept("f") >= 2 })
	a.Close()
	err = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if bytes.Contains(b, []byte("carrier-s3cret")) {
			t.Errorf("%s has the secret", path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	other, err := agent.Start(context.Background(), agent.Config{Joining: line.Joining{Address: w.at, Name: "depot",
		Key: "another", Dir: dir,
		Log: silent}, Systems: w.systems})
	if err != nil {
		t.Fatal(err)
	}
	before := other.Kept("f")
	send("4")
	other.Close()
	if after := other.Kept("f"); after != before {
		t.Errorf("with another key it has received %d", after-before)
	}
}

// The mark of a source that the application received from by itself is the source's, also where it is
// a document of its own; a runner's is read as it was saved.
func TestMarksOfBefore(t *testing.T) {
	for _, of := range []string{"", "17", `{"n":5,"seen":["a"]}`, "no json"} {
		if m := markOf([]byte(of)); m.Kept != "" || m.N != 0 || string(m.Inner) != of {
			t.Errorf("%q is read as %+v", of, m)
		}
	}
	saved, err := json.Marshal(mark{"a store", 7, []byte("inner")})
	if err != nil {
		t.Fatal(err)
	}
	if m := markOf(saved); m.Kept != "a store" || m.N != 7 || string(m.Inner) != "inner" {
		t.Errorf("%+v", m)
	}
}
