package bench

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	client "github.com/Azure/go-amqp"
)

// AMQP 1.0 has no stand-in; a real broker is asked where READYFERRY_AMQP1 names one, as
// connect/connecttest/servers/run does: run it with ./bench/ and -bench AMQP1.
func BenchmarkAMQP1(b *testing.B) {
	address := os.Getenv("READYFERRY_AMQP1")
	if address == "" {
		b.Skip("READYFERRY_AMQP1 names no broker, so none is asked")
	}
	ctx := context.Background()
	conn, err := client.Dial(ctx, address, &client.ConnOptions{SASLType: client.SASLTypePlain("guest", "guest")})
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close()
	session, err := conn.NewSession(ctx, nil)
	if err != nil {
		b.Fatal(err)
	}
	queue := fmt.Sprintf("/queue/bench-%d-", time.Now().UnixNano())
	var heard atomic.Int64
	for _, name := range []string{"bare", "out"} { // the second so that it does not become full
		from, err := session.NewReceiver(ctx, queue+name, &client.ReceiverOptions{Credit: 64})
		if err != nil {
			b.Fatal(err)
		}
		go func() {
			for {
				m, err := from.Receive(ctx, nil)
				if err != nil {
					return
				}
				if _ = from.AcceptMessage(ctx, m); name == "bare" {
					heard.Add(1)
				}
			}
		}()
	}
	to := func(name string) func(int) {
		s, err := session.NewSender(ctx, queue+name, nil)
		if err != nil {
			b.Fatal(err)
		}
		return func(n int) {
			each(n, func(i int) {
				kind := "application/json"
				m := client.NewMessage(fmt.Appendf(nil, `{"n":%d}`, i))
				m.Properties = &client.MessageProperties{ContentType: &kind}
				if err := s.Send(ctx, m, nil); err != nil {
					b.Error(err)
				}
			})
		}
	}
	measure(b, counterpart{"kind: amqp1\nsign-in: {kind: basic, user: guest, secret: guest}\naddress: " + strings.TrimSuffix(address, "/"),
		"kind: amqp1, source: " + queue + "in, at-once: 1000", "target: " + queue + "out", to("in"), to("bare"),
		to("out"), &heard, ""})
}
