package amqp

import (
	"bytes"
	"context"
	"encoding/json"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	client "github.com/rabbitmq/amqp091-go"
)

// The rules of AMQP 0-9-1, 3.1.3.3, from memory; the cases are derived from them.
func TestTopicPatterns(t *testing.T) {
	raw, err := os.ReadFile("testdata/patterns.json")
	if err != nil {
		t.Fatal(err)
	}
	var all struct {
		Cases []struct {
			Pattern, Key string
			Match        bool
		}
	}
	if err := json.Unmarshal(raw, &all); err != nil || len(all.Cases) == 0 {
		t.Fatal(err)
	}
	for _, c := range all.Cases {
		if got := Matches(c.Pattern, c.Key); got != c.Match {
			t.Errorf("%s and %s: %v", c.Pattern, c.Key, got)
		}
	}
}

// dial speaks with a broker by the client of another hand.
func dial(t *testing.T, b *Broker) *client.Connection {
	t.Helper()
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = door.Close() }()
	go func() {
		if c, err := door.Accept(); err == nil {
			b.Serve(c)
		}
	}()
	c, err := net.Dial("tcp", door.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	conn, err := client.Open(c, client.Config{Vhost: "/",
		SASL: []client.Authentication{&client.PlainAuth{Username: "a", Password: "b"}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close() })
	return conn
}

func channelOf(t *testing.T, b *Broker) *client.Channel {
	t.Helper()
	ch, err := dial(t, b).Channel()
	if err != nil {
		t.Fatal(err)
	}
	return ch
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func TestEachKindOfExchangeRoutes(t *testing.T) {
	b := New()
	ch := channelOf(t, b)
	for _, kind := range []string{Direct, Fanout, Topic, Headers} {
		must(t, ch.ExchangeDeclare(kind, kind, true, false, false, false, nil))
		_, err := ch.QueueDeclare("q-"+kind, true, false, false, false, nil)
		must(t, err)
	}
	must(t, ch.QueueBind("q-direct", "a.b", "direct", false, nil))
	must(t, ch.QueueBind("q-fanout", "", "fanout", false, nil))
	must(t, ch.QueueBind("q-topic", "a.#", "topic", false, nil))
	must(t, ch.QueueBind("q-headers", "", "headers", false, client.Table{"x-match": "all", "branch": "ELMS",
		"n": int32(3)}))
	big := bytes.Repeat([]byte("x"), 300_000) // of several frames
	for _, kind := range []string{Direct, Fanout, Topic, Headers} {
		must(t, ch.PublishWithContext(context.Background(), kind, "a.b", false, false, client.Publishing{
			Body: big, ContentType: "text/plain", Headers: client.Table{"branch": "ELMS", "n": int32(3), "list": []any{"a",
				client.Table{"b": true}}},
		}))
		must(t, ch.PublishWithContext(context.Background(), kind, "z", false, false,
			client.Publishing{Headers: client.Table{"branch": "ELMS"}}))
		want := map[string]int{Direct: 1, Fanout: 2, Topic: 1, Headers: 1}[kind]
		q, err := ch.QueueDeclarePassive("q-"+kind, true, false, false, false, nil)
		if err != nil || q.Messages != want {
			t.Errorf("%s: %d messages, %v", kind, q.Messages, err)
		}
		d, is, err := ch.Get("q-"+kind, true)
		if err != nil || !is || !bytes.Equal(d.Body, big) || d.ContentType != "text/plain" || d.Headers["branch"] != "ELMS" {
			t.Errorf("%s: %v %v %d bytes", kind, is, err, len(d.Body))
		}
	}
}

func TestWhatIsNotAcknowledgedComesAgainInItsOrder(t *testing.T) {
	b := New()
	must(t, b.Bind("", "", "q", ""))
	for _, body := range []string{"1", "2", "3"} {
		if n, err := b.Put(Publish{Key: "q", Body: []byte(body)}); n != 1 || err != nil {
			t.Fatal(n, err)
		}
	}
	first := channelOf(t, b)
	must(t, first.Qos(2, 0, false))
	came, err := first.Consume("q", "", false, false, false, false, nil)
	must(t, err)
	a, c := <-came, <-came
	if string(a.Body) != "1" || string(c.Body) != "2" || a.Redelivered || len(came) != 0 {
		t.Errorf("%s %s", a.Body, c.Body)
	}
	must(t, a.Ack(false))
	if d := <-came; string(d.Body) != "3" {
		t.Errorf("%s", d.Body)
	}
	must(t, first.Close()) // 2 and 3 go back
	second := channelOf(t, b)
	came, err = second.Consume("q", "", false, false, false, false, nil)
	must(t, err)
	for _, want := range []string{"2", "3"} {
		if d := <-came; string(d.Body) != want || !d.Redelivered {
			t.Errorf("%s, again %v; want %s", d.Body, d.Redelivered, want)
		}
	}
}

func TestItConfirmsReturnsAndMisbehavesAsItIsTold(t *testing.T) {
	b := New()
	verdicts := make(chan Verdict, 1) // of the message that comes next
	b.OnPublish = func(Publish) Verdict { return <-verdicts }
	must(t, b.Bind("", "", "q", ""))
	ch := channelOf(t, b)
	must(t, ch.Confirm(false))
	back := ch.NotifyReturn(make(chan client.Return, 1))
	publish := func(key string, v Verdict) *client.DeferredConfirmation {
		t.Helper()
		verdicts <- v
		d, err := ch.PublishWithDeferredConfirm("", key, true, false, client.Publishing{Body: []byte("x")})
		must(t, err)
		return d
	}
	if !publish("q", Verdict{}).Wait() {
		t.Error("it is not confirmed")
	}
	if ok := publish("nobody", Verdict{}).Wait(); !ok || (<-back).ReplyCode != 312 {
		t.Error("it is not returned, or not confirmed")
	}
	if publish("q", Verdict{Refuse: true}).Wait() {
		t.Error("it is confirmed")
	}
	silent := publish("q", Verdict{Silent: true})
	if !publish("q", Verdict{Delay: time.Millisecond}).Wait() {
		t.Error("the next one is not confirmed")
	}
	select {
	case <-silent.Done():
		t.Error("the silent one is confirmed")
	default:
	}
	ended := ch.NotifyClose(make(chan *client.Error, 1))
	publish("q", Verdict{Code: 403, Text: "ACCESS_REFUSED"})
	if e := <-ended; e == nil || e.Code != 403 {
		t.Error(e)
	}
	for name, do := range map[string]func(*client.Channel) error{
		"no queue": func(c *client.Channel) error {
			_, err := c.Consume("nobody", "", false, false, false, false, nil)
			return err
		},
		"no exchange": func(c *client.Channel) error { return c.QueueBind("q", "", "nobody", false, nil) },
		"other type": func(c *client.Channel) error {
			return c.ExchangeDeclare("amq.topic", "direct", true, false, false, false, nil)
		},
		"unknown type": func(c *client.Channel) error {
			return c.ExchangeDeclare("x", "odd", true, false, false, false,
				nil)
		},
	} {
		if err := do(channelOf(t, b)); err == nil || !strings.Contains(err.Error(), "40") &&
			!strings.Contains(err.Error(), "503") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if got := b.Queues(); len(got) != 1 || got[0].Messages != 2 {
		t.Errorf("%+v", got)
	}
}

// Whatever comes to its door, it ends and goes on with others.
func FuzzDoor(f *testing.F) {
	open := "AMQP\x00\x00\x09\x01"
	startOK := frame{frameMethod, 0, append([]byte{0, 10, 0, 11, 0, 0, 0, 0, 5}, "PLAIN\x00\x00\x00\x00\x05en_US"...)}
	f.Add([]byte("GET / HTTP/1.1\r\n\r\n"))
	f.Add(startOK.append([]byte(open)))
	whole := startOK.append([]byte(open))
	for _, m := range []*writer{method(10, 31), method(10, 40)} {
		m.longlong(0)
		whole = frame{frameMethod, 0, m.Bytes()}.append(whole)
	}
	m := method(20, 10)
	m.octet(0)
	whole = frame{frameMethod, 1, m.Bytes()}.append(whole)
	m = method(60, 40)
	m.short(0)
	m.shortstr("")
	m.shortstr("q")
	m.octet(1)
	whole = frame{frameMethod, 1, m.Bytes()}.append(whole)
	p := Properties{ContentType: "a/b", Headers: map[string]any{"a": "b", "c": true}}
	head := append([]byte{0, 60, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1}, p.raw()...)
	whole = frame{frameHeader, 1, head}.append(whole)
	f.Add(frame{frameBody, 1, []byte("x")}.append(whole))
	f.Fuzz(func(t *testing.T, sent []byte) {
		b := New()
		_ = b.Bind("", "", "q", "")
		ours, theirs := net.Pipe()
		done := make(chan struct{})
		go func() { b.Serve(theirs); close(done) }()
		go func() {
			buffer := make([]byte, 4096)
			for {
				if _, err := ours.Read(buffer); err != nil {
					return
				}
			}
		}()
		_, _ = ours.Write(sent)
		_ = ours.Close()
		select {
		case <-done:
		case <-time.After(20 * time.Second):
			t.Fatal("it does not end")
		}
		if n, err := b.Put(Publish{Key: "q"}); n != 1 || err != nil {
			t.Error(n, err)
		}
	})
}

func TestValuesOfTables(t *testing.T) {
	var w writer
	w.longstr("\x01bb\xff" + "\x01BB\xff" + "\x01ss\xff\xff" + "\x01uu\xff\xff" + "\x01II\xff\xff\xff\xff" + "\x01ll\xff\xff\xff\xff\xff\xff\xff\xff" +
		"\x01DD\x02\x00\x00\x00\x7d" + "\x01VV" + "\x01AA\x00\x00\x00\x04t\x01b\x05")
	r := &reader{b: w.Bytes()}
	got := r.table(0)
	text, _ := json.Marshal(got)
	if want := `{"A":[true,5],"B":255,"D":1.25,"I":-1,"V":null,"b":-1,"l":-1,"s":-1,"u":65535}`; string(text) != want || !r.done() {
		t.Errorf("%s", text)
	}
	for name, raw := range map[string]string{
		"too deep": strings.Repeat("\x00\x00\x00\xff\x01xF", 40), "unknown kind": "\x00\x00\x00\x04\x01x?\x00",
		"short": "\x00\x00\x01\x00\x01xt",
	} {
		r := &reader{b: []byte(raw)}
		if r.table(0); r.done() {
			t.Errorf("%s is read", name)
		}
	}
}
