package api

import (
	"context"
	"encoding/json"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/store"
)

func TestStandInsAreMadeChangedAndRemoved(t *testing.T) {
	w := start(t)
	w.furnish()
	w.ok("PUT", "/api/v1/stand-ins/desk", `{"title":"Desk","status":201,"body":"${n}","headers":{"X-A":"b"},
		"falters":{"every":2,"status":502},"routes":[{"method":"GET","path":"/m/{id}","status":0,"body":"${id}"}]}`)
	if a := w.call("POST", "/stand-ins/desk/x", `{}`); a.status != 201 || string(a.body) != "1" ||
		a.header.Get("X-A") != "b" {
		t.Errorf("%d %s %v", a.status, a.body, a.header)
	}
	if a := w.call("POST", "/stand-ins/desk/x", `{}`); a.status != 502 {
		t.Errorf("%d, and every second call fails", a.status)
	}
	w.problem(412, "of this name", "PUT", "/api/v1/stand-ins/desk", `{}`, "If-None-Match: *")
	w.ok("PUT", "/api/v1/stand-ins/desk", `{"name":"desk","status":204}`)
	var one struct {
		Title    string
		Received int
	}
	_ = json.Unmarshal(w.ok("GET", "/api/v1/stand-ins/desk", ""), &one)
	if one.Title != "desk" || one.Received != 2 {
		t.Errorf("%+v, and what it received stays", one)
	}
	for _, c := range [][2]string{
		{`{"name":"other"}`, "stands under"},
		{`{"status":99}`, "status must be between"},
		{`{"delay":-1}`, "delay must be"},
		{`{"headers":{"a b":"c"}}`, "no header"},
		{`{"headers":{"a":"c\r\nd: e"}}`, "no header"},
		{`{"falters":{"every":0,"status":500}}`, "every must be"},
		{`{"routes":[{"method":"GET","path":"m","status":0,"body":""}]}`, "must begin with /"},
		{`{"colour":"red"}`, "colour"},
	} {
		w.problem(400, c[1], "PUT", "/api/v1/stand-ins/desk", c[0])
	}
	w.problem(400, "small letters", "PUT", "/api/v1/stand-ins/De%20sk", `{}`)
	w.ok("PUT", "/api/v1/connections/to-desk",
		`{"readyferry":"connection/1","name":"to-desk","kind":"http","address":"stand-in://desk/x"}`)
	w.problem(409, "to-desk", "DELETE", "/api/v1/stand-ins/desk", "")
	w.ok("DELETE", "/api/v1/stand-ins/desk?sure=true", "")
	w.problem(404, "", "GET", "/api/v1/stand-ins/desk", "")
	w.problem(404, "", "DELETE", "/api/v1/stand-ins/desk", "")
	w.problem(404, "", "POST", "/stand-ins/desk/x", `{}`)
}

func TestASourceThatFailsShows(t *testing.T) {
	w := start(t)
	w.furnish()
	var troubles []struct {
		Flow, Kind, Why string
		Since           time.Time
		Times           int
	}
	list := func() {
		t.Helper()
		if err := json.Unmarshal(w.ok("GET", "/api/v1/troubles", ""), &troubles); err != nil {
			t.Fatal(err)
		}
	}
	list()
	if metrics := string(w.ok("GET", "/metrics", "")); len(troubles) != 0 ||
		!strings.Contains(metrics, "readyferry_sources_failing 0") {
		t.Errorf("%v\n%s", troubles, metrics)
	}
	w.ok("PUT", "/api/v1/connections/gone",
		`{"readyferry":"connection/1","name":"gone","kind":"http","address":"http://127.0.0.1:1"}`)
	w.ok("PUT", "/api/v1/flows/news", `{"readyferry":"flow/1","name":"news","intake":{"kind":"poll","of":"gone","path":"/n",
		"every":"1h","each":"body"},"steps":[]}`)
	w.ok("POST", "/api/v1/flows/news/publish", "")
	w.ok("POST", "/api/v1/flows/news/run", "")
	for range 6000 {
		if list(); len(troubles) > 0 {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if len(troubles) != 1 || troubles[0].Flow != "news" || troubles[0].Kind != "poll" || troubles[0].Why == "" ||
		troubles[0].Since.IsZero() || troubles[0].Times < 1 {
		t.Fatalf("%+v", troubles)
	}
	var flows []struct {
		Name    string
		Trouble *struct{ Why string }
	}
	_ = json.Unmarshal(w.ok("GET", "/api/v1/flows", ""), &flows)
	for _, f := range flows {
		if (f.Trouble != nil) != (f.Name == "news") {
			t.Errorf("%s: %v", f.Name, f.Trouble)
		}
	}
	metrics := string(w.ok("GET", "/metrics", ""))
	if !strings.Contains(metrics, "readyferry_sources_failing 1") ||
		!strings.Contains(metrics, `readyferry_source_failing_since_timestamp_seconds{flow="news",kind="poll",reason="`) {
		t.Errorf("%s", metrics)
	}
	var sources []struct {
		Flow, Kind string
		Held       bool
		Failing    *struct{ Why string }
		NextAt     *time.Time
	}
	from := func() {
		t.Helper()
		sources = nil
		if err := json.Unmarshal(w.ok("GET", "/api/v1/connections/gone/sources", ""), &sources); err != nil || len(sources) != 1 {
			t.Fatalf("%+v %v", sources, err)
		}
	}
	if from(); sources[0].Flow != "news" || sources[0].Kind != "poll" || sources[0].Failing == nil || sources[0].NextAt == nil {
		t.Errorf("%+v", sources[0])
	}
	w.problem(404, "", "GET", "/api/v1/connections/none/sources", "")
	w.ok("POST", "/api/v1/flows/news/pause", "")
	if from(); !sources[0].Held || sources[0].Failing != nil {
		t.Errorf("%+v", sources[0])
	}
	if list(); len(troubles) != 0 {
		t.Errorf("a paused flow takes nothing in, so nothing fails: %v", troubles)
	}
}

func TestRefusedCallersLeaveATrace(t *testing.T) {
	w := start(t)
	w.furnish()
	for range 3 {
		w.problem(401, "", "POST", "/in/f/web", `{}`, "x-api-key: wrong")
	}
	var got struct {
		Counts map[string]int
		Calls  []struct{ Flow, Path, Method, From, Why string }
	}
	_ = json.Unmarshal(w.ok("GET", "/api/v1/refused-callers?limit=2&flow=f", ""), &got)
	if got.Counts["f"] != 3 || len(got.Calls) != 2 || got.Calls[0].Path != "/in/f/web" || got.Calls[0].Method != "POST" ||
		got.Calls[0].From == "" || got.Calls[0].Why == "" {
		t.Errorf("%+v", got)
	}
	if _ = json.Unmarshal(w.ok("GET", "/api/v1/refused-callers?flow=g", ""), &got); len(got.Calls) != 0 {
		t.Errorf("%+v", got)
	}
	if m := string(w.ok("GET", "/metrics", "")); !strings.Contains(m, `readyferry_refused_callers_total{flow="f"} 3`) {
		t.Errorf("%s", m)
	}
}

// A call that is given up before it is done is no success, whoever hears the answer: between the members of a
// fleet it is handed on.
func TestACallThatIsGivenUpIsNoSuccess(t *testing.T) {
	w := start(t)
	w.live("in", `{"readyferry":"flow/1","name":"in","intake":{"kind":"webhook","path":"/in"},"steps":[]}`)
	ctx, end := context.WithCancel(context.Background())
	end()
	begun, free := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() { // the writer is at other work, as where the members choose who leads their log
		_ = w.store.Write(context.Background(), func(*store.Tx) error {
			close(begun)
			<-free
			return nil
		})
	})
	<-begun
	said := make(chan int, 50)
	for range cap(said) { // of some the writer hears before they are seen to be given up
		all.Go(func() {
			r := httptest.NewRequestWithContext(ctx, "POST", w.server.URL+"/in/in", strings.NewReader(`{"n":1}`))
			r.Header.Set("Content-Type", "application/json")
			rec := httptest.NewRecorder()
			w.server.Config.Handler.ServeHTTP(rec, r)
			said <- rec.Code
		})
	}
	taken := 0
	for n := range cap(said) {
		switch code := <-said; {
		case code < 400:
			taken++
		case code != 503:
			t.Error(code)
		}
		if n == 0 {
			close(free)
		}
	}
	all.Wait()
	var kept []struct{}
	if err := json.Unmarshal(w.ok("GET", "/api/v1/transactions", ""), &kept); err != nil || len(kept) != taken {
		t.Errorf("%d are said to be taken, and %d are: %v", taken, len(kept), err)
	}
}
