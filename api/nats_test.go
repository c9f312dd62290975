package api

import (
	"strings"
	"testing"
)

// One flow publishes to a stream, another takes from it, a third asks; and the broker
// misbehaves as it is told to.
func TestMessagesGoByStreams(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/stand-ins/desk", `{"kind":"nats","has":["RETURNS desk.returns.>"]}`)
	w.problem(400, "is no stream", "PUT", "/api/v1/stand-ins/wrong", `{"kind":"nats","has":["RETURNS"]}`)
	w.ok("PUT", "/api/v1/connections/desk", `{"readyferry":"connection/1","name":"desk","kind":"nats","address":"stand-in://desk","time-limit":"5s"}`)
	if got := string(w.ok("GET", "/api/v1/connections/desk/offers?what=stream", "")); got != `["RETURNS"]` {
		t.Error(got)
	}
	w.live("in", `{"readyferry":"flow/1","name":"in","intake":{"kind":"nats","of":"desk","stream":"RETURNS","begin":"all","reference":"body.n"},
		"steps":[{"id":"n","kind":"note","text":"${headers[\"nats-subject\"]}"}]}`)
	w.live("out", `{"readyferry":"flow/1","name":"out","intake":{"kind":"webhook","path":"/out"},
		"steps":[{"id":"d","kind":"deliver","to":"desk","subject":"${body.to}"}]}`)
	w.ok("POST", "/in/out", `{"to":"desk.returns.ELMS","n":"1"}`)
	w.ok("POST", "/api/v1/stand-ins/desk/send",
		`{"topic":"desk.returns.QUAY","body":"{\"n\":\"2\"}","headers":{"Content-Type":"application/json"}}`)
	for _, n := range []string{"1", "2"} {
		w.eventually("/api/v1/transactions?flow=in&state=delivered", `"reference":"`+n+`"`)
	}
	w.eventually("/api/v1/stand-ins/desk", `"name":"RETURNS","messages":2,"consumers":1`)
	if sample := string(w.ok("POST", "/api/v1/flows/in/take-sample", "")); !strings.Contains(sample,
		`"nats-sequence":"2"`) {
		t.Error(sample)
	}
	w.ok("POST", "/in/out", `{"to":"nobody.there"}`)
	w.eventually("/api/v1/dead-letters?flow=out", "no stream takes the subject nobody.there")
	for behaviour, want := range map[string]string{
		`{"status":403}`: "does not permit publishing", `{"status":413}`: "larger than the stream takes",
		`{"status":422}`: "such headers",
	} {
		w.ok("PUT", "/api/v1/stand-ins/desk/behaviour", behaviour)
		w.ok("POST", "/in/out", `{"to":"desk.returns.X"}`)
		w.eventually("/api/v1/dead-letters?flow=out", want)
	}
	w.ok("PUT", "/api/v1/stand-ins/desk/behaviour", `{}`)
	w.live("asks", `{"readyferry":"flow/1","name":"asks","intake":{"kind":"webhook","path":"/asks","answer":"finished"},
		"steps":[{"id":"q","kind":"ask","of":"desk","subject":"questions","retry":{"first":"100ms","growth":"constant","tries":1}}]}`)
	if a := w.call("POST", "/in/asks", `{}`); a.status < 500 {
		t.Errorf("%d %s", a.status, a.body)
	}
	w.eventually("/api/v1/dead-letters?flow=asks", "nobody listens at questions")
	tested := string(w.ok("POST", "/api/v1/connections/desk/test", ""))
	if !strings.Contains(tested, "in: the stream RETURNS is there") || !strings.Contains(tested, `"ok":true`) {
		t.Error(tested)
	}
}
