package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"
)

// Who waits for an end while the member that leads is stopped is told 503 or what is true, by whichever member they
// have called, and what is stored comes to its end under the one that leads then.
func TestStoppingAMemberIsHonestToWhoWaits(t *testing.T) {
	for _, parts := range []int{1, 3} {
		t.Run(fmt.Sprint(parts), func(t *testing.T) { stopsHonestly(t, newFleetOf(t, parts, "http://", "a", "b", "c")) })
	}
}

func stopsHonestly(t *testing.T, w *aFleet) {
	var mu sync.Mutex
	begun, ended := map[int]bool{}, map[int]bool{}
	slow := make(chan struct{})
	target := serveOn(t, http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		var m struct{ N int }
		b, err := io.ReadAll(r.Body)
		if err != nil || json.Unmarshal(b, &m) != nil {
			return
		}
		mu.Lock()
		begun[m.N] = true
		mu.Unlock()
		select {
		case <-slow:
		case <-r.Context().Done():
			return
		}
		mu.Lock()
		ended[m.N] = true
		mu.Unlock()
	}))
	w.client.Timeout = 10 * time.Minute // no machine is so slow that nobody waits any more
	for _, name := range w.names {
		w.start(name)
	}
	w.must("PUT", "/api/v1/connections/out", fmt.Sprintf(
		`{"readyferry":"connection/1","name":"out","kind":"http","address":%q,"limits":{"in-flight":60}}`, target))
	w.must("PUT", "/api/v1/flows/f", `{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f","format":"json",
		"order":"string(body.n)","answer":"finished","wait":"5m"},"steps":[{"id":"d","kind":"deliver","to":"out","path":"/"}]}`)
	w.must("POST", "/api/v1/flows/f/publish", "")
	w.whole(1000)
	const calls = 30
	var all sync.WaitGroup
	told, kept := 0, 0 // that it is stored, and that it has come to its end
	for n := range calls {
		all.Go(func() {
			status, said, err := w.send(w.names[n%3], "POST", "/in/f", fmt.Sprintf(`{"n":%d}`, n))
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err != nil:
				t.Errorf("%d is cut off: %v", n, err)
			case status == http.StatusServiceUnavailable:
				if strings.Contains(string(said), "stored as transaction") {
					told++
				}
			case status != http.StatusOK && status != http.StatusAccepted:
				t.Errorf("%d is answered %d %s", n, status, said)
			case !ended[n]:
				t.Errorf("%d is answered %d %s, and has not come to its end", n, status, said)
			default:
				kept++
			}
		})
	}
	until(t, "all of them wait for the target", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(begun) == calls
	})
	s, err := w.status("a")
	if err != nil {
		t.Fatal(err)
	}
	w.stop(s.Leader)
	w.start(s.Leader)
	close(slow)
	all.Wait()
	until(t, "all have come to their end", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(ended) == calls
	})
	t.Logf("%d callers were told that it is stored, and %d of the end", told, kept)
	if told == 0 {
		t.Error("nobody was told that it is stored")
	}
	w.alike()
}

// until waits until something is so.
func until(t *testing.T, what string, is func() bool) {
	t.Helper()
	for range 2400 {
		if is() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("it never comes to that: %s", what)
}
