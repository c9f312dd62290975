package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// aRunner is a runner in a process of its own.
type aRunner struct {
	t    *testing.T
	file string
	args []string
	key  string
	cmd  *exec.Cmd
}

func (r *aRunner) start() {
	r.t.Helper()
	r.cmd = exec.Command(r.file, r.args...)
	r.cmd.Env = append(os.Environ(), runnerKey+"="+r.key)
	r.cmd.Stderr = os.Stderr
	if err := r.cmd.Start(); err != nil {
		r.t.Fatal(err)
	}
}

// kill ends it as a power cut would.
func (r *aRunner) kill() {
	if r.cmd != nil {
		_ = r.cmd.Process.Kill()
		_, _ = r.cmd.Process.Wait()
		r.cmd = nil
	}
}

// runnerFor starts a runner of an application that it finds at an address, with a key for it.
func runnerFor(t *testing.T, file string, s *server, name, at string) *aRunner {
	t.Helper()
	out, err := exec.Command(file, "keys", "make", name, "--data", s.data, "--may", "run", "--on", "runner:"+name).Output()
	if err != nil {
		t.Fatal(err)
	}
	said := strings.Fields(string(out))
	r := &aRunner{t: t, file: file, key: said[len(said)-1],
		args: []string{"runner", "--join", at, "--name", name, "--data", filepath.Join(t.TempDir(), "runner")}}
	t.Cleanup(r.kill)
	r.start()
	return r
}

// beyond is an application, and a runner beside two brokers and a target that it alone is to reach.
type beyond struct {
	t       *testing.T
	file    string
	data    string
	address string
	s       *server
	r       *aRunner
	sources map[string]source
	mu      sync.Mutex
	keys    map[string]map[string]int // by message that came to the target, how often under which key
}

// startBeyond starts all of it. through gives the address at which the runner finds the application.
func startBeyond(t *testing.T, through func(base string) string) *beyond {
	t.Helper()
	w := &beyond{t: t, file: program(t), data: filepath.Join(t.TempDir(), "data"), address: freeAddress(t),
		keys: map[string]map[string]int{}, sources: map[string]source{"mqtt": mqttSource(t), "nats": natsSource(t)}}
	target := serveOn(t, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		w.mu.Lock()
		defer w.mu.Unlock()
		n := r.Header.Get("X-N")
		if w.keys[n] == nil {
			w.keys[n] = map[string]int{}
		}
		w.keys[n][r.Header.Get("Idempotency-Key")]++
	}))
	w.s = launch(t, w.file, w.data, w.address)
	w.s.must("PUT", "/api/v1/connections/shelf", fmt.Sprintf(
		`{"readyferry":"connection/1","name":"shelf","kind":"http","address":%q,"at":"depot"}`, target))
	for kind, from := range w.sources {
		w.s.must("PUT", "/api/v1/connections/"+kind, fmt.Sprintf(
			`{"readyferry":"connection/1","name":%q,"kind":%q,"address":%q,"at":"depot"%s}`, kind, kind, from.address, from.says))
		w.s.must("PUT", "/api/v1/flows/"+kind, fmt.Sprintf(`{"readyferry":"flow/1","name":%[1]q,"intake":%[2]s,"steps":[
			{"id":"h","kind":"set","headers":{"x-n":"%[1]s ${body.n}"}},{"id":"d","kind":"deliver","to":"shelf","path":"/",
			"retry":{"first":"100ms","cap":"1s","tries":100}}]}`, kind, from.intake))
		w.s.must("POST", "/api/v1/flows/"+kind+"/publish?sure=true", "")
	}
	w.r = runnerFor(t, w.file, w.s, "depot", through(w.s.base))
	for kind, from := range w.sources { // each has asked for messages
		for n := -1; len(w.s.references(kind)) == 0; n-- {
			if err := from.put(n); err != nil {
				t.Fatal(kind, err)
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	return w
}

// restart kills the application and starts it anew.
func (w *beyond) restart() {
	w.t.Helper()
	w.s.kill()
	w.s = launch(w.t, w.file, w.data, w.address)
}

// aRound is how many messages of each source come in a round.
const aRound = 40

// round puts messages, and does something in the middle of them.
func (w *beyond) round(n int, do func()) {
	w.t.Helper()
	at := rand.IntN(aRound)
	for i := range aRound {
		for kind, from := range w.sources {
			if err := from.put(n*aRound + i); err != nil {
				w.t.Fatal(kind, err)
			}
		}
		if i == at {
			do()
		}
	}
}

func (w *beyond) missing(kind string, all int) (n int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := range all {
		if len(w.keys[fmt.Sprintf("%s %d", kind, i)]) == 0 {
			n++
		}
	}
	return n
}

// accounted wants each message of so many rounds at the target under one key, and inside once.
func (w *beyond) accounted(rounds int) {
	w.t.Helper()
	all := rounds * aRound
	for kind := range w.sources {
		for range 4800 {
			if w.missing(kind, all) == 0 {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		if n := w.missing(kind, all); n > 0 {
			w.t.Errorf("%d of %d of %s are not at the target", n, all, kind)
		}
		for n, times := range w.s.references(kind) {
			if times != 1 {
				w.t.Errorf("message %s of %s is inside %d times", n, kind, times)
			}
		}
	}
	twice := 0
	for n, of := range w.keys {
		if len(of) != 1 {
			w.t.Errorf("message %s came under %d keys", n, len(of))
		}
		for _, times := range of {
			twice += times - 1
		}
	}
	w.t.Logf("%d messages, %d repeats under the same key", len(w.keys), twice)
	w.noticed(true)
}

// noticed waits until the application takes the runner for there, or away.
func (w *beyond) noticed(there bool) {
	w.t.Helper()
	for range 4800 {
		var runners []struct{ There bool }
		if err := json.Unmarshal(w.s.must("GET", "/api/v1/runners", ""), &runners); err != nil {
			w.t.Fatal(err)
		}
		if len(runners) == 1 && runners[0].There == there {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	w.t.Fatalf("the application never takes the runner for there: %v", there)
}

// rounds is how many rounds are wanted: few, or as many as READYFERRY_CRASH_ROUNDS says.
func rounds() int {
	if n, err := strconv.Atoi(os.Getenv("READYFERRY_CRASH_ROUNDS")); err == nil {
		return n
	}
	return 3
}

// Beyond a firewall a runner receives from brokers and delivers. It is killed at random, and so is the
// application: what was received is inside once, and at the target under one key.
func TestNothingIsLostWhenARunnerIsKilled(t *testing.T) {
	w := startBeyond(t, func(base string) string { return base })
	for n := range rounds() {
		w.round(n, func() {
			switch n % 3 {
			case 0:
				w.r.kill()
				w.r.start()
			case 1: // both, the runner while nobody is there
				w.s.kill()
				w.r.kill()
				w.r.start()
				w.s = launch(t, w.file, w.data, w.address)
			default:
				w.restart()
			}
		})
	}
	w.accounted(rounds())
}

// A line that is slow and loses something, that is cut off with a word, and that swallows everything
// without one, as a network does that is gone: nothing is lost and nothing is inside twice.
func TestNothingIsLostWhenALineIsCut(t *testing.T) {
	var way *badWay
	w := startBeyond(t, func(base string) string {
		way = newBadWay(t, strings.TrimPrefix(base, "http://"))
		return "http://" + way.address
	})
	for n := range rounds() {
		w.round(n, func() {
			w.noticed(true)
			switch n % 3 {
			case 0:
				way.be(slow)
			case 1:
				way.be(swallowing)
				if n%2 == 1 { // else it is over before anybody has noticed
					w.noticed(false)
				}
				way.be(good)
			default:
				way.cut()
				way.be(good)
			}
		})
	}
	way.be(good)
	w.accounted(rounds())
}
