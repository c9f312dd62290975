package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"runtime/debug"
	"runtime/pprof"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"readyferry/engine"
	"readyferry/engine/design"
	"readyferry/store"
)

// connections are how many callers call at once, and how many tries may be in flight.
const connections = 64

// rig is everything that is measured, on loopback.
type rig struct {
	client  *http.Client
	target  target
	dir     string
	store   *store.Store
	engine  *engine.Engine
	address string // of ours
	others  []func() error
	profile *os.File
	bodies  [][]byte
}

// target takes whatever it is given; while it is held it answers nobody.
type target struct {
	address string
	n       atomic.Int64
	door    sync.RWMutex
	other   chan struct{} // a message of the other flow has come
}

func (t *target) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	_, _ = io.Copy(io.Discard, r.Body)
	t.door.RLock()
	defer t.door.RUnlock()
	w.WriteHeader(http.StatusNoContent)
	t.n.Add(1)
	if r.URL.Path == "/other" {
		t.other <- struct{}{}
	}
}

// serve listens on loopback until the rig is closed.
func (r *rig) serve(h http.Handler) (string, error) {
	address, end, err := listen(h)
	r.others = append(r.others, end)
	return address, err
}

// listen serves on loopback until it is ended.
func listen(h http.Handler) (address string, end func() error, err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", func() error { return nil }, err
	}
	s := &http.Server{Handler: h}
	go func() { _ = s.Serve(l) }()
	return "http://" + l.Addr().String(), s.Close, nil
}

const flowText = `readyferry: flow/1
name: bench
intake: {kind: webhook, path: /bench}
steps:
- id: choose
  kind: route
  take: first
  ways:
  - {name: a, when: body.kind == "a", steps: [{id: a, kind: deliver, to: target, path: /a}]}
  - {name: b, when: body.kind == "b", steps: [{id: b, kind: deliver, to: target, path: /b}]}
  - {name: c, when: body.kind == "c", steps: [{id: c, kind: deliver, to: target, path: /c}]}
  - {name: d, when: body.kind == "d" && body.amount > 10, steps: [{id: d, kind: deliver, to: target, path: /d}]}
  - {name: e, when: body.kind == "e", steps: [{id: e, kind: deliver, to: target, path: /e}]}
`

func newRig() (*rig, error) {
	r := &rig{client: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: connections, MaxConnsPerHost: connections}}}
	for _, kind := range []string{"a", "b", "c", "d", "e"} {
		r.bodies = append(r.bodies, sample(kind))
	}
	r.target.other = make(chan struct{}, 1)
	var err error
	if r.target.address, err = r.serve(&r.target); err != nil {
		return nil, err
	}
	return r, r.open()
}

// open makes our side, on an empty folder.
func (r *rig) open() error {
	b := &backlog{rig: r}
	var err error
	if b.dir, err = os.MkdirTemp("", "bench-"); err != nil {
		return err
	}
	if err := b.start(); err != nil {
		return err
	}
	r.dir, r.store, r.engine, r.address = b.dir, b.store, b.engine, b.address
	r.others = append(r.others, b.server)
	return prepare(r.engine, r.target.address)
}

// prepare makes the connection to the target, and the flow.
func prepare(e *engine.Engine, target string) error {
	if _, err := e.Design.SaveConnection(context.Background(), "target", fmt.Appendf(nil, "readyferry: connection/1\nname: target\n"+
		"kind: http\naddress: %s\nlimits: {in-flight: %d}\n", target, connections), nil); err != nil {
		return err
	}
	return publish(e, "bench", flowText)
}

func publish(e *engine.Engine, name, text string) error {
	if _, _, err := e.Design.SaveDraft(context.Background(), name, []byte(text), nil); err != nil {
		return err
	}
	_, _, err := e.Design.Publish(context.Background(), name, design.Word{Sure: true})
	return err
}

func (r *rig) close() {
	r.engine.Close()
	r.engine.Stop()
	_ = r.store.Close()
	for _, c := range slices.Backward(r.others) {
		_ = c()
	}
	_ = os.RemoveAll(r.dir)
}

// sample is a message of 1 KB that differs from all others.
func sample(kind string) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, `{"request":"@@@@@@@@@@@@@@@@","kind":%q,"amount":12.50,"patron":{"card":"LC 4417 203","name":"maud"},"lines":[`, kind)
	for i := 0; b.Len() < 960; i++ {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, `{"item":"31408-%05d-7","qty":%d,"ok":true,"note":null}`, i, i)
	}
	b.WriteString("]}")
	return []byte(b.String())
}

var serial atomic.Int64

// message gives the next message.
func (r *rig) message() []byte {
	n := serial.Add(1)
	b := bytes.Clone(r.bodies[n%int64(len(r.bodies))])
	copy(b[bytes.IndexByte(b, '@'):], fmt.Sprintf("%016d", n))
	return b
}

// load is what callers have seen.
type load struct {
	perSecond, p99 float64
	n              int64
}

// call calls an address with all connections for a while.
func (r *rig) call(url string, each time.Duration) (load, error) {
	var all sync.WaitGroup
	var mu sync.Mutex
	var took []float64
	var failed error
	began := time.Now()
	for range connections {
		all.Go(func() {
			var mine []float64
			for time.Since(began) < each {
				at := time.Now()
				res, err := r.client.Post(url, "application/json", bytes.NewReader(r.message()))
				if err == nil {
					_, _ = io.Copy(io.Discard, res.Body)
					_ = res.Body.Close()
					if res.StatusCode/100 != 2 {
						err = fmt.Errorf("%s answers %s", url, res.Status)
					}
				}
				if err != nil {
					mu.Lock()
					failed = err
					mu.Unlock()
					return
				}
				mine = append(mine, time.Since(at).Seconds())
			}
			mu.Lock()
			took = append(took, mine...)
			mu.Unlock()
		})
	}
	all.Wait()
	slices.Sort(took)
	if failed != nil {
		return load{}, failed
	}
	return load{float64(len(took)) / time.Since(began).Seconds(), took[len(took)*99/100], int64(len(took))}, nil
}

// through calls for a while, waits until the target has everything, and gives messages a
// second over both.
func (r *rig) through(url string, each time.Duration) (float64, error) {
	before, began := r.target.n.Load(), time.Now()
	l, err := r.call(url, each)
	if err != nil {
		return 0, err
	}
	for r.target.n.Load()-before < l.n {
		if time.Since(began) > 20*each+time.Minute {
			return 0, fmt.Errorf("%d of %d came through", r.target.n.Load()-before, l.n)
		}
		time.Sleep(time.Millisecond)
	}
	return float64(l.n) / time.Since(began).Seconds(), nil
}

// written gives the bytes that this process has had written to disks.
func written() (n int64) {
	b, err := os.ReadFile("/proc/self/io")
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(b)) {
		if _, err := fmt.Sscanf(line, "write_bytes: %d", &n); err == nil {
			return n
		}
	}
	return 0
}

// processor gives what this process has used of the processors, client and target included.
func processor() time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// ours measures our side, with memory collected as the application has it, and the profile
// on where there is one.
func (r *rig) ours(do func() error) error {
	engine.TuneMemory()
	defer debug.SetGCPercent(100) // as programs have it that say nothing
	began, before, first, wrote := time.Now(), processor(), serial.Load(), written()
	defer func() {
		n := max(1, serial.Load()-first)
		fmt.Fprintf(os.Stderr, "processor: %.0f %% busy, %d µs a message, %d bytes written\n",
			100*float64(processor()-before)/float64(time.Since(began)), (processor()-before).Microseconds()/n, (written()-wrote)/n)
	}()
	if r.profile != nil {
		if err := pprof.StartCPUProfile(r.profile); err == nil {
			defer pprof.StopCPUProfile()
		}
	}
	return do()
}

// settle waits until nothing is under way.
func (r *rig) settle() error {
	for {
		totals, err := r.engine.Watch.Totals()
		if err != nil {
			return err
		}
		open := int64(0)
		for _, c := range totals {
			if c.State <= store.Waiting {
				open += c.N
			}
		}
		if open == 0 {
			return nil
		}
		time.Sleep(5 * time.Millisecond)
	}
}
