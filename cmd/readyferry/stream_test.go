//go:build linux

package main

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// largest gives the most memory that a process has had, in bytes.
func largest(t *testing.T, pid int) int64 {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(b)) {
		var kB int64
		if _, err := fmt.Sscanf(line, "VmHWM: %d kB", &kB); err == nil {
			return kB << 10
		}
	}
	t.Fatal("the system does not say")
	return 0
}

// Bodies of 64 MB that no step reads go from the callers to the disk and from there to the
// targets, another system and files, several at once, and the process does not grow by as much as two of them.
func TestLargeBodiesAreNotHeld(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	var mu sync.Mutex
	came := map[string]string{} // what they hash to → key
	out := serveOn(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		sum := sha256.New()
		n, err := io.Copy(sum, r.Body)
		if err != nil || n != r.ContentLength {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		mu.Lock()
		defer mu.Unlock()
		came[hex.EncodeToString(sum.Sum(nil))] = r.Header.Get("Idempotency-Key")
	}))
	folder := t.TempDir()
	t.Setenv("GOGC", "100") // what is counted is what is held, not what waits to be collected
	s := launch(t, program(t), t.TempDir(), freeAddress(t), "--files", folder)
	s.must("PUT", "/api/v1/connections/out", fmt.Sprintf(`{"readyferry":"connection/1","name":"out","kind":"http","address":%q,
		"limits":{"in-flight":2}}`, out))
	s.must("PUT", "/api/v1/connections/kept",
		fmt.Sprintf(`{"readyferry":"connection/1","name":"kept","kind":"files","address":"file://%s",
		"limits":{"in-flight":2}}`, folder))
	s.must("PUT", "/api/v1/flows/f", "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f, format: binary, limit: 67108864}\n"+
		"steps: [{id: d, kind: deliver, to: out}, {id: k, kind: deliver, to: kept, name: '${message.id}'}]\n")
	s.must("POST", "/api/v1/flows/f/publish", "")
	s.must("POST", "/in/f", "small")
	before := largest(t, s.cmd.Process.Pid)
	const size, bodies = 64 << 20, 6
	want := make([]string, bodies)
	var all sync.WaitGroup
	for i := range bodies {
		all.Go(func() {
			sum := sha256.New()
			from := io.TeeReader(io.LimitReader(rand.NewChaCha8([32]byte{byte(i)}), size), sum)
			if i == 0 { // one that compresses
				from = io.TeeReader(io.LimitReader(repeating{}, size), sum)
			}
			req, err := http.NewRequest(http.MethodPost, s.base+"/in/f", from)
			if err != nil {
				t.Error(err)
				return
			}
			req.ContentLength = size
			req.Header.Set("Content-Type", "application/octet-stream")
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Error(err)
				return
			}
			_ = res.Body.Close()
			if res.StatusCode != http.StatusAccepted {
				t.Errorf("%d", res.StatusCode)
			}
			want[i] = hex.EncodeToString(sum.Sum(nil))
		})
	}
	all.Wait()
	missing := bodies
	for range 600 {
		missing = 0
		mu.Lock()
		for _, sum := range want {
			if came[sum] == "" {
				missing++
			}
		}
		mu.Unlock()
		if whole, _ := filepath.Glob(filepath.Join(folder, "[^.]*")); len(whole) < bodies+1 { // the small one, too
			missing++
		}
		if missing == 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if missing > 0 {
		t.Fatalf("%d of %d did not arrive as they were sent", missing, bodies)
	}
	files := hashes(t, folder)
	for _, sum := range want {
		if !files[sum] {
			t.Error("a file does not hold what was sent")
		}
	}
	grew := largest(t, s.cmd.Process.Pid) - before
	t.Logf("it grew by %d MB", grew>>20)
	if grew > 2*size {
		t.Errorf("it grew by %d bytes over %d bodies of %d", grew, bodies, size)
	}
	// One that is larger than it may be, and one whose caller goes away, leave nothing.
	req, _ := http.NewRequest(http.MethodPost, s.base+"/in/f", io.LimitReader(repeating{}, size+1))
	req.Header.Set("Content-Type", "application/octet-stream")
	if res, err := http.DefaultClient.Do(req); err == nil {
		_ = res.Body.Close()
		if res.StatusCode != http.StatusRequestEntityTooLarge {
			t.Errorf("a body that is too large: %d", res.StatusCode)
		}
	}
}

// hashes gives what the files of a folder hash to.
func hashes(t *testing.T, folder string) map[string]bool {
	t.Helper()
	names, err := filepath.Glob(filepath.Join(folder, "*"))
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]bool{}
	for _, name := range names {
		f, err := os.Open(name)
		if err != nil {
			t.Fatal(err)
		}
		sum := sha256.New()
		_, err = io.Copy(sum, f)
		if err = errors.Join(err, f.Close()); err != nil {
			t.Fatal(err)
		}
		out[hex.EncodeToString(sum.Sum(nil))] = true
	}
	return out
}

// repeating is an endless text.
type repeating struct{}

func (repeating) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = "all the same "[i%13]
	}
	return len(p), nil
}
