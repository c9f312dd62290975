package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/engine/verify"
	"readyferry/store"
)

// built builds the program once for all tests.
var built = sync.OnceValues(func() (file string, err error) {
	if where, err = os.MkdirTemp("", "readyferry-"); err != nil {
		return "", err
	}
	file = filepath.Join(where, "readyferry")
	if out, err := exec.Command("go", "build", "-o", file, ".").CombinedOutput(); err != nil {
		return file, fmt.Errorf("%w\n%s", err, out)
	}
	return file, nil
})

// where is the folder of what was built.
var where string

// TestMain removes what was built.
func TestMain(m *testing.M) {
	code := m.Run()
	if where != "" {
		_ = os.RemoveAll(where)
	}
	os.Exit(code)
}

// program gives the path of the program, which is built when it is asked for first.
func program(t *testing.T) string {
	t.Helper()
	file, err := built()
	if err != nil {
		t.Fatal(err)
	}
	return file
}

// serveOn serves on loopback and gives the address.
func serveOn(t *testing.T, h http.Handler) string {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s.URL
}

type server struct {
	t    *testing.T
	cmd  *exec.Cmd
	base string
	data string
	dead bool
}

// givenAddresses are those that freeAddress has given: who was given one need not listen yet.
var givenAddresses sync.Map

func freeAddress(t *testing.T) string {
	t.Helper()
	for {
		at, err := freePorts(1)
		if err != nil {
			t.Fatal(err)
		}
		if _, before := givenAddresses.LoadOrStore(at[0], true); !before {
			return at[0]
		}
	}
}

func launch(t *testing.T, file, data, address string, more ...string) *server {
	t.Helper()
	cmd := exec.Command(file, append([]string{"serve", "--without-sign-in", "--data", data, "--listen", address}, more...)...)
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	s := &server{t: t, cmd: cmd, base: "http://" + address, data: data}
	t.Cleanup(s.kill)
	for range 4800 {
		if res, err := http.Get(s.base + "/healthz"); err == nil {
			_ = res.Body.Close()
			if res.StatusCode == http.StatusOK {
				return s
			}
		}
		time.Sleep(25 * time.Millisecond)
	}
	t.Fatal("the program does not answer")
	return nil
}

// kill ends the program as a power cut would: SIGKILL.
func (s *server) kill() {
	if s.dead {
		return
	}
	s.dead = true
	_ = s.cmd.Process.Kill()
	_, _ = s.cmd.Process.Wait()
	verified(s.t, s.data)
}

// verified looks whether a journal keeps what is promised, as it is found behind a crash.
func verified(t *testing.T, data string) {
	t.Helper()
	s, err := store.OpenToRead(data)
	if err != nil {
		t.Error(err)
		return
	}
	defer s.Close()
	findings, err := verify.Run(context.Background(), s, func(string) {})
	if err != nil || len(findings) > 0 {
		t.Errorf("behind the crash: %+v %v", findings, err)
	}
}

func (s *server) send(method, path, body string) (int, []byte) {
	s.t.Helper()
	req, err := http.NewRequest(method, s.base+path, strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		s.t.Fatal(err)
	}
	return res.StatusCode, b
}

func (s *server) must(method, path, body string) []byte {
	s.t.Helper()
	status, b := s.send(method, path, body)
	if status >= 300 {
		s.t.Fatalf("%s %s: %d %s", method, path, status, b)
	}
	return b
}

// Kill the process with SIGKILL while 500 messages are posted, restart it, and
// account for every accepted one: it is there, it is delivered, and all copies
// of it that the target saw carry one key.
func TestNothingAcceptedIsLostWhenTheProcessIsKilled(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	var mu sync.Mutex
	copies := map[string]map[string]int{} // message → key → how often
	calls := 0
	out := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var m struct{ N string }
		_ = json.NewDecoder(r.Body).Decode(&m)
		mu.Lock()
		if copies[m.N] == nil {
			copies[m.N] = map[string]int{}
		}
		copies[m.N][r.Header.Get("Idempotency-Key")]++
		calls++
		n := calls
		mu.Unlock()
		if n%7 == 0 {
			w.WriteHeader(503)
		}
	}))
	defer out.Close()
	file, data, address := program(t), t.TempDir(), freeAddress(t)
	s := launch(t, file, data, address)
	s.must(
		"PUT",
		"/api/v1/connections/out",
		fmt.Sprintf(
			`{"readyferry":"connection/1","name":"out","kind":"http","address":%q,"retry":{"first":"50ms","cap":"200ms","tries":200}}`,
			out.URL,
		),
	)
	s.must(
		"PUT",
		"/api/v1/flows/f",
		`{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f","reference":"body.n"},"steps":[
		{"id":"m","kind":"map","fields":[{"to":"/n","from":"body.n"}]},{"id":"d","kind":"deliver","to":"out"}]}`,
	)
	s.must("POST", "/api/v1/flows/f/publish", "")

	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	accepted := map[string]string{} // message → transaction
	work := make(chan int)
	var posters sync.WaitGroup
	for range 8 {
		posters.Go(func() {
			client := &http.Client{Timeout: 5 * time.Second}
			for n := range work {
				name := fmt.Sprintf("m-%d", n)
				res, err := client.Post(
					"http://"+address+"/in/f",
					"application/json",
					bytes.NewBufferString(`{"n":"`+name+`"}`),
				)
				if err != nil {
					continue // not accepted, nothing is owed
				}
				b, err := io.ReadAll(res.Body)
				_ = res.Body.Close()
				var a struct{ Transaction string }
				if err == nil && res.StatusCode == http.StatusAccepted && json.Unmarshal(b, &a) == nil {
					mu.Lock()
					accepted[name] = a.Transaction
					mu.Unlock()
				}
			}
		})
	}
	kills := 0
	for n := range 500 {
		work <- n
		if n == 120 || n == 260 || n == 400 {
			time.Sleep(time.Duration(r.IntN(20)) * time.Millisecond)
			s.kill()
			kills++
			s = launch(t, file, data, address)
		}
	}
	close(work)
	posters.Wait()
	t.Logf("%d of 500 were accepted, over %d kills", len(accepted), kills)
	if len(accepted) < 100 {
		t.Fatalf("only %d messages were accepted", len(accepted))
	}
	deadline := time.Now().Add(5 * time.Minute)
	for name, id := range accepted {
		for {
			var tx struct{ State string }
			status, b := s.send("GET", "/api/v1/transactions/"+id, "")
			if status != 200 || json.Unmarshal(b, &tx) != nil {
				t.Fatalf("%s was accepted as %s and is gone: %d %s", name, id, status, b)
			}
			if tx.State == "delivered" {
				break
			}
			if time.Now().After(deadline) {
				t.Fatalf("%s is %s", name, tx.State)
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	mu.Lock()
	defer mu.Unlock()
	for name := range accepted {
		if len(copies[name]) != 1 {
			t.Errorf("%s reached the target under %d keys: %v", name, len(copies[name]), copies[name])
		}
	}
}

// Kill the process while messages are split, gathered again and put into a topic
// that two subscriptions read: inside, everything happens exactly once. Each
// accepted message gives one group of its three parts, in each subscription.
func TestPartsAndGroupsHappenOnceWhenTheProcessIsKilled(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	file, data, address := program(t), t.TempDir(), freeAddress(t)
	s := launch(t, file, data, address)
	put := func(name, document string) {
		s.must("PUT", "/api/v1/flows/"+name, document)
		s.must("POST", "/api/v1/flows/"+name+"/publish", "")
	}
	for _, reader := range []string{"left", "right"} {
		put(
			reader,
			`{"readyferry":"flow/1","name":"`+reader+`","intake":{"kind":"topic","topic":"t","reference":"body.n"},`+
				`"steps":[{"id":"x","kind":"note","text":"${string(size(body.parts))}"}]}`,
		)
	}
	put(
		"f",
		`{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f","reference":"body.n"},
			"steps":[{"id":"per","kind":"split","each":"[1, 2, 3]","steps":[
		{"id":"agg","kind":"aggregate","key":"body.n","item":"part","close":{"parts":true},"result":"map",
			"fields":[{"to":"/n","from":"group.key"},{"to":"/parts","from":"group.items"}]},
		{"id":"d","kind":"deliver","to":{"topic":"t"}}]}]}`,
	)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 2))
	var accepted []string
	client := &http.Client{Timeout: 5 * time.Second}
	for n := range 48 {
		name := fmt.Sprintf("m-%d", n)
		if res, err := client.Post("http://"+address+"/in/f", "application/json", strings.NewReader(`{"n":"`+name+
			`"}`)); err == nil {
			if _ = res.Body.Close(); res.StatusCode == http.StatusAccepted {
				accepted = append(accepted, name)
			}
		}
		if n%16 == 12 {
			time.Sleep(time.Duration(r.IntN(30)) * time.Millisecond)
			s.kill()
			s = launch(t, file, data, address)
		}
	}
	deadline := time.Now().Add(5 * time.Minute)
	for {
		var topics []struct {
			Messages      int
			Subscriptions []struct{ Lag, InFlight int }
		}
		if err := json.Unmarshal(s.must("GET", "/api/v1/topics", ""), &topics); err != nil {
			t.Fatal(err)
		}
		if len(topics) == 1 && topics[0].Messages >= len(accepted) &&
			topics[0].Subscriptions[0].Lag+topics[0].Subscriptions[1].Lag+topics[0].Subscriptions[0].InFlight+
				topics[0].Subscriptions[1].InFlight == 0 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d accepted, %+v", len(accepted), topics)
		}
		time.Sleep(50 * time.Millisecond)
	}
	time.Sleep(200 * time.Millisecond) // nothing may come twice
	for _, flow := range []string{"left", "right"} {
		var rows []struct{ Reference, State string }
		if err := json.Unmarshal(s.must("GET", "/api/v1/transactions?limit=1000&flow="+flow, ""), &rows); err != nil {
			t.Fatal(err)
		}
		seen := map[string]int{}
		for _, x := range rows {
			seen[x.Reference]++
			if x.State != "delivered" {
				t.Errorf("%s in %s is %s", x.Reference, flow, x.State)
			}
		}
		for _, name := range accepted {
			if seen[name] != 1 {
				t.Errorf("%s came %d times to %s", name, seen[name], flow)
			}
		}
	}
}

// Who waits for the end of a message when the program is told to stop is told so:
// 503, and never 200 without an end. The message goes on after the next start.
func TestStoppingIsHonestToWhoWaits(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	asked, release := make(chan struct{}, 16), make(chan struct{})
	target := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		asked <- struct{}{}
		select {
		case <-release:
		case <-r.Context().Done():
		}
	}))
	defer target.Close()
	defer close(release)
	file, data, address := program(t), t.TempDir(), freeAddress(t)
	s := launch(t, file, data, address)
	s.must("PUT", "/api/v1/connections/slow", fmt.Sprintf(
		"{readyferry: connection/1, name: slow, kind: http, address: '%s', time-limit: 60s}", target.URL))
	s.must("PUT", "/api/v1/flows/waits", "readyferry: flow/1\nname: waits\nintake: {kind: webhook, path: /waits, "+
		"answer: finished, wait: 60s}\nsteps: [{id: d, kind: deliver, to: slow}]\n")
	s.must("POST", "/api/v1/flows/waits/publish", "")
	type answer struct {
		status int
		body   []byte
	}
	got := make(chan answer, 1)
	go func() {
		status, body := s.send("POST", "/in/waits", `{}`)
		got <- answer{status, body}
	}()
	<-asked
	if err := s.cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if a := <-got; a.status != 503 || !bytes.Contains(a.body, []byte("is stored as transaction")) {
		t.Errorf("%d %s", a.status, a.body)
	}
	if err := s.cmd.Wait(); err != nil {
		t.Errorf("the program ended with %v", err)
	}
}

// A body that never comes holds its connection for a while only, and one in an
// encoding that is not understood is refused.
func TestBodiesMustComeAndBeUnderstood(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	s := launch(t, program(t), t.TempDir(), freeAddress(t))
	s.must("PUT", "/api/v1/flows/f", "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: []\n")
	s.must("POST", "/api/v1/flows/f/publish", "")
	var both sync.WaitGroup
	for _, path := range []string{"/in/f", "/api/v1/eval"} {
		both.Go(func() {
			conn, err := net.Dial("tcp", strings.TrimPrefix(s.base, "http://"))
			if err != nil {
				t.Error(err)
				return
			}
			defer conn.Close()
			fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 10\r\n\r\n{", path)
			b, _ := io.ReadAll(conn) // ends when the other side gives up
			if !bytes.HasPrefix(b, []byte("HTTP/1.1 408 ")) {
				t.Errorf("%s: %s", path, b)
			}
		})
	}
	both.Wait()
	req, _ := http.NewRequest("POST", s.base+"/in/f", strings.NewReader("{}"))
	req.Header.Set("Content-Encoding", "br")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	_ = res.Body.Close()
	if res.StatusCode != 415 {
		t.Errorf("an encoding that is not understood: %d", res.StatusCode)
	}
}
