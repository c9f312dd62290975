package main

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"readyferry/engine/intake"
)

// measures are the rows of the table.
func (r *rig) measures() []measure {
	var bareAt, pipeAt, keptAt string
	ready := func(at *string, make func() (string, error)) error {
		if *at != "" {
			return nil
		}
		var err error
		*at, err = make()
		return err
	}
	other := func() error {
		return ready(&bareAt, func() (string, error) { at, err := r.serve(bare()); return at + "/bare", err })
	}
	mine := r.address + "/in/bench"
	accept := func(held bool, of func(l load) float64) func(each time.Duration) (float64, float64, error) {
		return func(each time.Duration) (ours, theirs float64, err error) {
			if err := other(); err != nil {
				return 0, 0, err
			}
			if held {
				r.target.door.Lock()
			}
			var l load
			err = r.ours(func() error { l, err = r.call(mine, each); return err })
			if held {
				r.target.door.Unlock()
			}
			if err != nil {
				return 0, 0, err
			}
			ours = of(l)
			if err := r.settle(); err != nil {
				return 0, 0, err
			}
			time.Sleep(200 * time.Millisecond)
			if l, err = r.call(bareAt, each); err != nil {
				return 0, 0, err
			}
			return ours, of(l), nil
		}
	}
	perSecond, p99 := func(l load) float64 { return l.perSecond }, func(l load) float64 { return l.p99 }
	through := func(at *string, make func() (string, error)) func(each time.Duration) (float64, float64, error) {
		return func(each time.Duration) (ours, theirs float64, err error) {
			if err := ready(at, make); err != nil {
				return 0, 0, err
			}
			err = r.ours(func() error { ours, err = r.through(mine, each); return err })
			if err == nil {
				err = r.settle()
			}
			if err != nil {
				return 0, 0, err
			}
			time.Sleep(200 * time.Millisecond)
			theirs, err = r.through(*at, each)
			return ours, theirs, err
		}
	}
	return []measure{
		{"accepted while all is delivered", "a bare handler", "≥ 0.30", accept(false, perSecond)},
		{"p99 of the same", "the bare handler's", "≤ 3", accept(false, p99)},
		{"end to end", "a pipeline that keeps nothing", "≥ 0.50", through(&pipeAt, func() (string, error) {
			at, err := r.serve(pipeline(r.client, r.target.address, nil))
			return at + "/pipeline", err
		})},
		{"end to end, kept", "a pipeline with three commits a message", "≥ 1.5", through(&keptAt, func() (string, error) {
			k, err := newKept()
			if err != nil {
				return "", err
			}
			r.others = append(r.others, k.close)
			at, err := r.serve(pipeline(r.client, r.target.address, k))
			return at + "/pipeline", err
		})},
		{"accepted while the target is held", "a bare handler", "≥ 0.40", accept(true, perSecond)},
		{"ms of processor a part of a split of 10,000, delivered into a queue", "nothing", "≤ 0.15", r.parts(10_000)},
		{"ms of processor a message through a topic with two subscriptions", "nothing", "≤ 0.4", r.topic(2_000)},
	}
}

// cost gives milliseconds of processor for each of n.
func (r *rig) cost(n int, do func() error) (ms float64, err error) {
	err = r.ours(func() error {
		before := processor()
		if err := do(); err != nil {
			return err
		}
		err := r.settle()
		ms = (processor() - before).Seconds() * 1000 / float64(n)
		return err
	})
	return ms, err
}

// parts sends messages of n parts, each of which is put into a queue.
func (r *rig) parts(n int) func(time.Duration) (float64, float64, error) {
	return func(time.Duration) (float64, float64, error) {
		err := publish(r.engine, "parts", "readyferry: flow/1\nname: parts\nintake: {kind: webhook, path: /parts}\nsteps: "+
			"[{id: s, kind: split, each: body.l, steps: [{id: m, kind: map, fields: [{to: /n, from: part}]}, "+
			"{id: d, kind: deliver, to: {queue: bench-parts, readers: outside}}]}]\n")
		if err != nil {
			return 0, 0, err
		}
		list := `{"n":` + fmt.Sprint(serial.Add(1)) + `,"l":[0`
		for i := 1; i < n; i++ {
			list += fmt.Sprintf(",%d", i)
		}
		ms, err := r.cost(n, func() error { return r.send("/parts", list+"]}") })
		return ms, 1, err
	}
}

// topic sends n messages into a topic that two flows read under subscriptions of their own.
func (r *rig) topic(n int) func(time.Duration) (float64, float64, error) {
	return func(time.Duration) (float64, float64, error) {
		for _, name := range []string{"left", "right"} {
			if err := publish(r.engine, name, "readyferry: flow/1\nname: "+name+"\nintake: {kind: topic, topic: bench, "+
				"subscription: "+name+", format: json, in-flight: 32}\nsteps: [{id: n, kind: note, text: x}]\n"); err != nil {
				return 0, 0, err
			}
		}
		if err := publish(r.engine, "news", "readyferry: flow/1\nname: news\nintake: {kind: webhook, path: /news}\nsteps: "+
			"[{id: d, kind: deliver, to: {topic: bench}}]\n"); err != nil {
			return 0, 0, err
		}
		ms, err := r.cost(n, func() error {
			var all sync.WaitGroup
			var failed atomic.Pointer[error]
			for range connections {
				all.Go(func() {
					for range n / connections {
						if err := r.send("/news", `{"a":1}`); err != nil {
							failed.Store(&err)
						}
					}
				})
			}
			all.Wait()
			if err := failed.Load(); err != nil {
				return *err
			}
			return r.drained("left", "right")
		})
		return ms, 1, err
	}
}

// drained waits until subscriptions of the topic have nothing left.
func (r *rig) drained(subscriptions ...string) error {
	for {
		all, err := r.engine.Watch.Subscriptions("bench")
		if err != nil {
			return err
		}
		topic, err := r.engine.Watch.Topic("bench")
		if err != nil {
			return err
		}
		left := int64(0)
		for _, s := range all {
			left += topic.Next - s.Position
		}
		if left == 0 {
			return nil
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// send sends a message in without HTTP.
func (r *rig) send(path, body string) error {
	in, _ := r.engine.Intake.Find("POST", path)
	_, err := r.engine.Intake.Accept(context.Background(), in, intake.Call{Method: "POST", Path: path,
		Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(body)})
	return err
}
