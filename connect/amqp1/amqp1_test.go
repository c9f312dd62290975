package amqp1

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	client "github.com/Azure/go-amqp"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/system"
)

func connection(address string) *connect.Connection {
	return &connect.Connection{Name: "bus", Kind: Kind, Address: address, TimeLimit: 20 * time.Second,
		SignIn:   connect.SignIn{Kind: connect.SignInBasic, User: "guest", Secrets: []string{"guest"}},
		Settings: system.Schema(`{}`)}
}

func open(t *testing.T, c *connect.Connection) connect.Link { return connecttest.Open(t, New(), c) }

// How the broker settles a message (AMQP 1.0, 3.4), and what the delivery comes to.
func TestOutcomes(t *testing.T) {
	rejected := func(c client.ErrCond) client.DeliveryState {
		return &client.StateRejected{Error: &client.Error{Condition: c, Description: "why"}}
	}
	for name, c := range map[string]struct {
		state   client.DeliveryState
		outcome retry.Outcome
		says    string
	}{
		"accepted":      {&client.StateAccepted{}, retry.Delivered, ""},
		"released":      {&client.StateReleased{}, retry.Again, "gives it back"},
		"modified":      {&client.StateModified{DeliveryFailed: true}, retry.Again, "in vain"},
		"undeliverable": {&client.StateModified{UndeliverableHere: true}, retry.Never, "cannot deliver"},
		"rejected":      {&client.StateRejected{}, retry.Never, "does not say why"},
		"unauthorized": {rejected(client.ErrCondUnauthorizedAccess), retry.Never,
			"does not permit it (amqp:unauthorized-access why)"},
		"quota":          {rejected(client.ErrCondResourceLimitExceeded), retry.Again, "quota"},
		"too large":      {rejected(client.ErrCondMessageSizeExceeded), "cannot", "larger than the broker takes"},
		"of its own":     {rejected("com.example:odd"), retry.Never, "refuses it (com.example:odd why)"},
		"internal error": {rejected(client.ErrCondInternalError), retry.Again, "fault of its own"},
	} {
		r, err := settled(c.state)
		said := r.Words
		if err != nil {
			said = err.Error()
		}
		if (c.outcome == "cannot") != (errors.Is(err, connect.ErrCannotSend) && errors.Is(err, connect.ErrBadData)) ||
			err == nil && r.Outcome != c.outcome || !strings.Contains(said, c.says) {
			t.Errorf("%s: %+v %v", name, r, err)
		}
	}
	l := &link{c: connection("amqp://x")}
	for name, c := range map[string]struct {
		err     error
		outcome retry.Outcome
		says    string
	}{
		"link": {&client.LinkError{RemoteErr: &client.Error{Condition: client.ErrCondNotFound}}, retry.Never,
			"the address is not there"},
		"session": {&client.SessionError{RemoteErr: &client.Error{Condition: client.ErrCondTransferLimitExceeded}},
			retry.Again, ""},
		"forced": {&client.ConnError{RemoteErr: &client.Error{Condition: client.ErrCondConnectionForced}}, "", "operator"},
		"cut":    {&client.ConnError{}, "", "broke off"},
		"late":   {context.DeadlineExceeded, "", "did not accept it within"},
	} {
		r, err := l.ended(context.Background(), fmt.Errorf("wrapped: %w", c.err))
		said := r.Words
		if err != nil {
			said = err.Error()
		}
		if (err == nil) != (c.outcome != "") || err == nil && r.Outcome != c.outcome || !strings.Contains(said, c.says) {
			t.Errorf("%s: %+v %v", name, r, err)
		}
	}
	for c, s := range said {
		if s.words == "" || !strings.HasPrefix(string(c), "amqp:") {
			t.Errorf("%s is not in words", c)
		}
	}
}

func TestPropertiesAndBodiesGoBothWays(t *testing.T) {
	r := connecttest.Request(`{"target": "/queue/returns", "subject": "s", "expires": "90s", "transient": true}`,
		"id-1", `{"n": 1}`)
	for name, value := range map[string]string{"amqp-correlation-id": "c-7", "Amqp-Reply-To": "answers",
		"amqp-group-id": "g", "content-encoding": "identity",
		"Idempotency-Key": "not this", "amqp-message-id": "nor this"} {
		r.Headers = append(r.Headers, message.Header{Name: name, Value: value})
	}
	out, err := outgoingOf(r)
	if err != nil || out.target != "/queue/returns" || out.Header.Durable || out.Header.TTL != 90*time.Second {
		t.Fatalf("%+v %v", out, err)
	}
	raw, err := out.MarshalBinary()
	if err != nil {
		t.Fatal(err)
	}
	var back client.Message
	if err := back.UnmarshalBinary(raw); err != nil {
		t.Fatal(err)
	}
	a := connect.Arrival{Headers: headersOf(&back)}
	for name, want := range map[string]string{"amqp-message-id": "id-1", "amqp-correlation-id": "c-7",
		"amqp-reply-to": "answers", "amqp-subject": "s",
		"amqp-group-id": "g", "content-type": "application/json", "content-encoding": "identity", "x-shelf": "F 12",
		"idempotency-key": ""} {
		if h := connecttest.Header(a, name); h != want {
			t.Errorf("%s: %q, want %q", name, h, want)
		}
	}
	if string(bodyOf(&back)) != `{"n": 1}` {
		t.Errorf("%s", bodyOf(&back))
	}
	for want, m := range map[string]*client.Message{
		"two parts":     {Data: [][]byte{[]byte("two "), []byte("parts")}},
		"text":          {Value: "text"},
		"bytes":         {Value: []byte("bytes")},
		`{"a":[1,"b"]}`: {Value: map[any]any{"a": []any{int64(1), []byte("b")}}},
		"[1,2]":         {Sequence: [][]any{{1}, {2}}},
		"":              {},
		"true":          {Value: true},
	} {
		if got := string(bodyOf(m)); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	for want, id := range map[string]any{"": nil, "x": "x", "7": uint64(7), "00ff": []byte{0, 255},
		"01020304-0506-0708-090a-0b0c0d0e0f10": client.UUID{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16}} {
		if got := idText(id); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if _, err := outgoingOf(connecttest.Request(`{"target": ""}`, "x", "")); !errors.Is(err, connect.ErrBadData) {
		t.Error(err)
	}
}

// A broker may be anything that listens there.
func TestHostileBrokersAreLeft(t *testing.T) {
	size := func(n uint32, rest string) string { return string(binary.BigEndian.AppendUint32(nil, n)) + rest }
	const sasl, plain = "AMQP\x03\x01\x00\x00", "AMQP\x00\x01\x00\x00"
	connecttest.Hostile(t, New(), *connection(""), func(at string) string { return "amqp://" + at },
		`{"target": "/queue/x"}`, `{"source": "/queue/x"}`, map[string]string{
			"nothing":           "",
			"another protocol":  "SSH-2.0-OpenSSH_9.2\r\n",
			"another version":   "AMQP\x00\x00\x09\x01",
			"an endless banner": strings.Repeat("AMQP ", 1<<20),
			"a huge frame":      sasl + size(0x7fffffff, "\x02\x01\x00\x00"+strings.Repeat("x", 1<<20)),
			"a tiny frame":      sasl + size(3, "\x02\x01\x00\x00"),
			"no mechanism":      sasl + size(12, "\x02\x01\x00\x00\x00\x53\x40\x45"),
			"a body that lies":  sasl + size(20, "\x02\x01\x00\x00\x00\x53\x40\xd0\xff\xff\xff\xff\xff\xff\xff\xff"),
			"no sign-in":        plain + size(8, "\x02\x00\x00\x00"),
		})
}
