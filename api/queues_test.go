package api

import (
	"strings"
	"testing"
)

func TestQueuesArePausedMovedAndPurged(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/flows/reader", `{"readyferry":"flow/1","name":"reader","intake":{"kind":"queue","queue":"q"},"steps":[{"id":"n","kind":"note","text":"x"}]}`)
	w.ok("POST", "/api/v1/flows/reader/publish", "")
	w.ok("PUT", "/api/v1/flows/fill", `{"readyferry":"flow/1","name":"fill","intake":{"kind":"webhook","path":"/fill"},"steps":[{"id":"p","kind":"deliver","to":{"queue":"q","priority":"7","expires":"1h"}}]}`)
	w.ok("POST", "/api/v1/flows/fill/publish", "")
	w.ok("POST", "/api/v1/queues/q/pause", "")
	w.ok("POST", "/in/fill", `{}`)
	if b := string(w.ok("GET", "/api/v1/queues", "")); !strings.Contains(b, `"depth":1`) || strings.Contains(b, `"pausedAt":null`) {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/api/v1/queues/q/messages", "")); !strings.Contains(b, `"priority":7`) || strings.Contains(b, `"expiresAt":null`) {
		t.Error(b)
	}
	w.problem(400, "say which messages", "POST", "/api/v1/queues/q/purge", `{}`)
	w.problem(400, "say which messages", "POST", "/api/v1/queues/q/purge", `{"all":true,"messages":[1]}`)
	w.problem(400, "at most 1000", "POST", "/api/v1/queues/q/move", `{"to":"r","messages":[`+strings.Repeat("1,", 1000)+`1]}`)
	w.problem(422, "no flow reads the queue r", "POST", "/api/v1/queues/q/move", `{"to":"r","all":true}`)
	if b := string(w.ok("POST", "/api/v1/queues/q/purge", `{"all":true,"why":"a test"}`)); !strings.Contains(b, `"count":1`) {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/api/v1/transactions?flow=reader", "")); !strings.Contains(b, "purged from the queue q: a test") {
		t.Error(b)
	}
	w.ok("POST", "/api/v1/queues/q/resume", "")
	if b := string(w.ok("GET", "/api/v1/queues", "")); !strings.Contains(b, `"pausedAt":null`) {
		t.Error(b)
	}
	if b := string(w.ok("POST", "/api/v1/flows/fill/rehearse", `{"samples":[{"name":"x","body":"{}"}]}`)); !strings.Contains(b, `"priority":7,"expires":3600000`) {
		t.Error(b)
	}
	w.ok("PUT", "/api/v1/flows/fill", `{"readyferry":"flow/1","name":"fill","intake":{"kind":"webhook","path":"/fill"},"steps":[{"id":"p","kind":"deliver","to":{"queue":"q","expires":"soon"}}]}`)
	w.problem(422, "is no span of time", "POST", "/api/v1/flows/fill/publish", "")
}
