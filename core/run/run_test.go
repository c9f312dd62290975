package run

import (
	"encoding/json"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/want"
)

func read(t testing.TB, src string) *plan.Plan {
	t.Helper()
	r, err := plan.NewReader()
	if err != nil {
		t.Fatal(err)
	}
	p, findings := r.Read([]byte(src), nil)
	for _, f := range findings {
		if f.Level == "error" {
			t.Fatal(f.Error())
		}
	}
	return p
}

func file(t testing.TB, name string) string {
	b, err := os.ReadFile("testdata/" + name)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func envelope(body string) Envelope {
	return Envelope{
		ID: "019cf2b1-77a4-7c31-8000-0123456789ab", ReceivedAt: time.Date(2026, 3, 17, 9, 41, 7, 318e6, time.UTC),
		Headers: []message.Header{
			{Name: "Request-Id", Value: "r-1"},
			{Name: "Content-Type", Value: "application/json"},
		},
		Params: []message.Header{{Name: "portal", Value: "web"}}, Body: []byte(body),
	}
}

const (
	ebook  = `{"request":"HR-1","patron":{"card":"LC 44 17"},"item":31408209317000000001,"price":0.10,"format":"ebook"}`
	book   = `{"request":"HR-2","patron":{"card":"LC 44 17"},"item":"a","price":1.50,"format":"book","branch":"MA/RL"}`
	afar   = `{"request":"HR-3","patron":{"card":"LC"},"item":"a","price":1,"format":"book"}`
	closed = `{"request":"HR-4","patron":{"card":"LC"},"item":"a","price":1,"format":"book","status":"closed"}`
	broken = `{"request":"HR-5","patron":{},"item":"a"}`
	noPric = `{"request":"HR-6","patron":{"card":"LC"},"item":"a","format":"book","prise":2}`
)

func TestRehearsalGoesEveryWay(t *testing.T) {
	p := read(t, file(t, "hold.yaml"))
	loan := map[string]want.Effect{
		"lend": {
			Status:  201,
			Body:    []byte(`{"loan": 77.0}`),
			Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
		},
	}
	for _, c := range []struct {
		name, body    string
		replies       map[string]want.Effect
		state, reason string
		status        int
		answer        string // contained
		outcomes      string
		url           string
		sent          string // contained in the last delivery
	}{
		{"ebook", ebook, loan, Delivered, "", 202, `{"transaction":"019cf2b1`,
			"valid|goes on|4 set|6 of 7 set|digital|201|200|portal web", "/loans", `"item":31408209317000000001,"price":0.10`},
		{"book", book, nil, Delivered, "", 202, `{"transaction":"019cf2b1`,
			"valid|goes on|4 set|7 of 7 set|shelf|200|portal web", "/MA%2FRL/slips", `"card":"LC4417"`},
		{"queue", afar, nil, Delivered, "", 202, "", "valid|goes on|4 set|6 of 7 set|otherwise|queued|portal web", "",
			`"asked":"2026-03-17T09:41:07.318Z"`},
		{"closed", closed, nil, TurnedAway, "hold HR-4 is closed", 202, "", "valid|turned away", "", ""},
		{"broken", broken, nil, TurnedAway, "/patron/card is required", 422, "/patron/card", "422, /patron/card", "", ""},
		{"no price", noPric, nil, DeadLetter, "body.price is missing: body has no price; near it there is prise", 202, "",
			"valid|goes on|body.price is missing", "", ""},
		{"refused", "{", nil, TurnedAway, "JSON, line 1, column 2: a member name in double quotes is expected, not the end",
			400, "JSON, line 1, column 2", "", "", ""},
		{"503", book, map[string]want.Effect{"to-shelf": {Status: 503}}, Waiting, "503, tries again", 202, "",
			"valid|goes on|4 set|7 of 7 set|shelf|503, tries again", "/MA%2FRL/slips", ""},
		{"404", book, map[string]want.Effect{"by-home.shelf/to-shelf": {Status: 404}}, DeadLetter,
			"shelf-printer answered 404, and no other try would help", 202, "", "valid|goes on|4 set|7 of 7 " +
				"set|shelf|shelf-printer answered 404, and no other try would help", "/MA%2FRL/slips", ""},
	} {
		r := Rehearse(p, envelope(c.body), Options{Replies: c.replies})
		var outcomes []string
		for _, e := range r.Trace {
			outcomes = append(outcomes, e.Outcome)
		}
		reason := ""
		if r.Reason != nil {
			reason = *r.Reason
		}
		if r.State != c.state || reason != c.reason || strings.Join(outcomes, "|") != c.outcomes {
			t.Errorf(
				"%s: %s, %q\n%s\nwant %s, %q\n%s",
				c.name,
				r.State,
				reason,
				strings.Join(outcomes, "|"),
				c.state,
				c.reason,
				c.outcomes,
			)
		}
		if r.Answer.Status != c.status || !strings.Contains(r.Answer.Body, c.answer) {
			t.Errorf("%s: answered %d %s", c.name, r.Answer.Status, r.Answer.Body)
		}
		if (c.url != "" || c.sent != "") &&
			(len(r.Deliveries) != 1 || r.Deliveries[0].Request.URL != c.url || !strings.Contains(*r.Deliveries[0].Request.Text,
				c.sent)) {
			t.Errorf("%s: deliveries %+v", c.name, r.Deliveries)
		}
	}
}

// What one way was answered is no business of another, so that it decides the
// same before and after that answer has come.
func TestAWayDoesNotSeeTheAnswersOfAnother(t *testing.T) {
	p := read(t, `
readyferry: flow/1
name: f
intake: {kind: webhook, path: /f}
steps:
  - id: r
    kind: route
    take: every
    ways:
      - {name: a, when: 'true', steps: [{id: d, kind: deliver, to: x}]}
      - {name: b, when: 'true', steps: [{id: n, kind: note, text: '${size(replies)} seen'}]}
    otherwise: {steps: []}
  - {id: after, kind: note, text: '${size(replies)} seen after'}
`)
	r := Rehearse(p, envelope(`{}`), Options{})
	if len(r.Notes) != 2 || r.Notes[0].Text != "0 seen" || r.Notes[1].Text != "1 seen after" {
		t.Errorf("%+v", r.Notes)
	}
}

// The walk is pure: walked again over its recorded effects, a transaction
// gives the same trace byte for byte, now() and uuid() included.
func TestWalkingAgainGivesTheSameBytes(t *testing.T) {
	p := read(t, file(t, "hold.yaml"))
	effects := map[string]want.Effect{"by-home.digital/lend": {Status: 201, Body: []byte(`{"loan":7}`)}}
	var first []byte
	for range 20 {
		rec, err := Receive(p, envelope(ebook))
		if err != nil {
			t.Fatal(err)
		}
		live := Walk(p, Input{Message: rec.Message})
		if len(live.Wants) != 1 || live.Wants[0].Path != "by-home.digital/lend" {
			t.Fatalf("wants %+v", live.Wants)
		}
		b, err := json.Marshal(Walk(p, Input{Message: rec.Message, Effects: effects, Trace: true}))
		if err != nil {
			t.Fatal(err)
		}
		if first == nil {
			first = b
		}
		if string(b) != string(first) {
			t.Fatalf("%s\n%s", first, b)
		}
	}
}

func TestEveryWayGoesOnByItself(t *testing.T) {
	p := read(t, `
readyferry: flow/1
name: both
intake: {kind: webhook, path: /both}
steps:
  - id: r
    kind: route
    take: every
    ways:
      - {name: a, when: body.n > 0, steps: [{id: ma, kind: map, fields: [{to: /x, from: body.n}]}, {id: da, kind: deliver, to: one}]}
      - {name: b, when: body.n > 1, steps: [{id: mb, kind: map, fields: [{to: /y, from: body.zz}]}]}
      - {name: c, when: body.n > 2, steps: [{id: f, kind: filter, keep: 'false', reason: never}]}
    otherwise: {steps: [{id: f2, kind: filter, keep: 'false', reason: nothing fits}]}
  - {id: after, kind: deliver, to: two}
`)
	walk := func(body string, effects map[string]want.Effect) *Result {
		rec, err := Receive(p, envelope(body))
		if err != nil {
			t.Fatal(err)
		}
		return Walk(p, Input{Message: rec.Message, Effects: effects, Trace: true})
	}
	if r := walk(`{"n":1}`, nil); r.State != Waiting || len(r.Wants) != 1 ||
		string(r.Wants[0].Want.(*want.Send).Request.Body) != `{"x":1}` {
		t.Errorf("one way: %+v", r)
	}
	// A way that dies holds up no other, and the message goes on as it was.
	if r := walk(`{"n":3}`, nil); r.State != DeadLetter || len(r.Wants) != 1 || len(r.Failures) != 1 ||
		r.Failures[0].Path != "r.b/mb" {
		t.Errorf("a dead way: %+v", r)
	}
	r := walk(`{"n":1}`, map[string]want.Effect{"r.a/da": {Status: 200}})
	if len(r.Wants) != 1 || r.Wants[0].Path != "after" ||
		string(r.Wants[0].Want.(*want.Send).Request.Body) != `{"n":1}` {
		t.Errorf("after the route: %+v", r.Wants)
	}
	if r := walk(`{"n":0}`, nil); r.State != TurnedAway || r.Reason != "nothing fits" {
		t.Errorf("every way turned it away: %+v", r)
	}
}

func TestIntakeRefusals(t *testing.T) {
	p := read(t, file(t, "hold.yaml"))
	in := envelope(book)
	in.Headers = nil
	if _, err := Receive(p, in); err == nil ||
		!strings.Contains(err.Error(), `once, headers["request-id"] is missing`) {
		t.Errorf("once that cannot be computed: %v", err)
	}
	strict := read(
		t,
		"readyferry: flow/1\nname: s\nintake: {kind: webhook, path: /s, strict: true, limit: 20}\nsteps: []\n",
	)
	for body, want := range map[string]string{
		`{"a":1,"a":2}`:                 `the member "a" stands twice`,
		`{"aaaaaaaaaaaaaaaaaaaaaaa":1}`: "takes at most 20",
	} {
		if _, err := Receive(strict, envelope(body)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", body, err)
		}
	}
	rec, err := Receive(p, envelope(strings.Replace(book, `"item":"a"`, `"item":"a","item":"b"`, 1)))
	if err != nil || len(rec.Warnings) != 1 {
		t.Errorf("%v %v", rec.Warnings, err)
	}
}

// A message that no step changes leaves byte for byte as it came in.
func TestUntouchedBytesLeaveAsTheyCame(t *testing.T) {
	p := read(
		t,
		"readyferry: flow/1\nname: s\nintake: {kind: webhook, path: /s}\nsteps: [{id: d, kind: deliver, to: x}]\n",
	)
	const odd = "{ \"b\" : 1.0,\n\t\"a\":  [ ] , \"a\": 1e2 }\n"
	rec, err := Receive(p, envelope(odd))
	if err != nil {
		t.Fatal(err)
	}
	if got := Walk(p, Input{Message: rec.Message}).Wants[0].Want.(*want.Send).Request.Body; string(got) != odd {
		t.Errorf("%q", got)
	}
}

func TestDeliveryIDsAreSteadyAndSort(t *testing.T) {
	const tx = "019cf2b1-77a4-7c31-8000-0123456789ab"
	a, b := DeliveryID(tx, "x"), DeliveryID(tx, "y")
	if a == b || a != DeliveryID(tx, "x") || !strings.HasPrefix(a, "019cf2b1-77a4-7") {
		t.Errorf("%s %s", a, b)
	}
}

// The walk up to its first outside effect runs before the caller is answered:
// what stands behind a queue is heard, what stands behind an outside system is not.
func TestAnswersBehindADeliveryComeTooLate(t *testing.T) {
	p := read(t, `
readyferry: flow/1
name: f
intake: {kind: webhook, path: /f}
steps:
  - {id: put, kind: deliver, to: {queue: q}}
  - id: r
    kind: route
    take: every
    ways:
      - {name: a, when: 'true', steps: [{id: d, kind: deliver, to: x}, {id: late, kind: answer, status: 500}]}
      - {name: b, when: body.n > 1, steps: [{id: early, kind: answer, status: 201}]}
    otherwise: {steps: []}
  - {id: last, kind: answer, status: 503}
`)
	for body, status := range map[string]int{`{"n":1}`: 202, `{"n":2}`: 201} {
		r := Rehearse(p, envelope(body), Options{})
		if r.State != Delivered || r.Answer.Status != status || len(r.Notes) != 2 ||
			!strings.HasPrefix(r.Notes[0].Text, "late: nobody waits for this answer any more") {
			t.Errorf("%s: %+v %+v", body, r.Answer, r.Notes)
		}
		// A walk that is asked for its ways takes those that the trace tells of.
		received, err := Receive(p, envelope(body))
		if err != nil {
			t.Fatal(err)
		}
		effects := map[string]want.Effect{"put": {}, "r.a/d": {}}
		walked := Walk(p, Input{Message: received.Message, Effects: effects, Ways: true})
		ways := []string{"r.a", "r.b"}[:1+strings.Count(body, "2")]
		if !slices.Equal(walked.Ways, ways) || walked.Trace != nil {
			t.Errorf("%s: ways %q, not %q", body, walked.Ways, ways)
		}
	}
}

func TestTheTraceSaysWhatAStepReads(t *testing.T) {
	p := read(
		t,
		"readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: [{id: n, kind: note, when: "+
			"'has(body.a) && headers.size() >= 0', text: '${body.b.c} ${body[\"d/e\"]} ${body.b.c}'}]\n",
	)
	r := Rehearse(p, envelope(`{"a":1,"b":{"c":2},"d/e":3}`), Options{})
	if got := strings.Join(r.Trace[0].Reads, " "); got != "/a /b/c /d~1e" {
		t.Error(got)
	}
}

func TestAnAnswerThatNobodyWaitsForIsNoted(t *testing.T) {
	p := read(
		t,
		"readyferry: flow/1\nname: q\nintake: {kind: queue, queue: q}\nsteps: [{id: a, kind: answer, text: hi}]\n",
	)
	r := Rehearse(p, envelope(`{}`), Options{})
	if r.State != Delivered || r.Answer != nil || len(r.Notes) != 1 ||
		r.Notes[0].Text != "a: nobody waits for this answer" {
		t.Errorf("%+v", r)
	}
}
