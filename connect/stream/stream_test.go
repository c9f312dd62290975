package stream

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kmsg"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// world is a log of the library's own, with the topic loans of three partitions.
type world struct {
	*kfake.Cluster
	c *connect.Connection
}

func serve(t *testing.T, more ...kfake.Opt) *world {
	t.Helper()
	log, err := kfake.NewCluster(append([]kfake.Opt{kfake.NumBrokers(1), kfake.SeedTopics(3, "loans"),
		kfake.GroupMinSessionTimeout(100 * time.Millisecond)}, more...)...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(log.Close)
	return &world{log, connection("stream://" + log.ListenAddrs()[0])}
}

func connection(address string) *connect.Connection {
	return &connect.Connection{Name: "log", Kind: Kind, Address: address, TimeLimit: 20 * time.Second,
		SignIn: connect.SignIn{Kind: connect.SignInNone}, Settings: system.Schema(`{}`)}
}

func open(t *testing.T, c *connect.Connection) connect.Link { return connecttest.Open(t, New(nil), c) }

const toLoans = `{"topic": "loans", "key": "LC4417203"}`

func send(t *testing.T, l connect.Link, settings, id, body string) {
	t.Helper()
	if r, err := connecttest.Send(l, settings, id, body); err != nil || r.Outcome != retry.Delivered {
		t.Fatalf("%+v %v", r, err)
	}
}

func TestWhatIsAppendedComesInWithItsPlaceKeyAndHeaders(t *testing.T) {
	l := open(t, serve(t).c)
	r := connecttest.Request(`{"topic": "loans", "key": "base64:/wD/", "partition": "2"}`, "id-1", `{"n": 1}`)
	r.Headers = append(r.Headers, message.Header{Name: "stream-offset", Value: "99"},
		message.Header{Name: "Idempotency-Key", Value: "not this"})
	if got, err := l.(connect.Sender).Send(context.Background(), r); err != nil || got.Outcome != retry.Delivered ||
		got.Code != "acknowledged" {
		t.Fatalf("%+v %v", got, err)
	}
	in := connecttest.Receive(t, l, `{"topic": "loans", "begin": "earliest"}`, nil, nil)
	a := in.Find(t, "id-1")
	for name, want := range map[string]string{"stream-topic": "loans", "stream-partition": "2", "stream-offset": "0",
		"stream-key": "base64:/wD/", "x-shelf": "F 12", "content-type": "application/json", "idempotency-key": "id-1"} {
		if h := connecttest.Header(a, name); h != want {
			t.Errorf("%s: %q, want %q", name, h, want)
		}
	}
	if string(a.Body) != `{"n": 1}` || connecttest.Header(a, "stream-timestamp") == "" {
		t.Errorf("%+v", a)
	}
	// Records of one key are in one partition, in order.
	for i := range 20 {
		send(t, l, toLoans, fmt.Sprint("k-", i), fmt.Sprint(i))
	}
	last, at := -1, ""
	for _, a := range in.Until(t, 21) {
		if connecttest.Header(a, "stream-key") != "LC4417203" {
			continue
		}
		var n int
		_, _ = fmt.Sscan(string(a.Body), &n)
		if p := connecttest.Header(a, "stream-partition"); n != last+1 || at != "" && p != at {
			t.Errorf("%d behind %d, partition %s and %s", n, last, p, at)
		} else {
			last, at = n, p
		}
	}
}

// Between the commit and the committing of the place the process dies: the records come
// again, with the ids by which the engine knows them.
func TestWhatIsStoredAndNotCommittedComesAgainWithItsID(t *testing.T) {
	w := serve(t)
	l := open(t, w.c)
	send(t, l, toLoans, "stored", "stored")
	first := connecttest.Receive(t, l, `{"topic": "loans", "begin": "earliest"}`, nil, errors.New("killed"))
	if err := <-first.Failed; err == nil || !strings.Contains(err.Error(), "killed") {
		t.Fatal(err)
	}
	second := connecttest.Receive(t, l, `{"topic": "loans", "begin": "earliest"}`, nil, nil)
	if a := second.Find(t, "stored"); string(a.Body) != "stored" {
		t.Errorf("%+v", a)
	}
	send(t, l, toLoans, "next", "next")
	second.Find(t, "next")
	second.Stop()
	<-second.Failed
	third := connecttest.Receive(t, l, `{"topic": "loans", "begin": "earliest"}`, nil, nil)
	send(t, l, toLoans, "last", "last")
	third.Find(t, "last")
	got, _ := third.Got()
	for _, a := range got { // what came before the next one is committed, and that one perhaps not yet when it was stopped
		if string(a.Body) == "stored" {
			t.Errorf("%+v came again behind its commit", a)
		}
	}
}

func TestTwoGroupsReadAllAndMembersOfOneShare(t *testing.T) {
	l := open(t, serve(t).c)
	in := func(group string) *connecttest.Taker {
		return connecttest.Receive(t, l, `{"topic": "loans", "begin": "earliest", "group": "`+group+`"}`, nil, nil)
	}
	a, b, other := in("loans"), in("loans"), in("overdue")
	for i := range 60 {
		send(t, l, fmt.Sprintf(`{"topic": "loans", "key": "card %d"}`, i), fmt.Sprint(i), "x")
	}
	other.Until(t, 60)
	connecttest.Eventually(t, "the two have all between them", func() bool {
		x, _ := a.Got()
		y, _ := b.Got()
		seen := map[string]bool{}
		for _, one := range append(x, y...) {
			seen[one.ID] = true
		}
		return len(seen) == 60
	})
}

func TestWhereAGroupBegins(t *testing.T) {
	l := open(t, serve(t).c)
	send(t, l, toLoans, "old", "x")
	time.Sleep(20 * time.Millisecond) // the log counts milliseconds
	middle := time.Now()
	send(t, l, toLoans, "new", "x")
	at := connecttest.Receive(t, l, `{"topic": "loans", "group": "a", "begin": "`+middle.UTC().Format(time.RFC3339Nano)+`"}`, nil, nil)
	if got := at.Until(t, 1); got[0].ID != "new" {
		t.Errorf("%+v", got[0])
	}
	wrong := connecttest.Receive(t, l, `{"topic": "loans", "group": "b", "begin": "yesterday"}`, nil, nil)
	if err := <-wrong.Failed; err == nil || !strings.Contains(err.Error(), "neither earliest nor latest") {
		t.Error(err)
	}
	nobody := connecttest.Receive(t, l, `{"topic": "nobody"}`, nil, nil)
	if err := <-nobody.Failed; err == nil || !strings.Contains(err.Error(), "is not there") {
		t.Error(err)
	}
}

// refuse has every produce request answered with a code, as long as on says.
func (w *world) refuse(on *atomic.Int32) {
	w.ControlKey(int16(kmsg.Produce), func(r kmsg.Request) (kmsg.Response, error, bool) {
		w.KeepControl()
		code := on.Load()
		switch {
		case code == 0:
			return nil, nil, false
		case code == -1:
			return nil, errors.New("cut"), true
		}
		req := r.(*kmsg.ProduceRequest)
		res := req.ResponseKind().(*kmsg.ProduceResponse)
		for _, topic := range req.Topics {
			rt := kmsg.NewProduceResponseTopic()
			rt.Topic, rt.TopicID = topic.Topic, topic.TopicID
			for _, p := range topic.Partitions {
				rp := kmsg.NewProduceResponseTopicPartition()
				rp.Partition, rp.ErrorCode = p.Partition, int16(code)
				rt.Partitions = append(rt.Partitions, rp)
			}
			res.Topics = append(res.Topics, rt)
		}
		return res, nil, true
	})
}

func TestOutcomes(t *testing.T) {
	w := serve(t)
	w.c.TimeLimit = 3 * time.Second
	l := open(t, w.c)
	var code atomic.Int32
	w.refuse(&code)
	for name, c := range map[string]struct {
		code     int32
		settings string
		outcome  retry.Outcome // "": unknown
		says     string
	}{
		"acknowledged": {0, toLoans, retry.Delivered, ""},
		"not permitted": {int32(kerr.TopicAuthorizationFailed.Code), toLoans, retry.Never,
			"do not permit it for this topic (29"},
		"too large":       {int32(kerr.MessageTooLarge.Code), toLoans, "cannot", "larger than the topic takes"},
		"invalid":         {int32(kerr.InvalidRecord.Code), toLoans, "cannot", "does not take such a record"},
		"policy":          {int32(kerr.PolicyViolation.Code), toLoans, retry.Never, "policy"},
		"few replicas":    {int32(kerr.NotEnoughReplicas.Code), toLoans, retry.Again, "too few replicas"},
		"disk full":       {int32(kerr.KafkaStorageError.Code), toLoans, retry.Again, "cannot write to its disk"},
		"quota":           {int32(kerr.ThrottlingQuotaExceeded.Code), toLoans, retry.Again, "quota"},
		"cut":             {-1, toLoans, "", ""},
		"no topic":        {0, `{"topic": "nobody"}`, retry.Never, "the topic is not there"},
		"wrong partition": {0, `{"topic": "loans", "partition": 7}`, "cannot", "no such partition"},
		"no partition":    {0, `{"topic": "loans", "partition": "x"}`, "cannot", "no number of a partition"},
		"no name":         {0, `{"topic": ""}`, "cannot", "no name of a topic"},
		"bad key":         {0, `{"topic": "loans", "key": "base64:?"}`, "cannot", "no base64"},
	} {
		t.Run(name, func(t *testing.T) {
			code.Store(c.code)
			r, err := connecttest.Send(l, c.settings, "id", "{}")
			code.Store(0)
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
			connecttest.Eventually(t, "the next one is delivered", func() bool {
				r, err := connecttest.Send(l, toLoans, "next", "{}")
				return err == nil && r.Outcome == retry.Delivered
			})
		})
	}
	for code, s := range said {
		if e := kerr.TypedErrorForCode(code); e == nil || s.words == "" {
			t.Errorf("%d is not of the protocol, or not in words", code)
		}
	}
}

// One of many that go out together is too large: it alone is at fault.
func TestOneOfABatchIsAtFault(t *testing.T) {
	w := serve(t, kfake.BrokerConfigs(map[string]string{"message.max.bytes": "20000"}))
	l := open(t, w.c)
	large := make([]byte, 100_000) // that does not shrink
	_, _ = rand.Read(large)
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() {
			body := "small"
			if i == 17 {
				body = hex.EncodeToString(large)
			}
			r, err := connecttest.Send(l, toLoans, fmt.Sprint(i), body)
			for err == nil && r.Outcome == retry.Again { // as the engine would
				r, err = connecttest.Send(l, toLoans, fmt.Sprint(i), body)
			}
			if bad := errors.Is(err, connect.ErrBadData); bad != (i == 17) {
				t.Errorf("%d: %+v %v", i, r, err)
			}
		})
	}
	all.Wait()
}

func TestTheTestGoesStepByStep(t *testing.T) {
	w := serve(t, kfake.EnableSASL(), kfake.Superuser("SCRAM-SHA-256", "maud", "s3cret"))
	good := *w.c
	good.SignIn = connect.SignIn{Kind: scram256, User: "maud", Secrets: []string{"s3cret"}}
	l := open(t, &good)
	r, err := l.Check(context.Background())
	if err != nil || !r.OK || !strings.Contains(r.Steps[len(r.Steps)-1].Detail, "signed in as maud, brokers: 1") {
		t.Fatalf("%+v %v", r, err)
	}
	wrong := good
	wrong.SignIn.Secrets = []string{"wrong"}
	if r, _ := open(t, &wrong).Check(context.Background()); r.OK || r.Steps[1].OK ||
		!strings.Contains(r.Steps[1].Detail, "not know the user or password") {
		t.Errorf("%+v", r)
	}
	if list, err := l.(connect.Lister).List(context.Background(), "topic"); err != nil || fmt.Sprint(list) != "[loans]" {
		t.Error(list, err)
	}
	for settings, want := range map[string]string{
		`{"topic": "loans"}`:       "true f: the topic loans is there, partitions: 3",
		`{"topic": "lones"}`:       "false f: the topic lones is not there",
		`{"topic": "t.${body.n}"}`: "true f: the topic depends on the message",
	} {
		s := l.(connect.Inspector).Inspect(context.Background(), connect.Use{Flow: "f", Settings: system.Schema(settings)})
		if got := fmt.Sprint(s.OK, " ", s.Detail); got != want || !s.OK && s.Repair != "there is loans" {
			t.Errorf("%s: %s, %s", settings, got, s.Repair)
		}
	}
	send(t, l, toLoans, "sample", "one")
	a, err := l.(connect.Peeker).Peek(context.Background(), system.Schema(`{"topic": "loans"}`))
	if err != nil || string(a.Body) != "one" {
		t.Errorf("%+v %v", a, err)
	}
}

// A broker may be anything that listens there.
func TestHostileBrokersAreLeft(t *testing.T) {
	size := func(n uint32, rest string) string { return string(binary.BigEndian.AppendUint32(nil, n)) + rest }
	connecttest.Hostile(t, New(nil), *connection(""), func(at string) string { return "stream://" + at },
		toLoans, `{"topic": "loans"}`, map[string]string{
			"nothing":             "",
			"another protocol":    "HTTP/1.1 400 Bad Request\r\n\r\n",
			"an endless banner":   strings.Repeat("LOG ", 1<<20),
			"a huge answer":       size(0x7fffffff, strings.Repeat("x", 1<<20)),
			"a negative length":   size(0xffffffff, "xx"),
			"an answer cut short": size(100, "\x00\x00\x00\x00"),
			"another's answer":    size(4, "\x00\x00\x00\x63"),
		})
}

func TestNobodyThere(t *testing.T) {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	c := connection("stream://" + free.Addr().String())
	_ = free.Close()
	c.TimeLimit = time.Second
	l := open(t, c)
	if r, err := connecttest.Send(l, toLoans, "id", "x"); err == nil {
		t.Errorf("%+v", r)
	}
	if r, err := l.Check(context.Background()); err != nil || r.OK || r.Steps[0].Repair == "" {
		t.Errorf("%+v %v", r, err)
	}
	in := connecttest.Receive(t, l, `{"topic": "loans"}`, nil, nil)
	if err := <-in.Failed; err == nil {
		t.Error("it does not say that nobody is there")
	}
}
