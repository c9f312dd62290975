package api

import (
	"encoding/json"
	"strings"
	"testing"
	"time"
)

func TestQueuesArePausedMovedAndPurged(t *testing.T) {
	w := start(t)
	w.ok(
		"PUT",
		"/api/v1/flows/reader",
		`{"readyferry":"flow/1","name":"reader","intake":{"kind":"queue","queue":"q"},"steps":[{"id":"n","kind":"note","text":"x"}]}`,
	)
	w.ok("POST", "/api/v1/flows/reader/publish", "")
	w.ok(
		"PUT",
		"/api/v1/flows/fill",
		`{"readyferry":"flow/1","name":"fill","intake":{"kind":"webhook","path":"/fill"},"steps":[{"id":"p",`+
			`"kind":"deliver","to":{"queue":"q","priority":"7","expires":"1h"}}]}`,
	)
	w.ok("POST", "/api/v1/flows/fill/publish", "")
	w.ok("POST", "/api/v1/queues/q/pause", "")
	w.ok("POST", "/in/fill", `{}`)
	if b := string(w.ok("GET", "/api/v1/queues", "")); !strings.Contains(b, `"depth":1`) ||
		strings.Contains(b, `"pausedAt":null`) {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/api/v1/queues/q/messages", "")); !strings.Contains(b, `"priority":7`) ||
		strings.Contains(b, `"expiresAt":null`) {
		t.Error(b)
	}
	w.problem(400, "say which messages", "POST", "/api/v1/queues/q/purge", `{}`)
	w.problem(400, "say which messages", "POST", "/api/v1/queues/q/purge", `{"all":true,"messages":[1]}`)
	w.problem(
		400,
		"at most 1000",
		"POST",
		"/api/v1/queues/q/move",
		`{"to":"r","messages":[`+strings.Repeat("1,", 1000)+`1]}`,
	)
	w.problem(422, "no flow reads the queue r", "POST", "/api/v1/queues/q/move", `{"to":"r","all":true}`)
	if b := string(w.ok("POST", "/api/v1/queues/q/purge", `{"all":true,"why":"a test"}`)); !strings.Contains(
		b,
		`"count":1`,
	) {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/api/v1/transactions?flow=reader", "")); !strings.Contains(
		b,
		"purged from the queue q: a test",
	) {
		t.Error(b)
	}
	w.ok("POST", "/api/v1/queues/q/resume", "")
	if b := string(w.ok("GET", "/api/v1/queues", "")); !strings.Contains(b, `"pausedAt":null`) {
		t.Error(b)
	}
	if b := string(w.ok("POST", "/api/v1/flows/fill/rehearse",
		`{"samples":[{"name":"x","body":"{}"}]}`)); !strings.Contains(
		b,
		`"priority":7,"expires":3600000`,
	) {
		t.Error(b)
	}
	w.ok(
		"PUT",
		"/api/v1/flows/fill",
		`{"readyferry":"flow/1","name":"fill","intake":{"kind":"webhook","path":"/fill"},"steps":[{"id":"p",`+
			`"kind":"deliver","to":{"queue":"q","expires":"soon"}}]}`,
	)
	w.problem(422, "is no span of time", "POST", "/api/v1/flows/fill/publish", "")
}

func TestTopicsAreReadRewoundAndKept(t *testing.T) {
	w := start(t)
	w.ok(
		"PUT",
		"/api/v1/flows/scan",
		`{"readyferry":"flow/1","name":"scan","intake":{"kind":"webhook","path":"/scan","reference":"body.r"},`+
			`"steps":[{"id":"p","kind":"deliver","to":{"topic":"returns"}}]}`,
	)
	w.ok("POST", "/api/v1/flows/scan/publish", "")
	w.ok("POST", "/in/scan", `{"r":"S-1"}`)
	if b := string(w.ok("GET", "/api/v1/topics", "")); !strings.Contains(b, `"messages":1`) ||
		!strings.Contains(b, `"unheard":1`) ||
		!strings.Contains(b, `"subscriptions":[]`) {
		t.Error(b)
	}
	w.ok(
		"PUT",
		"/api/v1/flows/reader",
		`{"readyferry":"flow/1","name":"reader","intake":{"kind":"topic","topic":"returns","begin":"latest"},`+
			`"steps":[{"id":"n","kind":"note","text":"x"}]}`,
	)
	w.ok("POST", "/api/v1/flows/reader/publish", "")
	if b := string(w.ok("GET", "/api/v1/topics", "")); !strings.Contains(b, `"position":1,"lag":0`) ||
		!strings.Contains(b, `"readers":["reader"]`) {
		t.Error(b)
	}
	w.ok("POST", "/api/v1/flows/reader/pause", "")
	const rewind = "/api/v1/topics/returns/subscriptions/reader/rewind"
	if b := string(w.ok("POST", rewind, `{"to":"earliest"}`)); !strings.Contains(b, `"position":0`) {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/api/v1/topics", "")); !strings.Contains(b, `"lag":1`) {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/api/v1/topics/returns/messages?before=1", "")); !strings.Contains(
		b,
		`"reference":"S-1"`,
	) ||
		!strings.Contains(b, `"format":"json"`) {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/api/v1/flows", "")); !strings.Contains(b, `"kind":"topic","where":"returns"`) {
		t.Error(b)
	}
	for _, body := range []string{`{}`, `{"to":"begin"}`, `{"to":"latest","offset":1}`} {
		w.problem(400, "say where to", "POST", rewind, body)
	}
	w.problem(422, "holds the offsets from 0 to 0", "POST", rewind, `{"offset":7}`)
	w.problem(404, "", "POST", "/api/v1/topics/returns/subscriptions/nobody/rewind", `{"to":"latest"}`)
	w.problem(409, "reads the subscription", "DELETE", "/api/v1/topics/returns/subscriptions/reader", "")
	w.problem(422, "cannot be negative", "PUT", "/api/v1/topics/returns", `{"keepBytes":-1}`)
	w.ok("PUT", "/api/v1/topics/returns", `{"keepFor":1000,"keepBytes":1}`)
	if b := string(w.ok("GET", "/api/v1/topics", "")); !strings.Contains(b, `"messages":1`) ||
		!strings.Contains(b, `"keepFor":1000`) {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/metrics", "")); !strings.Contains(
		b,
		`readyferry_subscription_lag{subscription="reader",topic="returns"} 1`,
	) ||
		!strings.Contains(b, `readyferry_topic_unheard_total{topic="returns"} 1`) ||
		!strings.Contains(b, "readyferry_groups_open 0") {
		t.Error(b)
	}
	w.problem(422, "is 1 or more", "PUT", "/api/v1/queues/q", `{"limit":0}`)
	w.ok(
		"PUT",
		"/api/v1/flows/bad",
		`{"readyferry":"flow/1","name":"bad","intake":{"kind":"topic","topic":"returns","begin":{"time":"noon"}},`+
			`"steps":[{"id":"d","kind":"deliver","to":{"queue":"a","topic":"b"}}]}`,
	)
	w.problem(422, "is no point in time", "POST", "/api/v1/flows/bad/publish", "")
	w.problem(422, "either to a queue or to a topic", "POST", "/api/v1/flows/bad/publish", "")
}

func TestGroupsAreListedAndClosed(t *testing.T) {
	w := start(t)
	w.ok(
		"PUT",
		"/api/v1/flows/g",
		`{"readyferry":"flow/1","name":"g","intake":{"kind":"webhook","path":"/g","reference":"body.k"},`+
			`"steps":[{"id":"agg","kind":"aggregate","key":"body.k","close":{"count":3,"age":"1h"}}]}`,
	)
	w.ok("POST", "/api/v1/flows/g/publish", "")
	w.ok(
		"PUT",
		"/api/v1/flows/s",
		`{"readyferry":"flow/1","name":"s","intake":{"kind":"webhook","path":"/s"},"steps":[{"id":"seq",`+
			`"kind":"resequence","key":"body.k","number":"body.n","wait":"1h"}]}`,
	)
	w.ok("POST", "/api/v1/flows/s/publish", "")
	w.ok("POST", "/in/g", `{"k":"A"}`)
	w.ok("POST", "/in/g", `{"k":"A"}`)
	w.ok("POST", "/in/s", `{"k":"B","n":2}`)
	var list struct {
		Total  int
		Groups []struct{ ID, Key string }
	}
	b := w.ok("GET", "/api/v1/groups?flow=g", "")
	if err := json.Unmarshal(b, &list); err != nil || list.Total != 1 || len(list.Groups) != 1 {
		t.Fatalf("%s %v", b, err)
	}
	if s := string(b); !strings.Contains(s, `"members":2`) || !strings.Contains(s, `"missing":["1 more"]`) ||
		strings.Contains(s, `"closesAt":null`) {
		t.Error(s)
	}
	id := list.Groups[0].ID
	if s := string(w.ok("GET", "/api/v1/groups/"+id+"/members", "")); !strings.Contains(s, `"n":2`) ||
		!strings.Contains(s, `"reference":"A"`) ||
		!strings.Contains(s, `"item":{"format":"json"`) {
		t.Error(s)
	}
	if s := string(w.ok("GET", "/api/v1/transactions?flow=g&state=waiting", "")); !strings.Contains(
		s,
		`"placeText":"group A"`,
	) {
		t.Error(s)
	}
	w.ok("POST", "/api/v1/groups/"+id+"/close", "")
	w.problem(422, "has closed already, by a person", "POST", "/api/v1/groups/"+id+"/close", "")
	if s := string(w.ok("GET", "/api/v1/transactions/"+id, "")); !strings.Contains(s, `"why":"by a person"`) ||
		!strings.Contains(s, `"state":"delivered"`) {
		t.Error(s)
	}
	w.problem(404, "", "GET", "/api/v1/groups/01a210b6-2b06-7141-9159-f50ec07c629d/members", "")
	if s := string(w.ok("GET", "/api/v1/turns", "")); !strings.Contains(s, `"key":"B","next":1,"waiting":1`) {
		t.Error(s)
	}
	w.ok("POST", "/api/v1/turns/skip", `{"flow":"s","path":"seq","key":"B"}`)
	w.problem(404, "", "POST", "/api/v1/turns/skip", `{"flow":"s","path":"seq","key":"B"}`)
	if s := string(w.ok("GET", "/api/v1/transactions?flow=s", "")); !strings.Contains(s, `"state":"delivered"`) {
		t.Error(s)
	}
}

func TestAMessageAndItsPartsAreTold(t *testing.T) {
	w := start(t)
	w.ok(
		"PUT",
		"/api/v1/flows/p",
		`{"readyferry":"flow/1","name":"p","intake":{"kind":"webhook","path":"/p"},"steps":[{"id":"per",`+
			`"kind":"split","each":"body","parts":"in order","when-dead":"stop","steps":[{"id":"n","kind":"map",`+
			`"fields":[{"to":"/x","from":"part.x"}]}]}]}`,
	)
	w.ok("POST", "/api/v1/flows/p/publish", "")
	var in struct{ Transaction string }
	if err := json.Unmarshal(w.ok("POST", "/in/p", `[{"x":1},{"y":2},{"x":3}]`), &in); err != nil {
		t.Fatal(err)
	}
	var b string
	for range 6000 {
		if b = string(w.ok("GET", "/api/v1/transactions/"+in.Transaction, "")); strings.Contains(
			b,
			`"state":"dead letter"`,
		) {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if !strings.Contains(
		b,
		`"progress":[{"split":"per","total":3,"begun":2,"stopped":true,"underWay":0,"waiting":0,"delivered":1,"turnedAway":0,"deadLetters":1}]`,
	) ||
		!strings.Contains(b, `"partCount":3`) ||
		!strings.Contains(b, `"reason":"part 2: part.x is missing`) {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/api/v1/transactions?parent="+in.Transaction, "")); !strings.Contains(
		b,
		`"part":{"split":"per","index":1}`,
	) ||
		strings.Count(b, `"parent":"`+in.Transaction) != 2 {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/api/v1/transactions?state=dead+letter&parent="+in.Transaction, "")); strings.Count(
		b,
		`"parent":"`+in.Transaction,
	) != 1 {
		t.Error(b)
	}
	if b := string(w.ok("GET", "/api/v1/transactions", "")); strings.Count(b, `"id"`) != 1 {
		t.Error(b)
	}
	w.problem(400, "parent must be the id", "GET", "/api/v1/transactions?parent=x", "")
}

// Who works on a message of a topic is told with it, how often that was tried, and when it is again.
func TestMessagesOfATopicTellWhoWorksOnThem(t *testing.T) {
	w := start(t)
	w.furnish()
	w.ok("PUT", "/api/v1/stand-ins/shut", `{"title":"Shut","status":503,"body":"no"}`)
	w.ok("PUT", "/api/v1/connections/shut", `{"readyferry":"connection/1","name":"shut","kind":"http","address":"stand-in://shut",
		"retry":{"first":"1h","cap":"1h","spread":"none","tries":5}}`)
	w.live("listens", `{"readyferry":"flow/1","name":"listens","intake":{"kind":"topic","topic":"told"},
		"steps":[{"id":"d","kind":"deliver","to":"shut","path":"/x"}]}`)
	w.live("tells", `{"readyferry":"flow/1","name":"tells","intake":{"kind":"webhook","path":"/tells"},
		"steps":[{"id":"p","kind":"deliver","to":{"topic":"told"}}]}`)
	w.ok("POST", "/in/tells", `{}`)
	w.eventually("/api/v1/topics/told/messages?before=1", `"tries":1`)
	var rows []struct {
		From    string
		Readers []struct {
			Subscription, Transaction, State string
			NextTryAt                        *time.Time
		}
	}
	if err := json.Unmarshal(w.ok("GET", "/api/v1/topics/told/messages?before=1", ""), &rows); err != nil || len(rows) != 1 ||
		rows[0].From == "" || len(rows[0].Readers) != 1 || rows[0].Readers[0].Subscription != "listens" || rows[0].Readers[0].State != "waiting" ||
		rows[0].Readers[0].NextTryAt == nil {
		t.Errorf("%+v %v", rows, err)
	}
}
