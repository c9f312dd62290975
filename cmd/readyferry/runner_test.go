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

// runnerFor starts a runner of an application, with a key for it.
func runnerFor(t *testing.T, file string, s *server, name string) *aRunner {
	t.Helper()
	out, err := exec.Command(file, "keys", "make", name, "--data", s.data, "--may", "run", "--on", "runner:"+name).Output()
	if err != nil {
		t.Fatal(err)
	}
	said := strings.Fields(string(out))
	r := &aRunner{t: t, file: file, key: said[len(said)-1],
		args: []string{"runner", "--join", s.base, "--name", name, "--data", filepath.Join(t.TempDir(), "runner")}}
	t.Cleanup(r.kill)
	r.start()
	return r
}

// Beyond a firewall a runner receives from brokers and delivers. It is killed at random, and so is the
// application: what was received is inside once, and at the target under one key.
func TestNothingIsLostWhenARunnerIsKilled(t *testing.T) {
	rounds := 3
	if text := os.Getenv("READYFERRY_CRASH_ROUNDS"); text != "" {
		rounds, _ = strconv.Atoi(text)
	}
	var mu sync.Mutex
	keys := map[string]map[string]int{} // by message, how often under which key
	target := serveOn(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		n := r.Header.Get("X-N")
		if keys[n] == nil {
			keys[n] = map[string]int{}
		}
		keys[n][r.Header.Get("Idempotency-Key")]++
	}))
	file, data, address := program(t), filepath.Join(t.TempDir(), "data"), freeAddress(t)
	s := launch(t, file, data, address)
	sources := map[string]source{"mqtt": mqttSource(t), "nats": natsSource(t)}
	s.must("PUT", "/api/v1/connections/shelf", fmt.Sprintf(
		`{"readyferry":"connection/1","name":"shelf","kind":"http","address":%q,"at":"depot"}`, target))
	for kind, from := range sources {
		s.must("PUT", "/api/v1/connections/"+kind, fmt.Sprintf(
			`{"readyferry":"connection/1","name":%q,"kind":%q,"address":%q,"at":"depot"%s}`, kind, kind, from.address, from.says))
		s.must("PUT", "/api/v1/flows/"+kind, fmt.Sprintf(`{"readyferry":"flow/1","name":%[1]q,"intake":%[2]s,"steps":[
			{"id":"h","kind":"set","headers":{"x-n":"%[1]s ${body.n}"}},{"id":"d","kind":"deliver","to":"shelf","path":"/",
			"retry":{"first":"100ms","cap":"1s","tries":100}}]}`, kind, from.intake))
		s.must("POST", "/api/v1/flows/"+kind+"/publish?sure=true", "")
	}
	r := runnerFor(t, file, s, "depot")
	for kind, from := range sources { // each has asked for messages
		for n := -1; len(s.references(kind)) == 0; n-- {
			if err := from.put(n); err != nil {
				t.Fatal(kind, err)
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	const each = 40
	put := func(n int) {
		for kind, from := range sources {
			if err := from.put(n); err != nil {
				t.Fatal(kind, err)
			}
		}
	}
	for round := range rounds {
		cut := rand.IntN(each)
		for i := range each {
			put(round*each + i)
			if i != cut {
				continue
			}
			switch round % 3 {
			case 0:
				r.kill()
				r.start()
			case 1: // both, the runner while nobody is there
				s.kill()
				r.kill()
				r.start()
				s = launch(t, file, data, address)
			default:
				s.kill()
				s = launch(t, file, data, address)
			}
		}
	}
	all := rounds * each
	missing := func(kind string) (n int) {
		mu.Lock()
		defer mu.Unlock()
		for i := range all {
			if len(keys[fmt.Sprintf("%s %d", kind, i)]) == 0 {
				n++
			}
		}
		return n
	}
	for kind := range sources {
		for range 2400 {
			if missing(kind) == 0 {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		if n := missing(kind); n > 0 {
			t.Errorf("%d of %d of %s are not at the target", n, all, kind)
		}
		for n, times := range s.references(kind) {
			if times != 1 {
				t.Errorf("message %s of %s is inside %d times", n, kind, times)
			}
		}
	}
	twice := 0
	for n, of := range keys {
		if len(of) != 1 {
			t.Errorf("message %s came under %d keys", n, len(of))
		}
		for _, times := range of {
			twice += times - 1
		}
	}
	t.Logf("%d messages, %d repeats under the same key", len(keys), twice)
	var runners []struct {
		Name  string
		There bool
	}
	if err := json.Unmarshal(s.must("GET", "/api/v1/runners", ""), &runners); err != nil || len(runners) != 1 || !runners[0].There {
		t.Errorf("%+v %v", runners, err)
	}
}
