package mqtt

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/core/retry"
	"readyferry/core/system"
)

func older311(c *connect.Connection) *connect.Connection {
	out := *c
	out.Settings = system.Schema(`{"version": "3.1.1"}`)
	return &out
}

func TestTheOlderVersionPublishesAndReceives(t *testing.T) {
	l := open(t, older311(serve(t)))
	in := connecttest.Receive(t, l, `{"filter": "branches/+/shelves", "qos": 2}`, nil, nil).Ready(t)
	for _, qos := range []string{"0", "1", "2"} {
		r, err := connecttest.Send(l, `{"topic": "branches/ELMS/shelves", "qos": `+qos+`, "retain": true}`, "id", qos)
		if err != nil || r.Outcome != retry.Delivered || r.Code != "acknowledged" {
			t.Fatalf("%s: %+v %v", qos, r, err)
		}
	}
	for i, a := range in.Until(t, 3)[:3] {
		if string(a.Body) != string(rune('0'+i)) || a.ID != "" || connecttest.Header(a, "mqtt-topic") != "branches/ELMS/shelves" ||
			connecttest.Header(a, "mqtt-qos") != string(rune('0'+i)) {
			t.Errorf("%d: %+v", i, a)
		}
	}
	a, err := l.(connect.Peeker).Peek(context.Background(), system.Schema(`{"filter": "$share/g/branches/#"}`))
	if err != nil || string(a.Body) != "2" || connecttest.Header(*a, "mqtt-retained") != "true" {
		t.Errorf("%+v %v", a, err)
	}
	if _, asks := l.(connect.Asker); asks {
		t.Error("it can be asked, without response topics")
	}
}

// What is stored and not acknowledged comes again and is told by its packet number.
func TestTheOlderVersionTakesNothingTwice(t *testing.T) {
	for name, marked := range map[string]bool{"with the mark": true, "without it the broker's repeat is taken": false} {
		t.Run(name, func(t *testing.T) {
			l := open(t, older311(serve(t)))
			const in = `{"filter": "branches/+/shelves"}`
			first := connecttest.Receive(t, l, in, nil, errors.New("killed")).Ready(t)
			publish(t, l, "stored")
			if err := <-first.Failed; err == nil || !strings.Contains(err.Error(), "killed") {
				t.Fatal(err)
			}
			_, mark := first.Got()
			if !marked {
				mark = nil
			}
			second := connecttest.Receive(t, l, in, mark, nil).Ready(t)
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

func TestTheOlderVersionSaysWhereItEnds(t *testing.T) {
	good := older311(serve(t))
	wrong := *good
	wrong.SignIn.Secrets = []string{"wrong"}
	nobody := older311(connection("mqtt://127.0.0.1:1"))
	for says, c := range map[string]*connect.Connection{
		"the broker is reached": good, "signing in: the broker does not": &wrong, "connecting to 127.0.0.1:1": nobody,
	} {
		r, err := open(t, c).Check(context.Background())
		if err != nil || !strings.Contains(r.Detail, says) || r.OK != (c == good) {
			t.Errorf("%s: %+v %v", says, r, err)
		}
	}
	r, err := connecttest.Send(open(t, &wrong), `{"topic": "open/a", "qos": 1}`, "x", "")
	if err != nil || r.Outcome != retry.Never || !strings.Contains(r.Words, "signing in: the broker does not") {
		t.Errorf("%+v %v", r, err)
	}
	silent := older311(connection("mqtt://" + connecttest.Says(t, "\x20\x02\x00\x00")))
	silent.TimeLimit = 200 * time.Millisecond
	if r, err := connecttest.Send(open(t, silent), `{"topic": "open/a", "qos": 1}`, "x", ""); err == nil ||
		!strings.Contains(err.Error(), "did not acknowledge it within") {
		t.Errorf("%+v %v", r, err)
	}
	if err := <-connecttest.Receive(t, open(t, good), `{"filter": "a/#/b"}`, nil, nil).Failed; err == nil {
		t.Error("a filter that is none is taken")
	}
	connack := "\x20\x02\x00\x00"
	connecttest.Hostile(t, New(nil), *older311(connection("")), func(at string) string { return "mqtt://" + at },
		`{"topic": "a", "qos": 1}`, `{"filter": "#"}`, map[string]string{
			"nothing":               "",
			"another protocol":      "SSH-2.0-OpenSSH_9.2\r\n",
			"a huge packet":         connack + "\x30\xff\xff\xff\x7f" + strings.Repeat("x", 1<<20),
			"a length without end":  connack + "\x30\xff\xff\xff\xff\xff",
			"an answer cut short":   "\x20\x7f\x00",
			"an endless banner":     strings.Repeat("MQTT? ", 1<<20),
			"another return code":   "\x20\x02\x00\x63",
			"an unexpected command": connack + "\x10\x00",
		})
}

func TestTheTestLooksAtWhatFlowsName(t *testing.T) {
	good := serve(t)
	for version, c := range map[string]*connect.Connection{"5": good, "3.1.1": older311(good)} {
		l := open(t, c)
		for settings, want := range map[string]string{
			`{"filter": "branches/+/shelves"}`: "true f: the filter branches/+/shelves may be subscribed to",
			`{"topic": "branches/${body.n}"}`:  "true f: the topic depends on the message",
			`{"topic": "branches/X"}`:          "true f: branches/X is a topic",
			`{"topic": "branches/+"}`:          "false f: ",
		} {
			s := l.(connect.Inspector).Inspect(context.Background(), connect.Use{
				Flow: "f", Intake: strings.Contains(settings, "filter"), Settings: system.Schema(settings),
			})
			if got := fmt.Sprint(s.OK, " ", s.Detail); !strings.HasPrefix(got, want) || s.OK == (s.Repair != "") {
				t.Errorf("%s, %s: %s", version, settings, got)
			}
		}
	}
}
