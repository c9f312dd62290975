package line

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
)

var silent = slog.New(slog.NewTextHandler(io.Discard, nil))

// eventually waits for something that another goroutine brings about; how long it takes is no matter.
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

type world struct {
	hub    *Hub
	server *httptest.Server
	gone   atomic.Bool // the key of depot is withdrawn
}

func start(t *testing.T) *world {
	t.Helper()
	w := &world{}
	var err error
	w.hub, err = NewHub(func(runner, key string) error {
		if key != "key of "+runner || w.gone.Load() {
			return errors.New("not known")
		}
		return nil
	}, silent)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.hub.Close)
	w.server = httptest.NewTLSServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		name, key, _ := r.BasicAuth()
		if r.URL.Path != Path || w.hub.Permits(name, key) != nil {
			http.Error(rw, "no", http.StatusUnauthorized)
			return
		}
		w.hub.ServeHTTP(rw, r)
	}))
	t.Cleanup(w.server.Close)
	return w
}

func (w *world) join(t *testing.T, name, key string) *Leaf {
	t.Helper()
	at, err := url.Parse(w.server.URL)
	if err != nil {
		t.Fatal(err)
	}
	l, err := Join(context.Background(), Joining{Address: at, Name: name, Key: key, TLS: w.server.Client().Transport.(*http.Transport).TLSClientConfig,
		Dir: t.TempDir(), Log: silent})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(l.Close)
	return l
}

// answers has a runner answer what it is asked.
func answers(t *testing.T, l *Leaf) {
	t.Helper()
	if _, err := l.Conn.Subscribe(Do+"say", func(m *nats.Msg) { _ = m.Respond(append([]byte("heard "), m.Data...)) }); err != nil {
		t.Fatal(err)
	}
}

func (w *world) says(t *testing.T, runner string) string {
	t.Helper()
	c, err := w.hub.To(runner)
	if err != nil {
		t.Fatal(err)
	}
	m, err := c.Request(Do+"say", []byte("x"), 20*time.Second)
	if err != nil {
		return err.Error()
	}
	return string(m.Data)
}

// A runner is asked over its line, comes again when it was cut, and is gone with its key.
func TestALine(t *testing.T) {
	w := start(t)
	if got := w.says(t, "depot"); got != nats.ErrNoResponders.Error() {
		t.Errorf("one that never came says %q", got)
	}
	l := w.join(t, "depot", "key of depot")
	answers(t, l)
	eventually(t, "it answers", func() bool { return w.says(t, "depot") == "heard x" })
	if up := w.hub.Up(); len(up) != 1 || up[0].Runner != "depot" {
		t.Errorf("%+v", up)
	}
	if err := w.hub.Cut("depot"); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it answers again", func() bool { return w.says(t, "depot") == "heard x" })
	w.gone.Store(true)
	if err := w.hub.Cut("depot"); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it is told why", func() bool { return strings.Contains(l.Why(), "401") })
	if got := w.says(t, "depot"); got != nats.ErrNoResponders.Error() {
		t.Errorf("without its key it says %q", got)
	}
	w.gone.Store(false)
	eventually(t, "it is back with its key", func() bool { return w.says(t, "depot") == "heard x" })
}

// What one runner is asked and says nobody else hears; and it can say nothing but what it may.
func TestRunnersAreKeptApart(t *testing.T) {
	w := start(t)
	depot, other := w.join(t, "depot", "key of depot"), w.join(t, "other", "key of other")
	answers(t, depot)
	var heard atomic.Int32
	for _, subject := range []string{">", Do + ">", Told + ">", "_INBOX.>"} {
		if _, err := other.Conn.Subscribe(subject, func(m *nats.Msg) {
			if !strings.HasPrefix(m.Subject, "_INBOX.") && !strings.HasPrefix(m.Subject, "$") {
				heard.Add(1)
			}
		}); err != nil {
			t.Fatal(err)
		}
	}
	eventually(t, "both lines are up", func() bool { return w.says(t, "depot") == "heard x" && len(w.hub.Up()) == 2 })
	c, err := w.hub.To("depot")
	if err != nil {
		t.Fatal(err)
	}
	told := make(chan string, 100)
	for _, subject := range []string{"else.>", "$SYS.>", Told + ">"} {
		if _, err := c.Subscribe(subject, func(m *nats.Msg) { told <- m.Subject }); err != nil {
			t.Fatal(err)
		}
	}
	if err := c.Flush(); err != nil {
		t.Fatal(err)
	}
	come := false
	eventually(t, "it is told", func() bool {
		for _, subject := range []string{"else.where", "$SYS.REQ.SERVER.PING", Told + "hello"} {
			if err := depot.Conn.Publish(subject, []byte("x")); err != nil {
				t.Fatal(err)
			}
		}
		for {
			select {
			case got := <-told:
				if come = true; got != Told+"hello" {
					t.Errorf("%s comes over the line", got)
				}
				continue
			default:
			}
			return come
		}
	})
	if n := heard.Load(); n > 0 {
		t.Errorf("another runner has heard %d", n)
	}
}

// A stranger gets nothing but a refusal.
func TestStrangers(t *testing.T) {
	w := start(t)
	for _, who := range [][2]string{{"depot", "key of other"}, {"depot", ""}, {"application/depot", "key of depot"}, {"De pot", "x"}} {
		r, err := http.NewRequest(http.MethodGet, w.server.URL+Path, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.SetBasicAuth(who[0], who[1])
		r.Header.Set("Upgrade", "websocket")
		r.Header.Set("Connection", "Upgrade")
		r.Header.Set("Sec-WebSocket-Key", "dGhlIHNhbXBsZSBub25jZQ==")
		r.Header.Set("Sec-WebSocket-Version", "13")
		a, err := w.server.Client().Do(r)
		if err != nil {
			t.Fatal(err)
		}
		said, _ := io.ReadAll(a.Body)
		_ = a.Body.Close()
		if a.StatusCode != http.StatusUnauthorized || strings.Contains(string(said), "INFO") {
			t.Errorf("%q is answered %s %s", who, a.Status, said)
		}
	}
	// Behind the door the engine asks for the key itself.
	at := "ws://" + strings.TrimPrefix(w.hub.engine.WebsocketURL(), "ws://")
	for _, who := range [][2]string{{"depot", "key of other"}, {"", ""}, {"application/depot", "key of depot"}} {
		if c, err := nats.Connect(at, nats.UserInfo(who[0], who[1])); err == nil {
			c.Close()
			t.Errorf("%q comes in", who)
		}
	}
}
