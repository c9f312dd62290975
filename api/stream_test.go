package api

import (
	"strings"
	"testing"
)

// One flow appends to a log, two groups read it; and the log misbehaves as it is told to.
func TestMessagesGoByAPartitionedLog(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/stand-ins/log", `{"kind":"stream","has":["loans 3","loans-overdue"]}`)
	w.problem(400, "is no topic", "PUT", "/api/v1/stand-ins/wrong", `{"kind":"stream","has":["loans many"]}`)
	w.ok("PUT", "/api/v1/connections/log", `{"readyferry":"connection/1","name":"log","kind":"stream","address":"stand-in://log","time-limit":"20s"}`)
	if got := string(w.ok("GET", "/api/v1/connections/log/offers?what=topic", "")); got != `["loans","loans-overdue"]` {
		t.Error(got)
	}
	for _, name := range []string{"changes", "overdue"} {
		w.live(name, `{"readyferry":"flow/1","name":"`+name+`","intake":{"kind":"stream","of":"log","topic":"loans","begin":"earliest","reference":"body.n"},
			"steps":[{"id":"n","kind":"note","text":"${headers[\"stream-key\"]}"}]}`)
	}
	w.live("out", `{"readyferry":"flow/1","name":"out","intake":{"kind":"webhook","path":"/loans"},
		"steps":[{"id":"d","kind":"deliver","to":"log","topic":"${body.topic}","key":"card ${body.n}"}]}`)
	w.ok("POST", "/in/loans", `{"topic":"loans","n":"7"}`)
	w.ok("POST", "/api/v1/stand-ins/log/send",
		`{"topic":"loans","key":"k","body":"{\"n\":\"8\"}","headers":{"Content-Type":"application/json"}}`)
	w.problem(400, "there is no topic", "POST", "/api/v1/stand-ins/log/send", `{"topic":"nobody"}`)
	for _, name := range []string{"changes", "overdue"} {
		for _, n := range []string{"7", "8"} {
			w.eventually("/api/v1/transactions?flow="+name+"&state=delivered", `"reference":"`+n+`"`)
		}
	}
	got := w.eventually("/api/v1/stand-ins/log", `"messages":2,"consumers":2`)
	if !strings.Contains(got, `"path":"loans key card 7"`) || strings.Contains(got, `card 8`) {
		t.Error(got)
	}
	sample := string(w.ok("POST", "/api/v1/flows/changes/take-sample", ""))
	if !strings.Contains(sample, `"stream-topic":"loans"`) {
		t.Error(sample)
	}
	w.ok("POST", "/in/loans", `{"topic":"nobody","n":"9"}`)
	w.eventually("/api/v1/dead-letters?flow=out", "the topic is not there")
	for behaviour, want := range map[string]string{
		`{"status":403}`: "do not permit it for this topic", `{"status":413}`: "larger than the topic takes",
		`{"status":422}`: "does not take such a record",
	} {
		w.ok("PUT", "/api/v1/stand-ins/log/behaviour", behaviour)
		w.ok("POST", "/in/loans", `{"topic":"loans-overdue","n":"1"}`)
		w.eventually("/api/v1/dead-letters?flow=out", want)
	}
	tested := string(w.ok("POST", "/api/v1/connections/log/test", ""))
	if !strings.Contains(tested, "changes: the topic loans is there, partitions: 3") || !strings.Contains(tested,
		`"ok":true`) {
		t.Error(tested)
	}
}
