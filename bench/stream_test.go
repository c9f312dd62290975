package bench

import (
	"context"
	"fmt"
	"sync/atomic"
	"testing"

	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
)

func BenchmarkStream(b *testing.B) {
	log, err := kfake.NewCluster(kfake.NumBrokers(1), kfake.SeedTopics(3, "in", "bare", "out"))
	if err != nil {
		b.Fatal(err)
	}
	defer log.Close()
	bare := func(opts ...kgo.Opt) *kgo.Client {
		client, err := kgo.NewClient(append(opts, kgo.SeedBrokers(log.ListenAddrs()...))...)
		if err != nil {
			b.Fatal(err)
		}
		b.Cleanup(client.Close)
		return client
	}
	var heard atomic.Int64
	listener := bare(kgo.ConsumeTopics("bare"), kgo.ConsumerGroup("bare"), kgo.DisableAutoCommit(),
		kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()))
	go func() {
		for {
			fetches := listener.PollRecords(context.Background(), 64)
			if fetches.IsClientClosed() {
				return
			}
			_ = listener.CommitRecords(context.Background(), fetches.Records()...)
			heard.Add(int64(fetches.NumRecords()))
		}
	}()
	sender := bare(kgo.ProducerLinger(0))
	to := func(topic string) func(int) {
		return func(n int) {
			each(n, func(i int) {
				if err := sender.ProduceSync(context.Background(), &kgo.Record{Topic: topic,
					Value: fmt.Appendf(nil, `{"n":%d}`, i)}).FirstErr(); err != nil {
					b.Error(err)
				}
			})
		}
	}
	measure(b, counterpart{"kind: stream\naddress: stream://" + log.ListenAddrs()[0],
		"kind: stream, topic: in, begin: earliest", "topic: out",
		to("in"), to("bare"), to("out"), &heard, ""})
}
