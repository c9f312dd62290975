package bench

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"readyferry/engine"
	"readyferry/engine/intake"
	"readyferry/store"
)

const inFlight = 8 // messages that are under way at once, as a connection has them

// each does something so many times, inFlight at once.
func each(n int, do func(i int)) {
	var all sync.WaitGroup
	places := make(chan struct{}, inFlight)
	for i := range n {
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			do(i)
		})
	}
	all.Wait()
}

// callAll sends as many messages in by a webhook.
func callAll(b *testing.B, e *engine.Engine, path string, n int) {
	b.Helper()
	in, _ := e.Intake.Find("POST", path)
	each(n, func(i int) {
		if _, err := e.Intake.Accept(context.Background(), in, intake.Call{Method: "POST", Path: path,
			Header: http.Header{"Content-Type": {"application/json"}}, Body: fmt.Appendf(nil, `{"n":%d}`, i)}); err != nil {
			b.Error(err)
		}
	})
}

// counterpart is a broker with a bare client of the library that the system uses.
type counterpart struct {
	connection      string        // what the connection's document says, besides its name
	intake, deliver string        // settings, in YAML
	put             func(n int)   // the bare client publishes to what the flow receives
	putAside        func(n int)   // to what the bare client receives
	putOut          func(n int)   // to what the flow delivers to
	heard           *atomic.Int64 // what the bare client has received and acknowledged
	target          string        // the same of the one that is delivered to; "" where it is one
}

// measure gives messages a second into a flow, beside a bare client that acknowledges
// them; and out of one, beside a bare client that publishes.
func measure(b *testing.B, c counterpart) {
	const n = 400
	e, s := reaching(b, nil)
	if _, err := e.Design.SaveConnection(context.Background(), "broker",
		[]byte("readyferry: connection/1\nname: broker\n"+c.connection+"\n"), nil); err != nil {
		b.Fatal(err)
	}
	to := "broker"
	if c.target != "" {
		to = "target"
		if _, err := e.Design.SaveConnection(context.Background(), to,
			[]byte("readyferry: connection/1\nname: target\n"+c.target+"\n"), nil); err != nil {
			b.Fatal(err)
		}
	}
	if !strings.Contains(c.intake, "format:") && !strings.Contains(c.intake, "kind: table") {
		c.intake += ", format: json"
	}
	publish(b, e, "in", "readyferry: flow/1\nname: in\nintake: {of: broker, "+c.intake+"}\nsteps: [{id: n, kind: note, text: x}]\n")
	publish(b, e, "out", "readyferry: flow/1\nname: out\nintake: {kind: webhook, path: /out}\n"+
		"steps: [{id: d, kind: deliver, to: "+to+", "+c.deliver+"}]\n")
	done := func(flow string) int {
		all, err := s.Totals()
		if err != nil {
			b.Fatal(err)
		}
		total := 0
		for _, t := range all {
			if t.Flow == flow && t.State == store.Delivered {
				total += int(t.N)
			}
		}
		return total
	}
	await := func(now func() int, want int) {
		for began := time.Now(); now() < want; time.Sleep(time.Millisecond) {
			if time.Since(began) > time.Minute {
				b.Fatalf("%d of %d", now(), want)
			}
		}
	}
	for done("in") == 0 { // until it receives
		c.put(1)
		time.Sleep(20 * time.Millisecond)
	}
	for had := -1; had != done("in"); time.Sleep(100 * time.Millisecond) { // and nothing is under way
		had = done("in")
	}
	b.Run("in", func(b *testing.B) {
		ratio(b, func() {
			had := done("in")
			c.put(n)
			await(func() int { return done("in") }, had+n)
		}, func() {
			had := int(c.heard.Load())
			c.putAside(n)
			await(func() int { return int(c.heard.Load()) }, had+n)
		})
		b.ReportMetric(n, "messages")
	})
	b.Run("out", func(b *testing.B) {
		ratio(b, func() {
			had := done("out")
			callAll(b, e, "/out", n)
			await(func() int { return done("out") }, had+n)
		}, func() { c.putOut(n) })
		b.ReportMetric(n, "messages")
	})
}
