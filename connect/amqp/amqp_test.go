package amqp

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/connect/reach"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/system"
	broker "readyferry/standin/amqp"
)

// world is a broker at a port, with a queue named returns that the exchange desk fills.
type world struct {
	*broker.Broker
	mu   sync.Mutex
	says func(broker.Publish) broker.Verdict
	c    *connect.Connection
}

func serve(t *testing.T) *world {
	t.Helper()
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w := &world{Broker: broker.New()}
	w.OnPublish = func(p broker.Publish) broker.Verdict {
		w.mu.Lock()
		defer w.mu.Unlock()
		if w.says == nil {
			return broker.Verdict{}
		}
		return w.says(p)
	}
	if err := w.Bind("desk", broker.Topic, "returns", "returns.#"); err != nil {
		t.Fatal(err)
	}
	go func() {
		for {
			c, err := door.Accept()
			if err != nil {
				return
			}
			go w.Serve(c)
		}
	}()
	t.Cleanup(func() { _ = door.Close(); _ = w.Close() })
	w.c = connection("amqp://" + door.Addr().String())
	return w
}

func (w *world) tell(v broker.Verdict) {
	w.mu.Lock()
	w.says = func(broker.Publish) broker.Verdict { return v }
	w.mu.Unlock()
}

func connection(address string) *connect.Connection {
	return &connect.Connection{Name: "desk", Kind: Kind, Address: address, TimeLimit: 20 * time.Second,
		SignIn:   connect.SignIn{Kind: connect.SignInBasic, User: "maud", Secrets: []string{"s3cret"}},
		Settings: system.Schema(`{}`)}
}

func open(t *testing.T, c *connect.Connection) connect.Link { return connecttest.Open(t, New(nil), c) }

const toReturns = `{"exchange": "desk", "routing-key": "returns.ELMS"}`

func TestWhatIsPublishedComesInWithItsPropertiesAndHeaders(t *testing.T) {
	l := open(t, serve(t).c)
	in := connecttest.Receive(t, l, `{"queue": "loans", "make": true, "bind": {"exchange": "desk", "pattern": "loans.*"}}`, nil, nil).Ready(t)
	r := connecttest.Request(`{"exchange": "desk", "routing-key": "loans.ELMS", "priority": 4, "expires": "90s"}`,
		"id-1", `{"n": 1}`)
	for name, value := range map[string]string{"amqp-type": "loan", "Amqp-Correlation-Id": "c-7",
		"amqp-reply-to":    "desk-answers",
		"content-encoding": "identity", "Idempotency-Key": "not this", "x-empty": ""} {
		r.Headers = append(r.Headers, message.Header{Name: name, Value: value})
	}
	got, err := l.(connect.Sender).Send(context.Background(), r)
	if err != nil || got.Outcome != retry.Delivered || got.Code != "confirmed" {
		t.Fatalf("%+v %v", got, err)
	}
	a := in.Find(t, "id-1")
	for name, want := range map[string]string{"amqp-exchange": "desk", "amqp-routing-key": "loans.ELMS",
		"amqp-message-id": "id-1",
		"amqp-type":       "loan", "amqp-correlation-id": "c-7", "amqp-reply-to": "desk-answers",
		"content-type":  "application/json",
		"amqp-priority": "4", "amqp-expiration": "90000", "content-encoding": "identity", "x-shelf": "F 12"} {
		if h := connecttest.Header(a, name); h != want {
			t.Errorf("%s: %q, want %q", name, h, want)
		}
	}
	if string(a.Body) != `{"n": 1}` || connecttest.Header(a, "amqp-timestamp") == "" {
		t.Errorf("%+v", a)
	}
}

// Between the commit and the acknowledgement the process dies: the broker brings the
// message again, with the id by which the engine knows it.
func TestWhatIsStoredAndNotAcknowledgedComesAgainWithItsID(t *testing.T) {
	w := serve(t)
	l := open(t, w.c)
	in := `{"queue": "returns", "at-once": 8}`
	first := connecttest.Receive(t, l, in, nil, errors.New("killed")).Ready(t)
	for _, body := range []string{"stored", "second"} {
		if r, err := connecttest.Send(l, toReturns, "id of "+body, body); err != nil || r.Outcome != retry.Delivered {
			t.Fatalf("%+v %v", r, err)
		}
	}
	if err := <-first.Failed; err == nil || !strings.Contains(err.Error(), "killed") {
		t.Fatal(err)
	}
	second := connecttest.Receive(t, l, in, nil, nil)
	a := second.Find(t, "id of stored")
	if string(a.Body) != "stored" || connecttest.Header(a, "amqp-redelivered") != "true" {
		t.Errorf("%+v", a)
	}
	second.Find(t, "id of second")
	connecttest.Eventually(t, "the queue is empty, for all is acknowledged", func() bool {
		second.Stop()
		return w.Queues()[0].Messages == 0 && w.Queues()[0].Consumers == 0
	})
}

func TestTheBrokerHandsOverNoMoreThanIsTakenAtOnce(t *testing.T) {
	w := serve(t)
	for i := range 20 {
		_, _ = w.Put(broker.Publish{Key: "returns", Body: fmt.Append(nil, i)})
	}
	l := open(t, w.c)
	hold := make(chan struct{})
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	seen := make(chan int, 100)
	go func() {
		_ = l.(connect.Receiver).Receive(ctx, system.Schema(`{"queue": "returns", "at-once": 3}`), nil,
			func(_ context.Context, list []connect.Arrival) ([]connect.Taken, error) {
				seen <- len(list)
				<-hold
				return make([]connect.Taken, len(list)), nil
			})
	}()
	<-seen
	if left := w.Queues()[0].Messages; left < 17 {
		t.Errorf("%d are left in the queue", left)
	}
	close(hold)
	connecttest.Eventually(t, "all are taken", func() bool { return w.Queues()[0].Messages == 0 })
}

func TestItReconnectsAndSaysWhyItWasLeft(t *testing.T) {
	w := serve(t)
	l := open(t, w.c)
	in := connecttest.Receive(t, l, `{"queue": "returns"}`, nil, errors.New("x")).Ready(t)
	w.Cut()
	if err := <-in.Failed; err == nil || !strings.Contains(err.Error(), "broke off") {
		t.Error(err)
	}
	again := connecttest.Receive(t, l, `{"queue": "returns"}`, nil, nil)
	for range 3 { // the connection that publishes was cut as well
		if r, err := connecttest.Send(l, toReturns, "id", "x"); err == nil && r.Outcome == retry.Delivered {
			again.Find(t, "id")
			return
		}
	}
	t.Error("it does not publish again")
}

// What a broker does in each way in which it can fail, and what the delivery comes to.
func TestOutcomes(t *testing.T) {
	w := serve(t)
	w.c.TimeLimit = 2 * time.Second
	l := open(t, w.c)
	for name, c := range map[string]struct {
		verdict  broker.Verdict
		settings string
		outcome  retry.Outcome // "": unknown
		says     string
	}{
		"confirms":       {broker.Verdict{}, toReturns, retry.Delivered, ""},
		"confirms late":  {broker.Verdict{Delay: 200 * time.Millisecond}, toReturns, retry.Delivered, ""},
		"never confirms": {broker.Verdict{Silent: true}, toReturns, "", "did not confirm it within 2s"},
		"refuses":        {broker.Verdict{Refuse: true}, toReturns, retry.Again, "did not take it"},
		"closes":         {broker.Verdict{Cut: true}, toReturns, "", "broke off"},
		"not permitted": {broker.Verdict{Code: 403, Text: "ACCESS_REFUSED"}, toReturns, retry.Never,
			"does not permit it (403 ACCESS_REFUSED)"},
		"too large": {broker.Verdict{Code: 311, Text: "CONTENT_TOO_LARGE"}, toReturns, "cannot",
			"larger than the broker takes"},
		"no room":      {broker.Verdict{Code: 506, Text: "RESOURCE_ERROR"}, toReturns, retry.Again, "not enough room"},
		"operator":     {broker.Verdict{Code: 320, Text: "CONNECTION_FORCED"}, toReturns, retry.Again, "operator"},
		"unknown code": {broker.Verdict{Code: 399, Text: "ODD"}, toReturns, retry.Again, "(399 ODD)"},
		"nothing is bound": {broker.Verdict{}, `{"exchange": "desk", "routing-key": "nobody"}`, retry.Never,
			"nothing is bound"},
		"no queue":    {broker.Verdict{}, `{"routing-key": "nobody"}`, retry.Never, "nothing is bound"},
		"no exchange": {broker.Verdict{}, `{"exchange": "nowhere", "routing-key": "x"}`, retry.Never, "is not there"},
		"no way":      {broker.Verdict{}, `{}`, "cannot", "neither an exchange nor a routing key"},
		"long key": {broker.Verdict{}, `{"routing-key": "` + strings.Repeat("x", 256) + `"}`, "cannot",
			"room for 255"},
	} {
		t.Run(name, func(t *testing.T) {
			w.tell(c.verdict)
			r, err := connecttest.Send(l, c.settings, "id", "{}")
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
			w.tell(broker.Verdict{})
			connecttest.Eventually(t, "the next one is delivered", func() bool {
				r, err := connecttest.Send(l, toReturns, "next", "{}")
				return err == nil && r.Outcome == retry.Delivered
			})
		})
	}
	for range 9_990 { // a full queue
		_, _ = w.Put(broker.Publish{Key: "returns"})
	}
	for {
		if _, err := w.Put(broker.Publish{Key: "returns"}); err != nil {
			break
		}
	}
	if r, err := connecttest.Send(l, toReturns, "id", "{}"); err != nil || r.Outcome != retry.Again {
		t.Errorf("%+v %v", r, err)
	}
}

// Many publish at once, and what is said of one is not taken for another.
func TestManyAtOnceAreToldApart(t *testing.T) {
	w := serve(t)
	w.says = func(p broker.Publish) broker.Verdict {
		switch {
		case strings.HasSuffix(p.Key, "3"):
			return broker.Verdict{Refuse: true}
		case strings.HasSuffix(p.Key, "5"):
			return broker.Verdict{Code: 403, Text: "ACCESS_REFUSED"}
		}
		return broker.Verdict{}
	}
	l := open(t, w.c)
	var all sync.WaitGroup
	for i := range 100 {
		all.Go(func() {
			key, want := fmt.Sprintf("returns.%d", i), retry.Delivered
			switch i % 10 {
			case 3:
				want = retry.Again
			case 5:
				want = retry.Never
			case 7:
				key, want = fmt.Sprintf("nobody.%d", i), retry.Never
			}
			r, err := connecttest.Send(l, `{"exchange": "desk", "routing-key": "`+key+`"}`, key, "{}")
			if err != nil || r.Outcome != want {
				t.Errorf("%s: %+v %v, want %s", key, r, err, want)
			}
		})
	}
	all.Wait()
}

// Two hundred ask at once, and each hears its own answer; the second ones are told of.
func TestEachQuestionHearsItsOwnAnswer(t *testing.T) {
	w := serve(t)
	w.c.TimeLimit = time.Minute
	l := open(t, w.c)
	var mu sync.Mutex
	late := map[string]int{}
	l.(connect.Hearer).OnLate(func(id string, r connect.Receipt) {
		body, _ := r.Body()
		mu.Lock()
		defer mu.Unlock()
		if string(body) == "answer to "+id {
			late[id]++
		}
	})
	desk := connecttest.Receive(t, l, `{"queue": "returns", "at-once": 1000}`, nil, nil).Ready(t)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() { // whoever answers does it twice
		for seen := 0; ctx.Err() == nil; time.Sleep(time.Millisecond) {
			got, _ := desk.Got()
			for _, a := range got[seen:] {
				for range 2 {
					_, _ = w.Put(broker.Publish{Key: connecttest.Header(a, "amqp-reply-to"),
						Body:       []byte("answer to " + string(a.Body)),
						Properties: broker.Properties{CorrelationID: connecttest.Header(a, "amqp-correlation-id")}})
				}
			}
			seen = len(got)
		}
	}()
	var all sync.WaitGroup
	for i := range 200 {
		all.Go(func() {
			question := fmt.Sprint("question ", i)
			r, err := l.(connect.Asker).Ask(context.Background(), connecttest.Request(toReturns, question, question))
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
}

func TestAQuestionThatNobodyAnswersOrTakes(t *testing.T) {
	w := serve(t)
	w.c.TimeLimit = 300 * time.Millisecond
	l := open(t, w.c)
	if r, err := l.(connect.Asker).Ask(context.Background(), connecttest.Request(toReturns, "x", "")); err == nil ||
		!strings.Contains(err.Error(), "nobody answered within") {
		t.Errorf("%+v %v", r, err)
	}
	r, err := l.(connect.Asker).Ask(context.Background(), connecttest.Request(`{"routing-key": "nobody"}`, "x", ""))
	if err != nil || r.Outcome != retry.Never {
		t.Errorf("%+v %v", r, err)
	}
}

func TestTheTestGoesStepByStep(t *testing.T) {
	w := serve(t)
	_, _ = w.Put(broker.Publish{Key: "returns", Properties: broker.Properties{MessageID: "m-1"}, Body: []byte("sample")})
	l := open(t, w.c)
	r, err := l.Check(context.Background())
	if err != nil || !r.OK || len(r.Steps) != 2 || !strings.Contains(r.Steps[1].Detail,
		"signed in as maud, virtual host /") {
		t.Errorf("%+v %v", r, err)
	}
	for settings, want := range map[string]string{
		`{"queue": "returns"}`:                "true the queue returns is there, 1 messages wait",
		`{"queue": "returns-2"}`:              "false the queue returns-2 is not there",
		`{"queue": "other", "make": true}`:    "true the queue other is not there yet; the flow makes it",
		`{"exchange": "desk"}`:                "true the exchange desk is there",
		`{"exchange": "dusk"}`:                "false the exchange dusk is not there",
		`{"routing-key": "returns"}`:          "true the queue returns is there",
		`{"routing-key": "q.${body.n}"}`:      "true the queue depends on the message",
		`{"exchange": "${headers[\"x-e\"]}"}`: "true the exchange depends on the message",
	} {
		s := l.(connect.Inspector).Inspect(context.Background(), connect.Use{
			Flow: "f", Intake: strings.Contains(settings, `"queue"`), Settings: system.Schema(settings),
		})
		if got := fmt.Sprint(s.OK, " ", strings.TrimPrefix(s.Detail, "f: ")); !strings.HasPrefix(got, want) ||
			s.OK == (s.Repair != "") {
			t.Errorf("%s: %s %q", settings, got, s.Repair)
		}
	}
	a, err := l.(connect.Peeker).Peek(context.Background(), system.Schema(`{"queue": "returns"}`))
	if err != nil || a.ID != "m-1" || string(a.Body) != "sample" {
		t.Errorf("%+v %v", a, err)
	}
	connecttest.Eventually(t, "nobody misses the sample", func() bool { return w.Queues()[0].Messages == 1 })
	for _, queue := range []string{"nobody", "empty"} {
		_ = w.Bind("", "", "empty", "")
		if _, err := l.(connect.Peeker).Peek(context.Background(), system.Schema(`{"queue": "`+queue+`"}`)); err == nil {
			t.Errorf("%s gives a sample", queue)
		}
	}
	gone := connecttest.Receive(t, l, `{"queue": "nobody"}`, nil, nil)
	if err := <-gone.Failed; err == nil || !strings.Contains(err.Error(), "is not there (404") {
		t.Error(err)
	}
	virtual := *w.c
	virtual.Address += "/returns"
	if r, _ := open(t, &virtual).Check(context.Background()); !strings.Contains(r.Steps[1].Detail,
		"virtual host returns") {
		t.Errorf("%+v", r)
	}
}

// A broker may be anything that listens there.
func TestHostileBrokersAreLeft(t *testing.T) {
	frame := func(kind byte, channel uint16, payload string) string {
		b := binary.BigEndian.AppendUint16([]byte{kind}, channel)
		b = binary.BigEndian.AppendUint32(b, uint32(len(payload)))
		return string(b) + payload + "\xce"
	}
	start := frame(1, 0, "\x00\x0a\x00\x0a\x00\x09\x00\x00\x00\x00\x00\x00\x00\x05PLAIN\x00\x00\x00\x05en_US")
	connecttest.Hostile(t, New(nil), *connection(""), func(at string) string { return "amqp://" + at },
		toReturns, `{"queue": "returns"}`, map[string]string{
			"nothing":             "",
			"another protocol":    "SSH-2.0-OpenSSH_9.2\r\n",
			"another version":     "AMQP\x00\x01\x00\x00",
			"an endless banner":   strings.Repeat("AMQP ", 1<<20),
			"a huge frame":        start + "\x01\x00\x00\xff\xff\xff\xff" + strings.Repeat("x", 1<<20),
			"no end of a frame":   start + "\x01\x00\x00\x00\x00\x00\x01xx",
			"a table that lies":   frame(1, 0, "\x00\x0a\x00\x0a\x00\x09\xff\xff\xff\xff"),
			"deep tables":         frame(1, 0, "\x00\x0a\x00\x0a\x00\x09\x00\x00\xff\x00"+strings.Repeat("\x01aF\x00\x00\xff\x00", 9000)),
			"a mechanism unknown": frame(1, 0, "\x00\x0a\x00\x0a\x00\x09\x00\x00\x00\x00\x00\x00\x00\x03ODD\x00\x00\x00\x05en_US"),
			"a close":             frame(1, 0, "\x00\x0a\x00\x32\x02\x12\x02no\x00\x00\x00\x00"),
		})
}

func TestABodyWithoutEndIsNotRead(t *testing.T) {
	g := &guarded{}
	head := "\x02\x00\x01\x00\x00\x00\x0e\x00\x3c\x00\x00\x00\x00\x00\x00\xff\xff\xff\xff\x00\x00\xce"
	if err := g.look([]byte(head)); !errors.Is(err, errTooLarge) {
		t.Error(err)
	}
}

// The guard follows frames however they are cut.
func FuzzGuard(f *testing.F) {
	f.Add([]byte("\x01\x00\x00\x00\x00\x00\x02xx\xce\x02\x00\x01\x00\x00\x00\x0e\x00\x3c\x00\x00\x00\x00\x00\x00\xff\xff\xff\xff\x00\x00\xce"), 3)
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

func TestAddressesAndCodes(t *testing.T) {
	check := func(c *connect.Connection) (out []string) {
		New(nil).Check(c, func(ptr, _, _, _ string) { out = append(out, ptr) })
		return out
	}
	good := connection("amqps://desk.example/returns")
	bad := connection("http://desk.example")
	bad.Settings = system.Schema(`{"heartbeat": "soon"}`)
	if a, b := check(good), check(bad); len(a) != 0 || fmt.Sprint(b) != "[/address /heartbeat]" {
		t.Error(a, b)
	}
	// The reply codes of AMQP 0-9-1, 1.3, are all in words.
	for _, code := range []int{311, 313, 320, 402, 403, 404, 405, 406, 501, 502, 503, 504, 505, 506, 530, 540, 541} {
		if said[code].words == "" {
			t.Errorf("%d is not in words", code)
		}
	}
	c := connection("amqp://127.0.0.1:1")
	if r, err := open(t, c).Check(context.Background()); err != nil || r.OK || r.Steps[0].Repair == "" {
		t.Errorf("%+v %v", r, err)
	}
	c.SignIn.Kind = reach.SignInMTLS
	if as(c) != " with the client certificate" {
		t.Error(as(c))
	}
}
