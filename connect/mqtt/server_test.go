package mqtt

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// A broker of Debian's packages is asked where READYFERRY_MQTT names one that lets
// everybody in, such as mqtt://127.0.0.1:1883; make test-servers starts one.
func server(t *testing.T) connect.Link {
	t.Helper()
	address := os.Getenv("READYFERRY_MQTT")
	if address == "" {
		t.Skip("READYFERRY_MQTT names no broker, so none is asked")
	}
	c := connection(address)
	c.Name, c.SignIn = fmt.Sprintf("test-%d", time.Now().UnixNano()), connect.SignIn{Kind: connect.SignInNone}
	c.TimeLimit = 20 * time.Second
	return open(t, c)
}

func TestServerBringsAgainWhatIsNotAcknowledged(t *testing.T) {
	l := server(t)
	const in = `{"filter": "branches/+/shelves", "at-once": 8}`
	first := connecttest.Receive(t, l, in, nil, errors.New("killed"))
	first.Ready(t)
	publish(t, l, "stored")
	if err := <-first.Failed; err == nil || !strings.Contains(err.Error(), "killed") {
		t.Fatal(err)
	}
	_, mark := first.Got()
	second := connecttest.Receive(t, l, in, mark, nil)
	for i := range 100 { // many more than it hands over at once
		publish(t, l, fmt.Sprint("more ", i))
	}
	seen := map[string]int{}
	for _, a := range second.Until(t, 100) {
		seen[string(a.Body)]++
	}
	for i := range 100 {
		if n := seen[fmt.Sprint("more ", i)]; n != 1 {
			t.Errorf("message %d came %d times", i, n)
		}
	}
	if seen["stored"] != 0 {
		t.Error("what was stored is taken again")
	}
}

func TestServerTakesEveryQualityAndAnswers(t *testing.T) {
	l := server(t)
	if r, err := l.Check(context.Background()); err != nil || !r.OK {
		t.Fatalf("%+v %v", r, err)
	}
	in := connecttest.Receive(t, l, `{"filter": "branches/+/shelves", "qos": 2}`, nil, nil)
	in.Ready(t)
	for _, qos := range []string{"0", "1", "2"} {
		r, err := l.(connect.Sender).Send(context.Background(),
			connecttest.Request(`{"topic": "branches/ELMS/shelves", "retain": true, "qos": `+qos+`, "expires": "90s"}`,
				"id-"+qos, "{}"))
		if err != nil || r.Outcome != retry.Delivered {
			t.Errorf("%s: %+v %v", qos, r, err)
		}
		if got := in.Find(t, "id-"+qos); connecttest.Header(got, "x-shelf") != "F 12" {
			t.Errorf("%+v", got)
		}
	}
	a, err := l.(connect.Peeker).Peek(context.Background(), system.Schema(`{"filter": "branches/+/shelves"}`))
	if err != nil || connecttest.Header(*a, "Mqtt-Retained") != "true" {
		t.Errorf("%+v %v", a, err)
	}
	// Nobody subscribes where it is asked.
	r, err := l.(connect.Asker).Ask(context.Background(), connecttest.Request(`{"topic": "nobody/there", "qos": 1}`,
		"x", "{}"))
	if err != nil || r.Outcome != retry.Again || r.Code != "0x10" {
		t.Errorf("%+v %v", r, err)
	}
}
