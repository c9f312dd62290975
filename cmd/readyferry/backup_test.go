package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// A backup is made while messages come from all sides. What it holds keeps all that is
// promised; all that was accepted before it began is in it; and where the application goes
// on from it, what is delivered once more has the key that it had.
func TestABackupUnderLoadHoldsAllThatWasAccepted(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	var mu sync.Mutex
	keys := map[string]map[string]bool{} // by message
	out := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var m struct{ N string }
		_ = json.NewDecoder(r.Body).Decode(&m)
		mu.Lock()
		defer mu.Unlock()
		if keys[m.N] == nil {
			keys[m.N] = map[string]bool{}
		}
		keys[m.N][r.Header.Get("Idempotency-Key")] = true
	}))
	defer out.Close()
	file, data := program(t), t.TempDir()
	s := launch(t, file, data, freeAddress(t))
	s.must("PUT", "/api/v1/connections/out", fmt.Sprintf(
		`{"readyferry":"connection/1","name":"out","kind":"http","address":%q}`, out.URL))
	s.must("PUT", "/api/v1/flows/f", `{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f"},
		"steps":[{"id":"d","kind":"deliver","to":"out"}]}`)
	s.must("POST", "/api/v1/flows/f/publish", "")

	ctx, stop := context.WithCancel(context.Background())
	accepted := map[string]time.Time{} // by transaction
	var all sync.WaitGroup
	for caller := range 8 {
		all.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				res, err := http.Post(s.base+"/in/f", "application/json", strings.NewReader(fmt.Sprintf(`{"n":"%d-%d"}`, caller, n)))
				if err != nil {
					continue
				}
				b, err := io.ReadAll(res.Body)
				_ = res.Body.Close()
				var a struct{ Transaction string }
				if err == nil && res.StatusCode == http.StatusAccepted && json.Unmarshal(b, &a) == nil {
					mu.Lock()
					accepted[a.Transaction] = time.Now()
					mu.Unlock()
				}
			}
		})
	}
	for enough := false; !enough; time.Sleep(5 * time.Millisecond) {
		mu.Lock()
		enough = len(accepted) >= 200
		mu.Unlock()
	}
	backup, began := filepath.Join(t.TempDir(), "backup.tar"), time.Now()
	if _, errs, code := execute(t, file, "backup", "--data", data, "--to", backup); code != 0 {
		t.Fatal(errs)
	}
	stop()
	all.Wait()
	s.kill()

	again := filepath.Join(t.TempDir(), "again")
	if _, errs, code := execute(t, file, "restore", "--from", backup, "--data", again); code != 0 {
		t.Fatal(errs)
	}
	if said, errs, code := execute(t, file, "verify", "--data", again); code != 0 || !strings.Contains(said, "checks hold") {
		t.Fatal(said, errs)
	}
	s = launch(t, file, again, freeAddress(t))
	before := 0
	for id, at := range accepted {
		if at.After(began) {
			continue
		}
		before++
		if status, b := s.send("GET", "/api/v1/transactions/"+id, ""); status != 200 {
			t.Errorf("%s was accepted before the backup: %d %s", id, status, b)
		}
	}
	if before < 200 {
		t.Errorf("only %d were accepted before the backup", before)
	}
	for open := true; open; time.Sleep(20 * time.Millisecond) {
		var page []any
		if err := json.Unmarshal(s.must("GET", "/api/v1/transactions?state=under%20way", ""), &page); err != nil {
			t.Fatal(err)
		}
		open = len(page) > 0
	}
	mu.Lock()
	defer mu.Unlock()
	for n, all := range keys {
		if len(all) > 1 {
			t.Errorf("%s was delivered under %d keys", n, len(all))
		}
	}
}

func TestBackupAndVerifySayWhatIsWrong(t *testing.T) {
	file, nowhere := program(t), filepath.Join(t.TempDir(), "nowhere")
	for _, args := range [][]string{{"verify", "--data", nowhere}, {"backup", "--data", nowhere, "--to", "-"}} {
		if _, errs, code := execute(t, file, args...); code != 2 || !strings.Contains(errs, "there is no journal in") {
			t.Errorf("%v: %d %s", args, code, errs)
		}
	}
	there := write(t, "there.tar", "something")
	if _, errs, code := execute(t, file, "restore", "--from", there, "--data", nowhere); code != 1 ||
		!strings.Contains(errs, "it is no") {
		t.Errorf("%d %s", code, errs)
	}
	if _, errs, code := execute(t, file, "backup", "--data", nowhere, "--to", there); code != 2 ||
		!strings.Contains(errs, "not there yet") {
		t.Errorf("%d %s", code, errs)
	}
}
