package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// patrons is a register that only the runner reaches, and that counts which key came how often.
type patrons struct {
	mu   sync.Mutex
	keys map[string]int
	ill  bool
}

// born is what the register says and nobody outside is to hear.
const born = "1958-11-02"

func (p *patrons) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ill {
		w.WriteHeader(http.StatusGone)
		return
	}
	p.keys[r.URL.Path+" "+r.Header.Get("Idempotency-Key")]++
	w.Header().Set("Content-Type", "application/json")
	_, _ = fmt.Fprintf(w, `{"card":%q,"born":%q,"blocked":false}`, r.URL.Path[1:], born)
}

// under tells whether a file below a folder holds some bytes.
func under(t *testing.T, dir, what string) (found []string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if bytes.Contains(b, []byte(what)) {
			found = append(found, path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return found
}

// A flow that is called with at: runs at the runner with all that it reads: the application has what
// was handed over and the answer. Killed in the middle, each call comes to its end once; what fails
// there fails here, and goes on there when it is sent again.
func TestAFlowRunsAtARunner(t *testing.T) {
	file, data := program(t), filepath.Join(t.TempDir(), "data")
	address := freeAddress(t)
	register := &patrons{keys: map[string]int{}}
	target := serveOn(t, register)
	s := launch(t, file, data, address)
	s.must("PUT", "/api/v1/connections/register", fmt.Sprintf(
		`{"readyferry":"connection/1","name":"register","kind":"http","address":%q,"at":"depot",
		"sign-in":{"kind":"bearer","secret":"s3cret-of-the-depot"}}`, target))
	s.must("PUT", "/api/v1/tables/branches", `{"readyferry":"table/1","name":"branches","columns":["card","until"],"keys":[["card"]],
		"default":{"card":"?","until":"2030"}}`)
	s.must("PUT", "/api/v1/flows/may-borrow", `{"readyferry":"flow/1","name":"may-borrow","intake":{"kind":"subflow","format":"json"},
		"steps":[{"id":"until","kind":"lookup","in":"branches","key":"body.card","missing":"default"},
		{"id":"who","kind":"ask","of":"register","path":"/${body.card}","retry":{"first":"100ms","tries":2}},
		{"id":"say","kind":"answer","text":"{\"may\": ${!replies.who.body.blocked && replies.who.body.born < \"2010\"}}"}]}`)
	s.must("POST", "/api/v1/flows/may-borrow/publish", "")
	s.must("PUT", "/api/v1/flows/loans", `{"readyferry":"flow/1","name":"loans","intake":{"kind":"webhook","path":"/loans","format":"json",
		"reference":"body.card"},"steps":[{"id":"ask","kind":"subflow","flow":"may-borrow","at":"depot","wait":true,"within":"5m"},
		{"id":"note","kind":"map","as":"json","fields":[{"to":"/may","from":"replies.ask.body.may"}]},
		{"id":"put","kind":"deliver","to":{"queue":"desk","readers":"outside"}}]}`)
	s.must("POST", "/api/v1/flows/loans/publish", "")
	r := runnerFor(t, file, s, "depot", s.base)
	const all = 60
	for n := range all {
		s.must("POST", "/in/loans", fmt.Sprintf(`{"card":"c%d"}`, n))
		switch n {
		case 15:
			r.kill()
			r.start()
		case 30:
			s.kill()
			s = launch(t, file, data, address)
		case 45:
			s.kill()
			r.kill()
			r.start()
			s = launch(t, file, data, address)
		}
	}
	ended := func(state string, want int) {
		t.Helper()
		var n int
		for range 4800 {
			var rows []json.RawMessage
			if err := json.Unmarshal(s.must("GET", "/api/v1/transactions?flow=loans&limit=200&state="+state, ""),
				&rows); err != nil {
				t.Fatal(err)
			}
			if n = len(rows); n == want {
				return
			}
			time.Sleep(25 * time.Millisecond)
		}
		t.Fatalf("%d are %s, not %d", n, state, want)
	}
	ended("delivered", all)
	register.mu.Lock()
	if len(register.keys) != all {
		t.Errorf("%d questions under so many keys, not %d", len(register.keys), all)
	}
	register.ill = true
	register.mu.Unlock()
	s.must("POST", "/in/loans", `{"card":"late"}`)
	ended("dead%20letter", 1)
	var letters []struct{ ID, Reason string }
	if err := json.Unmarshal(s.must("GET", "/api/v1/dead-letters?limit=10", ""), &letters); err != nil ||
		len(letters) != 1 ||
		!strings.Contains(letters[0].Reason, "the flow may-borrow failed there") || !strings.Contains(letters[0].Reason,
		"410") {
		t.Fatalf("%+v %v", letters, err)
	}
	register.mu.Lock()
	register.ill = false
	register.mu.Unlock()
	s.must("POST", "/api/v1/dead-letters/resend", fmt.Sprintf(`{"ids":[%q],"why":"the register is well"}`,
		letters[0].ID))
	ended("delivered", all+1)
	s.kill()
	r.kill()
	dir := r.args[len(r.args)-1]
	if found := under(t, data, born); len(found) > 0 {
		t.Errorf("what was not to leave is at the application: %v", found)
	}
	if found := under(t, dir, born); len(found) == 0 {
		t.Error("nothing is at the runner either: the test looks for the wrong thing")
	}
	if found := under(t, dir, "s3cret-of-the-depot"); len(found) > 0 {
		t.Errorf("a secret lies open at the runner: %v", found)
	}
}
