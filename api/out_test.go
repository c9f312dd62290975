package api

import (
	"bufio"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"
)

type leased struct {
	ID, Lease, Body string
	Taken           int
	Headers         []struct{ Name, Value string }
}

func (w *world) key(name, rights string) string {
	w.t.Helper()
	var made struct{ Key string }
	_ = json.Unmarshal(w.ok("PUT", "/api/v1/keys/"+name, `{"rights":`+rights+`}`), &made)
	if !strings.HasPrefix(made.Key, "rfk_") {
		w.t.Fatal(made)
	}
	return "Authorization: Bearer " + made.Key
}

func (w *world) taken(key, queue, how string) (out []leased) {
	w.t.Helper()
	a := w.call("POST", "/out/queues/"+queue+"/take", how, key)
	if a.status != 200 {
		w.t.Fatalf("%d %s", a.status, a.body)
	}
	if err := json.Unmarshal(a.body, &out); err != nil {
		w.t.Fatal(err)
	}
	return out
}

const outside = `{"readyferry":"flow/1","name":"out","intake":{"kind":"webhook","path":"/out","reference":"body.n"},
	"steps":[{"id":"d","kind":"deliver","to":{"queue":"partner","readers":"outside"},"headers":{"x-n":"${body.n}"}}]}`

// A partner takes from a queue over HTTP: what it says to be done is gone, what it gives
// back or forgets comes again, and what it forgets five times is a dead letter.
func TestAPartnerTakesFromAQueue(t *testing.T) {
	w := start(t)
	w.live("out", outside)
	key := w.key("partner", `[{"may":["take","read"],"on":["queue:partner"]}]`)
	other := w.key("other", `[{"may":["take"],"on":["queue:part*"]}]`)
	for _, c := range []struct {
		key, path string
		status    int
	}{
		{"X-None: x", "/out/queues/partner/take", 401}, {"Authorization: Bearer rfk_made-up", "/out/queues/partner/take",
			401},
		{key, "/out/queues/another/take", 403}, {key, "/out/queues/partner", 403}, {key, "/out/queues/partner/pause", 403},
		{key, "/out/queues/partner/leases/nothing/done", 404},
	} {
		if a := w.call("POST", c.path, "{}", c.key); a.status != c.status {
			t.Errorf("%s: %d %s", c.path, a.status, a.body)
		}
	}
	if got := w.taken(key, "partner", `{}`); len(got) != 0 {
		t.Error(got)
	}
	came := make(chan []leased)
	go func() { came <- w.taken(key, "partner", `{"wait":"1m","max":10}`) }() // it waits
	w.ok("POST", "/in/out", `{"n":"1"}`)
	first := <-came
	if queues := string(w.ok("GET", "/api/v1/queues", "")); !strings.Contains(queues, `"takers":["other","partner"]`) {
		t.Error(queues)
	}
	if len(first) != 1 || first[0].Body != `{"n":"1"}` || len(first[0].Headers) == 0 {
		t.Fatalf("%+v", first)
	}
	if a := w.call("POST", "/out/queues/partner/leases/"+first[0].Lease+"/done", "", other); a.status != 404 {
		t.Errorf("another ends the lease: %d", a.status)
	}
	if a := w.call("POST", "/out/queues/partner/leases/"+first[0].Lease+"/back", "", key); a.status != 204 {
		t.Errorf("%d %s", a.status, a.body)
	}
	again := w.taken(other, "partner", `{"lease":"1h"}`)
	if len(again) != 1 || again[0].ID != first[0].ID || again[0].Lease == first[0].Lease {
		t.Fatalf("%+v", again)
	}
	for _, path := range []string{"done", "back"} {
		if a := w.call("POST", "/out/queues/partner/leases/"+first[0].Lease+"/"+path, "", key); a.status != 404 {
			t.Errorf("a lease that has ended is good for %s: %d", path, a.status)
		}
	}
	if a := w.call("POST", "/out/queues/partner/leases/"+again[0].Lease+"/done", "", other); a.status != 204 {
		t.Errorf("%d", a.status)
	}
	if got := string(w.ok("GET", "/api/v1/queues/partner/messages", "")); got != "[]" {
		t.Error(got)
	}
	for _, wrong := range []string{`{"max":0}`, `{"wait":"2m"}`, `{"lease":"x"}`, `{"lease":"0s"}`, `{"often":1}`} {
		if a := w.call("POST", "/out/queues/partner/take", wrong, key); a.status != 400 {
			t.Errorf("%s: %d", wrong, a.status)
		}
	}
	// Five leases end without a word.
	w.ok("POST", "/in/out", `{"n":"2"}`)
	for i := range 5 {
		got := w.taken(key, "partner", `{"wait":"1m","lease":"1s"}`)
		if len(got) != 1 || got[0].Taken != i {
			t.Fatalf("%d: %+v", i, got)
		}
	}
	letters := w.eventually("/api/v1/dead-letters?flow=out", "never said to be done")
	var list []struct{ ID, Reason string }
	_ = json.Unmarshal([]byte(letters), &list)
	if len(list) != 1 || !strings.Contains(letters, "the last time by partner") {
		t.Fatal(letters)
	}
	w.eventually("/api/v1/transactions?flow=out&state=dead%20letter", `"reference":"2"`)
	if got := string(w.ok("GET", "/api/v1/queues/partner/messages", "")); got != "[]" {
		t.Error(got)
	}
	// A person sends it again, and it is in the queue anew.
	w.ok("POST", "/api/v1/dead-letters/resend", `{"ids":["`+list[0].ID+`"],"version":"live"}`)
	if got := w.taken(key, "partner", `{"wait":"1m"}`); len(got) != 1 || got[0].Taken != 0 || got[0].Body != `{"n":"2"}` {
		t.Errorf("%+v", got)
	}
	w.eventually("/api/v1/transactions?flow=out&state=delivered", `"reference":"2"`)
	// A key that is dropped lets nobody in.
	w.ok("DELETE", "/api/v1/keys/partner", "")
	if a := w.call("POST", "/out/queues/partner/take", "{}", key); a.status != 401 {
		t.Errorf("%d", a.status)
	}
	w.problem(404, "", "DELETE", "/api/v1/keys/partner", "")
}

// Programs put messages and events into queues and topics, and call webhooks, by keys.
func TestProgramsPutMessagesByKeys(t *testing.T) {
	w := start(t)
	w.live("reads", `{"readyferry":"flow/1","name":"reads","intake":{"kind":"queue","queue":"jobs","reference":"body.n"},
		"steps":[{"id":"n","kind":"note","text":"x"}]}`)
	w.live("hears", `{"readyferry":"flow/1","name":"hears","intake":{"kind":"topic","topic":"news","reference":"headers[\"ce-id\"]"},
		"steps":[{"id":"n","kind":"note","text":"x"}]}`)
	w.ok("PUT", "/api/v1/connections/shut", `{"readyferry":"connection/1","name":"shut","kind":"caller","sign-in":{"kind":"api-key","secret":"s3cret"}}`)
	w.live("hook", `{"readyferry":"flow/1","name":"hook","intake":{"kind":"webhook","path":"/hook","callers":["shut"]},
		"steps":[{"id":"n","kind":"note","text":"x"}]}`)
	key := w.key("sender", `[{"may":["send","read","manage"],"on":["queue:jobs","queue:nobody","topic:news"]},{"may":["send"],"on":["flow:hook"]}]`)
	put := func(path, body, want string, status int, headers ...string) {
		t.Helper()
		if a := w.call("POST", path, body, append(headers, key)...); a.status != status ||
			!strings.Contains(string(a.body), want) {
			t.Errorf("%s: %d %s", path, a.status, a.body)
		}
	}
	put("/out/queues/jobs", `{"n":"1"}`, `"put":1`, 202, "Content-Type: application/json", "Idempotency-Key: k-1")
	put("/out/queues/jobs", `{"n":"1"}`, `"repeated":1`, 200, "Content-Type: application/json", "Idempotency-Key: k-1")
	put("/out/queues/nobody", `{}`, "no flow reads the queue", 422)
	w.eventually("/api/v1/transactions?flow=reads&state=delivered", `"reference":"1"`)
	const structured = "Content-Type: application/cloudevents+json"
	put("/out/topics/news", `{"specversion":"1.0","id":"e-1","source":"/s","type":"t","data":{"a":1}}`, `"put":1`, 202,
		structured)
	put("/out/topics/news", `{"specversion":"1.0","id":"e-1","source":"/s","type":"t","data":{"a":1}}`, `"repeated":1`,
		200, structured)
	put("/out/topics/news", `{"specversion":"1.0","source":"/s","type":"t"}`, "has no id", 400, structured)
	put("/out/topics/news", `[{"specversion":"1.0","id":"e-1","source":"/s","type":"t"},{"specversion":"1.0","id":"e-2","source":"/s","type":"t"}]`,
		`{"put":1,"repeated":1}`, 202, "Content-Type: application/cloudevents-batch+json")
	put("/out/topics/news", `hi`, `"put":1`, 202, "Ce-Specversion: 1.0", "Ce-Id: e-3", "Ce-Source: /s", "Ce-Type: t",
		"Content-Type: text/plain")
	for _, id := range []string{"e-1", "e-2", "e-3"} {
		w.eventually("/api/v1/transactions?flow=hears&state=delivered", `"reference":"`+id+`"`)
	}
	// A webhook with callers takes the key as well, and nobody without one.
	if a := w.call("POST", "/in/hook", `{}`); a.status != 401 {
		t.Errorf("%d", a.status)
	}
	if a := w.call("POST", "/in/hook", `{}`, key); a.status != 202 {
		t.Errorf("%d %s", a.status, a.body)
	}
	got := w.eventually("/api/v1/transactions?flow=hook", "delivered")
	if strings.Contains(got, "rfk_") {
		t.Error("the key is kept")
	}
	put("/out/queues/jobs/pause", "", "", 204)
	put("/out/queues/jobs", `{"n":"2"}`, `"put":1`, 202)
	if a := w.call("GET", "/out/queues/jobs/messages", "", key); !strings.Contains(string(a.body), `\"n\":\"2\"`) {
		t.Errorf("%d %s", a.status, a.body)
	}
	put("/out/queues/jobs/resume", "", "", 204)
	w.eventually("/api/v1/transactions?flow=reads&state=delivered", `"reference":"2"`)

	// A topic as server-sent events, from an offset on and as they come.
	req, _ := http.NewRequest("GET", w.server.URL+"/out/topics/news/events?from=earliest", nil)
	req.Header.Set("Authorization", strings.TrimPrefix(key, "Authorization: "))
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	next := func() (id, data string) {
		for lines.Scan() {
			switch line := lines.Text(); {
			case strings.HasPrefix(line, "id: "):
				id = line[4:]
			case strings.HasPrefix(line, "data: "):
				return id, line[6:]
			}
		}
		t.Fatal("it ended")
		return "", ""
	}
	for _, want := range []string{"e-1", "e-2", "e-3"} {
		if _, data := next(); !strings.Contains(data, want) {
			t.Errorf("%s, want %s", data, want)
		}
	}
	put("/out/topics/news", `live`, `"put":1`, 202)
	id, data := next()
	if !strings.Contains(data, `"body":"live"`) {
		t.Error(data)
	}
	req2 := req.Clone(req.Context())
	req2.Header.Set("Last-Event-ID", id)
	put("/out/topics/news", `behind`, `"put":1`, 202)
	res2, err := http.DefaultClient.Do(req2)
	if err != nil {
		t.Fatal(err)
	}
	defer res2.Body.Close()
	lines = bufio.NewScanner(res2.Body)
	if _, data := next(); !strings.Contains(data, "behind") {
		t.Error(data)
	}
	for _, wrong := range []string{`{"rights":[]}`, `{"rights":[{"may":["all"],"on":["queue:x"]}]}`,
		`{"rights":[{"may":["send"],"on":["x"]}]}`} {
		w.problem(400, "", "PUT", "/api/v1/keys/wrong", wrong)
	}
	w.problem(412, "", "PUT", "/api/v1/keys/sender", `{"rights":[{"may":["send"],"on":["queue:x"]}]}`)
	past := time.Now().Add(-time.Hour).UTC().Format(time.RFC3339)
	var made struct{ Key string }
	_ = json.Unmarshal(w.ok("PUT", "/api/v1/keys/old",
		`{"until":"`+past+`","rights":[{"may":["send"],"on":["queue:*"]}]}`), &made)
	if a := w.call("POST", "/out/queues/jobs", "{}", "X-Api-Key: "+made.Key); a.status != 401 {
		t.Errorf("a key that has ended lets in: %d", a.status)
	}
	if list := string(w.ok("GET", "/api/v1/keys", "")); strings.Contains(list, "rfk_") || !strings.Contains(list,
		`"name":"sender"`) ||
		!strings.Contains(list, `"usedAt":"20`) {
		t.Error(list)
	}
}

// A sample is sent from the page of its flow to where the flow's messages come from.
func TestASampleIsSentAsItStands(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/stand-ins/log", `{"kind":"stream","has":["loans"]}`)
	w.ok("PUT", "/api/v1/connections/log", `{"readyferry":"connection/1","name":"log","kind":"stream","address":"stand-in://log"}`)
	w.ok("PUT", "/api/v1/connections/shut", `{"readyferry":"connection/1","name":"shut","kind":"caller","sign-in":{"kind":"api-key","secret":"s"}}`)
	for name, in := range map[string]string{
		"hook":  `{"kind":"webhook","path":"/hook/{branch}","callers":["shut"],"reference":"params.branch + body.n"}`,
		"queue": `{"kind":"queue","queue":"jobs","reference":"body.n"}`,
		"topic": `{"kind":"topic","topic":"news","reference":"body.n"}`,
		"log":   `{"kind":"stream","of":"log","topic":"loans","begin":"earliest","reference":"body.n"}`,
	} {
		w.live(name, `{"readyferry":"flow/1","name":"`+name+`","intake":`+in+`,"steps":[{"id":"n","kind":"note","text":"x"}]}`)
		w.ok("PUT", "/api/v1/flows/"+name+"/samples/one",
			`{"body":"{\"n\":\"7\"}","headers":{"content-type":"application/json","stream-key":"k"},"params":{"branch":"ELMS"},"query":{}}`)
		said := string(w.ok("POST", "/api/v1/flows/"+name+"/samples/one/send", ""))
		want := map[string]string{"hook": "POST /in/hook/ELMS answered 202", "queue": "put into the queue jobs",
			"topic": "put into the topic news",
			"log":   "sent from the stand-in log: loans"}[name]
		if !strings.Contains(said, want) {
			t.Errorf("%s: %s", name, said)
		}
		w.eventually("/api/v1/transactions?flow="+name+"&state=delivered", `7"`)
	}
	w.ok("PUT", "/api/v1/flows/draft", `{"readyferry":"flow/1","name":"draft","intake":{"kind":"queue","queue":"x"},"steps":[]}`)
	w.ok("PUT", "/api/v1/flows/draft/samples/one", `{"body":"{}","headers":{},"params":{},"query":{}}`)
	w.problem(422, "publish it", "POST", "/api/v1/flows/draft/samples/one/send", "")
	w.problem(404, "", "POST", "/api/v1/flows/hook/samples/none/send", "")
}

func (w *world) takenOf(key, topic, how string) (out []leased) {
	w.t.Helper()
	if err := json.Unmarshal(w.ok("POST", "/out/topics/"+topic+"/take", how, key), &out); err != nil {
		w.t.Fatal(err)
	}
	return out
}

// Partners take from a topic, each under a subscription: each has every message, and what
// one forgets five times is a dead letter that concerns this one alone.
func TestPartnersTakeFromATopic(t *testing.T) {
	w := start(t)
	w.live("tells", `{"readyferry":"flow/1","name":"tells","intake":{"kind":"webhook","path":"/tells","reference":"body.n"},
		"steps":[{"id":"d","kind":"deliver","to":{"topic":"news"}}]}`)
	key := w.key("partner", `[{"may":["take"],"on":["topic:news"]}]`)
	for _, c := range []struct {
		key, path, body string
		status          int
	}{
		{"X-None: x", "/out/topics/news/take", `{"subscription":"a"}`, 401}, {key, "/out/topics/other/take",
			`{"subscription":"a"}`, 403},
		{key, "/out/topics/news/take", `{}`, 400}, {key, "/out/topics/news/take", `{"subscription":"a/b"}`, 400},
		{key, "/out/topics/news/take", `{"subscription":"a","begin":"now"}`, 400}, {key, "/out/queues/news/take",
			`{"subscription":"a"}`, 403},
		{key, "/out/topics/news/leases/nothing/done", "", 404},
	} {
		if a := w.call("POST", c.path, c.body, c.key); a.status != c.status {
			t.Errorf("%s %s: %d %s", c.path, c.body, a.status, a.body)
		}
	}
	w.ok("POST", "/in/tells", `{"n":"1"}`)
	w.eventually("/api/v1/transactions?flow=tells&state=delivered", `"reference":"1"`)
	one := w.takenOf(key, "news", `{"subscription":"a","begin":"earliest","max":10,"wait":"1m"}`)
	if len(one) != 1 || one[0].Body != `{"n":"1"}` {
		t.Fatalf("%+v", one)
	}
	if late := w.takenOf(key, "news", `{"subscription":"late"}`); len(late) != 0 {
		t.Errorf("a subscription that begins with what comes has %+v", late)
	}
	came := make(chan []leased)
	go func() { came <- w.takenOf(key, "news", `{"subscription":"late","wait":"1m"}`) }()
	w.ok("POST", "/in/tells", `{"n":"2"}`)
	if late := <-came; len(late) != 1 || late[0].Body != `{"n":"2"}` {
		t.Errorf("%+v", late)
	}
	ends := func(how, lease string, status int) {
		t.Helper()
		if a := w.call("POST", "/out/topics/news/leases/"+lease+"/"+how, "", key); a.status != status {
			t.Errorf("%s: %d %s", how, a.status, a.body)
		}
	}
	ends("back", one[0].Lease, 204)
	ends("done", one[0].Lease, 404)
	both := w.takenOf(key, "news", `{"subscription":"a","max":10,"wait":"1m"}`)
	if len(both) != 2 || both[0].ID != one[0].ID {
		t.Fatalf("%+v", both)
	}
	ends("done", both[0].Lease, 204)
	ends("done", both[1].Lease, 204)
	// What only this subscription forgets.
	forgets := func(n string) (letter string) {
		t.Helper()
		w.ok("POST", "/in/tells", `{"n":"`+n+`"}`)
		for i := range 5 {
			got := w.takenOf(key, "news", `{"subscription":"a","wait":"1m","lease":"1s"}`)
			if len(got) != 1 || got[0].Taken != i {
				t.Fatalf("%d: %+v", i, got)
			}
		}
		var list []struct{ ID, Reason string }
		_ = json.Unmarshal([]byte(w.eventually("/api/v1/dead-letters?flow=tells", "the last time by partner")), &list)
		if len(list) != 1 {
			t.Fatalf("%+v", list)
		}
		return list[0].ID
	}
	w.ok("POST", "/api/v1/dead-letters/resend", `{"ids":["`+forgets("3")+`"],"version":"live"}`)
	again := w.takenOf(key, "news", `{"subscription":"a","wait":"1m","max":10}`)
	if len(again) != 1 || again[0].Body != `{"n":"3"}` || again[0].Taken != 0 {
		t.Fatalf("%+v", again)
	}
	ends("done", again[0].Lease, 204)
	w.eventually("/api/v1/transactions?flow=tells&state=delivered", `"reference":"3"`)
	w.ok("POST", "/api/v1/dead-letters/discard", `{"ids":["`+forgets("4")+`"],"why":"not wanted"}`)
	if got := w.takenOf(key, "news", `{"subscription":"a"}`); len(got) != 0 {
		t.Errorf("%+v", got)
	}
	var others []string
	for _, m := range w.takenOf(key, "news", `{"subscription":"b","begin":"earliest","max":10}`) {
		others = append(others, m.Body)
	}
	if got := strings.Join(others, " "); got != `{"n":"1"} {"n":"2"} {"n":"3"} {"n":"4"}` {
		t.Errorf("another subscription has %s", got)
	}
}
