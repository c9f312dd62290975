package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"runtime/debug"
	"runtime/pprof"
	"time"

	"readyferry/api"
	"readyferry/connect/systems"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/engine"
	"readyferry/standin"
	"readyferry/store"
	"readyferry/store/body"
)

// backlog is an application of its own over a folder in which many messages wait for a
// target that is held.
type backlog struct {
	rig     *rig
	dir     string
	store   *store.Store
	engine  *engine.Engine
	server  func() error
	address string
}

// newBacklog makes the folder, with so many messages that are due.
func (r *rig) newBacklog(waiting int) (*backlog, error) {
	b := &backlog{rig: r}
	var err error
	if b.dir, err = os.MkdirTemp("", "backlog-"); err != nil {
		return nil, err
	}
	if err := b.start(); err != nil {
		return nil, err
	}
	if err := prepare(b.engine, r.target.address); err != nil {
		return nil, err
	}
	b.stop()
	s, err := store.Open(b.dir)
	if err != nil {
		return nil, err
	}
	for done := 0; done < waiting; done += 1000 {
		if err := s.Write(context.Background(), func(tx *store.Tx) error { return fill(tx, r, min(1000, waiting-done)) }); err != nil {
			return nil, err
		}
	}
	return b, s.Close()
}

// fill stores messages as they are when they have been accepted.
func fill(tx *store.Tx, r *rig, n int) error {
	now := time.Now().UTC()
	for range n {
		content := r.message()
		t := &store.Transaction{ID: store.NewID(), Flow: "bench", Version: 1, ReceivedAt: now, Place: "choose.a/a",
			PlaceText: "deliver to target"}
		m := &store.Message{Tx: t.ID, Headers: []byte(`[{"name":"Content-Type","value":"application/json"}]`), Params: []byte("[]"),
			Query: []byte("[]"), Warnings: []byte("null"), Source: "webhook POST /in/bench", Body: body.OfMessage(content)}
		if err := tx.AddTransaction(t, m); err != nil {
			return err
		}
		id, err := store.ParseID(run.DeliveryID(t.ID.String(), "choose.a/a"))
		if err != nil {
			return err
		}
		if err := tx.AddDelivery(&store.Delivery{ID: id, Tx: t.ID, Flow: "bench", Path: "choose.a/a", Step: "a", Target: "target",
			Request: []byte(`{"method":"POST","path":"/a","headers":[{"name":"Content-Type","value":"application/json"}],"format":"json"}`),
			Body:    body.AsMessage(content, 0), Plan: []byte(`{}`), NextAt: &now, CreatedAt: now}); err != nil {
			return err
		}
	}
	return nil
}

// start opens the folder and sets everything going, as the application does.
func (b *backlog) start() error {
	var err error
	if b.store, err = store.Open(b.dir); err != nil {
		return err
	}
	all, err := systems.All(systems.Surroundings{})
	if err != nil {
		return err
	}
	reader, err := plan.NewReader(all.Kinds()...)
	if err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	if b.engine, err = engine.New(engine.Config{Store: b.store, Reader: reader, Systems: all, Log: log}); err != nil {
		return err
	}
	standIns := standin.NewSet(time.Now, func() {})
	if err := b.engine.Design.LoadStandIns(standIns); err != nil {
		return err
	}
	if err := b.engine.Start(); err != nil {
		return err
	}
	b.address, b.server, err = listen(api.New(api.Config{Engine: b.engine, StandIns: standIns, Log: log}))
	return err
}

func (b *backlog) stop() {
	b.engine.Close()
	b.engine.Stop()
	_ = b.server()
	_ = b.store.Close()
}

// profiled profiles until it is ended, where that is asked for.
func (r *rig) profiled() (end func()) {
	if r.profile == nil || pprof.StartCPUProfile(r.profile) != nil {
		return func() {}
	}
	return pprof.StopCPUProfile
}

// memory gives the bytes that the process holds, when all that can be given back is.
func memory() float64 {
	debug.FreeOSMemory()
	b, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	var total, resident float64
	_, _ = fmt.Fscan(bytes.NewReader(b), &total, &resident)
	return resident * float64(os.Getpagesize())
}

// backlogs are the rows about many messages that wait.
func (r *rig) backlogs(many, few int) []measure {
	with := func(do func(b *backlog) (float64, error)) func(time.Duration) (float64, float64, error) {
		return func(time.Duration) (ours, other float64, err error) {
			for _, side := range []struct {
				waiting int
				into    *float64
			}{{few, &other}, {many, &ours}} {
				b, err := r.newBacklog(side.waiting)
				if err != nil {
					return 0, 0, err
				}
				*side.into, err = do(b)
				_ = os.RemoveAll(b.dir)
				if err != nil {
					return 0, 0, err
				}
			}
			return ours, other, nil
		}
	}
	started := func(b *backlog) (float64, error) {
		began := time.Now()
		if err := b.start(); err != nil {
			return 0, err
		}
		res, err := http.Get(b.address + "/healthz")
		took := time.Since(began).Seconds()
		if err == nil {
			err = res.Body.Close()
		}
		b.stop()
		return took, err
	}
	held := func(do func(b *backlog) (float64, error)) func(b *backlog) (float64, error) {
		return func(b *backlog) (float64, error) {
			r.target.door.Lock()
			err := b.start()
			var out float64
			if err == nil {
				out, err = do(b)
			}
			r.target.door.Unlock()
			b.stop()
			return out, err
		}
	}
	accepting := held(func(b *backlog) (float64, error) {
		l, err := r.call(b.address+"/in/bench", 4*time.Second)
		return l.perSecond, err
	})
	holding := held(func(b *backlog) (float64, error) {
		time.Sleep(2 * time.Second)
		return memory(), nil
	})
	draining := func(b *backlog) (float64, error) {
		if err := b.start(); err != nil {
			return 0, err
		}
		before, began := r.target.n.Load(), time.Now()
		defer r.profiled()()
		for r.target.n.Load()-before < int64(few)*9/10 {
			time.Sleep(time.Millisecond)
		}
		out := float64(r.target.n.Load()-before) / time.Since(began).Seconds()
		b.stop()
		return out, nil
	}
	// Another flow sends to the same target, one message after the other.
	beside := func(b *backlog) (float64, error) {
		if err := b.start(); err != nil {
			return 0, err
		}
		defer b.stop()
		if err := publish(b.engine, "other", "readyferry: flow/1\nname: other\nintake: {kind: webhook, path: /other}\n"+
			"steps: [{id: d, kind: deliver, to: target, path: /other}]\n"); err != nil {
			return 0, err
		}
		var took []float64
		for len(took) < 50 {
			began := time.Now()
			res, err := r.client.Post(b.address+"/in/other", "application/json", bytes.NewReader(r.message()))
			if err != nil {
				return 0, err
			}
			_ = res.Body.Close()
			<-r.target.other
			took = append(took, 1000*time.Since(began).Seconds())
		}
		return median(took), nil
	}
	name := fmt.Sprintf("with %d waiting", many)
	others := fmt.Sprint(few)
	return []measure{
		{"seconds until it is started, " + name, others, "≤ 2 s", with(started)},
		{"accepted, " + name, others, "≥ 0.9", with(accepting)},
		{"claimed and finished, " + name, others, "≥ 0.8", with(draining)},
		{"memory, " + name, others, "≤ 1.2, 256 MB", with(holding)},
		{"ms until a message of another flow is delivered, " + name, others, "≤ 2", with(beside)},
	}
}
