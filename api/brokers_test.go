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
					`{"readyferry":"connection/1","name":"broker","kind":%q,"address":"stand-in://%s","time-limit":"20s"}`, kind,
					standIn))
			}
			connection("first")
			w.live("in", fmt.Sprintf(`{"readyferry":"flow/1","name":"in","intake":{"kind":%q,"of":"broker",%s,"reference":"body.n"},
				"steps":[{"id":"n","kind":"note","text":"x"}]}`, kind, c.intake))
			w.eventually("/api/v1/connections/broker", `"is":"works"`)
			send := func(from, body string) {
				t.Helper()
				w.ok("POST", "/api/v1/stand-ins/"+from+"/send",
					fmt.Sprintf(`{%s,"body":%q,"headers":{"Content-Type":"application/json"}}`, c.send, body))
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
				w.ok("PUT", "/api/v1/stand-ins/first/behaviour",
					`{"outUntil":"`+time.Now().Add(1500*time.Millisecond).UTC().Format(time.RFC3339Nano)+`"}`)
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

// Every stand-in for a broker misbehaves in each way once, and the delivery goes on to be
// delivered, once, with the tries that say what happened.
func TestDeliveringToABrokerThatMisbehaves(t *testing.T) {
	for kind, c := range map[string]struct{ has, deliver string }{
		"mqtt":   {``, `"topic":"out/x"`},
		"amqp":   {`"out"`, `"routing-key":"out"`},
		"stream": {`"out"`, `"topic":"out"`},
		"nats":   {`"OUT out.>"`, `"subject":"out.x"`},
	} {
		for name, behaviour := range map[string]struct{ says, tries string }{
			"refuses":            {`{"refuse":1,"refuseWith":503}`, `"outcome":"again"`},
			"closes":             {`{"refuse":1,"refuseWith":-1}`, `"outcome":"again"`},
			"never confirms":     {`{"refuse":1,"refuseWith":-2}`, `within 1s`},
			"confirms late":      {`{"delay":300}`, `"outcome":"delivered"`},
			"quota or disk full": {`{"refuse":1,"refuseWith":507}`, `"outcome":"again"`},
		} {
			t.Run(kind+" "+name, func(t *testing.T) {
				w := start(t)
				w.ok("PUT", "/api/v1/stand-ins/s", fmt.Sprintf(`{"kind":%q,"has":[%s]}`, kind, c.has))
				w.ok("PUT", "/api/v1/connections/broker", fmt.Sprintf(
					`{"readyferry":"connection/1","name":"broker","kind":%q,"address":"stand-in://s","time-limit":"1s"}`, kind))
				w.live("out", fmt.Sprintf(`{"readyferry":"flow/1","name":"out","intake":{"kind":"webhook","path":"/out"},
					"steps":[{"id":"d","kind":"deliver","to":"broker",%s,"retry":{"first":"50ms","growth":"constant","tries":20}}]}`, c.deliver))
				w.ok("PUT", "/api/v1/stand-ins/s/behaviour", behaviour.says)
				w.ok("POST", "/in/out", `{}`)
				got := w.eventually("/api/v1/transactions?flow=out", `"state":"delivered"`)
				transaction := w.ok("GET", "/api/v1/transactions/"+strings.Split(got, `"`)[3], "")
				if !strings.Contains(string(transaction), behaviour.tries) {
					t.Errorf("%s", transaction)
				}
				calls := string(w.ok("GET", "/api/v1/stand-ins/s", ""))
				if n := strings.Count(calls, `"copy":1`); n != 1 || strings.Contains(calls, `"copy":2`) {
					t.Errorf("%d copies were taken: %s", n, calls)
				}
			})
		}
	}
}
