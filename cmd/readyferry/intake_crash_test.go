package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/url"
	"path/filepath"
	"testing"
	"time"

	"github.com/eclipse/paho.golang/paho"
	broker "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
	natsserver "github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"

	"readyferry/standin/amqp"
)

// source is a broker outside of the program, which goes on while that is killed.
type source struct {
	address, intake string
	says            string // more of the connection, as ,"name":"value"
	put             func(n int) error
	gone            func() error // nil where a broker sees by itself that the program has gone
}

// mqttSource keeps a session while nobody is there, as brokers do.
func mqttSource(t *testing.T) source {
	t.Helper()
	s := broker.New(&broker.Options{Logger: slog.New(slog.NewTextHandler(io.Discard, nil))})
	_ = s.AddHook(new(auth.AllowHook), nil)
	door := listeners.NewTCP(listeners.Config{ID: "tcp", Address: "127.0.0.1:0"})
	if err := s.AddListener(door); err != nil {
		t.Fatal(err)
	}
	if err := s.Serve(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	conn, err := net.Dial("tcp", door.Address())
	if err != nil {
		t.Fatal(err)
	}
	c := paho.NewClient(paho.ClientConfig{ClientID: "test", Conn: conn})
	if _, err := c.Connect(context.Background(), &paho.Connect{ClientID: "test", CleanStart: true,
		KeepAlive: 600}); err != nil {
		t.Fatal(err)
	}
	return source{address: "mqtt://" + door.Address(),
		intake: `{"kind":"mqtt","of":"mqtt","filter":"in/#","at-once":1000,"reference":"body.n"}`, put: func(n int) error {
			_, err := c.Publish(context.Background(), &paho.Publish{Topic: "in/x", QoS: 1, Payload: fmt.Appendf(nil,
				`{"n":"%d"}`, n)})
			return err
		}}
}

func amqpSource(t *testing.T) source {
	t.Helper()
	b := amqp.New()
	_ = b.Bind("", "", "in", "")
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = door.Close(); _ = b.Close() })
	go func() {
		for c, err := door.Accept(); err == nil; c, err = door.Accept() {
			go b.Serve(c)
		}
	}()
	return source{address: "amqp://" + door.Addr().String(),
		intake: `{"kind":"amqp","of":"amqp","queue":"in","reference":"body.n"}`, put: func(n int) error {
			_, err := b.Put(amqp.Publish{Key: "in", Body: fmt.Appendf(nil, `{"n":"%d"}`, n), Properties: amqp.Properties{
				MessageID: fmt.Sprint("m-", n), ContentType: "application/json",
			}})
			return err
		}}
}

func streamSource(t *testing.T) source {
	t.Helper()
	log, err := kfake.NewCluster(kfake.NumBrokers(1), kfake.SeedTopics(3, "in"), kfake.GroupMinSessionTimeout(time.Second))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(log.Close)
	client, err := kgo.NewClient(kgo.SeedBrokers(log.ListenAddrs()...), kgo.ProducerLinger(0))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(client.Close)
	const group = "group"
	out := source{address: "stream://" + log.ListenAddrs()[0],
		intake: `{"kind":"stream","of":"stream","topic":"in","group":"` + group + `","begin":"earliest","reference":"body.n"}`}
	out.put = func(n int) error {
		return client.ProduceSync(context.Background(), &kgo.Record{Topic: "in", Value: fmt.Appendf(nil, `{"n":"%d"}`,
			n)}).FirstErr()
	}
	// This broker makes a leader of a member that was killed while it joined, and waits
	// for its word for ever; so it is told who has gone.
	out.gone = func() error {
		groups, err := kadm.NewClient(client).DescribeGroups(context.Background(), group)
		if err != nil {
			return err
		}
		leave := kmsg.NewPtrLeaveGroupRequest()
		leave.Group = group
		for _, m := range groups[group].Members {
			one := kmsg.NewLeaveGroupRequestMember()
			one.MemberID = m.MemberID
			leave.Members = append(leave.Members, one)
		}
		_, err = leave.RequestWith(context.Background(), client)
		return err
	}
	return out
}

func natsSource(t *testing.T) source {
	t.Helper()
	s, err := natsserver.NewServer(&natsserver.Options{Host: "127.0.0.1", Port: -1, JetStream: true,
		StoreDir: t.TempDir(), NoSigs: true, NoLog: true})
	if err != nil {
		t.Fatal(err)
	}
	s.Start()
	t.Cleanup(s.Shutdown)
	if !s.ReadyForConnections(time.Minute) {
		t.Fatal("the broker does not begin")
	}
	conn, err := nats.Connect(s.ClientURL())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(conn.Close)
	js, err := jetstream.New(conn)
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	if _, err := js.CreateStream(ctx, jetstream.StreamConfig{Name: "IN", Subjects: []string{"in"},
		Storage: jetstream.MemoryStorage}); err != nil {
		t.Fatal(err)
	}
	if _, err := js.CreateConsumer(ctx, "IN", jetstream.ConsumerConfig{Durable: "flow",
		AckPolicy: jetstream.AckExplicitPolicy,
		AckWait:   time.Second}); err != nil { // so that what was not acknowledged comes again soon
		t.Fatal(err)
	}
	return source{address: "nats://" + s.Addr().String(),
		intake: `{"kind":"nats","of":"nats","stream":"IN","consumer":"flow","reference":"body.n"}`, put: func(n int) error {
			_, err := js.Publish(ctx, "in", fmt.Appendf(nil, `{"n":"%d"}`, n))
			return err
		}}
}

// Kill the process again and again while it receives from four brokers: what they have
// handed over and nobody has acknowledged comes again, and each message is inside once.
func TestEachMessageOfABrokerIsInsideOnceWhenTheProcessIsKilled(t *testing.T) {
	killedWhileReceiving(t, map[string]source{"mqtt": mqttSource(t), "amqp": amqpSource(t), "stream": streamSource(t),
		"nats": natsSource(t)})
}

// killedWhileReceiving kills the process again and again while messages come and while
// nobody is there, and wants each of them inside once at the end. more is said to the
// program when it starts.
func killedWhileReceiving(t *testing.T, sources map[string]source, more ...string) {
	t.Helper()
	file, data, address := program(t), filepath.Join(t.TempDir(), "data"), freeAddress(t)
	s := launch(t, file, data, address, more...)
	for kind, from := range sources {
		s.must("PUT", "/api/v1/connections/"+kind,
			fmt.Sprintf(`{"readyferry":"connection/1","name":%q,"kind":%q,"address":%q%s}`, kind, kind, from.address, from.says))
		s.must("PUT", "/api/v1/flows/"+kind, fmt.Sprintf(
			`{"readyferry":"flow/1","name":%q,"intake":%s,"steps":[{"id":"n","kind":"note","text":"x"}]}`, kind, from.intake))
		s.must("POST", "/api/v1/flows/"+kind+"/publish", "")
	}
	for kind, from := range sources { // each has asked for messages
		for n := -1; len(s.references(kind)) == 0; n-- {
			if err := from.put(n); err != nil {
				t.Fatal(kind, err)
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	const rounds, each = 3, 60
	for round := range rounds {
		for i := range each {
			for kind, from := range sources {
				if err := from.put(round*each + i); err != nil {
					t.Fatal(kind, err)
				}
			}
			if i == rand.IntN(each) {
				break
			}
		}
		s.kill()
		for kind, from := range sources {
			if from.gone == nil {
				continue
			}
			if err := from.gone(); err != nil {
				t.Fatal(kind, err)
			}
		}
		for i := range each { // while nobody is there
			for kind, from := range sources {
				if err := from.put(1_000_000 + round*each + i); err != nil {
					t.Fatal(kind, err)
				}
			}
		}
		s = launch(t, file, data, address, more...)
		time.Sleep(time.Duration(rand.IntN(400)) * time.Millisecond)
	}
	for kind, from := range sources {
		if err := from.put(2_000_000); err != nil {
			t.Fatal(err)
		}
		seen := map[string]int{}
		for range 2400 { // until the last one and all that must be there are inside
			seen = s.references(kind)
			if missing(seen, rounds, each) == 0 && seen["2000000"] > 0 {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		if n := missing(seen, rounds, each); n > 0 || seen["2000000"] == 0 {
			t.Errorf("%s: %d messages are not there", kind, n)
		}
		for reference, n := range seen {
			if n != 1 {
				t.Errorf("%s: message %s is inside %d times", kind, reference, n)
			}
		}
	}
}

// missing counts what was put while nobody was there and is not inside.
func missing(seen map[string]int, rounds, each int) (n int) {
	for i := range rounds * each {
		if seen[fmt.Sprint(1_000_000+i)] == 0 {
			n++
		}
	}
	return n
}

// references counts the delivered transactions of a flow by their reference.
func (s *server) references(flow string) map[string]int {
	s.t.Helper()
	out, after := map[string]int{}, ""
	for {
		query := url.Values{"flow": {flow}, "state": {"delivered"}, "limit": {"200"}}
		if after != "" {
			query.Set("after", after)
		}
		var page []struct{ ID, Reference string }
		if err := json.Unmarshal(s.must("GET", "/api/v1/transactions?"+query.Encode(), ""), &page); err != nil {
			s.t.Fatal(err)
		}
		for _, one := range page {
			out[one.Reference]++
			after = one.ID
		}
		if len(page) < 200 {
			return out
		}
	}
}
