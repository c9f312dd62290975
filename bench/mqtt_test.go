package bench

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"testing"
	"time"

	"github.com/eclipse/paho.golang/paho"
	broker "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"

	"readyferry/engine"
	"readyferry/engine/intake"
	"readyferry/store"
)

// bare is a client of the same library that does nothing but publish, or acknowledge.
func bare(b *testing.B, address, id string, came func()) *paho.Client {
	b.Helper()
	conn, err := net.Dial("tcp", address)
	if err != nil {
		b.Fatal(err)
	}
	c := paho.NewClient(paho.ClientConfig{ClientID: id, Conn: conn, OnPublishReceived: []func(paho.PublishReceived) (bool, error){
		func(paho.PublishReceived) (bool, error) { came(); return true, nil }}})
	if _, err := c.Connect(context.Background(), &paho.Connect{ClientID: id, CleanStart: true, KeepAlive: 300}); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = c.Disconnect(&paho.Disconnect{}) })
	return c
}

// publishAll publishes with quality 1, as many at once as a connection has in flight.
func publishAll(b *testing.B, c *paho.Client, topic string, n int) {
	b.Helper()
	var all sync.WaitGroup
	places := make(chan struct{}, 8)
	for i := range n {
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			if _, err := c.Publish(context.Background(), &paho.Publish{Topic: topic, QoS: 1,
				Payload: fmt.Appendf(nil, `{"n":%d}`, i)}); err != nil {
				b.Error(err)
			}
		})
	}
	all.Wait()
}

// callAll sends as many messages in by a webhook, eight at once.
func callAll(b *testing.B, e *engine.Engine, path string, n int) {
	b.Helper()
	in, _ := e.Intake.Find("POST", path)
	var all sync.WaitGroup
	places := make(chan struct{}, 8)
	for i := range n {
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			if _, err := e.Intake.Accept(context.Background(), in, intake.Call{Method: "POST", Path: path,
				Header: http.Header{"Content-Type": {"application/json"}}, Body: fmt.Appendf(nil, `{"n":%d}`, i)}); err != nil {
				b.Error(err)
			}
		})
	}
	all.Wait()
}

// Messages a second into a flow from a broker, beside a bare client that acknowledges
// them; and out of one, beside a bare client that publishes.
func BenchmarkBroker(b *testing.B) {
	const n = 400
	server := broker.New(&broker.Options{Logger: slog.New(slog.NewTextHandler(io.Discard, nil))})
	_ = server.AddHook(new(auth.AllowHook), nil)
	door := listeners.NewTCP(listeners.Config{ID: "tcp", Address: "127.0.0.1:0"})
	if err := server.AddListener(door); err != nil {
		b.Fatal(err)
	}
	if err := server.Serve(); err != nil {
		b.Fatal(err)
	}
	defer server.Close()
	e, s := reaching(b, nil)
	save := func(name, document string) {
		if _, err := e.Design.SaveConnection(context.Background(), name, []byte(document), nil); err != nil {
			b.Fatal(err)
		}
	}
	save("broker", "readyferry: connection/1\nname: broker\nkind: mqtt\naddress: mqtt://"+door.Address()+"\n")
	publish(b, e, "in", "readyferry: flow/1\nname: in\nintake: {kind: mqtt, of: broker, filter: in/#, format: json, at-once: 1000}\n"+
		"steps: [{id: n, kind: note, text: x}]\n")
	publish(b, e, "out", "readyferry: flow/1\nname: out\nintake: {kind: webhook, path: /out}\n"+
		"steps: [{id: d, kind: deliver, to: broker, topic: out/x}]\n")
	var mu sync.Mutex
	heard := map[string]int{}
	hears := func(what string) func() { return func() { mu.Lock(); heard[what]++; mu.Unlock() } }
	sender := bare(b, door.Address(), "sender", func() {})
	listener := bare(b, door.Address(), "listener", hears("bare"))
	if _, err := listener.Subscribe(context.Background(), &paho.Subscribe{Subscriptions: []paho.SubscribeOptions{
		{Topic: "bare/#", QoS: 1}}}); err != nil {
		b.Fatal(err)
	}
	bareHeard := func() int { mu.Lock(); defer mu.Unlock(); return heard["bare"] }
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
	publishAll(b, sender, "in/x", 1)
	for done("in") == 0 { // until it has subscribed
		publishAll(b, sender, "in/x", 1)
		time.Sleep(10 * time.Millisecond)
	}
	b.Run("in", func(b *testing.B) {
		ratio(b, func() {
			had := done("in")
			publishAll(b, sender, "in/x", n)
			await(func() int { return done("in") }, had+n)
		}, func() {
			had := bareHeard()
			publishAll(b, sender, "bare/x", n)
			await(bareHeard, had+n)
		})
		b.ReportMetric(n, "messages")
	})
	b.Run("out", func(b *testing.B) {
		ratio(b, func() {
			had := done("out")
			callAll(b, e, "/out", n)
			await(func() int { return done("out") }, had+n)
		}, func() { publishAll(b, sender, "out/x", n) })
		b.ReportMetric(n, "messages")
	})
}
