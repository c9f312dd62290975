package bench

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"sync/atomic"
	"testing"

	"github.com/eclipse/paho.golang/paho"
	broker "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
)

// bare is a client of the same library that does nothing but publish, or acknowledge.
func bare(b *testing.B, address, id string, came func()) *paho.Client {
	b.Helper()
	conn, err := net.Dial("tcp", address)
	if err != nil {
		b.Fatal(err)
	}
	c := paho.NewClient(paho.ClientConfig{ClientID: id, Conn: conn,
		OnPublishReceived: []func(paho.PublishReceived) (bool, error){
			func(paho.PublishReceived) (bool, error) { came(); return true, nil }}})
	if _, err := c.Connect(context.Background(), &paho.Connect{ClientID: id, CleanStart: true,
		KeepAlive: 300}); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = c.Disconnect(&paho.Disconnect{}) })
	return c
}

func BenchmarkMQTT(b *testing.B) {
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
	var heard atomic.Int64
	sender := bare(b, door.Address(), "sender", func() {})
	listener := bare(b, door.Address(), "listener", func() { heard.Add(1) })
	if _, err := listener.Subscribe(context.Background(), &paho.Subscribe{Subscriptions: []paho.SubscribeOptions{
		{Topic: "bare/#", QoS: 1}}}); err != nil {
		b.Fatal(err)
	}
	to := func(topic string) func(int) {
		return func(n int) {
			each(n, func(i int) {
				if _, err := sender.Publish(context.Background(), &paho.Publish{Topic: topic, QoS: 1,
					Payload: fmt.Appendf(nil, `{"n":%d}`, i)}); err != nil {
					b.Error(err)
				}
			})
		}
	}
	measure(b, counterpart{"kind: mqtt\naddress: mqtt://" + door.Address(), "kind: mqtt, filter: in/#, at-once: 1000",
		"topic: out/x",
		to("in/x"), to("bare/x"), to("out/x"), &heard, ""})
}
