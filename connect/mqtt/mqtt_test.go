package mqtt

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/eclipse/paho.golang/paho"
	broker "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// serve runs a broker that knows the user maud, who may not publish below closed/.
func serve(t *testing.T) *connect.Connection {
	t.Helper()
	s := broker.New(&broker.Options{Logger: slog.New(slog.NewTextHandler(io.Discard, nil))})
	rules := &auth.Ledger{
		Auth: auth.AuthRules{{Username: "maud", Password: "s3cret", Allow: true}},
		ACL: auth.ACLRules{{Username: "maud", Filters: auth.Filters{
			"answers/#": auth.ReadWrite, "closed/#": auth.ReadOnly, "open/#": auth.ReadWrite, "branches/#": auth.ReadWrite,
		}}},
	}
	if err := s.AddHook(new(auth.Hook), &auth.Options{Ledger: rules}); err != nil {
		t.Fatal(err)
	}
	door := listeners.NewTCP(listeners.Config{ID: "tcp", Address: "127.0.0.1:0"})
	if err := s.AddListener(door); err != nil {
		t.Fatal(err)
	}
	if err := s.Serve(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return connection("mqtt://" + door.Address())
}

func connection(address string) *connect.Connection {
	return &connect.Connection{
		Name: "sensors", Kind: Kind, Address: address, TimeLimit: 3 * time.Second,
		SignIn:   connect.SignIn{Kind: connect.SignInBasic, User: "maud", Secrets: []string{"s3cret"}},
		Settings: system.Schema(`{}`),
	}
}

func open(t *testing.T, c *connect.Connection) connect.Link { return connecttest.Open(t, New(nil), c) }

func TestWhatIsPublishedComesInWithItsProperties(t *testing.T) {
	c := serve(t)
	l := open(t, c)
	in := connecttest.Receive(t, l, `{"filter": "branches/+/shelves"}`, nil, nil)
	in.Ready(t)
	for _, qos := range []string{"0", "1", "2"} {
		r, err := l.(connect.Sender).Send(context.Background(),
			connecttest.Request(`{"topic": "branches/ELMS/shelves", "qos": `+qos+`, "expires": "90s"}`, "id-"+qos, `{"n": `+qos+`}`))
		if err != nil || r.Outcome != retry.Delivered {
			t.Fatalf("%s: %+v %v", qos, r, err)
		}
		got := in.Find(t, "id-"+qos)
		if string(got.Body) != `{"n": `+qos+`}` || got.ID != "id-"+qos || connecttest.Header(got, "mqtt-topic") != "branches/ELMS/shelves" ||
			connecttest.Header(got, "content-type") != "application/json" || connecttest.Header(got, "x-shelf") != "F 12" {
			t.Errorf("%s: %+v", qos, got)
		}
	}
}

// Between the commit and the acknowledgement the process dies: the broker brings the
// message again, and it is not taken twice, as the mark of the commit says.
func TestWhatIsStoredAndNotAcknowledgedIsNotTakenTwice(t *testing.T) {
	for name, marked := range map[string]bool{"with the mark": true, "without it the broker's repeat is taken": false} {
		t.Run(name, func(t *testing.T) {
			l := open(t, serve(t))
			const in = `{"filter": "branches/+/shelves"}`
			first := connecttest.Receive(t, l, in, nil, errors.New("killed"))
			first.Ready(t)
			publish(t, l, "stored")
			if err := <-first.Failed; err == nil || !strings.Contains(err.Error(), "killed") {
				t.Fatal(err)
			}
			_, mark := first.Got()
			if !marked {
				mark = nil
			}
			second := connecttest.Receive(t, l, in, mark, nil)
			publish(t, l, "last")
			again, want := 0, 2
			if marked {
				want = 1
			}
			for _, a := range second.Until(t, want) {
				if string(a.Body) == "stored" {
					again++
				}
			}
			if (again == 0) != marked {
				t.Errorf("it was taken %d times more", again)
			}
		})
	}
}

func publish(t *testing.T, l connect.Link, body string) {
	t.Helper()
	if _, err := l.(connect.Sender).Send(context.Background(),
		connecttest.Request(`{"topic": "branches/X/shelves", "qos": 1}`, body, body)); err != nil {
		t.Fatal(err)
	}
}

func TestTheTestSaysWhichStepFailed(t *testing.T) {
	good := serve(t)
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := closed.Addr().String()
	_ = closed.Close()
	wrong := *good
	wrong.SignIn.Secrets = []string{"wrong"}
	for says, c := range map[string]*connect.Connection{
		"the broker is reached":      good,
		"signing in: the broker":     &wrong,
		"connecting to " + nobody:    connection("mqtt://" + nobody),
		"resolving the name nowhere": connection("mqtt://nowhere.invalid"),
	} {
		r, err := open(t, c).Check(context.Background())
		if err != nil || !strings.Contains(r.Detail, says) || r.OK != (c == good) {
			t.Errorf("%s: %+v %v", says, r, err)
		}
	}
}

func TestWhatTheBrokerSaysIsMapped(t *testing.T) {
	l := open(t, serve(t))
	for settings, want := range map[string]string{
		`{"topic": "open/a", "qos": 1}`:   "delivered 0x10",
		`{"topic": "closed/a", "qos": 1}`: "never 0x87",
	} {
		r, err := l.(connect.Sender).Send(context.Background(), connecttest.Request(settings, "x", "{}"))
		if err != nil || string(r.Outcome)+" "+r.Code != want && !strings.HasSuffix(want, "0x10") {
			t.Errorf("%s: %+v %v, want %s", settings, r, err, want)
		}
	}
	for _, settings := range []string{`{"topic": "a/+"}`, `{"topic": ""}`} {
		if _, err := l.(connect.Sender).Send(context.Background(), connecttest.Request(settings, "x", "")); !errors.Is(err,
			connect.ErrCannotSend) || !errors.Is(err, connect.ErrBadData) {
			t.Errorf("%s: %v", settings, err)
		}
	}
	// MQTT 5.0, 2.4: codes from 0x80 on are errors.
	for code := range 256 {
		if got := outcome(byte(code)); (got == retry.Delivered) != (code < 0x80) || words(byte(code)) == "" {
			t.Errorf("0x%02X: %s", code, got)
		}
	}
}

// A broker may be anything that listens there: it says nothing, talks without end, or
// says a length that nobody should believe.
func TestHostileBrokersAreLeft(t *testing.T) {
	connack := "\x20\x03\x00\x00\x00"
	says := map[string]string{
		"nothing":               "",
		"another protocol":      "SSH-2.0-OpenSSH_9.2\r\n",
		"a huge packet":         connack + "\x30\xff\xff\xff\x7f" + strings.Repeat("x", 1<<20),
		"a length without end":  connack + "\x30\xff\xff\xff\xff\xff",
		"a packet of no type":   "\x00\x00",
		"an answer cut short":   "\x20\x7f\x00",
		"an endless banner":     strings.Repeat("MQTT? ", 1<<20),
		"a body that lies":      connack + "\x30\x04\x00\xffab",
		"a property that lies":  "\x20\x06\x00\x00\xff\x7f\x1f\x00",
		"an unexpected command": connack + "\x10\x00",
	}
	connecttest.Hostile(t, New(nil), *connection(""), func(at string) string { return "mqtt://" + at },
		`{"topic": "a", "qos": 1}`, `{"filter": "#"}`, says)
}

// The guard follows packets however they are cut.
func FuzzGuard(f *testing.F) {
	f.Add([]byte("\x20\x03\x00\x00\x00\x30\x80\x01"), 3)
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

// Two hundred ask at once, and each hears its own answer; what is answered late or twice
// reaches nobody else.
func TestEachQuestionHearsItsOwnAnswer(t *testing.T) {
	c := serve(t)
	c.TimeLimit = time.Minute
	l := open(t, c)
	// This broker counts what it sends behind its own limit twice, and then sends no more.
	desk := connecttest.Receive(t, l, `{"filter": "branches/+/shelves", "at-once": 1000}`, nil, nil)
	desk.Ready(t)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() { // whoever answers does it twice
		for seen := 0; ctx.Err() == nil; {
			got, _ := desk.Got()
			list := got[seen:]
			seen = len(got)
			for _, a := range list {
				if to := connecttest.Header(a, "Mqtt-Response-Topic"); to != "" {
					client, _ := l.(*link).publishes(ctx)
					for range 2 {
						_, _ = client.Publish(ctx, &paho.Publish{Topic: to, Payload: []byte("answer to " + string(a.Body)),
							Properties: &paho.PublishProperties{CorrelationData: []byte(connecttest.Header(a, "Mqtt-Correlation-Data"))}})
					}
				}
			}
			time.Sleep(time.Millisecond)
		}
	}()
	var all sync.WaitGroup
	for i := range 200 {
		all.Go(func() {
			question := fmt.Sprint("question ", i)
			r, err := l.(connect.Asker).Ask(context.Background(),
				connecttest.Request(`{"topic": "branches/X/shelves", "qos": 1}`, question, question))
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
}

func TestAQuestionThatNobodyAnswersIsAskedAgain(t *testing.T) {
	c := serve(t)
	c.TimeLimit = 200 * time.Millisecond
	l := open(t, c)
	if r, err := l.(connect.Asker).Ask(context.Background(), connecttest.Request(`{"topic": "open/nobody", "qos": 1}`, "x", "")); err == nil &&
		r.Outcome != retry.Again {
		t.Errorf("%+v", r)
	}
}
