package fleet

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/store"
	"readyferry/store/mirror"
)

func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	for range 12000 {
		if is() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatal("it never came to that: " + what)
}

// given are the addresses that free has given: who was given one need not listen yet.
var given sync.Map

// free gives an address that nobody listens at, and that no connection outward is given meanwhile.
func free(t *testing.T) string {
	t.Helper()
	for range 1000 {
		at := fmt.Sprintf("127.0.0.1:%d", 10_000+rand.IntN(20_000))
		if l, err := net.Listen("tcp", at); err == nil {
			_ = l.Close()
			if _, before := given.LoadOrStore(at, true); !before {
				return at
			}
		}
	}
	t.Fatal("no port is free")
	return ""
}

// trial is a fleet of which each member has a journal and a handler that writes into it.
type trial struct {
	t    *testing.T
	dir  string
	mu   sync.Mutex
	now  map[string]*trialMember
	file *File
}

type trialMember struct {
	node  *Node
	door  *Door
	front *httptest.Server
}

func newTrial(t *testing.T, names ...string) *trial {
	t.Helper()
	f := &File{Form: fileForm, Name: "trial", Replicas: min(len(names), 3)}
	for _, name := range names {
		f.Members = append(f.Members, Member{name, free(t), free(t), "http://" + name + ".test"})
	}
	w := &trial{t: t, dir: t.TempDir(), now: map[string]*trialMember{}, file: f}
	if err := Init(w.dir, f, time.Now()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		for _, name := range names {
			w.stop(name)
		}
	})
	return w
}

func (w *trial) data(name string) string { return filepath.Join(w.dir, name, "data") }

// start starts a member. It writes the name of a calendar for each POST, and lists them.
func (w *trial) start(name string) {
	w.t.Helper()
	f, err := Read(filepath.Join(w.dir, name, fleetFile))
	if err != nil {
		w.t.Fatal(err)
	}
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	if os.Getenv("READYFERRY_TELL") != "" {
		log = slog.New(slog.NewTextHandler(os.Stderr, nil)).With("member", name)
	}
	n, err := Start(context.Background(), Config{File: f, Dir: w.data(name), Version: "1", Log: log,
		Lead: func(_ int, st *store.Store) (http.Handler, func(bool), error) {
			return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodGet {
					all, err := st.Calendars()
					if err != nil {
						http.Error(rw, err.Error(), http.StatusInternalServerError)
					}
					for _, c := range all {
						_, _ = fmt.Fprintln(rw, c.Name, len(c.Text))
					}
					return
				}
				b, _ := io.ReadAll(r.Body)
				if r.URL.Path == "/in/echo" {
					_, _ = rw.Write(b)
					return
				}
				err := st.Write(r.Context(), func(tx *store.Tx) error {
					return tx.SaveCalendar(&store.Calendar{Name: r.URL.Path[1:], Text: string(b)})
				})
				if err != nil {
					http.Error(rw, err.Error(), http.StatusServiceUnavailable)
				}
			}), func(bool) {}, nil
		}})
	if err != nil {
		w.t.Fatal(err)
	}
	d, err := n.OpenDoor()
	if err != nil {
		w.t.Fatal(err)
	}
	w.mu.Lock()
	w.now[name] = &trialMember{n, d, httptest.NewServer(d)}
	w.mu.Unlock()
}

func (w *trial) stop(name string) {
	w.mu.Lock()
	m := w.now[name]
	delete(w.now, name)
	w.mu.Unlock()
	if m != nil {
		m.front.CloseClientConnections()
		m.front.Close()
		_ = m.door.Close()
		m.node.Close()
	}
}

func (w *trial) call(member, method, path, body string) (int, string) {
	w.t.Helper()
	w.mu.Lock()
	m := w.now[member]
	w.mu.Unlock()
	req, err := http.NewRequest(method, m.front.URL+path, strings.NewReader(body))
	if err != nil {
		w.t.Fatal(err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer res.Body.Close()
	b, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(b)
}

// puts keeps something by a member, which may have to wait for a leader.
func (w *trial) puts(member, name, body string) {
	w.t.Helper()
	eventually(w.t, member+" takes "+name, func() bool {
		status, _ := w.call(member, "POST", "/"+name,
			body)
		return status == 200
	})
}

func (w *trial) leader() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	for name, m := range w.now {
		if m.node.own() != nil {
			return name
		}
	}
	return ""
}

// alike stops all members and looks whether their journals are the same.
func (w *trial) alike(names ...string) {
	w.t.Helper()
	eventually(w.t, "all are at the end of the log", func() bool {
		s := w.now[names[0]].node.Status()
		for _, m := range s.Members {
			if m.Behind > 0 || !m.There {
				return false
			}
		}
		at := map[int64]bool{} // as each says itself: what others have heard of it may be of before
		for _, name := range names {
			n := w.now[name].node
			n.mu.Lock()
			at[n.copied.At] = true
			n.mu.Unlock()
		}
		return s.Log != nil && s.Leader != "" && len(at) == 1
	})
	// The one that leads stops last: while the others are there yet, one of them would lead, and write so into the log.
	leads := w.now[names[0]].node.Status().Leader
	for _, name := range names {
		if name != leads {
			w.stop(name)
		}
	}
	if slices.Contains(names, leads) {
		w.stop(leads)
	}
	for _, name := range names[1:] {
		if err := mirror.Differ(w.data(names[0]), w.data(name)); err != nil {
			w.t.Errorf("%s and %s: %v", names[0], name, err)
		}
	}
}

// What one member takes every member has; another takes over from one that leads and is gone; one that
// comes back has what it missed, also where it has lost its disk.
func TestAFleetKeepsWhatItHasTaken(t *testing.T) {
	w := newTrial(t, "a", "b", "c")
	for _, name := range []string{"a", "b", "c"} {
		w.start(name)
	}
	big := strings.Repeat("a large text of which each letter is kept; ", 300_000) // in parts
	w.puts("a", "first", "1")
	w.puts("b", "second", "22")
	w.puts("c", "big", big)
	for _, name := range []string{"a", "b", "c"} { // between the engines, and through the door
		w.puts(name, "in/short-"+name, "s")
		w.puts(name, "in/long-"+name, big[:100_000])
		if status, said := w.call(name, "GET", "/in/", ""); status != http.StatusOK || !strings.Contains(said,
			"in/short-"+name+" 1\n") ||
			!strings.Contains(said, "in/long-"+name+" 100000\n") {
			t.Errorf("%s: %d %s", name, status, said)
		}
	}
	gone := w.leader()
	began := time.Now()
	w.stop(gone)
	left := []string{"a", "b", "c"}
	for i, name := range left {
		if name == gone {
			left = append(left[:i], left[i+1:]...)
			break
		}
	}
	w.puts(left[0], "third", "333")
	t.Logf("another leads after %s", time.Since(began))
	w.puts(left[1], "fourth", "4444")
	w.start(gone)
	status := ""
	eventually(t, "the one that was gone answers", func() bool {
		_, status = w.call(gone, "GET", "/", "")
		return strings.Count(status, "\n") == 11
	})
	for _, want := range []string{fmt.Sprintf("big %d\n", len(big)), "first 1\n", "fourth 4\n", "second 2\n",
		"third 3\n"} {
		if !strings.Contains(status, want) {
			t.Errorf("%s\nlacks %s", status, want)
		}
	}
	// One loses its disk.
	w.stop(gone)
	if err := os.RemoveAll(w.data(gone)); err != nil {
		t.Fatal(err)
	}
	w.puts(left[0], "fifth", "55555")
	w.start(gone)
	w.puts(gone, "sixth", "666666")
	w.alike("a", "b", "c")
}

// The replica of the log that decides is at the member that leads, whoever that becomes: each record has a way less.
func TestTheLogIsDecidedWhereItIsLed(t *testing.T) {
	w := newTrial(t, "a", "b", "c")
	for _, name := range []string{"a", "b", "c"} {
		w.start(name)
	}
	decides := func(by string) string {
		w.mu.Lock()
		n := w.now[by].node
		w.mu.Unlock()
		s, err := n.link.js.Stream(t.Context(), streamOf(0))
		if err != nil || s.CachedInfo().Cluster == nil {
			return ""
		}
		return s.CachedInfo().Cluster.Leader
	}
	led := map[string]bool{}
	for len(led) < 3 {
		first := ""
		eventually(t, "one leads that has not led yet", func() bool {
			first = w.leader()
			return first != "" && !led[first]
		})
		w.puts(first, "x-"+first, "1")
		eventually(t, first+" decides what is in the log", func() bool { return decides(first) == first })
		led[first] = true
		w.mu.Lock()
		n := w.now[first].node
		w.mu.Unlock()
		if err := n.Drain(t.Context(), first, true); err != nil {
			t.Fatal(err)
		}
	}
}

// One that sees no majority takes nothing, and says why.
func TestAMinorityTakesNothing(t *testing.T) {
	w := newTrial(t, "a", "b", "c")
	for _, name := range []string{"a", "b", "c"} {
		w.start(name)
	}
	w.puts("a", "first", "1")
	w.stop("b")
	w.stop("c")
	eventually(t, "it refuses", func() bool {
		status, said := w.call("a", "POST", "/late", "x")
		return status == http.StatusServiceUnavailable && strings.Contains(said, "cut off from the majority")
	})
	w.start("b")
	w.puts("a", "second", "2")
	w.start("c")
	w.alike("a", "b", "c")
}

// Who has no certificate of the fleet gets nothing, and neither does one of another fleet.
func TestStrangersAtTheDoor(t *testing.T) {
	w := newTrial(t, "a")
	w.start("a")
	w.puts("a", "first", "1")
	other := newTrial(t, "a")
	f, err := Read(filepath.Join(other.dir, "a", fleetFile))
	if err != nil {
		t.Fatal(err)
	}
	for _, client := range []*http.Client{{}, Client(f)} {
		res, err := client.Get("https://" + w.file.Members[0].Door + copyPath)
		if err == nil {
			res.Body.Close()
			t.Errorf("it is answered %s", res.Status)
		}
	}
	own, err := Read(filepath.Join(w.dir, "a", fleetFile))
	if err != nil {
		t.Fatal(err)
	}
	res, err := Client(own).Get("https://" + w.file.Members[0].Door + StatusPath)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if b, _ := io.ReadAll(res.Body); !strings.Contains(string(b), `"leader":"a"`) {
		t.Errorf("%s", b)
	}
}

// Certificates are made anew while members speak with each other by the old ones and the new.
func TestCertificatesAreRotated(t *testing.T) {
	dir := t.TempDir()
	f := &File{Form: fileForm, Name: "trial", Replicas: 1, Members: []Member{{"a", "h:1", "h:2", "http://a"}, {"b",
		"h:3", "h:4", "http://b"}}}
	if err := Init(dir, f, time.Now()); err != nil {
		t.Fatal(err)
	}
	if err := Init(dir, f, time.Now()); err == nil {
		t.Error("a fleet is made over another")
	}
	member := func(name string) *identity {
		f, err := Read(filepath.Join(dir, name, fleetFile))
		if err != nil {
			t.Fatal(err)
		}
		id := &identity{f: f}
		if _, _, err := id.now(); err != nil {
			t.Fatal(err)
		}
		return id
	}
	speak := func(a, b *identity) error {
		near, far := net.Pipe()
		defer near.Close()
		defer far.Close()
		said := make(chan error, 1)
		go func() { said <- serverSide(far, b) }()
		return errors.Join(clientSide(near, a), <-said)
	}
	old := member("a")
	if err := speak(old, member("b")); err != nil {
		t.Fatal(err)
	}
	if err := Rotate(dir, false, time.Now()); err != nil {
		t.Fatal(err)
	}
	fresh := member("b")
	if err := speak(fresh, member("a")); err != nil {
		t.Errorf("new and new: %v", err)
	}
	if err := speak(member("a"), old); err == nil {
		t.Error("one that has not been given the new authority trusts it")
	}
	before := old
	before.cert, before.pool = nil, nil
	if err := Rotate(dir, true, time.Now()); err != nil {
		t.Fatal(err)
	}
	if err := speak(member("a"), member("b")); err != nil {
		t.Errorf("behind the change: %v", err)
	}
}

func clientSide(c net.Conn, id *identity) error {
	t := tls.Client(c, id.config())
	if err := t.Handshake(); err != nil {
		_ = c.Close()
		return err
	}
	_, err := t.Read(make([]byte, 1))
	return err
}

func serverSide(c net.Conn, id *identity) error {
	t := tls.Server(c, id.config())
	if err := t.Handshake(); err != nil {
		_ = c.Close()
		return err
	}
	_, err := t.Write([]byte("x"))
	return err
}

// A member whose address is one of https has a certificate for it, which whoever trusts the fleet's
// authority knows, and nobody else does.
func TestTheAddressOfAMemberHasACertificate(t *testing.T) {
	dir := t.TempDir()
	f := &File{Form: fileForm, Name: "trial", Replicas: 1, Members: []Member{{"a", "h:1", "h:2",
		"https://127.0.0.1:8420"},
		{"b", "h:3", "h:4", "https://b.ferry.test"}, {"c", "h:5", "h:6", "http://127.0.0.1:1"}}}
	if err := Init(dir, f, time.Now()); err != nil {
		t.Fatal(err)
	}
	for round := range 3 {
		ca, err := os.ReadFile(filepath.Join(dir, runnersFile))
		if err != nil {
			t.Fatal(err)
		}
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM(ca)
		for name, host := range map[string]string{"a": "127.0.0.1", "b": "b.ferry.test", "c": ""} {
			own, err := Read(filepath.Join(dir, name, fleetFile))
			if err != nil {
				t.Fatal(err)
			}
			cert, key := own.Public()
			if host == "" {
				if cert != "" {
					t.Errorf("%s has a certificate for an address without TLS", name)
				}
				continue
			}
			pair, err := tls.LoadX509KeyPair(cert, key)
			if err != nil {
				t.Fatal(err)
			}
			for _, asked := range []string{host, "other.test"} {
				_, err := pair.Leaf.Verify(x509.VerifyOptions{Roots: pool, DNSName: asked})
				if (err == nil) != (asked == host) {
					t.Errorf("round %d: %s as %s: %v", round, name, asked, err)
				}
			}
			if _, err := pair.Leaf.Verify(x509.VerifyOptions{Roots: x509.NewCertPool(), DNSName: host}); err == nil {
				t.Errorf("%s is known without the authority", name)
			}
		}
		if err := Rotate(dir, round == 1, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
}
