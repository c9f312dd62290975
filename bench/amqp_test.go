package bench

import (
	"fmt"
	"net"
	"sync/atomic"
	"testing"

	client "github.com/rabbitmq/amqp091-go"

	"readyferry/standin/amqp"
)

func BenchmarkAMQP(b *testing.B) {
	server := amqp.New()
	for _, queue := range []string{"in", "bare", "out"} {
		_ = server.Bind("", "", queue, "")
	}
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	defer door.Close()
	go func() {
		for c, err := door.Accept(); err == nil; c, err = door.Accept() {
			go server.Serve(c)
		}
	}()
	conn, err := client.Dial("amqp://guest:guest@" + door.Addr().String())
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close()
	var heard atomic.Int64
	for _, queue := range []string{"bare", "out"} { // the second so that it does not become full
		ch, _ := conn.Channel()
		_ = ch.Qos(64, 0, false)
		came, err := ch.Consume(queue, "", false, false, false, false, nil)
		if err != nil {
			b.Fatal(err)
		}
		go func() {
			for d := range came {
				if _ = d.Ack(false); queue == "bare" {
					heard.Add(1)
				}
			}
		}()
	}
	ch, _ := conn.Channel()
	_ = ch.Confirm(false)
	to := func(queue string) func(int) {
		return func(n int) {
			each(n, func(i int) {
				d, err := ch.PublishWithDeferredConfirm("", queue, true, false, client.Publishing{DeliveryMode: client.Persistent,
					ContentType: "application/json", Body: fmt.Appendf(nil, `{"n":%d}`, i)})
				if err != nil || !d.Wait() {
					b.Error(err)
				}
			})
		}
	}
	measure(b, counterpart{"kind: amqp\naddress: amqp://" + door.Addr().String(),
		"kind: amqp, queue: in, at-once: 1000", "routing-key: out",
		to("in"), to("bare"), to("out"), &heard, ""})
}
