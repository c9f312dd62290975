//go:build linux

package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "github.com/mattn/go-sqlite3" // another process that has the file
	"golang.org/x/sys/unix"

	"readyferry/store"
)

// counting is a target that counts how often each message came, and under how many keys.
type counting struct {
	mu   sync.Mutex
	keys map[string]map[string]bool
}

func (c *counting) ServeHTTP(_ http.ResponseWriter, r *http.Request) {
	var m struct{ N json.Number }
	_ = json.NewDecoder(r.Body).Decode(&m)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.keys[m.N.String()] == nil {
		c.keys[m.N.String()] = map[string]bool{}
	}
	c.keys[m.N.String()][r.Header.Get("Idempotency-Key")] = true
}

// faulty is an application under a fault of its surroundings, and what it has accepted.
type faulty struct {
	*server
	target   *counting
	accepted []int
	n        int
}

func newFaulty(t *testing.T, data string) *faulty {
	t.Helper()
	c := &counting{keys: map[string]map[string]bool{}}
	out := serveOn(t, c)
	f := &faulty{server: launch(t, program(t), data, freeAddress(t)), target: c}
	f.must("PUT", "/api/v1/connections/out", fmt.Sprintf(`{"readyferry":"connection/1","name":"out","kind":"http","address":%q,
		"retry":{"first":"50ms","cap":"200ms","tries":1000}}`, out))
	f.must("PUT", "/api/v1/flows/f", "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\n"+
		"steps: [{id: d, kind: deliver, to: out}]\n")
	f.must("POST", "/api/v1/flows/f/publish", "")
	return f
}

// post sends one message with so much in it that does not compress, and gives the answer.
func (f *faulty) post(size int) (status int, retryAfter string) {
	f.t.Helper()
	text := make([]byte, size/2)
	_, _ = rand.Read(text)
	f.n++
	client := http.Client{Timeout: time.Minute}
	res, err := client.Post(f.base+"/in/f", "application/json", strings.NewReader(fmt.Sprintf(`{"n":%d,"text":"%x"}`,
		f.n, text)))
	if err != nil {
		f.t.Fatal(err)
	}
	_, _ = io.Copy(io.Discard, res.Body)
	_ = res.Body.Close()
	if res.StatusCode == http.StatusAccepted {
		f.accepted = append(f.accepted, f.n)
	}
	return res.StatusCode, res.Header.Get("Retry-After")
}

// untilRefused sends messages until one is not accepted.
func (f *faulty) untilRefused(size, most int) (status int, retryAfter string) {
	f.t.Helper()
	for range most {
		if status, retryAfter = f.post(size); status != http.StatusAccepted {
			return status, retryAfter
		}
	}
	f.t.Fatalf("%d messages were accepted, and none refused", most)
	return 0, ""
}

// recovers waits until a message is accepted again, and then until each that was has arrived.
func (f *faulty) recovers() {
	f.t.Helper()
	status := 0
	for range 600 {
		if status, _ = f.post(10); status == http.StatusAccepted {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if status != http.StatusAccepted {
		f.t.Fatalf("it does not recover: %d", status)
	}
	arrived := func() int {
		f.target.mu.Lock()
		defer f.target.mu.Unlock()
		n := 0
		for _, one := range f.accepted {
			if keys := f.target.keys[fmt.Sprint(one)]; len(keys) > 1 {
				f.t.Errorf("%d came under %d keys", one, len(keys))
			} else if len(keys) == 1 {
				n++
			}
		}
		return n
	}
	for range 1200 {
		if arrived() == len(f.accepted) {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	f.t.Errorf("%d of %d messages arrived that were accepted", arrived(), len(f.accepted))
}

// small makes a file system of so many bytes, or skips the test where one may not.
func small(t *testing.T, size string) string {
	t.Helper()
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size="+size); err != nil {
		t.Skip("a small file system cannot be made here: ", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

// The disk runs full: what was accepted is there, nobody is lied to, and when there is room
// again it goes on by itself. Before that, with the usual threshold, callers are told to
// come again.
func TestTheDiskRunsFull(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	t.Parallel()
	dir := small(t, "48m")
	ballast := filepath.Join(dir, "ballast")
	if err := os.WriteFile(ballast, make([]byte, 16<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	f := newFaulty(t, filepath.Join(dir, "data"))
	if status, after := f.untilRefused(40_000, 2000); status != http.StatusTooManyRequests || after == "" {
		t.Errorf("with little room left: %d, Retry-After %q", status, after)
	}
	if b := f.must("GET", "/api/v1/room", ""); !bytes.Contains(b, []byte("are to stay free")) {
		t.Errorf("%s", b)
	}
	f.must("PUT", "/api/v1/room", `{"minFree":0}`) // to the very end
	if status, _ := f.untilRefused(40_000, 2000); status != http.StatusServiceUnavailable {
		t.Errorf("with no room at all: %d", status)
	}
	if status, _ := f.send("GET", "/healthz", ""); status != http.StatusServiceUnavailable {
		t.Errorf("/healthz: %d", status)
	}
	if err := os.Remove(ballast); err != nil {
		t.Fatal(err)
	}
	f.recovers()
}

// Nothing can be written for a while, as on a disk that fails.
func TestNothingCanBeWritten(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	t.Parallel()
	f := newFaulty(t, t.TempDir())
	for range 20 {
		f.post(2000)
	}
	var was unix.Rlimit
	if err := unix.Prlimit(f.cmd.Process.Pid, unix.RLIMIT_FSIZE, &unix.Rlimit{Cur: 0, Max: unix.RLIM_INFINITY},
		&was); err != nil {
		t.Skip("the limits of a process cannot be set here: ", err)
	}
	for range 3 {
		if status, _ := f.post(2000); status != http.StatusServiceUnavailable {
			t.Errorf("nothing can be written, and the caller gets %d", status)
		}
	}
	if err := unix.Prlimit(f.cmd.Process.Pid, unix.RLIMIT_FSIZE, &was, nil); err != nil {
		t.Fatal(err)
	}
	f.recovers()
}

// A folder that cannot be written is told at the start.
func TestAReadOnlyFolderIsTold(t *testing.T) {
	dir := small(t, "8m")
	if err := syscall.Mount("tmpfs", dir, "tmpfs", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""); err != nil {
		t.Skip(err)
	}
	_, err := store.Open(filepath.Join(dir, "data"))
	if err == nil || !strings.Contains(err.Error(), "read-only") {
		t.Errorf("%v", err)
	}
}

// Another process holds the file: whoever comes waits, and is told when that takes too long.
func TestTheFileIsLocked(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	t.Parallel()
	data := t.TempDir()
	f := newFaulty(t, data)
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, store.File)+"?_busy_timeout=5000")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	conn, err := db.Conn(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	hold := func(query string) {
		t.Helper()
		if _, err := conn.ExecContext(context.Background(), query); err != nil {
			t.Fatal(err)
		}
	}
	hold("BEGIN IMMEDIATE")
	if status, _ := f.post(1000); status != http.StatusServiceUnavailable {
		t.Errorf("the file is locked for long, and the caller gets %d", status)
	}
	hold("ROLLBACK")
	f.recovers()
	hold("BEGIN IMMEDIATE")
	time.AfterFunc(300*time.Millisecond, func() { hold("ROLLBACK") })
	if status, _ := f.post(1000); status != http.StatusAccepted {
		t.Errorf("the file is locked for a moment, and the caller gets %d", status)
	}
	f.recovers()
}

// hostile listens and lets each connection have it.
func hostile(t *testing.T, behave func(c net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				behave(c)
			}()
		}
	}()
	return l.Addr().String()
}

// Targets that hang, reset, answer garbage or far too much, drip, or fail TLS: each message
// to them is a dead letter that says why, and none of them holds up another.
func TestTargetsThatMisbehave(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	t.Parallel()
	read := func(c net.Conn) {
		if r, err := http.ReadRequest(bufio.NewReader(c)); err == nil {
			_, _ = io.Copy(io.Discard, r.Body)
		}
	}
	f := newFaulty(t, t.TempDir())
	cases := []struct{ name, address, says string }{
		{"hangs", "http://" + hostile(t, func(c net.Conn) { read(c); time.Sleep(time.Minute) }), "did not answer within 1s"},
		{"resets", "http://" + hostile(t, func(c net.Conn) {
			read(c)
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 1000\r\n\r\nhalf of ")
			_ = c.(*net.TCPConn).SetLinger(0)
		}), "reset"},
		{"babbles", "http://" + hostile(t, func(c net.Conn) {
			read(c)
			_, _ = io.WriteString(c,
				"\x00\xff nothing of the sort\r\n\r\n")
		}), "malformed"},
		{"floods", "http://" + hostile(t, func(c net.Conn) {
			read(c)
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 10000000\r\n\r\n")
			_, _ = c.Write(make([]byte, 10_000_000))
		}), "largest-answer"},
		{"drips", "http://" + hostile(t, func(c net.Conn) {
			read(c)
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 1000\r\n\r\n")
			for range 1000 {
				if _, err := c.Write([]byte("x")); err != nil {
					return
				}
				time.Sleep(time.Second)
			}
		}), "did not answer within 1s"},
		{"no-tls", "https://" + hostile(t, func(c net.Conn) {
			_, _ = io.WriteString(c,
				"HTTP/1.1 400 Bad Request\r\n\r\n")
		}), "tls"},
	}
	for _, c := range cases {
		f.must("PUT", "/api/v1/connections/"+c.name, fmt.Sprintf(`{"readyferry":"connection/1","name":%q,"kind":"http","address":%q,
			"time-limit":"1s","retry":{"first":"10ms","cap":"10ms","tries":2}}`, c.name, c.address))
		f.must("PUT", "/api/v1/flows/"+c.name, "readyferry: flow/1\nname: "+c.name+"\nintake: {kind: webhook, path: /"+c.name+
			"}\nsteps: [{id: d, kind: deliver, to: "+c.name+"}]\n")
		f.must("POST", "/api/v1/flows/"+c.name+"/publish", "")
	}
	for i := range 20 {
		for _, c := range cases {
			f.must("POST", "/in/"+c.name, fmt.Sprintf(`{"n":%d}`, i))
		}
		f.post(100)
	}
	f.recovers() // the messages to the other target
	for _, c := range cases {
		var letters []struct{ Reason string }
		for range 1200 {
			if err := json.Unmarshal(f.must("GET", "/api/v1/dead-letters?limit=1000&flow="+c.name, ""), &letters); err != nil {
				t.Fatal(err)
			}
			if len(letters) == 20 {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		if len(letters) != 20 {
			t.Errorf("%s: %d dead letters of 20", c.name, len(letters))
			continue
		}
		if r := strings.ToLower(letters[0].Reason); !strings.Contains(r, c.says) {
			t.Errorf("%s: %s", c.name, r)
		}
	}
}

// Thousands of callers who never finish their request do not keep anybody else out. They come
// from other addresses than the one that is served: how many connections one address may hold
// is bounded, and the last of them holds more than that.
func TestThousandsOfSlowCallers(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	t.Parallel()
	f := newFaulty(t, t.TempDir())
	const slow, patient = 2600, 2000
	from := func(i int) *net.Dialer {
		host := byte(2 + i/1000) // 127.0.0.2 and 127.0.0.3 hold no more than they may
		if i >= patient {
			host = 2 // and now more than that: these connections are closed at once
		}
		return &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, host)}}
	}
	for i := range slow {
		c, err := from(i).Dial("tcp", strings.TrimPrefix(f.base, "http://"))
		if err != nil && i >= patient {
			continue
		}
		if err != nil {
			t.Fatal(i, err)
		}
		defer c.Close()
		if i%2 == 0 {
			_, err = fmt.Fprintf(c, "POST /in/f HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 1000000\r\n\r\n{")
		} else {
			_, err = fmt.Fprint(c, "POST /in/f HTTP/1.1\r\nHo")
		}
		if err != nil && i < patient {
			t.Fatal(i, err)
		}
	}
	http.DefaultClient.CloseIdleConnections() // nor does anybody have to have been here before
	for range 200 {
		if status, _ := f.post(1000); status != http.StatusAccepted {
			t.Fatalf("beside slow callers: %d", status)
		}
	}
	f.recovers()
}
