package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"readyferry/store"
)

// The application is killed, stopped and copied at random moments while messages of every
// kind are under way, and at the end each of them is accounted for. READYFERRY_CRASH_ROUNDS
// says how often; `make crash` asks for 200.

// hardFlows are the flows, each for one kind of step or intake.
var hardFlows = map[string]string{
	"main": `intake: {kind: webhook, path: /main, once: string(body.n), reference: string(body.n), order: string(body.k)}
steps:
- {id: direct, kind: deliver, to: out, path: /direct}
- {id: news, kind: deliver, to: {topic: news}}
- {id: each, kind: split, each: "[1, 2, 3]", steps: [
    {id: m, kind: map, fields: [{to: /n, from: body.n}, {to: /i, from: part}]}, {id: d, kind: deliver, to: {queue: parts}}]}`,
	"parts": "intake: {kind: queue, queue: parts}\nsteps: [{id: d, kind: deliver, to: out, path: /part}]",
	"left":  "intake: {kind: topic, topic: news}\nsteps: [{id: d, kind: deliver, to: out, path: /left}]",
	"right": `intake: {kind: topic, topic: news}
steps:
- {id: agg, kind: aggregate, key: string(body.k), item: body.n, close: {count: 4, age: 2s}, result: map, fields: [{to: /items, from: group.items}]}
- {id: d, kind: deliver, to: out, path: /group}`,
	"seq": `intake: {kind: webhook, path: /seq, once: string(body.n), reference: string(body.n), order: string(body.k)}
steps:
- {id: turn, kind: resequence, key: string(body.k), number: body.i, wait: 1h}
- {id: d, kind: deliver, to: out, path: /seq}`,
	"held": `intake: {kind: webhook, path: /held, once: string(body.n), reference: string(body.n)}
steps: [{id: h, kind: hold, for: 100ms}, {id: d, kind: deliver, to: out, path: /held}]`,
	"inner": `intake: {kind: subflow}
steps: [{id: a, kind: ask, of: out, path: /ask, method: POST, body: body}, {id: r, kind: answer, text: "${replies.a.status}"}]`,
	"called": `intake: {kind: webhook, path: /called, once: string(body.n), reference: string(body.n)}
steps: [{id: s, kind: subflow, flow: inner, wait: true, within: 1h}, {id: d, kind: deliver, to: out, path: /called}]`,
	"bad": `intake: {kind: webhook, path: /bad, once: string(body.n), reference: string(body.n)}
steps: [{id: d, kind: deliver, to: out, path: /bad}]`,
	"loaded": `intake: {kind: load, once: string(body.n), reference: string(body.n)}
steps: [{id: d, kind: deliver, to: out, path: /loaded}]`,
}

func hardFlow(name, note string) string {
	return "readyferry: flow/1\nname: " + name + "\nnote: " + note + "\n" + hardFlows[name] + "\n"
}

// arrival is a message that the target took.
type arrival struct {
	path, key string
	n, i, k   int
	items     []int
}

// hardTarget fails now and then, as targets do.
type hardTarget struct {
	mu     sync.Mutex
	random *rand.Rand
	took   []arrival
	mended bool              // it takes everything
	bodies map[string]string // by key: a key stands for one body
	wrong  []string
}

func (h *hardTarget) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	content, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	var m struct {
		N, I, K int
		Items   []int
	}
	key := r.Header.Get("Idempotency-Key")
	h.mu.Lock()
	if err := json.Unmarshal(content, &m); err != nil {
		h.wrong = append(h.wrong, fmt.Sprintf("%s: %s: %v", r.URL.Path, content, err))
	}
	if had, is := h.bodies[key]; is && had != r.URL.Path+string(content) {
		h.wrong = append(h.wrong, fmt.Sprintf("the key %s stands for %s and for %s%s", key, had, r.URL.Path, content))
	}
	h.bodies[key] = r.URL.Path + string(content)
	dice, pause := h.random.IntN(100), time.Duration(h.random.IntN(15))*time.Millisecond
	fails := !h.mended && dice < 10
	bad := !h.mended && r.URL.Path == "/bad" && dice < 60
	if !bad && !fails {
		h.took = append(h.took, arrival{r.URL.Path, key, m.N, m.I, m.K, m.Items})
	}
	h.mu.Unlock()
	time.Sleep(pause)
	switch {
	case bad:
		w.WriteHeader(http.StatusUnprocessableEntity)
	case fails && dice < 3:
		if conn, _, err := http.NewResponseController(w).Hijack(); err == nil {
			_ = conn.Close()
		}
	case fails:
		w.WriteHeader(http.StatusServiceUnavailable)
	}
}

// hardship is one application that has it hard, and what is sent to it.
type hardship struct {
	t       *testing.T
	random  *rand.Rand
	target  *hardTarget
	address string
	program string
	server  *server

	mu       sync.Mutex
	accepted map[string]map[int]bool // by path
	stop     atomic.Bool
	next     atomic.Int64
	all      sync.WaitGroup
}

func TestEveryKindOfMessageComesThroughHardship(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	rounds := 6
	if n, err := strconv.Atoi(os.Getenv("READYFERRY_CRASH_ROUNDS")); err == nil {
		rounds = n
	}
	seed := uint64(time.Now().UnixNano())
	if n, err := strconv.ParseUint(os.Getenv("READYFERRY_CRASH_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("%d rounds, seed %d", rounds, seed)
	file := program(t)
	const perEpoch = 20 // then what was sent is accounted for, and a new folder is begun
	for done := 0; done < rounds; done += perEpoch {
		if !t.Run(fmt.Sprintf("from %d", done), func(t *testing.T) {
			endure(t, file, min(perEpoch, rounds-done), seed+uint64(done))
		}) {
			return
		}
	}
}

// endure has one folder go through so many rounds.
func endure(t *testing.T, file string, rounds int, seed uint64) {
	h := &hardship{t: t, random: rand.New(rand.NewPCG(seed, 1)), address: freeAddress(t), program: file,
		target:   &hardTarget{random: rand.New(rand.NewPCG(seed, 2)), bodies: map[string]string{}},
		accepted: map[string]map[int]bool{}}
	out := serveOn(t, h.target)
	data := t.TempDir()
	h.server = launch(t, file, data, h.address)
	h.server.must("PUT", "/api/v1/connections/out", fmt.Sprintf(`{"readyferry":"connection/1","name":"out","kind":"http","address":%q,
		"retry":{"first":"20ms","cap":"200ms","tries":1000,"within":"24h"},"time-limit":"5s"}`, out))
	for _, name := range []string{"parts", "left", "right", "inner", "main", "seq", "held", "called", "bad", "loaded"} {
		h.server.must("PUT", "/api/v1/flows/"+name, hardFlow(name, "first"))
		h.server.must("POST", "/api/v1/flows/"+name+"/publish", "")
	}
	h.begin()
	for range rounds {
		time.Sleep(time.Duration(150+h.random.IntN(700)) * time.Millisecond)
		switch dice := h.random.IntN(10); {
		case dice < 7:
			h.server.kill()
			h.server = launch(t, file, data, h.address)
		case dice < 8:
			h.terminate()
			h.server = launch(t, file, data, h.address)
		default:
			h.snapshot(data)
		}
	}
	h.stop.Store(true)
	h.all.Wait()
	h.target.mu.Lock()
	h.target.mended = true
	h.target.mu.Unlock()
	h.account()
	h.server.kill()
}

// begin has messages of all kinds sent until it is stopped.
func (h *hardship) begin() {
	for k := range 3 {
		h.all.Go(func() {
			for !h.stop.Load() {
				h.post("/main", fmt.Sprintf(`{"n":%d,"k":%d}`, h.number(), k))
			}
		})
	}
	for _, path := range []string{"/held", "/called", "/bad"} {
		h.all.Go(func() {
			for !h.stop.Load() {
				h.post(path, fmt.Sprintf(`{"n":%d}`, h.number()))
			}
		})
	}
	h.all.Go(func() {
		for i := 1; !h.stop.Load(); i += 4 { // each four come the wrong way round
			for j := 3; j >= 0; j-- {
				h.post("/seq", fmt.Sprintf(`{"n":%d,"k":0,"i":%d}`, h.number(), i+j))
			}
		}
	})
	h.all.Go(h.load)
	h.all.Go(h.publishAndResend)
}

func (h *hardship) number() int64 { return h.next.Add(1) }

// call makes a request, whether or not somebody is there.
func (h *hardship) call(method, path, body string) (status int, answer []byte) {
	req, err := http.NewRequest(method, "http://"+h.address+path, strings.NewReader(body))
	if err != nil {
		return 0, nil
	}
	client := http.Client{Timeout: 20 * time.Second}
	res, err := client.Do(req)
	if err != nil {
		return 0, nil
	}
	defer res.Body.Close()
	answer, err = io.ReadAll(res.Body)
	if err != nil {
		return 0, nil
	}
	return res.StatusCode, answer
}

// post sends a message until it is accepted: it has a once value, so that no harm is done.
func (h *hardship) post(path, body string) {
	var m struct{ N int }
	if err := json.Unmarshal([]byte(body), &m); err != nil {
		h.t.Error(err)
		return
	}
	for range 2400 {
		status, answer := h.call("POST", "/in"+path, body)
		if status == http.StatusAccepted {
			h.accept(path, m.N)
			return
		}
		if status != 0 && status != http.StatusServiceUnavailable && status != http.StatusTooManyRequests {
			h.t.Errorf("%s %s: %d %s", path, body, status, answer)
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	h.t.Errorf("%s %s was never accepted", path, body)
}

func (h *hardship) accept(path string, n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.accepted[path] == nil {
		h.accepted[path] = map[int]bool{}
	}
	h.accepted[path][n] = true
}

// load loads files of records, each until it has been done.
func (h *hardship) load() {
	for !h.stop.Load() {
		var file strings.Builder
		var numbers []int
		for range 40 {
			n := int(h.number())
			numbers = append(numbers, n)
			fmt.Fprintf(&file, "{\"n\":%d}\n", n)
		}
		for range 100 {
			if h.loaded(file.String()) {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		for _, n := range numbers {
			h.accept("/loaded", n)
		}
	}
}

// loaded loads one file, and tells whether that has come to its end.
func (h *hardship) loaded(file string) bool {
	status, answer := h.call("POST", "/api/v1/loads?flow=loaded&format=jsonl", file)
	var l struct{ ID, State string }
	if status != http.StatusCreated || json.Unmarshal(answer, &l) != nil {
		return false
	}
	for range 600 {
		status, answer = h.call("GET", "/api/v1/loads/"+l.ID, "")
		if status == http.StatusOK && json.Unmarshal(answer, &l) == nil {
			switch l.State {
			case "ready":
				h.call("POST", "/api/v1/loads/"+l.ID+"/start", "")
			case "done":
				return true
			case "failed":
				h.call("POST", "/api/v1/loads/"+l.ID+"/resume", "")
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	return false
}

// publishAndResend makes new versions, and sends dead letters again.
func (h *hardship) publishAndResend() {
	for n := 0; !h.stop.Load(); n++ {
		name := []string{"main", "right", "called", "seq"}[n%4]
		h.call("PUT", "/api/v1/flows/"+name, hardFlow(name, "edition "+strconv.Itoa(n)))
		h.call("POST", "/api/v1/flows/"+name+"/publish", "")
		h.resend()
		time.Sleep(100 * time.Millisecond)
	}
}

// resend sends all open dead letters again, and tells how many causes there are.
func (h *hardship) resend() int {
	status, answer := h.call("GET", "/api/v1/dead-letters/causes", "")
	var causes []struct{ Cause string }
	if status != http.StatusOK || json.Unmarshal(answer, &causes) != nil {
		return 1
	}
	for _, c := range causes {
		h.call("POST", "/api/v1/dead-letters/resend", fmt.Sprintf(`{"cause":%q}`, c.Cause))
	}
	return len(causes)
}

// terminate asks the application to stop, which it does within ten seconds.
func (h *hardship) terminate() {
	began := time.Now()
	if err := h.server.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		h.t.Fatal(err)
	}
	if err := h.server.cmd.Wait(); err != nil {
		h.t.Errorf("told to stop, it ended with %v", err)
	}
	took := time.Since(began).Round(time.Millisecond)
	if h.t.Logf("it stopped within %s", took); took > 10*time.Second {
		h.t.Errorf("it took %s to stop", took)
	}
	h.server.kill()
}

// snapshot copies the journal and its log as they are at one moment, and looks at the copy.
func (h *hardship) snapshot(data string) {
	process := h.server.cmd.Process
	if err := process.Signal(syscall.SIGSTOP); err != nil {
		h.t.Fatal(err)
	}
	h.mu.Lock()
	accepted := []int{}
	for n := range h.accepted["/main"] {
		accepted = append(accepted, n)
	}
	h.mu.Unlock()
	copied := h.t.TempDir()
	var err error
	for _, name := range []string{store.File, store.File + "-wal", "seal.key"} {
		content, bad := os.ReadFile(filepath.Join(data, name))
		if bad == nil {
			bad = os.WriteFile(filepath.Join(copied, name), content, 0o600)
		}
		err = errors.Join(err, bad)
	}
	if err := errors.Join(err, process.Signal(syscall.SIGCONT)); err != nil {
		h.t.Fatal(err)
	}
	verified(h.t, copied)
	s, err := store.Open(copied)
	if err != nil {
		h.t.Fatal(err)
	}
	defer s.Close()
	for _, n := range accepted {
		rows, err := s.Transactions(store.Filter{Flow: "main", Reference: strconv.Itoa(n), Limit: 1})
		if err != nil || len(rows) == 0 {
			h.t.Errorf("%d was accepted and is not in the copy, %v", n, err)
		}
	}
}

// account waits until everything has arrived, and looks whether it did so once and in order.
func (h *hardship) account() {
	want := map[string]map[int]bool{"/part": {}, "/left": h.accepted["/main"], "/direct": h.accepted["/main"], "grouped": h.accepted["/main"],
		"/ask": h.accepted["/called"]}
	for _, path := range []string{"/seq", "/held", "/called", "/bad", "/loaded"} {
		want[path] = h.accepted[path]
	}
	for n := range h.accepted["/main"] {
		for i := 1; i <= 3; i++ {
			want["/part"][3*n+i] = true
		}
	}
	missing := func() (out []string) {
		seen := h.seen()
		for path, all := range want {
			for n := range all {
				if seen[path][n] == nil {
					out = append(out, fmt.Sprintf("%s %d", path, n))
				}
			}
		}
		return out
	}
	left := missing()
	for range 1200 {
		if h.resend() == 0 && len(left) == 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
		left = missing()
	}
	if len(left) > 0 {
		h.t.Fatalf("%d did not arrive: %.400s", len(left), strings.Join(left, ", "))
	}
	h.target.mu.Lock()
	defer h.target.mu.Unlock()
	for _, w := range h.target.wrong {
		h.t.Error(w)
	}
	total := 0
	for path, all := range h.seenLocked() {
		for n, keys := range all {
			if total++; len(keys) != 1 {
				h.t.Errorf("%s %d came under %d keys", path, n, len(keys))
			}
		}
	}
	h.ordered()
	h.t.Logf("%d deliveries of %d messages are accounted for", total, h.next.Load())
}

// seen gives the keys under which each message came, by path.
func (h *hardship) seen() map[string]map[int]map[string]bool {
	h.target.mu.Lock()
	defer h.target.mu.Unlock()
	return h.seenLocked()
}

func (h *hardship) seenLocked() map[string]map[int]map[string]bool {
	out := map[string]map[int]map[string]bool{}
	note := func(path string, n int, key string) {
		if out[path] == nil {
			out[path] = map[int]map[string]bool{}
		}
		if out[path][n] == nil {
			out[path][n] = map[string]bool{}
		}
		out[path][n][key] = true
	}
	for _, a := range h.target.took {
		switch a.path {
		case "/part":
			note(a.path, 3*a.n+a.i, a.key)
		case "/group":
			for _, n := range a.items {
				note("grouped", n, a.key)
			}
		default:
			note(a.path, a.n, a.key)
		}
	}
	return out
}

// ordered looks whether messages of one value came first in the order of their acceptance,
// and those with numbers in the order of these.
func (h *hardship) ordered() {
	last, come := map[string]int{}, map[string]bool{}
	for _, a := range h.target.took {
		at := a.n
		switch a.path {
		case "/direct":
		case "/seq":
			at = a.i
		default:
			continue
		}
		line := fmt.Sprint(a.path, " of ", a.k)
		if come[a.key] {
			continue
		}
		if come[a.key] = true; at < last[line] {
			h.t.Errorf("%s: %d came behind %d", line, at, last[line])
		}
		last[line] = at
	}
}
