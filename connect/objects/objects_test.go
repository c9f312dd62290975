package objects

import (
	"context"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/core/retry"
	"readyferry/standin"
)

// stood makes simulated storage and gives it with its folder.
func stood(t *testing.T) (*standin.Set, string) {
	t.Helper()
	set := standin.NewSet(time.Now, func() {})
	set.Folders = t.TempDir()
	if err := set.Define(standin.Definition{Name: "files", Kind: standin.KindObjects}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = set.Close() })
	return set, filepath.Join(set.Folders, "files")
}

func connection() *connect.Connection {
	return &connect.Connection{Name: "storage", Kind: Kind, Address: "stand-in://files", TimeLimit: 10 * time.Second,
		SignIn: connect.SignIn{Kind: connect.SignInBasic, User: "key", Secrets: []string{"secret"}}}
}

func TestObjects(t *testing.T) {
	set, dir := stood(t)
	dial := func(name string) (net.Conn, error) { return set.Dial(standin.KindObjects, name) }
	l := connecttest.Open(t, New(dial), connection())
	connecttest.Objects(t, l, dir)
	for _, one := range []struct{ settings, body, want string }{
		{`{"folder":"out","name":"a.txt"}`, "whole", "delivered written"},
		{`{"folder":"out","name":"a.txt"}`, "whole", "delivered written"}, // a try that is made again
		{`{"folder":"out","name":"a.txt"}`, "other", "never exists"},
		{`{"folder":"out","name":"a.txt","exists":"replace"}`, "other", "delivered written"},
		{`{"folder":"out","name":"a.txt","exists":"append"}`, "x", "never append"},
		{`{"folder":"out","name":"empty"}`, "", "delivered written"},
		{`{"folder":"..","name":"a.txt"}`, "x", "error"},
		{`{"folder":"out","name":"a/b.txt"}`, "x", "error"},
	} {
		r, err := connecttest.Send(l, one.settings, "dl-1", one.body)
		got := string(r.Outcome) + " " + r.Code
		if err != nil {
			got = "error"
		}
		if got != one.want {
			t.Errorf("%s: %s %v", one.settings, got, err)
		}
	}
	if b, err := os.ReadFile(filepath.Join(dir, "out/a.txt")); string(b) != "other" {
		t.Error(string(b), err)
	}
	// One that lies on our disk is read twice: for its checksum, and to be sent.
	whole := strings.Repeat("all the same ", 30_000)
	for range 2 {
		r := connecttest.Request(`{"folder":"out","name":"large"}`, "dl-2", "")
		r.Body, r.Size = nil, int64(len(whole))
		r.Content = func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(whole)), nil }
		if came, err := l.(connect.Sender).Send(t.Context(), r); err != nil || came.Outcome != retry.Delivered {
			t.Errorf("%+v %v", came, err)
		}
	}
	if b, err := os.ReadFile(filepath.Join(dir, "out/large")); string(b) != whole {
		t.Errorf("%d bytes, want %d: %v", len(b), len(whole), err)
	}
	names, err := l.(connect.Lister).List(context.Background(), "folder")
	if err != nil || !slices.Contains(names, "out") {
		t.Error(names, err)
	}
	a, err := l.(connect.Peeker).Peek(context.Background(), connecttest.Settings(map[string]string{"folder": "out",
		"names": "a.*"}))
	if err != nil || string(a.Body) != "other" {
		t.Errorf("%+v %v", a, err)
	}
}

func TestMisbehavingStorage(t *testing.T) {
	set, dir := stood(t)
	dial := func(name string) (net.Conn, error) { return set.Dial(standin.KindObjects, name) }
	connecttest.MisbehavingFolders(t, New(dial), connection(), dir, func(times, with int) {
		if err := set.Behave("files", standin.Behaviour{Refuse: times, RefuseWith: with}); err != nil {
			t.Fatal(err)
		}
	}, map[int]string{403: "never denied", 413: "never EntityTooLarge", 503: "again SlowDown", 507: "again full",
		-1: "error: ", -2: "error: "})
}

// What is in an object answers a question.
func TestAnObjectIsAsked(t *testing.T) {
	set, _ := stood(t)
	dial := func(name string) (net.Conn, error) { return set.Dial(standin.KindObjects, name) }
	l := connecttest.Open(t, New(dial), connection())
	if err := set.Send("files", standin.Message{Topic: "covers/1.json", Body: `{"n":1}`}); err != nil {
		t.Fatal(err)
	}
	ask := func(object string) (connect.Receipt, error) {
		return l.(connect.Asker).Ask(context.Background(), connecttest.Request(`{"object":"`+object+`"}`, "x", ""))
	}
	r, err := ask("covers/1.json")
	if err != nil || r.Outcome != retry.Delivered || r.Headers[0].Value != "application/json" {
		t.Fatalf("%+v %v", r, err)
	}
	if b, _ := r.Body(); string(b) != `{"n":1}` {
		t.Errorf("%s", b)
	}
	if r, err := ask("covers/2.json"); err != nil || r.Outcome != retry.Never || r.Code != "not there" {
		t.Errorf("%+v %v", r, err)
	}
	if _, err := ask("../other/1.json"); err == nil || !strings.Contains(err.Error(), "dots") {
		t.Error(err)
	}
}

func TestABucketIsLookedFor(t *testing.T) {
	set, _ := stood(t)
	dial := func(name string) (net.Conn, error) { return set.Dial(standin.KindObjects, name) }
	r, err := connecttest.Open(t, New(dial), connection()).Check(context.Background())
	if err != nil || !r.OK || len(r.Steps) < 3 {
		t.Errorf("%+v %v", r, err)
	}
	for address, want := range map[string]string{"stand-in://nobody": "no such stand-in",
		"http://127.0.0.1:1/bucket": "refused"} {
		c := connection()
		c.Address, c.TimeLimit = address, 2*time.Second
		if r, err := connecttest.Open(t, New(dial), c).Check(context.Background()); err != nil || r.OK ||
			!strings.Contains(r.Detail, want) {
			t.Errorf("%s: %+v %v", address, r, err)
		}
	}
}

// Servers that mean no good: see connecttest.Hostile.
func TestHostileServers(t *testing.T) {
	connecttest.Hostile(t, New(nil), connect.Connection{Name: "hostile", Kind: Kind,
		SignIn: connect.SignIn{Kind: connect.SignInNone}},
		func(at string) string { return "http://" + at + "/bucket" }, `{"name":"x"}`, `{"settled":"1ms","every":"1s"}`,
		map[string]string{
			"silence": "", "no answer": "hello\r\n", "an endless line": strings.Repeat("x", 4<<20),
			"endless headers":       "HTTP/1.1 200 OK\r\n" + strings.Repeat("a: b\r\n", 1<<20),
			"an error that goes on": "HTTP/1.1 500 no\r\n\r\n<Error>" + strings.Repeat("<a>", 1<<20),
		})
}
