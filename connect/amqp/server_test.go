package amqp

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// A broker of Debian's packages is asked where READYFERRY_AMQP names one that lets guest
// in, such as amqp://127.0.0.1:5672; make test-servers starts one.
func server(t *testing.T) (connect.Link, string) {
	t.Helper()
	address := os.Getenv("READYFERRY_AMQP")
	if address == "" {
		t.Skip("READYFERRY_AMQP names no broker, so none is asked")
	}
	c := connection(address)
	c.SignIn = connect.SignIn{Kind: connect.SignInNone}
	return open(t, c), fmt.Sprintf("test-%d", time.Now().UnixNano())
}

func TestServerBringsAgainWhatIsNotAcknowledged(t *testing.T) {
	l, queue := server(t)
	in := `{"queue": "` + queue + `", "make": true, "at-once": 8, "bind": {"exchange": "amq.topic", "pattern": "` + queue + `.#"}}`
	to := `{"exchange": "amq.topic", "routing-key": "` + queue + `.x"}`
	first := connecttest.Receive(t, l, in, nil, errors.New("killed")).Ready(t)
	if r, err := connecttest.Send(l, to, "stored", "stored"); err != nil || r.Outcome != retry.Delivered {
		t.Fatalf("%+v %v", r, err)
	}
	if err := <-first.Failed; err == nil || !strings.Contains(err.Error(), "killed") {
		t.Fatal(err)
	}
	second := connecttest.Receive(t, l, in, nil, nil)
	for i := range 100 { // many more than it hands over at once
		if r, err := connecttest.Send(l, to, fmt.Sprint(i), "x"); err != nil || r.Outcome != retry.Delivered {
			t.Fatalf("%+v %v", r, err)
		}
	}
	seen := map[string]int{}
	for _, a := range second.Until(t, 101) {
		seen[a.ID]++
	}
	for i := range 100 {
		if n := seen[fmt.Sprint(i)]; n != 1 {
			t.Errorf("message %d came %d times", i, n)
		}
	}
	if a := second.Find(t, "stored"); connecttest.Header(a, "amqp-redelivered") != "true" || connecttest.Header(a,
		"x-shelf") != "F 12" {
		t.Errorf("%+v", a)
	}
}

func TestServerSaysWhatIsMapped(t *testing.T) {
	l, queue := server(t)
	if r, err := l.Check(context.Background()); err != nil || !r.OK {
		t.Fatalf("%+v %v", r, err)
	}
	for settings, want := range map[string]string{
		`{"exchange": "amq.topic", "routing-key": "nobody.` + queue + `"}`: "nothing is bound",
		`{"routing-key": "nobody-` + queue + `"}`:                          "nothing is bound",
		`{"exchange": "nowhere-` + queue + `", "routing-key": "x"}`:        "is not there",
	} {
		r, err := connecttest.Send(l, settings, "x", "{}")
		if err != nil || r.Outcome != retry.Never || !strings.Contains(r.Words, want) {
			t.Errorf("%s: %+v %v", settings, r, err)
		}
	}
	s := l.(connect.Inspector).Inspect(context.Background(), connect.Use{Flow: "f", Intake: true,
		Settings: system.Schema(`{"queue": "` + queue + `"}`)})
	if s.OK || !strings.Contains(s.Detail, "is not there") {
		t.Errorf("%+v", s)
	}
}

func TestServerBringsEachAnswerToWhoAsked(t *testing.T) {
	l, queue := server(t)
	desk := connecttest.Receive(t, l, `{"queue": "`+queue+`", "make": true}`, nil, nil).Ready(t)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() {
		for seen := 0; ctx.Err() == nil; time.Sleep(time.Millisecond) {
			got, _ := desk.Got()
			for _, a := range got[seen:] {
				r := connecttest.Request(`{"routing-key": "`+connecttest.Header(a, "amqp-reply-to")+`"}`, "",
					"answer to "+string(a.Body))
				for _, h := range a.Headers {
					if h.Name == headerCorrelation {
						r.Headers = append(r.Headers, h)
					}
				}
				_, _ = l.(connect.Sender).Send(ctx, r)
			}
			seen = len(got)
		}
	}()
	var all sync.WaitGroup
	for i := range 50 {
		all.Go(func() {
			question := fmt.Sprint("question ", i)
			r, err := l.(connect.Asker).Ask(ctx, connecttest.Request(`{"routing-key": "`+queue+`"}`, question, question))
			if err != nil {
				t.Error(err)
				return
			}
			if got, _ := r.Body(); string(got) != "answer to "+question {
				t.Errorf("%s: %s", question, got)
			}
		})
	}
	all.Wait()
	a, err := l.(connect.Peeker).Peek(ctx, system.Schema(`{"queue": "`+queue+`"}`))
	if err == nil {
		t.Errorf("%+v", a)
	}
}
