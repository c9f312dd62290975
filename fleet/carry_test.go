package fleet

import (
	"context"
	"errors"
	"fmt"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
)

// Many calls go to the member that leads at once, by way of others, and each is answered for itself; one for a
// member that is not there is told so at once.
func TestManyShortCalls(t *testing.T) {
	w := newTrial(t, "a", "b", "c")
	for _, name := range []string{"a", "b", "c"} {
		w.start(name)
	}
	w.puts("a", "first", "x")
	var all sync.WaitGroup
	for i := range 300 {
		all.Go(func() {
			member, body := []string{"a", "b", "c"}[i%3], fmt.Sprintf("%d %s", i, strings.Repeat("x", i*50))
			if status, said := w.call(member, "POST", "/in/echo", body); status != 200 || said != body {
				t.Errorf("%s: %d %.100s", member, status, said)
			}
		})
	}
	all.Wait()
	c, err := w.now["a"].node.carrierTo("nobody")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.call(context.Background(), []byte("x")); !errors.Is(err, nats.ErrNoResponders) {
		t.Errorf("a member that is not there: %v", err)
	}
	// One that comes alone, as the release before hands it over.
	r := httptest.NewRequest("POST", "/in/echo", strings.NewReader("alone"))
	alone, err := w.now["a"].node.link.conn.Request(callSubject(w.leader()), asBytes(r, []byte("alone"), "a", 0), time.Minute)
	said := httptest.NewRecorder()
	if err != nil || answerWith(said, alone.Data) != nil || said.Body.String() != "alone" {
		t.Errorf("a call that comes alone: %v %s", err, said.Body)
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if _, err := c.call(ctx, []byte("x")); err == nil {
		t.Error("a call that is given up is answered")
	}
	for name := range w.now {
		for to, c := range w.now[name].node.carriers {
			if len(c.waits) > 0 || c.calls.count > 0 {
				t.Errorf("of %s to %s %d wait and %d are not sent", name, to, len(c.waits), c.calls.count)
			}
		}
	}
}

// What ends in the middle is a fault and nothing else.
func TestMessagesBetweenMembersAreBounded(t *testing.T) {
	whole := appendBytes([]byte{7}, []byte("text"))
	for cut := range whole {
		n := 0
		err := eachOf(whole[:cut], func(uint64, []byte) { n++ })
		if cut > 0 && err == nil || n > 0 {
			t.Errorf("%d of %d bytes: %d, %v", cut, len(whole), n, err)
		}
	}
	beyond := []byte{1, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 1}
	if err := eachOf(beyond, func(uint64, []byte) { t.Error("read") }); err == nil {
		t.Error("a length beyond the message is read")
	}
}
