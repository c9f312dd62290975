package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/fleet"
	"readyferry/store"
	"readyferry/store/mirror"
)

// aFleet are members in processes of their own, with a target that all of them reach.
type aFleet struct {
	t        *testing.T
	file     string
	dir      string
	names    []string
	bases    map[string]string
	mu       sync.Mutex
	cmds     map[string]*exec.Cmd
	arrived  []landed
	groups   map[string][]int // those that arrived, by their keys: the numbers of their messages
	client   http.Client
	clients  map[string]*http.Client // by member, where the way to them is not that of everybody
	programs map[string]string       // by member, where it is another than this release
	wrap     func(name string, cmd *exec.Cmd) *exec.Cmd
	parts    int // partitions
}

// landed is a message at the target.
type landed struct {
	value string
	n     int
	key   string
}

// newFleet makes the folder of a fleet whose members are not started yet.
func newFleet(t *testing.T, names ...string) *aFleet { return newFleetAt(t, "http://", names...) }

// newFleetAt is newFleet with members at addresses of a scheme.
func newFleetAt(t *testing.T, scheme string, names ...string) *aFleet {
	t.Helper()
	return newFleetOf(t, 1, scheme, names...)
}

// newFleetOf is newFleetAt with so many partitions.
func newFleetOf(t *testing.T, parts int, scheme string, names ...string) *aFleet {
	t.Helper()
	w := &aFleet{t: t, file: program(t), dir: filepath.Join(t.TempDir(), "fleet"), names: names,
		bases: map[string]string{},
		cmds:  map[string]*exec.Cmd{}, parts: parts, client: http.Client{Timeout: time.Minute}}
	args := []string{"fleet", "init", "--name", "trial", "--out", w.dir, "--partitions", fmt.Sprint(parts)}
	for _, name := range names {
		w.bases[name] = scheme + freeAddress(t)
		args = append(args, "--member", fmt.Sprintf("%s=%s,%s,%s", name, freeAddress(t), freeAddress(t), w.bases[name]))
	}
	if out, err := exec.Command(w.file, args...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	t.Cleanup(func() {
		for _, name := range names {
			w.kill(name)
		}
	})
	return w
}

func startFleet(t *testing.T, names ...string) *aFleet {
	t.Helper()
	w := newFleet(t, names...)
	for _, name := range names {
		w.start(name)
	}
	return w
}

func (w *aFleet) data(name string) string { return filepath.Join(w.dir, name, "data") }
func (w *aFleet) config(name string) string {
	return filepath.Join(w.dir, name, "fleet.yaml")
}

func (w *aFleet) start(name string) {
	w.t.Helper()
	program := w.file
	if own := w.programs[name]; own != "" {
		program = own
	}
	cmd := exec.Command(program, "serve", "--without-sign-in", "--fleet", w.config(name), "--data", w.data(name),
		"--listen", w.bases[name][strings.Index(w.bases[name], "//")+2:])
	if w.wrap != nil {
		cmd = w.wrap(name, cmd)
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		w.t.Fatal(err)
	}
	w.mu.Lock()
	w.cmds[name] = cmd
	w.mu.Unlock()
}

// kill ends a member as a power cut would.
func (w *aFleet) kill(name string) {
	w.mu.Lock()
	cmd := w.cmds[name]
	delete(w.cmds, name)
	w.mu.Unlock()
	if cmd != nil {
		_ = cmd.Process.Kill()
		_, _ = cmd.Process.Wait()
	}
}

// stop lets a member end by itself.
func (w *aFleet) stop(name string) {
	w.mu.Lock()
	cmd := w.cmds[name]
	delete(w.cmds, name)
	w.mu.Unlock()
	_ = cmd.Process.Signal(os.Interrupt)
	if _, err := cmd.Process.Wait(); err != nil {
		w.t.Error(err)
	}
}

// send asks a member once; an error tells that nobody knows what came of it.
func (w *aFleet) send(name, method, path, body string) (int, []byte, error) {
	req, err := http.NewRequest(method, w.bases[name]+path, strings.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	client := &w.client
	if own := w.clients[name]; own != nil {
		client = own
	}
	res, err := client.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	return res.StatusCode, b, err
}

// must asks members until one does it.
func (w *aFleet) must(method, path, body string) []byte {
	w.t.Helper()
	var last error
	for n := range 2400 {
		status, b, err := w.send(w.names[n%len(w.names)], method, path, body)
		switch {
		case err == nil && status < 300:
			return b
		case err == nil && status != 503:
			w.t.Fatalf("%s %s: %d %s", method, path, status, b)
		}
		last = errors.Join(err, fmt.Errorf("%d %s", status, b))
		time.Sleep(50 * time.Millisecond)
	}
	w.t.Fatalf("%s %s: %v", method, path, last)
	return nil
}

// target is what the fleet delivers to.
func (w *aFleet) target() http.Handler {
	return http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		if r.URL.Path == "/groups" {
			w.groupArrived(r.Header.Get("Idempotency-Key"), b)
			return
		}
		var m struct {
			V string
			N int
		}
		if json.Unmarshal(b, &m) != nil {
			return
		}
		w.mu.Lock()
		w.arrived = append(w.arrived, landed{m.V, m.N, r.Header.Get("Idempotency-Key")})
		w.mu.Unlock()
	})
}

// design makes a flow that keeps the order by a value, and takes a message once.
func (w *aFleet) design(target string) {
	w.t.Helper()
	w.must("PUT", "/api/v1/connections/out", fmt.Sprintf(
		`{"readyferry":"connection/1","name":"out","kind":"http","address":%q,"retry":{"first":"100ms","cap":"1s","tries":100}}`,
		target,
	))
	w.must(
		"PUT",
		"/api/v1/flows/f",
		`{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f","format":"json",
		"order":"body.v","once":"body.v + '/' + string(body.n)","reference":"body.v + '/' + string(body.n)"},
		"steps":[{"id":"d","kind":"deliver","to":"out","path":"/"}]}`,
	)
	w.must("POST", "/api/v1/flows/f/publish", "")
}

// line is one source: it sends its next message when the one before is accepted, to whichever member
// answers.
func (w *aFleet) line(value string, until <-chan struct{}) (accepted int) {
	return w.lineTo("/in/f", value, until)
}

// lineTo is line, to a path.
func (w *aFleet) lineTo(path, value string, until <-chan struct{}) (accepted int) {
	for n := 0; ; n++ {
		for {
			select {
			case <-until:
				return n
			default:
			}
			name := w.names[rand.IntN(len(w.names))]
			status, _, err := w.send(name, "POST", path, fmt.Sprintf(`{"v":%q,"n":%d}`, value, n))
			if err == nil && (status == http.StatusAccepted || status == http.StatusOK) {
				break
			}
			if os.IsTimeout(err) {
				w.t.Errorf("a caller of %s was never answered", name)
			}
			time.Sleep(10 * time.Millisecond)
		}
	}
}

// sources begins so many sources; stopped ends them, and tells how many messages of each were accepted.
func (w *aFleet) sources(n int) (stopped func() map[string]int) {
	until, accepted := make(chan struct{}), map[string]int{}
	var mu sync.Mutex
	var lines sync.WaitGroup
	for i := range n {
		lines.Go(func() {
			v := fmt.Sprintf("v%d", i)
			taken := w.line(v, until)
			mu.Lock()
			accepted[v] = taken
			mu.Unlock()
		})
	}
	return func() map[string]int {
		close(until)
		lines.Wait()
		return accepted
	}
}

// accounted wants each accepted message at the target under one key, in its order, and inside once.
func (w *aFleet) accounted(accepted map[string]int) {
	w.t.Helper()
	all := 0
	for _, n := range accepted {
		all += n
	}
	missing := func() (n int) {
		w.mu.Lock()
		defer w.mu.Unlock()
		seen := map[string]bool{}
		for _, a := range w.arrived {
			seen[fmt.Sprint(a.value, " ", a.n)] = true
		}
		for v, most := range accepted {
			for i := range most {
				if !seen[fmt.Sprint(v, " ", i)] {
					n++
				}
			}
		}
		return n
	}
	for range 2400 {
		if missing() == 0 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if n := missing(); n > 0 {
		w.t.Errorf("%d of %d are not at the target", n, all)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	keys, last, twice := map[string]string{}, map[string]int{}, 0
	for _, a := range w.arrived {
		id := fmt.Sprint(a.value, " ", a.n)
		switch key, seen := keys[id]; {
		case seen && key != a.key:
			w.t.Errorf("%s came under two keys", id)
		case seen:
			twice++
		default:
			if accepted[a.value] == 0 {
				break // nobody was told that it is taken
			}
			if was, any := last[a.value]; any && a.n != was+1 || !any && a.n != 0 {
				w.t.Errorf("%s came behind %d", id, was)
			}
			last[a.value] = a.n
		}
		keys[id] = a.key
	}
	w.t.Logf("%d messages, %d repeats under the same key", all, twice)
}

func (w *aFleet) status(name string) (s fleet.Status, err error) {
	out, err := exec.Command(w.file, "fleet", "status", "--json", "--fleet", w.config(name)).Output()
	if err == nil {
		err = json.Unmarshal(out, &s)
	}
	return s, err
}

// whole waits until every member is there, with a copy that is no more than so many records behind.
func (w *aFleet) whole(behind int64) {
	w.t.Helper()
	var s fleet.Status
	for range 2400 {
		var err error
		s, err = w.status(w.names[0])
		good := err == nil && s.Leader != "" && s.Log != nil && s.Log.Current == s.Replicas
		for _, m := range s.Members {
			good = good && m.There && m.Behind <= behind && m.Trouble == ""
		}
		for _, p := range s.Partitions {
			good = good && p.Leader != "" && p.Behind <= behind && p.Log != nil && p.Log.Current == s.Replicas &&
				len(p.Troubles) == 0
		}
		if good {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	w.t.Fatalf("the fleet is never whole: %+v %+v", s, s.Log)
}

// alike stops all members and looks whether their journals are the same. Where one has written something while another
// one had stopped already, they are started once more.
func (w *aFleet) alike() {
	w.t.Helper()
	err := errors.New("not looked at yet")
	for tries := 0; err != nil; tries++ {
		if tries > 0 {
			for _, name := range w.names {
				w.start(name)
			}
		}
		w.whole(0)
		var ends sync.WaitGroup
		for _, name := range w.names {
			ends.Go(func() { w.stop(name) })
		}
		ends.Wait()
		if err = w.differ(); err != nil && (tries == 5 || !strings.Contains(err.Error(), "log_position has")) {
			w.t.Error(err)
			break
		}
	}
	for part := range w.parts {
		for _, name := range w.names {
			dir := store.PartDir(w.data(name), part)
			if out, err := exec.Command(w.file, "verify", "--data", dir).CombinedOutput(); err != nil {
				w.t.Errorf("partition %d of %s: %v %s", part, name, err, out)
			}
		}
	}
}

// differ says in what the journals of the members are not the same.
func (w *aFleet) differ() error {
	for part := range w.parts {
		first := store.PartDir(w.data(w.names[0]), part)
		for _, name := range w.names[1:] {
			if err := mirror.Differ(first, store.PartDir(w.data(name), part)); err != nil {
				return fmt.Errorf("partition %d of %s and %s: %w", part, w.names[0], name, err)
			}
		}
	}
	return nil
}

// Any member is killed at random under load, also with all that it has on its disk: every accepted
// message comes to its end once, under one key, in its order, and the members have the same journal.
func TestNothingIsLostWhenAMemberIsKilled(t *testing.T) {
	startFleet(t, "a", "b", "c").survives()
}

// survives kills members under load, and accounts for every message.
func (w *aFleet) survives() {
	t := w.t
	t.Helper()
	w.design(serveOn(t, w.target()))
	stopped, gathered := w.sources(6), w.gathers()
	var longest time.Duration
	for round := range rounds() {
		w.whole(1000)
		time.Sleep(time.Duration(rand.IntN(300)) * time.Millisecond)
		name := w.names[rand.IntN(len(w.names))]
		if s, err := w.status(w.names[0]); err == nil && round%2 == 0 {
			if leads := s.Partitions[rand.IntN(w.parts)].Leader; leads != "" {
				name = leads // half of them are one that leads
			}
		}
		w.kill(name)
		began := time.Now()
		if round%3 == 2 {
			if err := os.RemoveAll(w.data(name)); err != nil {
				t.Fatal(err)
			}
		}
		w.must("GET", "/api/v1/room", "")
		w.must("POST", "/in/f", fmt.Sprintf(`{"v":"round","n":%d}`, round))
		longest = max(longest, time.Since(began))
		w.start(name)
	}
	t.Logf("the longest pause was %s", longest)
	accepted, members := stopped(), gathered()
	accepted["round"] = rounds()
	w.accounted(accepted)
	w.gatheredOnce(members)
	w.whole(0)
	w.tellsAll()
	w.alike()
}

// tellsAll looks whether each member tells how all are, for people and for measures, and that nobody is
// drained who is no member.
func (w *aFleet) tellsAll() {
	w.t.Helper()
	for _, name := range w.names {
		_, page, err := w.send(name, "GET", "/api/v1/fleet", "")
		var s fleet.Status
		if err != nil || json.Unmarshal(page, &s) != nil || len(s.Members) != len(w.names) || s.Leader == "" {
			w.t.Errorf("%s: %s %v", name, page, err)
		}
		_, text, err := w.send(name, "GET", "/metrics", "")
		for _, wanted := range []string{fmt.Sprintf("readyferry_fleet_member_leads{member=%q} 1", s.Leader),
			"readyferry_fleet_log_replicas_current ", `readyferry_fleet_member_there{member="a"} 1`} {
			if err != nil || !strings.Contains(string(text), wanted) {
				w.t.Errorf("%s measures no %s: %v", name, wanted, err)
			}
		}
		if status, said, err := w.send(name, "POST", "/api/v1/fleet/drain",
			`{"member":"nobody","drained":true}`); err != nil ||
			status != http.StatusBadRequest {
			w.t.Errorf("a member that is none is drained: %d %s %v", status, said, err)
		}
	}
}
