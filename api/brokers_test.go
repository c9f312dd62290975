package api

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// What holds for every broker from which a flow receives.
func TestReceivingFromAnyBroker(t *testing.T) {
	for kind, c := range map[string]struct{ has, intake, send string }{
		"mqtt":   {``, `"filter":"in/#"`, `"topic":"in/x","qos":1`},
		"amqp":   {`"in"`, `"queue":"in"`, `"topic":"in"`},
		"stream": {`"in"`, `"topic":"in","begin":"earliest"`, `"topic":"in"`},
		"nats":   {`"IN in.>"`, `"stream":"IN","begin":"all"`, `"topic":"in.x"`},
	} {
		t.Run(kind, func(t *testing.T) {
			w := start(t)
			for _, name := range []string{"first", "second"} {
				w.ok("PUT", "/api/v1/stand-ins/"+name, fmt.Sprintf(`{"kind":%q,"has":[%s]}`, kind, c.has))
			}
			connection := func(standIn string) {
				w.ok("PUT", "/api/v1/connections/broker", fmt.Sprintf(
					`{"readyferry":"connection/1","name":"broker","kind":%q,"address":"stand-in://%s","time-limit":"20s"}`, kind, standIn))
			}
			connection("first")
			w.live("in", fmt.Sprintf(`{"readyferry":"flow/1","name":"in","intake":{"kind":%q,"of":"broker",%s,"reference":"body.n"},
				"steps":[{"id":"n","kind":"note","text":"x"}]}`, kind, c.intake))
			w.eventually("/api/v1/connections/broker", `"is":"works"`)
			send := func(from, body string) {
				t.Helper()
				w.ok("POST", "/api/v1/stand-ins/"+from+"/send", fmt.Sprintf(`{%s,"body":%q,"headers":{"Content-Type":"application/json"}}`, c.send, body))
			}
			inside := func(reference string) {
				t.Helper()
				w.eventually("/api/v1/transactions?flow=in&state=delivered", `"reference":"`+reference+`"`)
			}
			send("first", `{"n":"1"}`)
			inside("1")
			// What cannot be decoded is kept as it came, and settled: what comes behind it is taken.
			send("first", `{not json`)
			w.eventually("/api/v1/dead-letters?flow=in", "JSON")
			send("first", `{"n":"2"}`)
			inside("2")
			// A paused flow takes nothing; what comes meanwhile is taken afterwards.
			w.ok("POST", "/api/v1/flows/in/pause", "")
			time.Sleep(50 * time.Millisecond)
			send("first", `{"n":"3"}`)
			if got := string(w.ok("GET", "/api/v1/transactions?flow=in", "")); strings.Contains(got, `"reference":"3"`) {
				t.Error("a paused flow takes a message")
			}
			w.ok("POST", "/api/v1/flows/in/resume", "")
			inside("3")
			// An outage is seen, and over when it is over.
			if kind != "stream" { // whose brokers are dialled by addresses of their own
				w.ok("PUT", "/api/v1/stand-ins/first/behaviour", `{"outUntil":"`+time.Now().Add(1500*time.Millisecond).UTC().Format(time.RFC3339Nano)+`"}`)
				w.eventually("/api/v1/connections/broker", `"is":"silent"`)
				w.eventually("/api/v1/troubles", `"in"`)
				w.eventually("/api/v1/connections/broker", `"is":"works"`)
				send("first", `{"n":"4"}`)
				inside("4")
			}
			// Another connection is taken up without a restart.
			connection("second")
			w.eventually("/api/v1/connections/broker", `"is":"works"`)
			send("second", `{"n":"5"}`)
			inside("5")
		})
	}
}
