package bench

import (
	"context"
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	client "github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

func BenchmarkNATS(b *testing.B) {
	s, err := server.NewServer(&server.Options{Host: "127.0.0.1", Port: -1, JetStream: true, StoreDir: b.TempDir(),
		NoSigs: true, NoLog: true})
	if err != nil {
		b.Fatal(err)
	}
	s.Start()
	defer s.Shutdown()
	s.ReadyForConnections(time.Minute)
	conn, err := client.Connect(s.ClientURL())
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close()
	js, _ := jetstream.New(conn)
	ctx := context.Background()
	for _, name := range []string{"in", "bare", "out"} {
		if _, err := js.CreateStream(ctx, jetstream.StreamConfig{Name: name, Subjects: []string{name},
			Storage: jetstream.MemoryStorage}); err != nil {
			b.Fatal(err)
		}
	}
	var heard atomic.Int64
	consumer, err := js.CreateConsumer(ctx, "bare", jetstream.ConsumerConfig{Durable: "bare",
		AckPolicy: jetstream.AckExplicitPolicy})
	if err != nil {
		b.Fatal(err)
	}
	taking, err := consumer.Consume(func(m jetstream.Msg) {
		_ = m.Ack()
		heard.Add(1)
	})
	if err != nil {
		b.Fatal(err)
	}
	defer taking.Stop()
	to := func(subject string) func(int) {
		return func(n int) {
			each(n, func(i int) {
				if _, err := js.Publish(ctx, subject, fmt.Appendf(nil, `{"n":%d}`, i)); err != nil {
					b.Error(err)
				}
			})
		}
	}
	measure(b, counterpart{"kind: nats\naddress: nats://" + s.Addr().String(),
		"kind: nats, stream: in, begin: all, at-once: 1000", "subject: out",
		to("in"), to("bare"), to("out"), &heard, ""})
}
