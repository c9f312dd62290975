package api

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
)

// A version takes a share of messages, all of one order value or none of it, until it takes all
// or none; another goes live at its time; and an earlier one goes live again.
func TestAVersionTakesAShareFirst(t *testing.T) {
	w := start(t)
	document := func(says string) string {
		return `{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f","order":"body.k"},
			"steps":[{"id":"a","kind":"answer","text":"` + says + `"}]}`
	}
	put := func(says string) { w.ok("PUT", "/api/v1/flows/f", document(says)) }
	heard := func(k int) string { return string(w.call("POST", "/in/f", fmt.Sprintf(`{"k":"order %d"}`, k)).body) }
	all := func(want string) {
		t.Helper()
		for k := range 20 {
			if got := heard(k); got != want {
				t.Fatalf("order %d goes through %s, not %s", k, got, want)
			}
		}
	}
	w.live("f", document("one"))
	put("two")
	w.problem(422, "a share is one message in 2", "POST", "/api/v1/flows/f/publish", `{"share":1}`)
	w.ok("POST", "/api/v1/flows/f/publish", `{"share":4,"by":"Ines","note":"carefully"}`)
	of := map[int]string{}
	n := map[string]int{}
	for k := range 400 {
		of[k] = heard(k)
		n[of[k]]++
	}
	if n["one"]+n["two"] != 400 || n["two"] < 60 || n["two"] > 140 {
		t.Errorf("one in four are %v", n)
	}
	for k := range 400 {
		if again := heard(k); again != of[k] {
			t.Fatalf("order %d went through %s, then %s", k, of[k], again)
		}
	}
	var shared []struct {
		Version int
		Counts  map[string]int
	}
	_ = json.Unmarshal(w.ok("GET", "/api/v1/flows/f/shared-out", ""), &shared)
	if len(shared) != 2 || shared[0].Counts["delivered"] != 2*n["one"] || shared[1].Counts["delivered"] != 2*n["two"] {
		t.Errorf("%v is told as %v", n, shared)
	}
	if flow := string(w.ok("GET", "/api/v1/flows/f", "")); !strings.Contains(flow, `"trial":{"version":2,"of":4`) {
		t.Error(flow)
	}
	w.ok("POST", "/api/v1/flows/f/revoke?by=Ines", "")
	all("one")
	w.ok("POST", "/api/v1/flows/f/live", `{"version":2,"by":"Ines"}`)
	all("two")
	w.ok("POST", "/api/v1/flows/f/live", `{"version":1,"note":"it was better"}`)
	all("one")
	w.problem(404, "", "POST", "/api/v1/flows/f/live", `{"version":9}`)

	// What another intake takes cannot be shared out.
	w.ok("PUT", "/api/v1/flows/f", strings.Replace(document("three"), "/f", "/g", 1))
	w.problem(422, "its intake is another", "POST", "/api/v1/flows/f/publish", `{"share":2}`)
	put("three")
	w.problem(422, "has passed", "POST", "/api/v1/flows/f/publish", `{"at":"2020-01-01T00:00:00Z"}`)
	w.ok("POST", "/api/v1/flows/f/publish", `{"at":"2999-01-01T00:00:00Z"}`)
	if flow := string(w.ok("GET", "/api/v1/flows/f", "")); !strings.Contains(flow, `"planned":{"version":3`) {
		t.Error(flow)
	}
	all("one")
	w.ok("POST", "/api/v1/flows/f/revoke", "")
	put("four")
	w.ok("POST", "/api/v1/flows/f/publish",
		`{"at":"`+time.Now().Add(200*time.Millisecond).UTC().Format(time.RFC3339Nano)+`","by":"Ines"}`)
	w.eventually("/api/v1/flows/f", `"live":4`)
	all("four")
	var events []struct {
		Version        int
		By, What, Note string
	}
	_ = json.Unmarshal(w.ok("GET", "/api/v1/flows/f/version-events", ""), &events)
	var told []string
	for _, e := range events {
		told = append(told, fmt.Sprint(e.Version, " ", e.What, " ", e.By))
	}
	want := "4 live its time came, 4 planned Ines, 3 revoked , 3 planned , 1 live , 2 live Ines, 2 revoked Ines, 2 share Ines, 1 live "
	if got := strings.Join(told, ", "); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
}

// What the samples of a draft hand on is tried with those who take it.
func TestWhoIsTouched(t *testing.T) {
	w := start(t)
	flow := func(name, intake, steps string) string {
		return `{"readyferry":"flow/1","name":"` + name + `","title":"The ` + name + `","intake":` + intake + `,"steps":[` + steps + `]}`
	}
	w.live(
		"reader",
		flow(
			"reader",
			`{"kind":"queue","queue":"q"}`,
			`{"id":"m","kind":"map","fields":[{"to":"/n","from":"body.n + 1"}]}`,
		),
	)
	w.live(
		"called",
		flow("called", `{"kind":"subflow"}`, `{"id":"m","kind":"map","fields":[{"to":"/n","from":"body.n"}]}`),
	)
	w.ok("PUT", "/api/v1/flows/f", flow("f", `{"kind":"webhook","path":"/f"}`,
		`{"id":"d","kind":"deliver","to":{"queue":"q"}},{"id":"c","kind":"subflow","flow":"called"}`))
	w.ok("PUT", "/api/v1/flows/f/samples/good", `{"body":"{\"n\":1}"}`)
	w.ok("PUT", "/api/v1/flows/f/samples/bad", `{"body":"{\"m\":1}"}`)
	got := string(w.ok("POST", "/api/v1/flows/f/touched", `{}`))
	for _, want := range []string{
		`{"flow":"called","title":"The called","by":"flow","name":"called","tried":2,"breaks":["bad"],"why":"body.n is missing`,
		`{"flow":"reader","title":"The reader","by":"queue","name":"q","tried":2,"breaks":["bad"],"why":"body.n is missing`,
	} {
		if !strings.Contains(got, want) {
			t.Errorf("%s lacks %s", got, want)
		}
	}
	if got := string(w.ok("POST", "/api/v1/flows/called/touched", `{}`)); got != `[]` {
		t.Error(got) // f was never published
	}
	w.ok("POST", "/api/v1/flows/f/publish", `{}`)
	if got := string(w.ok("POST", "/api/v1/flows/called/touched", `{}`)); !strings.Contains(
		got,
		`"flow":"f","title":"The f","by":"caller"`,
	) {
		t.Error(got)
	}
}

// A message is made up for each place that can be come to, and gets there.
func TestAMessageThatGetsThere(t *testing.T) {
	w := start(t)
	w.ok(
		"PUT",
		"/api/v1/connections/p",
		`{"readyferry":"connection/1","name":"p","kind":"http","address":"stand-in://p"}`,
	)
	w.ok("PUT", "/api/v1/flows/f", `{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f"},"steps":[
		{"id":"only","kind":"filter","keep":"body.state == \"open\""},
		{"id":"m","kind":"map","fields":[{"to":"/sort","from":"body.kind"},{"to":"/n","from":"body.n"}]},
		{"id":"r","kind":"route","ways":[
			{"name":"small","when":"body.sort == \"a\" && body.n < 10","steps":[{"id":"s","kind":"note","text":"x"}]},
			{"name":"never","when":"body.sort == \"a\" && body.n < 5","steps":[]},
			{"name":"starts","when":"body.sort.startsWith(\"ab\")","steps":[{"id":"b","kind":"note","when":"body.n == 7","text":"x"}]}],
		 "otherwise":{"steps":[{"id":"d","kind":"deliver","to":"p","else":{"steps":[{"id":"e","kind":"note","text":"x"}]}}]}}]}`)
	w.ok("PUT", "/api/v1/flows/f/samples/one", `{"body":"{\"state\":\"shut\",\"kind\":\"z\",\"n\":50}"}`)
	// Two maps, of which the first swaps what the second renames.
	w.ok("PUT", "/api/v1/flows/g", `{"readyferry":"flow/1","name":"g","intake":{"kind":"webhook","path":"/g"},"steps":[
		{"id":"swap","kind":"map","fields":[{"to":"/a","from":"body.b"},{"to":"/b","from":"body.a"}]},
		{"id":"name","kind":"map","fields":[{"to":"/c","from":"body.a"},{"to":"/d","from":"body.b"}]},
		{"id":"r","kind":"route","ways":[{"name":"w","when":"body.c == 3 && body.d == 4","steps":[]}],"otherwise":{"steps":[]}}]}`)
	w.ok("PUT", "/api/v1/flows/g/samples/one", `{"body":"{\"a\":1,\"b\":1}"}`)
	made := string(w.ok("POST", "/api/v1/flows/g/reach", `{"kind":"way","path":"r.w","way":"w"}`))
	if !strings.Contains(made, `\"a\": 4`) || !strings.Contains(made, `\"b\": 3`) {
		t.Error(made)
	}
	for place, ok := range map[string]bool{
		`"kind":"step","path":"m"`: true, `"kind":"way","path":"r.small","way":"small"`: true, `"kind":"step","path":"r.small/s"`: true,
		`"kind":"way","path":"r.never","way":"never"`: false, `"kind":"step","path":"r.starts/b"`: true,
		`"kind":"step","path":"r.otherwise/d"`: true, `"kind":"step","path":"r.otherwise/d.else/e"`: true,
		`"kind":"outcome","path":"only","way":"goes on"`: true, `"kind":"outcome","path":"only","way":"turned away"`: true,
	} {
		a := w.call("POST", "/api/v1/flows/f/reach", "{"+place+"}")
		if (a.status == 200) != ok {
			t.Errorf("%s: %d %s", place, a.status, a.body)
		}
	}
}
