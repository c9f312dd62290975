package amqp1

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

// A broker of Debian's packages is asked where READYFERRY_AMQP1 names one that knows guest,
// such as amqp://127.0.0.1:5672; make test-servers starts one.
func server(t *testing.T) (connect.Link, string) {
	t.Helper()
	address := os.Getenv("READYFERRY_AMQP1")
	if address == "" {
		t.Skip("READYFERRY_AMQP1 names no broker, so none is asked")
	}
	usual := quiet
	quiet = 10 * time.Second // this broker is one of those
	t.Cleanup(func() { quiet = usual })
	queue := fmt.Sprintf("/queue/test-%d", time.Now().UnixNano())
	c := connection(address)
	c.Settings = system.Schema(`{"reply-to": "` + queue + `-answers"}`) // this one names none by itself
	return open(t, c), queue
}

func TestServerBringsAgainWhatIsNotAccepted(t *testing.T) {
	l, queue := server(t)
	in, to := `{"source": "`+queue+`", "at-once": 8}`, `{"target": "`+queue+`"}`
	first := connecttest.Receive(t, l, in, nil, errors.New("killed")).Ready(t)
	if r, err := connecttest.Send(l, to, "stored", "stored"); err != nil || r.Outcome != retry.Delivered ||
		r.Code != "accepted" {
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
	if a := second.Find(t, "stored"); string(a.Body) != "stored" || connecttest.Header(a, "x-shelf") != "F 12" ||
		connecttest.Header(a, "content-type") != "application/json" {
		t.Errorf("%+v", a)
	}
}

// A receiver that has heard nothing for a while asks anew, and misses nothing.
func TestServerIsAskedAnew(t *testing.T) {
	l, queue := server(t)
	quiet = 20 * time.Millisecond
	in := connecttest.Receive(t, l, `{"source": "`+queue+`", "at-once": 2}`, nil, nil).Ready(t)
	for i := range 20 {
		if r, err := connecttest.Send(l, `{"target": "`+queue+`"}`, fmt.Sprint(i), "x"); err != nil || r.Outcome != retry.Delivered {
			t.Fatalf("%+v %v", r, err)
		}
		in.Find(t, fmt.Sprint(i))
		time.Sleep(quiet * time.Duration(i%3)) // so that some come while it asks
	}
	in.Stop()
}

func TestServerSaysWhatIsThere(t *testing.T) {
	l, queue := server(t)
	r, err := l.Check(context.Background())
	if err != nil || !r.OK || !strings.Contains(r.Steps[len(r.Steps)-1].Detail, "signed in as guest") {
		t.Fatalf("%+v %v", r, err)
	}
	for settings, want := range map[string]bool{`{"target": "` + queue + `"}`: true,
		`{"target": "/exchange/nowhere"}`: false} {
		s := l.(connect.Inspector).Inspect(context.Background(), connect.Use{Flow: "f", Settings: system.Schema(settings)})
		if s.OK != want {
			t.Errorf("%s: %+v", settings, s)
		}
	}
	if r, err := connecttest.Send(l, `{"target": "/exchange/nowhere"}`, "x", "{}"); err == nil &&
		r.Outcome == retry.Delivered {
		t.Errorf("%+v %v", r, err)
	}
	if r, err := connecttest.Send(l, `{"target": "`+queue+`"}`, "sample", "one"); err != nil ||
		r.Outcome != retry.Delivered {
		t.Errorf("a link that was refused leaves the next one: %+v %v", r, err)
	}
	for range 2 { // nobody misses it
		a, err := l.(connect.Peeker).Peek(context.Background(), system.Schema(`{"source": "`+queue+`"}`))
		if err != nil || a.ID != "sample" || string(a.Body) != "one" {
			t.Errorf("%+v %v", a, err)
		}
	}
}

func TestServerBringsEachAnswerToWhoAsked(t *testing.T) {
	l, queue := server(t)
	desk := connecttest.Receive(t, l, `{"source": "`+queue+`"}`, nil, nil).Ready(t)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() {
		for seen := 0; ctx.Err() == nil; time.Sleep(time.Millisecond) {
			got, _ := desk.Got()
			for _, a := range got[seen:] {
				r := connecttest.Request(`{"target": "`+connecttest.Header(a, "amqp-reply-to")+`"}`, "",
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
			r, err := l.(connect.Asker).Ask(ctx, connecttest.Request(`{"target": "`+queue+`"}`, question, question))
			if err != nil {
				t.Error(err)
				return
			}
			if got, _ := r.Body(); string(got) != "answer to "+question {
				t.Errorf("%s: %+v %s", question, r, got)
			}
		})
	}
	all.Wait()
}
