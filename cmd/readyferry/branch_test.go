package main

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// closed is a network from which nothing leads anywhere but one way outward, which can be cut.
type closed struct {
	t     *testing.T
	space string
	to    []string // where ways lead, which are their addresses inside, too
	mu    sync.Mutex
	cut   bool
	conns map[net.Conn]bool
}

func closedNetwork(t *testing.T, to ...string) *closed {
	t.Helper()
	w := &closed{t: t, space: fmt.Sprintf("rf%dshelf", os.Getpid()%10000), to: to, conns: map[net.Conn]bool{}}
	ip(t, true, "netns", "add", w.space)
	t.Cleanup(func() { ip(t, false, "netns", "del", w.space) })
	ip(t, true, "-n", w.space, "link", "set", "lo", "up")
	for _, at := range to {
		l := w.listen(at)
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go w.carry(c, at)
			}
		}()
	}
	return w
}

// listen listens inside.
func (w *closed) listen(at string) net.Listener {
	w.t.Helper()
	var l net.Listener
	if err := inSpace(w.space, func() (err error) { l, err = net.Listen("tcp", at); return err }); err != nil {
		w.t.Skipf("nobody can listen in a network namespace here: %v", err)
	}
	w.t.Cleanup(func() { _ = l.Close() })
	return l
}

func (w *closed) carry(near net.Conn, to string) {
	defer near.Close()
	w.mu.Lock()
	cut := w.cut
	w.conns[near] = true
	w.mu.Unlock()
	if cut {
		return
	}
	far, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer far.Close()
	go func() {
		_, _ = io.Copy(far, near)
		_ = far.Close()
	}()
	_, _ = io.Copy(near, far)
}

// setCut cuts the way, or opens it again.
func (w *closed) setCut(cut bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.cut = cut
	if cut {
		for c := range w.conns {
			_ = c.Close()
		}
		clear(w.conns)
	}
}

// A branch keeps its shelf system in a network that nobody reaches: a runner there, which trusts the
// fleet's authority and no other, prints slips and answers a call with data that do not leave. While its
// way outward is cut all of that waits, and is done once when it is back.
func TestABranchBehindAFirewall(t *testing.T) {
	var mu sync.Mutex
	slips := map[string]int{}
	shelf := http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			rw.Header().Set("Content-Type", "application/json")
			_, _ = fmt.Fprintf(rw, `{"born":%q,"owes":1}`, born)
			return
		}
		b, _ := io.ReadAll(r.Body)
		mu.Lock()
		slips[string(b)]++
		mu.Unlock()
	})
	w := newFleetAt(t, "https://", "a", "b", "c")
	ca, err := os.ReadFile(filepath.Join(w.dir, "for-runners.pem"))
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(ca)
	w.client.Transport = &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}
	var ways, joins []string
	for _, name := range w.names {
		joins, ways = append(joins, w.bases[name]), append(ways, w.bases[name][len("https://"):])
	}
	network := closedNetwork(t, ways...)
	l := network.listen("127.0.0.1:0")
	server := &http.Server{Handler: shelf, ReadHeaderTimeout: time.Minute}
	t.Cleanup(func() { _ = server.Close() })
	go func() { _ = server.Serve(l) }()
	for _, name := range w.names {
		w.start(name)
	}
	for name, at := range map[string]string{"shelf": `,"at":"shelf"`, "nowhere": ""} {
		w.must("PUT", "/api/v1/connections/"+name, fmt.Sprintf(`{"readyferry":"connection/1","name":%q,"kind":"http",
			"address":"http://%s"%s}`, name, l.Addr(), at))
	}
	w.must(
		"PUT",
		"/api/v1/flows/may-borrow",
		`{"readyferry":"flow/1","name":"may-borrow","intake":{"kind":"subflow","format":"json"},
		"steps":[{"id":"who","kind":"ask","of":"shelf","path":"/cards"},
		{"id":"say","kind":"answer","text":"{\"may\": ${replies.who.body.owes < 10 && replies.who.body.born < \"2010\"}}"}]}`,
	)
	w.must("POST", "/api/v1/flows/may-borrow/publish", "")
	w.must(
		"PUT",
		"/api/v1/flows/loans",
		`{"readyferry":"flow/1","name":"loans","intake":{"kind":"webhook","path":"/loans",
		"format":"json","reference":"string(body.n)"},"steps":[
		{"id":"ask","kind":"subflow","flow":"may-borrow","at":"shelf","wait":true},
		{"id":"only","kind":"filter","keep":"replies.ask.body.may"},{"id":"print","kind":"deliver","to":"shelf","path":"/slips"}]}`,
	)
	w.must("POST", "/api/v1/flows/loans/publish", "")
	var made struct{ Key string }
	if err := json.Unmarshal(w.must("PUT", "/api/v1/keys/shelf", `{"rights":[{"may":["run"],"on":["runner:shelf"]}]}`),
		&made); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("ip", "netns", "exec", network.space, w.file, "runner", "--join", strings.Join(joins, ","),
		"--name", "shelf",
		"--ca", filepath.Join(w.dir, "for-runners.pem"), "--data", filepath.Join(t.TempDir(), "runner"))
	cmd.Env, cmd.Stderr = append(os.Environ(), runnerKey+"="+made.Key), os.Stderr
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_, _ = cmd.Process.Wait()
	})
	printed := func(want int) {
		t.Helper()
		for range 2400 {
			mu.Lock()
			n := len(slips)
			mu.Unlock()
			if n == want {
				return
			}
			time.Sleep(25 * time.Millisecond)
		}
		t.Fatalf("%d slips are printed, not %d", len(slips), want)
	}
	for n := range 5 {
		w.must("POST", "/in/loans", fmt.Sprintf(`{"n":%d}`, n))
	}
	printed(5)
	network.setCut(true)
	for n := 5; n < 15; n++ {
		w.must("POST", "/in/loans", fmt.Sprintf(`{"n":%d}`, n))
	}
	for range 2400 { // until it is known that the runner is away
		var all []struct{ There bool }
		if json.Unmarshal(w.must("GET", "/api/v1/runners", ""), &all) == nil && len(all) == 1 && !all[0].There {
			break
		}
		time.Sleep(25 * time.Millisecond)
	}
	printed(5)
	if s, err := w.status("b"); err == nil { // meanwhile another member leads
		w.kill(s.Leader)
	} else {
		t.Fatal(err)
	}
	network.setCut(false)
	printed(15)
	mu.Lock()
	for slip, times := range slips {
		if times != 1 {
			t.Errorf("%s is printed %d times", slip, times)
		}
	}
	mu.Unlock()
	for _, name := range w.names {
		w.kill(name)
		if found := under(t, w.data(name), born); len(found) > 0 {
			t.Errorf("what was not to leave is at the member %s: %v", name, found)
		}
	}
}
