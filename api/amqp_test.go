package api

import (
	"encoding/json"
	"strings"
	"testing"
	"time"
)

// eventually asks until what is wanted stands in the answer.
func (w *world) eventually(path, want string) string {
	w.t.Helper()
	got := ""
	for range 6000 {
		if got = string(w.ok("GET", path, "")); strings.Contains(got, want) {
			return got
		}
		time.Sleep(5 * time.Millisecond)
	}
	w.t.Fatalf("%s never holds %s: %.2000s", path, want, got)
	return ""
}

func (w *world) live(name, document string) {
	w.t.Helper()
	w.ok("PUT", "/api/v1/flows/"+name, document)
	w.ok("POST", "/api/v1/flows/"+name+"/publish", "")
}

// A broker with queues: what it returns is a dead letter that says so, how the connection
// is can be seen, and a test looks at what flows name.
func TestQueuesOfABroker(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/stand-ins/desk", `{"kind":"amqp","has":["returns desk topic returned.#","work"]}`)
	w.problem(400, "is no queue", "PUT", "/api/v1/stand-ins/wrong", `{"kind":"amqp","has":["a b c"]}`)
	w.ok("PUT", "/api/v1/connections/desk", `{"readyferry":"connection/1","name":"desk","kind":"amqp","address":"stand-in://desk"}`)
	w.live("in", `{"readyferry":"flow/1","name":"in","intake":{"kind":"amqp","of":"desk","queue":"returns","reference":"body.n"},
		"steps":[{"id":"d","kind":"deliver","to":"desk","routing-key":"${headers[\"x-to\"]}"}]}`)
	w.ok("POST", "/api/v1/stand-ins/desk/send",
		`{"exchange":"desk","topic":"returned.ELMS","body":"{\"n\":\"1\"}","headers":{"x-to":"work","Message-Id":"m-1","Content-Type":"application/json"}}`)
	w.eventually("/api/v1/transactions?flow=in&state=delivered", `"reference":"1"`)
	w.eventually("/api/v1/stand-ins/desk", `"name":"work","messages":1`)
	// The same again is a duplicate, inside once.
	w.ok("POST", "/api/v1/stand-ins/desk/send",
		`{"exchange":"desk","topic":"returned.ELMS","body":"{\"n\":\"1\"}","headers":{"x-to":"work","Message-Id":"m-1","Content-Type":"application/json"}}`)
	w.eventually("/api/v1/transactions?flow=in&state=turned%20away", "duplicate of")
	w.ok("POST", "/api/v1/stand-ins/desk/send",
		`{"exchange":"desk","topic":"returned.QUAY","body":"{\"n\":\"2\"}","headers":{"x-to":"nobody","Message-Id":"m-2","Content-Type":"application/json"}}`)
	letters := w.eventually("/api/v1/dead-letters?flow=in", "nothing is bound")
	if !strings.Contains(letters, "312 NO_ROUTE") || !strings.Contains(letters, "nobody") {
		t.Error(letters)
	}
	// What cannot be decoded is kept as it came.
	w.ok("POST", "/api/v1/stand-ins/desk/send",
		`{"exchange":"desk","topic":"returned.X","body":"{not json","headers":{"Content-Type":"application/json"}}`)
	w.eventually("/api/v1/dead-letters?flow=in", "JSON")
	w.eventually("/api/v1/stand-ins/desk", `"name":"returns","messages":0,"consumers":1`)
	w.eventually("/api/v1/connections/desk", `"in":4`) // it is counted when its letter is there already

	var c struct {
		Condition struct {
			Is     string
			In     int
			Lately []struct{ Detail string }
		}
	}
	_ = json.Unmarshal(w.ok("GET", "/api/v1/connections/desk", ""), &c)
	if c.Condition.Is != "refuses" || c.Condition.In != 4 || len(c.Condition.Lately) == 0 {
		t.Errorf("%+v", c)
	}
	metrics := string(w.ok("GET", "/metrics", ""))
	for _, want := range []string{`readyferry_connection_up{connection="desk"} 0`,
		`readyferry_connection_messages_in_total{connection="desk"} 4`,
		`readyferry_connection_backlog{connection="desk",flow="in"} 0`,
		`readyferry_connection_failures_total{connection="desk"} 1`} {
		if !strings.Contains(metrics, want) {
			t.Errorf("/metrics does not say %s", want)
		}
	}
	w.ok("PUT", "/api/v1/flows/draft", `{"readyferry":"flow/1","name":"draft","intake":{"kind":"amqp","of":"desk","queue":"returns-2"},"steps":[]}`)
	var tested struct {
		OK     bool
		Detail string
		Steps  []struct {
			OK             bool
			Detail, Repair string
		}
	}
	_ = json.Unmarshal(w.ok("POST", "/api/v1/connections/desk/test", ""), &tested)
	if tested.OK || len(tested.Steps) != 5 || tested.Detail != "draft: the queue returns-2 is not there" ||
		tested.Steps[2].Repair == "" {
		t.Errorf("%+v", tested)
	}
	if got := string(w.ok("GET", "/api/v1/connections/desk/offers?what=queue", "")); got != "[]" {
		t.Error(got) // the protocol cannot tell
	}
	w.problem(404, "", "GET", "/api/v1/connections/nobody/offers", "")
}

// What is answered a second time is kept beside the tries, and changes nothing.
func TestASecondAnswerIsKept(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/stand-ins/desk", `{"kind":"amqp","has":["questions"]}`)
	w.ok("PUT", "/api/v1/connections/desk", `{"readyferry":"connection/1","name":"desk","kind":"amqp","address":"stand-in://desk","time-limit":"30s"}`)
	answer := `"kind":"deliver","to":"desk","routing-key":"${headers[\"amqp-reply-to\"]}","headers":{"amqp-correlation-id":"${headers[\"amqp-correlation-id\"]}"}`
	w.live("answers", `{"readyferry":"flow/1","name":"answers","intake":{"kind":"amqp","of":"desk","queue":"questions"},
		"steps":[{"id":"m","kind":"map","fields":[{"to":"/got","from":"body.n * 2"}]},{"id":"a",`+answer+`},
		{"id":"m2","kind":"map","fields":[{"to":"/got","from":"0"}]},{"id":"b",`+answer+`}]}`)
	w.live("asks", `{"readyferry":"flow/1","name":"asks","intake":{"kind":"webhook","path":"/asks","answer":"finished"},
		"steps":[{"id":"q","kind":"ask","of":"desk","routing-key":"questions"},{"id":"a","kind":"answer","text":"${replies.q.body.got}"}]}`)
	a := w.call("POST", "/in/asks", `{"n":21}`)
	if a.status != 200 || string(a.body) != "42" {
		t.Fatalf("%d %s", a.status, a.body)
	}
	var list []struct{ ID string }
	_ = json.Unmarshal(w.ok("GET", "/api/v1/transactions?flow=asks", ""), &list)
	// It may come before the first one is stored; it is none of the tries either way.
	got := w.eventually("/api/v1/transactions/"+list[0].ID, `"outcome":"late"`)
	if !strings.Contains(got, `{\"got\":0}`) {
		t.Error(got)
	}
}
