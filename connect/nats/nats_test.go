package nats

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	client "github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// world is a broker at a port that knows the user maud, who may not publish below closed.,
// with the stream RETURNS for desk.>.
type world struct {
	*server.Server
	c  *connect.Connection
	js jetstream.JetStream
}

func serve(t *testing.T) *world {
	t.Helper()
	maud := &server.User{Username: "maud", Password: "s3cret", Permissions: &server.Permissions{
		Publish: &server.SubjectPermission{Deny: []string{"closed.>"}},
	}}
	s, err := server.NewServer(&server.Options{Host: "127.0.0.1", Port: -1, JetStream: true, StoreDir: t.TempDir(),
		NoSigs: true, NoLog: true,
		Users: []*server.User{maud}, MaxPayload: 100_000})
	if err != nil {
		t.Fatal(err)
	}
	s.Start()
	t.Cleanup(s.Shutdown)
	if !s.ReadyForConnections(time.Minute) {
		t.Fatal("the broker does not begin")
	}
	conn, err := client.Connect(s.ClientURL(), client.UserInfo("maud", "s3cret"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(conn.Close)
	js, err := jetstream.New(conn)
	if err != nil {
		t.Fatal(err)
	}
	w := &world{s, connection("nats://" + s.Addr().String()), js}
	w.stream(t, jetstream.StreamConfig{Name: "RETURNS", Subjects: []string{"desk.>"}, Storage: jetstream.MemoryStorage})
	return w
}

func (w *world) stream(t *testing.T, c jetstream.StreamConfig) {
	t.Helper()
	if _, err := w.js.CreateOrUpdateStream(context.Background(), c); err != nil {
		t.Fatal(err)
	}
}

func connection(address string) *connect.Connection {
	return &connect.Connection{Name: "desk", Kind: Kind, Address: address, TimeLimit: 10 * time.Second,
		SignIn:   connect.SignIn{Kind: connect.SignInBasic, User: "maud", Secrets: []string{"s3cret"}},
		Settings: system.Schema(`{}`)}
}

func open(t *testing.T, c *connect.Connection) connect.Link { return connecttest.Open(t, New(nil), c) }

const toDesk = `{"subject": "desk.returns"}`

func send(t *testing.T, l connect.Link, id, body string) {
	t.Helper()
	if r, err := connecttest.Send(l, toDesk, id, body); err != nil || r.Outcome != retry.Delivered {
		t.Fatalf("%+v %v", r, err)
	}
}

func TestWhatIsPublishedComesInWithItsPlaceAndHeaders(t *testing.T) {
	w := serve(t)
	l := open(t, w.c)
	in := connecttest.Receive(t, l, `{"stream": "RETURNS", "filter": "desk.returns", "begin": "all"}`, nil, nil)
	r := connecttest.Request(toDesk, "id-1", `{"n": 1}`)
	r.Headers = append(r.Headers, message.Header{Name: "Nats-Msg-Id", Value: "not this"},
		message.Header{Name: "Idempotency-Key", Value: "nor this"})
	if got, err := l.(connect.Sender).Send(context.Background(), r); err != nil || got.Outcome != retry.Delivered ||
		got.Code != "RETURNS 1" {
		t.Fatalf("%+v %v", got, err)
	}
	// The stream itself keeps a repeat out.
	if got, err := connecttest.Send(l, toDesk, "id-1", `{"n": 1}`); err != nil || got.Outcome != retry.Delivered ||
		!strings.Contains(got.Words, "already") {
		t.Fatalf("%+v %v", got, err)
	}
	send(t, l, "id-2", "two")
	a := in.Find(t, "id-1")
	for name, want := range map[string]string{"nats-subject": "desk.returns", "nats-stream": "RETURNS",
		"nats-sequence": "1",
		"x-shelf":       "F 12", "content-type": "application/json", "idempotency-key": ""} {
		if h := connecttest.Header(a, name); h != want {
			t.Errorf("%s: %q, want %q", name, h, want)
		}
	}
	in.Find(t, "id-2")
	if got, _ := in.Got(); len(got) != 2 {
		t.Errorf("%d came", len(got))
	}
}

func TestWhatIsStoredAndNotAcknowledgedComesAgainWithItsID(t *testing.T) {
	w := serve(t)
	_, err := w.js.CreateConsumer(context.Background(), "RETURNS", jetstream.ConsumerConfig{Durable: "readyferry-reader",
		AckPolicy: jetstream.AckExplicitPolicy, AckWait: 100 * time.Millisecond}) // as one that somebody has made
	if err != nil {
		t.Fatal(err)
	}
	l := open(t, w.c)
	first := connecttest.Receive(t, l, `{"stream": "RETURNS"}`, nil, errors.New("killed")).Ready(t)
	send(t, l, "stored", "stored")
	if err := <-first.Failed; err == nil || !strings.Contains(err.Error(), "killed") {
		t.Fatal(err)
	}
	second := connecttest.Receive(t, l, `{"stream": "RETURNS"}`, nil, nil)
	if a := second.Find(t, "stored"); connecttest.Header(a, "nats-redelivered") != "true" {
		t.Errorf("%+v", a)
	}
	send(t, l, "next", "next")
	second.Find(t, "next")
	connecttest.Eventually(t, "all is acknowledged", func() bool {
		c, err := w.js.Consumer(context.Background(), "RETURNS", "readyferry-reader")
		return err == nil && c.CachedInfo().NumAckPending == 0
	})
}

func TestWhereAConsumerBegins(t *testing.T) {
	w := serve(t)
	l := open(t, w.c)
	send(t, l, "old", "x")
	time.Sleep(5 * time.Millisecond)
	middle := time.Now()
	send(t, l, "new", "x")
	at := connecttest.Receive(t, l, `{"stream": "RETURNS", "consumer": "a", "begin": "`+middle.UTC().Format(time.RFC3339Nano)+`"}`, nil, nil)
	if got := at.Until(t, 1); got[0].ID != "new" {
		t.Errorf("%+v", got[0])
	}
	fresh := connecttest.Receive(t, l, `{"stream": "RETURNS", "consumer": "b"}`, nil, nil).Ready(t)
	send(t, l, "newest", "x")
	if got := fresh.Until(t, 1); got[0].ID != "newest" {
		t.Errorf("%+v", got[0])
	}
	for settings, want := range map[string]string{
		`{"stream": "RETURNS", "consumer": "c", "begin": "yesterday"}`: "neither all nor new",
		`{"stream": "NOBODY"}`: "stream not found",
	} {
		wrong := connecttest.Receive(t, l, settings, nil, nil)
		if err := <-wrong.Failed; err == nil || !strings.Contains(err.Error(), want) {
			t.Error(err)
		}
	}
}

func TestOutcomes(t *testing.T) {
	w := serve(t)
	w.stream(t, jetstream.StreamConfig{Name: "SMALL", Subjects: []string{"small"}, Storage: jetstream.MemoryStorage,
		MaxMsgSize: 500})
	w.stream(t, jetstream.StreamConfig{Name: "FULL", Subjects: []string{"full"}, Storage: jetstream.MemoryStorage,
		MaxMsgs: 1, Discard: jetstream.DiscardNew})
	w.stream(t, jetstream.StreamConfig{Name: "CLOSED", Subjects: []string{"closed.>"}, Storage: jetstream.MemoryStorage})
	w.c.TimeLimit = 2 * time.Second
	l := open(t, w.c)
	if _, err := connecttest.Send(l, `{"subject": "full"}`, "first", "x"); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		settings, body string
		outcome        retry.Outcome // "": unknown
		says           string
	}{
		"stored":        {toDesk, "{}", retry.Delivered, ""},
		"no stream":     {`{"subject": "nobody.there"}`, "{}", retry.Never, "no stream takes the subject nobody.there"},
		"large":         {`{"subject": "small"}`, strings.Repeat("x", 2000), "cannot", "larger than the stream takes"},
		"too large":     {toDesk, strings.Repeat("x", 200_000), "cannot", "larger than the broker takes"},
		"full":          {`{"subject": "full"}`, "{}", retry.Again, "does not store it"},
		"not permitted": {`{"subject": "closed.x"}`, "{}", retry.Never, "does not permit publishing to closed.x"},
		"wildcard":      {`{"subject": "desk.*"}`, "{}", "cannot", "is no subject"},
		"empty":         {`{"subject": ""}`, "{}", "cannot", "is no subject"},
		"empty word":    {`{"subject": "desk..x"}`, "{}", "cannot", "is no subject"},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := connecttest.Send(l, c.settings, "id "+name, c.body)
			said := r.Words
			if err != nil {
				said = err.Error()
			}
			if (c.outcome == "cannot") != (errors.Is(err, connect.ErrCannotSend) && errors.Is(err, connect.ErrBadData)) {
				t.Errorf("%v", err)
			}
			if (err == nil) != (c.outcome != "" && c.outcome != "cannot") || err == nil && r.Outcome != c.outcome ||
				!strings.Contains(said, c.says) {
				t.Errorf("%+v %v", r, err)
			}
		})
	}
	w.Shutdown()
	if r, err := connecttest.Send(l, toDesk, "gone", "{}"); err == nil {
		t.Errorf("%+v", r)
	}
}

// Two hundred ask at once, and each hears its own answer; the second ones are told of.
func TestEachQuestionHearsItsOwnAnswer(t *testing.T) {
	w := serve(t)
	w.c.TimeLimit = time.Minute
	l := open(t, w.c)
	var mu sync.Mutex
	late := map[string]bool{}
	l.(connect.Hearer).OnLate(func(id string, r connect.Receipt) {
		body, _ := r.Body()
		mu.Lock()
		defer mu.Unlock()
		late[id] = string(body) == "answer to "+id
	})
	if _, err := w.js.Conn().Subscribe("questions", func(m *client.Msg) { // whoever answers does it twice
		for range 2 {
			_ = m.Respond([]byte("answer to " + string(m.Data)))
		}
	}); err != nil {
		t.Fatal(err)
	}
	_ = w.js.Conn().Flush()
	var all sync.WaitGroup
	for i := range 200 {
		all.Go(func() {
			question := fmt.Sprint("question ", i)
			r, err := l.(connect.Asker).Ask(context.Background(), connecttest.Request(`{"subject": "questions"}`, question,
				question))
			if err != nil {
				t.Errorf("%s: %v", question, err)
				return
			}
			if got, _ := r.Body(); r.Outcome != retry.Delivered || string(got) != "answer to "+question {
				t.Errorf("%s: %s %s", question, r.Outcome, got)
			}
		})
	}
	all.Wait()
	connecttest.Eventually(t, "each second answer is told of", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(late) == 200
	})
	r, err := l.(connect.Asker).Ask(context.Background(), connecttest.Request(`{"subject": "nobody"}`, "x", ""))
	if err != nil || r.Outcome != retry.Again || !strings.Contains(r.Words, "nobody listens") {
		t.Errorf("%+v %v", r, err)
	}
}

func TestTheTestGoesStepByStep(t *testing.T) {
	w := serve(t)
	l := open(t, w.c)
	r, err := l.Check(context.Background())
	if err != nil || !r.OK || len(r.Steps) != 2 || r.Steps[1].Detail != "signed in as maud" {
		t.Fatalf("%+v %v", r, err)
	}
	wrong := *w.c
	wrong.SignIn.Secrets = []string{"wrong"}
	if r, _ := open(t, &wrong).Check(context.Background()); r.OK || len(r.Steps) < 2 ||
		!strings.Contains(r.Steps[1].Detail, "Authorization Violation") {
		t.Errorf("%+v", r)
	}
	free, _ := net.Listen("tcp", "127.0.0.1:0")
	nobody := connection("nats://" + free.Addr().String())
	_ = free.Close()
	if r, _ := open(t, nobody).Check(context.Background()); r.OK || !strings.Contains(r.Steps[0].Repair, "firewall") {
		t.Errorf("%+v", r)
	}
	send(t, l, "sample", "one")
	for settings, want := range map[string]string{
		`{"stream": "RETURNS"}`:        "true f: the stream RETURNS is there, messages in it: 1",
		`{"stream": "RETURN"}`:         "false f: the stream RETURN is not there",
		`{"subject": "desk.x"}`:        "true f: the stream RETURNS takes the subject desk.x",
		`{"subject": "dusk.x"}`:        "false f: no stream takes the subject dusk.x",
		`{"subject": "d.${body.n}.x"}`: "true f: the subject depends on the message",
	} {
		s := l.(connect.Inspector).Inspect(context.Background(), connect.Use{
			Flow: "f", Intake: strings.Contains(settings, "stream"), Settings: system.Schema(settings),
		})
		if got := fmt.Sprint(s.OK, " ", s.Detail); got != want || s.OK == (s.Repair != "") {
			t.Errorf("%s: %s", settings, got)
		}
	}
	for what, want := range map[string]string{"stream": "[RETURNS]", "subject": "[desk.>]"} {
		if list, err := l.(connect.Lister).List(context.Background(), what); err != nil || fmt.Sprint(list) != want {
			t.Error(list, err)
		}
	}
	a, err := l.(connect.Peeker).Peek(context.Background(), system.Schema(`{"stream": "RETURNS"}`))
	if err != nil || a.ID != "sample" || string(a.Body) != "one" || connecttest.Header(*a, "nats-sequence") != "1" {
		t.Errorf("%+v %v", a, err)
	}
	if _, err := l.(connect.Peeker).Peek(context.Background(),
		system.Schema(`{"stream": "RETURNS", "filter": "desk.none"}`)); err == nil {
		t.Error("there is a sample")
	}
}

// A broker may be anything that listens there.
func TestHostileBrokersAreLeft(t *testing.T) {
	const info = `INFO {"server_id":"x","version":"2.10.0","proto":1,"max_payload":1000,"headers":true}` + "\r\nPONG\r\n"
	connecttest.Hostile(t, New(nil), *connection(""), func(at string) string { return "nats://" + at },
		toDesk, `{"stream": "RETURNS"}`, map[string]string{
			"nothing":           "",
			"another protocol":  "SSH-2.0-OpenSSH_9.2\r\n",
			"an endless banner": strings.Repeat("INFO ", 1<<20),
			"a huge message":    info + "MSG a 1 99999999999\r\n" + strings.Repeat("x", 1<<20),
			"a negative size":   info + "MSG a 1 -5\r\n",
			"an error":          "-ERR 'no'\r\n",
			"no JSON":           "INFO {nothing\r\n",
			"unknown verbs":     info + "ODD a b c\r\nODD\r\n",
		})
}

// The guard follows lines and messages however they are cut.
func FuzzGuard(f *testing.F) {
	f.Add([]byte("INFO {}\r\nMSG a 1 3\r\nabc\r\nHMSG a 1 5 99999999999\r\n"), 3)
	f.Fuzz(func(t *testing.T, b []byte, cut int) {
		whole, pieces := &guarded{}, &guarded{}
		first := whole.look(b)
		var second error
		for n := max(1, min(cut, 7)); len(b) > 0 && second == nil; b = b[min(n, len(b)):] {
			second = pieces.look(b[:min(n, len(b))])
		}
		if (first == nil) != (second == nil) {
			t.Errorf("%v as a whole, %v in pieces", first, second)
		}
	})
}
