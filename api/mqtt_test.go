package api

import (
	"encoding/json"
	"io"
	"log/slog"
	"testing"
	"time"

	broker "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
)

// One flow publishes to a broker, another receives from it.
func TestMessagesGoByABroker(t *testing.T) {
	b := broker.New(&broker.Options{Logger: slog.New(slog.NewTextHandler(io.Discard, nil))})
	_ = b.AddHook(new(auth.AllowHook), nil)
	door := listeners.NewTCP(listeners.Config{ID: "tcp", Address: "127.0.0.1:0"})
	if err := b.AddListener(door); err != nil {
		t.Fatal(err)
	}
	if err := b.Serve(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = b.Close() })
	w := start(t)
	w.ok("PUT", "/api/v1/connections/sensors",
		`{"readyferry":"connection/1","name":"sensors","kind":"mqtt","address":"mqtt://`+door.Address()+`"}`)
	var tested struct{ OK bool }
	if _ = json.Unmarshal(w.ok("POST", "/api/v1/connections/sensors/test", ""), &tested); !tested.OK {
		t.Error("the test of the connection fails")
	}
	w.problem(422, "does not match", "PUT", "/api/v1/flows/in",
		`{"readyferry":"flow/1","name":"in","intake":{"kind":"mqtt","of":"sensors","filter":"a/#/b"},"steps":[]}`)
	w.ok("PUT", "/api/v1/flows/in", `{"readyferry":"flow/1","name":"in","intake":{"kind":"mqtt","of":"sensors","filter":"shelves/+",
		"reference":"body.n"},"steps":[{"id":"n","kind":"note","text":"${headers[\"mqtt-topic\"]}"}]}`)
	w.ok("PUT", "/api/v1/flows/out", `{"readyferry":"flow/1","name":"out","intake":{"kind":"webhook","path":"/out-it"},
		"steps":[{"id":"d","kind":"deliver","to":"sensors","topic":"shelves/${body.n}","retain":true}]}`)
	for _, flow := range []string{"in", "out"} {
		w.ok("POST", "/api/v1/flows/"+flow+"/publish", "")
	}
	for _, n := range []string{`"7"`, `"8"`} {
		w.ok("POST", "/in/out-it", `{"n":`+n+`}`)
	}
	var list []struct{ State, Reference, Reason string }
	for range 6000 {
		_ = json.Unmarshal(w.ok("GET", "/api/v1/transactions?flow=in&state=delivered", ""), &list)
		if len(list) == 2 {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if len(list) != 2 {
		t.Errorf("%+v", list)
	}
}
