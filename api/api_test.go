package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"readyferry/connect/systems"
	"readyferry/connect/testsystem"
	"readyferry/core/access"
	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/core/schema"
	"readyferry/engine"
	"readyferry/engine/people"
	"readyferry/runner/hub"
	"readyferry/standin"
	"readyferry/store"
)

type world struct {
	store   *store.Store
	people  *people.People
	log     *slog.Logger
	set     *standin.Set
	session []string // headers that every call has
	t       *testing.T
	server  *httptest.Server
	schema  *jsonschema.Compiler
	api     map[string]any
	engine  *engine.Engine
}

func start(t *testing.T) *world {
	t.Helper()
	s, err := store.OpenUnsynced(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewUnstartedServer(nil)
	address := "http://" + server.Listener.Addr().String()
	set := standin.NewSet(time.Now, func() {})
	t.Cleanup(func() { _ = set.Close() })
	all, err := systems.All(systems.Surroundings{StandIns: address + "/stand-ins", StandIn: set.Dial}, testsystem.New())
	if err != nil {
		t.Fatal(err)
	}
	reader, err := plan.NewReader(all.Kinds()...)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	e, err := engine.New(engine.Config{Store: s, Reader: reader, Systems: all, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	set.Define(
		standin.Definition{
			Name:    "p",
			Title:   "P",
			Headers: map[string]string{"Content-Type": "application/json"},
			Body:    `{"n":${n}}`,
		},
	)
	if err := e.Start(); err != nil {
		t.Fatal(err)
	}
	server.Config.Handler = New(Config{Engine: e, StandIns: set, Log: log, Door: Door{Loopback: true},
		Runners: runnersOf(e, log),
		Web: fstest.MapFS{
			"index.html":  {Data: []byte("<title>Ready Ferry</title>")},
			"assets/a.js": {Data: []byte("1")},
		}})
	server.Start()
	t.Cleanup(func() {
		server.CloseClientConnections()
		server.Close()
		e.Stop()
		_ = s.Close()
	})
	source, bad := flow.Parse(openAPIText)
	if bad != nil {
		t.Fatal(bad)
	}
	value, err := schema.Value(source.Root)
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("api:///openapi.json", value); err != nil {
		t.Fatal(err)
	}
	return &world{t: t, server: server, schema: c, api: value.(map[string]any), engine: e, store: s, log: log, set: set}
}

// runnersOf makes the side of runners, at which none ever is.
func runnersOf(e *engine.Engine, log *slog.Logger) *hub.Hub {
	return hub.New(hub.Config{Log: log, Permits: func(runner, key string) error {
		_, err := e.Catalog.Permits(context.Background(), key, access.MayRun, access.Runner+":"+runner, time.Now())
		return err
	}})
}

// door serves the world through another door, behind which people sign in; nil: nobody does.
func (w *world) door(d Door, p *people.People) {
	w.people = p
	w.server.Config.Handler = New(Config{Engine: w.engine, StandIns: w.set, Log: w.log, Door: d, People: p,
		Runners: runnersOf(w.engine, w.log),
		Web:     fstest.MapFS{"index.html": {Data: []byte("<title>Ready Ferry</title>")}}})
}

func (w *world) port() string { return w.server.URL[strings.LastIndex(w.server.URL, ":")+1:] }

// plain makes a call and gives its status.
func (w *world) plain(method, path string, headers ...string) int {
	w.t.Helper()
	return w.call(method, path, "", headers...).status
}

type answer struct {
	status int
	header http.Header
	body   []byte
}

func (w *world) call(method, path, body string, headers ...string) answer {
	w.t.Helper()
	req, err := http.NewRequest(method, w.server.URL+path, strings.NewReader(body))
	if err != nil {
		w.t.Fatal(err)
	}
	for _, h := range append(slices.Clone(w.session), headers...) {
		k, v, _ := strings.Cut(h, ": ")
		switch k {
		case "Host":
			req.Host = v
		case "Transfer-Encoding":
			req.ContentLength, req.Body = -1, io.NopCloser(strings.NewReader(body))
		}
		req.Header.Set(k, v)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	a := answer{res.StatusCode, res.Header, b}
	w.described(method, path, a)
	return a
}

var parameter = regexp.MustCompile(`\{[^}]*\}`)

// described checks a JSON answer against the description of the interface.
func (w *world) described(method, path string, a answer) {
	w.t.Helper()
	if !strings.Contains(a.header.Get("Content-Type"), "json") || !strings.HasPrefix(path, "/api/v1/") {
		return
	}
	path, _, _ = strings.Cut(path, "?")
	for pattern, item := range w.api["paths"].(map[string]any) {
		re := regexp.MustCompile(
			"^" + parameter.ReplaceAllString(strings.ReplaceAll(pattern, "{file}", "(.+)"), "[^/]+") + "$",
		)
		op, ok := item.(map[string]any)[strings.ToLower(method)].(map[string]any)
		if !re.MatchString(path) || !ok ||
			strings.Contains(pattern, "{") && w.api["paths"].(map[string]any)[path] != nil {
			continue
		}
		kind, response := "application/json", fmt.Sprint(a.status)
		if strings.Contains(a.header.Get("Content-Type"), "problem") {
			kind = "application/problem+json"
			if a.status >= 500 {
				response = "default"
			}
		}
		r, ok := op["responses"].(map[string]any)[response].(map[string]any)
		if !ok {
			w.t.Errorf("%s %s: the answer %d is not described", method, pattern, a.status)
			return
		}
		pointer := "#/paths/" + strings.ReplaceAll(
			pattern,
			"/",
			"~1",
		) + "/" + strings.ToLower(
			method,
		) + "/responses/" + response + "/content/" + strings.ReplaceAll(
			kind,
			"/",
			"~1",
		) + "/schema"
		if _, isRef := r["$ref"]; isRef {
			pointer = "#/components/responses/Problem/content/application~1problem+json/schema"
		} else if r["content"].(map[string]any)[kind] == nil {
			return
		}
		s, err := w.schema.Compile("api:///openapi.json" + strings.NewReplacer("{", "%7B", "}", "%7D").Replace(pointer))
		if err != nil {
			w.t.Fatal(err)
		}
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(a.body)))
		if err != nil {
			w.t.Fatal(err)
		}
		if err := s.Validate(v); err != nil {
			w.t.Errorf("%s %s: %v\n%s", method, path, err, a.body)
		}
		return
	}
	if a.status != http.StatusNotFound && a.status != http.StatusMethodNotAllowed {
		w.t.Errorf("%s %s is not described", method, path)
	}
}

func (w *world) ok(method, path, body string, headers ...string) []byte {
	w.t.Helper()
	a := w.call(method, path, body, headers...)
	if a.status >= 300 {
		w.t.Fatalf("%s %s: %d %s", method, path, a.status, a.body)
	}
	return a.body
}

// problem checks that an answer is a problem document that says something.
func (w *world) problem(status int, says, method, path, body string, headers ...string) {
	w.t.Helper()
	a := w.call(method, path, body, headers...)
	var p Problem
	if err := json.Unmarshal(a.body, &p); err != nil || a.status != status || p.Status != status || p.Title == "" ||
		!strings.Contains(string(a.body), says) ||
		!strings.HasPrefix(a.header.Get("Content-Type"), "application/problem+json") {
		w.t.Errorf(
			"%s %s: %d %s %s, want %d with %q",
			method,
			path,
			a.status,
			a.header.Get("Content-Type"),
			a.body,
			status,
			says,
		)
	}
}

const doc = `{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f/{p}","callers":["key"],
  "once":"headers[\"request-id\"]","reference":"body.ref","limit":200},
 "steps":[{"id":"v","kind":"validate","schema":{"type":"object","required":["ref"]},"else":{"answer":422}},{
     "id":"m","kind":"map","fields":[{"to":"/v","from":"body.v"}]},{"id":"d","kind":"deliver","to":"p","path":"/x"}]}`

func (w *world) furnish() {
	w.t.Helper()
	w.ok(
		"PUT",
		"/api/v1/connections/p",
		`{"readyferry":"connection/1","name":"p","kind":"http","address":"stand-in://p","retry":{"first":"10ms","cap":"10ms","spread":"none","tries":2}}`,
	)
	w.ok(
		"PUT",
		"/api/v1/connections/key",
		"readyferry: connection/1\nname: key\nkind: caller\nsign-in: {kind: api-key, secret: s3cret}\n",
		"Content-Type: application/yaml",
	)
	w.ok("PUT", "/api/v1/flows/f", doc)
	w.ok("POST", "/api/v1/flows/f/publish", "")
}

func TestEveryRouteIsDescribedAndNoOther(t *testing.T) {
	w := start(t)
	described := map[string]bool{}
	for path, item := range w.api["paths"].(map[string]any) {
		for method := range item.(map[string]any) {
			if method != "parameters" {
				described[strings.ToUpper(method)+" "+path] = true
			}
		}
	}
	delete(described, "POST /in/{path}")
	delete(described, "POST /stand-ins/{name}/{path}")
	for _, r := range (&Server{}).routes() {
		key := r.method + " " + regexp.MustCompile(`[:*]([a-z]+)`).ReplaceAllString(r.path, "{$1}")
		if !described[key] {
			t.Errorf("%s is served and not described", key)
		}
		delete(described, key)
	}
	for key := range described {
		t.Errorf("%s is described and not served", key)
	}
}

// Whoever writes a client reads what can go wrong (RFC 9457, 3.2, says to document it).
func TestEveryOperationNamesItsProblems(t *testing.T) {
	w := start(t)
	for path, item := range w.api["paths"].(map[string]any) {
		for method, of := range item.(map[string]any) {
			if method == "parameters" {
				continue
			}
			operation := of.(map[string]any)
			named := []string{}
			for code := range operation["responses"].(map[string]any) {
				if strings.HasPrefix(code, "4") {
					named = append(named, code)
				}
			}
			if len(named) == 0 {
				t.Errorf("%s %s names no 4xx problem", method, path)
			}
			if operation["requestBody"] != nil && !slices.Contains(named, "413") {
				t.Errorf("%s %s has a body, which may be too large", method, path)
			}
		}
	}
}

func TestAMessagesWholeLife(t *testing.T) {
	w := start(t)
	w.furnish()
	var posted struct{ Transaction string }
	a := w.call(
		"POST",
		"/in/f/web",
		`{"ref":"R-1","v":1}`,
		"x-api-key: s3cret",
		"request-id: 1",
		"Content-Type: application/json",
	)
	if err := json.Unmarshal(a.body, &posted); err != nil || a.status != 202 {
		t.Fatalf("%d %s", a.status, a.body)
	}
	get := func(path string, into any) {
		t.Helper()
		if err := json.Unmarshal(w.ok("GET", path, ""), into); err != nil {
			t.Fatal(err)
		}
	}
	type transaction struct {
		ID, State, Reference string
		Deliveries           []struct {
			ID, State string
			Tries     []struct{ Status int }
		}
	}
	var tx transaction
	until := func(id, state string) {
		t.Helper()
		for range 6000 {
			if get("/api/v1/transactions/"+id, &tx); tx.State == state {
				return
			}
			time.Sleep(10 * time.Millisecond)
		}
		t.Fatalf("%+v does not become %s", tx, state)
	}
	until(posted.Transaction, "delivered")
	if len(tx.Deliveries) != 1 || tx.Deliveries[0].Tries[0].Status != 200 || tx.Reference != "R-1" {
		t.Errorf("%+v", tx)
	}
	var trace struct{ Trace []struct{ Outcome string } }
	get("/api/v1/transactions/"+posted.Transaction+"/rehearsal", &trace)
	if len(trace.Trace) != 3 || trace.Trace[2].Outcome != "200, 1st try" {
		t.Errorf("%+v", trace)
	}
	var list []transaction
	for _, q := range []string{"?flow=f", "?state=delivered", "?reference=R-1", "?from=2020-01-01T00:00:00Z", "?limit=1"} {
		if get("/api/v1/transactions"+q, &list); len(list) != 1 {
			t.Errorf("%s: %d", q, len(list))
		}
	}
	for _, q := range []string{"?flow=g", "?state=waiting", "?reference=R", "?to=2020-01-01T00:00:00Z", "?after=" +
		posted.Transaction} {
		if get("/api/v1/transactions"+q, &list); len(list) != 0 {
			t.Errorf("%s: %d", q, len(list))
		}
	}
	// Refuse, give up, repair, resend.
	w.ok("PUT", "/api/v1/stand-ins/p/behaviour", `{"refuse":-1}`)
	a = w.call(
		"POST",
		"/in/f/web",
		`{"ref":"R-2","v":1}`,
		"x-api-key: s3cret",
		"request-id: 2",
		"Content-Type: application/json",
	)
	_ = json.Unmarshal(a.body, &posted)
	until(posted.Transaction, "dead letter")
	var letters []struct{ ID, Cause string }
	get("/api/v1/dead-letters", &letters)
	var causes []struct {
		Cause string
		Count int
	}
	get("/api/v1/dead-letters/causes", &causes)
	if len(letters) != 1 || len(causes) != 1 || causes[0].Count != 1 || causes[0].Cause != letters[0].Cause {
		t.Fatalf("%+v %+v", letters, causes)
	}
	preview := w.ok(
		"POST",
		"/api/v1/dead-letters/resend",
		fmt.Sprintf(`{"cause":%q,"patch":[{"op":"replace","path":"/v","value":5}],"preview":true}`, letters[0].Cause),
	)
	if !strings.Contains(string(preview), `{\"v\":5}`) {
		t.Errorf("%s", preview)
	}
	w.ok("PUT", "/api/v1/stand-ins/p/behaviour", `{}`)
	w.ok(
		"POST",
		"/api/v1/dead-letters/resend",
		fmt.Sprintf(`{"ids":[%q],"message":{"ref":"R-2","v":5}}`, letters[0].ID),
	)
	until(posted.Transaction, "delivered")
	var history struct {
		State   string
		History []struct{ What string }
	}
	get("/api/v1/dead-letters/"+letters[0].ID, &history)
	if history.State != "resolved" || len(history.History) != 3 {
		t.Errorf("%+v", history)
	}
	var stand struct {
		Calls []struct {
			Key, Body string
			Copy      int
		}
	}
	get("/api/v1/stand-ins/p", &stand)
	if n := len(stand.Calls); n != 4 || stand.Calls[0].Key != stand.Calls[1].Key ||
		stand.Calls[0].Key != stand.Calls[2].Key ||
		stand.Calls[0].Copy != 1 ||
		stand.Calls[0].Body != `{"v":5}` {
		t.Errorf("%+v", stand)
	}
	w.ok("GET", "/api/v1/transactions/"+posted.Transaction+"/messages", "")
	w.ok("GET", "/api/v1/counts", "")
	w.ok("GET", "/api/v1/flows", "")
	w.ok("GET", "/api/v1/connections", "")
	w.ok("GET", "/api/v1/queues", "")
	w.ok("POST", "/api/v1/connections/p/test", "")
	w.ok("DELETE", "/api/v1/stand-ins/p/calls", "")
	w.ok("GET", "/api/v1/stand-ins/p", "")
	w.ok("GET", "/api/v1/stand-ins", "")
	w.ok("DELETE", "/api/v1/flows/f", "")
	m := string(w.ok("GET", "/metrics", ""))
	for _, want := range []string{
		`readyferry_transactions{flow="f",state="delivered"} 2`, `readyferry_received_total{flow="f",source=`,
		`readyferry_ended_total{flow="f",state="delivered"} `, `readyferry_end_seconds_bucket{flow="f",le="+Inf"} `,
		`readyferry_step_outcomes_total{flow="f",outcome="delivered",step=`, `readyferry_tries_total{connection="p",outcome="delivered"} `,
		`readyferry_try_seconds_count{connection="p"} `, `readyferry_connection_up{connection="p"} `,
	} {
		if !strings.Contains(m, want) {
			t.Errorf("%s is not in\n%s", want, m)
		}
	}
}

func TestDesigning(t *testing.T) {
	w := start(t)
	w.furnish()
	a := w.call("GET", "/api/v1/flows/f", "", "Accept: application/yaml")
	if !strings.HasPrefix(string(a.body), "readyferry: flow/1\nname: f\n") || a.header.Get("ETag") != `"1"` {
		t.Errorf("%s %s", a.header.Get("ETag"), a.body)
	}
	changed := strings.Replace(doc, `"from":"body.v"`, `"from":"body.w"`, 1)
	if a := w.call("PUT", "/api/v1/flows/f", changed, `If-Match: "1"`); a.status != 200 ||
		a.header.Get("ETag") != `"2"` {
		t.Errorf("%d %s", a.status, a.body)
	}
	w.problem(412, "read it again", "PUT", "/api/v1/flows/f", doc, `If-Match: "1"`)
	w.problem(412, "changed", "PUT", "/api/v1/flows/f", doc, "If-None-Match: *")
	w.ok("PUT", "/api/v1/flows/f/samples/one", `{"body":"{\"ref\":\"R\",\"w\":1}","headers":{"request-id":"1"}}`)
	w.ok("GET", "/api/v1/flows/f/samples", "")
	var r []struct {
		Sample, State string
		Trace         []struct{ Outcome string }
		Findings      []flow.Finding
	}
	if err := json.Unmarshal(w.ok("POST", "/api/v1/flows/f/rehearse", ""), &r); err != nil || len(r) != 1 ||
		r[0].State != "delivered" ||
		r[0].Trace[1].Outcome != "1 of 1 set" {
		t.Errorf("%+v %v", r, err)
	}
	// What an edit does: cells of all samples, the messages of one, and nothing twice.
	var f struct {
		Columns []struct {
			Sample, Mark, State string
			Trace               []struct{ Path, Outcome string }
		}
		Whole *struct {
			Trace []struct{ After *struct{ Text string } }
		}
	}
	if err := json.Unmarshal(w.ok("POST", "/api/v1/flows/f/follow", `{"document":`+changed+`,"whole":"one"}`), &f); err != nil ||
		len(f.Columns) != 1 ||
		f.Columns[0].Trace[1].Outcome != "1 of 1 set" ||
		f.Whole.Trace[1].After == nil {
		t.Fatalf("%+v %v", f, err)
	}
	mark := f.Columns[0].Mark
	again := `,"have":{"one":"` + mark + `"}}`
	if b := string(w.ok("POST", "/api/v1/flows/f/follow", `{"document":`+changed+again)); !strings.Contains(b,
		`"columns":[{"sample":"one","mark":"`+mark+`"}],"whole":null`) {
		t.Error(b)
	}
	if b := string(w.ok("POST", "/api/v1/flows/f/follow", `{"document":`+strings.Replace(changed, "body.w", "body.nothing.v", 1)+
		again)); !strings.Contains(
		b,
		`"state":"dead letter"`,
	) ||
		strings.Contains(b, `"mark":"`+mark) {
		t.Error(b)
	}
	if b := string(w.ok("POST", "/api/v1/flows/f/follow", `{"document":"readyferry: flow/1\n steps"}`)); !strings.Contains(
		b,
		`"columns":null`,
	) {
		t.Error(b)
	}
	wrong := strings.Replace(doc, `"from":"body.v"`, `"from":"bdoy.v"`, 1)
	if err := json.Unmarshal(w.ok("POST", "/api/v1/flows/f/rehearse", `{"document":`+wrong+`,"samples":[{"name":"x",`+
		`"body":"{\"ref\":1}","headers":{"request-id":"1"}}]}`), &r); err != nil ||
		r[0].State != "dead letter" ||
		r[0].Findings[0].Code != "expression" {
		t.Errorf("%+v %v", r, err)
	}
	w.ok("POST", "/api/v1/flows/f/check", wrong)
	w.ok("PUT", "/api/v1/flows/f", wrong)
	w.problem(422, "did you mean body?", "POST", "/api/v1/flows/f/publish", "")
	w.ok("GET", "/api/v1/flows/f/versions", "")
	w.ok("GET", "/api/v1/flows/f/versions/1", "")
	w.ok("PUT", "/api/v1/flows/f/files/schemas/a.json", `{"type":"object"}`)
	w.ok("GET", "/api/v1/flows/f/files", "")
	w.ok("GET", "/api/v1/flows/f/files/schemas/a.json", "")
	w.ok("DELETE", "/api/v1/flows/f/files/schemas/a.json", "")
	w.problem(404, "", "DELETE", "/api/v1/flows/f/files/schemas/a.json", "")
	if b := string(w.ok("POST", "/api/v1/flows/f/infer", `{"enums":true}`)); !strings.Contains(
		b,
		`"required":["ref","w"]`,
	) {
		t.Error(b)
	}
	w.ok("DELETE", "/api/v1/flows/f/samples/one", "")
	w.problem(422, "add one first", "POST", "/api/v1/flows/f/infer", "{}")
	if b := string(w.ok("POST", "/api/v1/eval",
		`{"expression":"xpath(body, \"//b\")","body":"<a><b>1</b></a>","format":"xml"}`)); !strings.Contains(
		b,
		`[\"1\"]`,
	) {
		t.Error(b)
	}
	w.problem(422, "did you mean body?", "POST", "/api/v1/eval", `{"expression":"bdoy"}`)
	w.problem(422, "JSON, line 1", "POST", "/api/v1/eval", `{"expression":"body","body":"{"}`)
	w.problem(422, "has no a", "POST", "/api/v1/eval", `{"expression":"body.a","body":"{}"}`)
	w.ok("POST", "/api/v1/contracts", `{"text":"{\"type\":\"object\"}"}`)
	if b := string(w.ok("POST", "/api/v1/contracts", `{"text":"{\"type\":\"object\",\"properties\":{\"a\":{\"const\`+
		`":7}}}","choose":"schema"}`)); !strings.Contains(
		b,
		`"sample":"{\"a\":7}"`,
	) {
		t.Error(b)
	}
	w.problem(422, "no contract that is known", "POST", "/api/v1/contracts", `{"text":"{}"}`)
	w.ok("GET", "/api/v1/schedule?first=1s&tries=3", "")
	w.ok("GET", "/api/v1/reference", "")
	w.ok("GET", "/api/v1/flow-schema", "")
	w.ok("GET", "/healthz", "")
	if a := w.call("GET", "/api/openapi.json", ""); a.status != 200 || !json.Valid(a.body) {
		t.Errorf("%d", a.status)
	}
}

func TestBadInput(t *testing.T) {
	w := start(t)
	w.furnish()
	const key = "x-api-key: s3cret"
	w.problem(400, "line 1, column 8", "POST", "/in/f/web", `{"ref":}`, key, "request-id: 1")
	w.problem(401, "key", "POST", "/in/f/web", `{}`, "x-api-key: wrong", "request-id: 1")
	w.problem(404, "no flow has the path", "POST", "/in/nowhere", `{}`)
	w.problem(405, "it takes POST", "GET", "/in/f/web", "")
	w.problem(413, "200 bytes", "POST", "/in/f/web", strings.Repeat(" ", 300), key, "request-id: 1")
	w.problem(400, "request-id", "POST", "/in/f/web", `{}`, key)
	w.problem(422, "/ref", "POST", "/in/f/web", `{}`, key, "request-id: 9")
	w.problem(
		422,
		"did you mean steps?",
		"PUT",
		"/api/v1/flows/g",
		`{"readyferry":"flow/1","name":"g","intake":{"kind":"webhook","path":"/g"},"stpes":[]}`,
	)
	w.problem(
		422,
		"does not compile",
		"PUT",
		"/api/v1/flows/g",
		strings.Replace(strings.Replace(doc, `"name":"f"`, `"name":"g"`, 1), `"type":"object"`, `"type":"objct"`, 1),
	)
	w.problem(422, "stands under", "PUT", "/api/v1/flows/g", doc)
	w.problem(404, "", "GET", "/api/v1/flows/g", "")
	w.problem(413, "at most", "PUT", "/api/v1/flows/g", strings.Repeat(" ", flow.MaxSize+1))
	w.ok("POST", "/api/v1/flows/f/pause", "")
	w.problem(503, "paused", "POST", "/in/f/web", `{"ref":"R"}`, key, "request-id: 2")
	w.ok("POST", "/api/v1/flows/f/resume", "")
	w.problem(400, "state must be", "GET", "/api/v1/transactions?state=lost", "")
	w.problem(400, "limit must be", "GET", "/api/v1/transactions?limit=many", "")
	w.problem(400, "from must be", "GET", "/api/v1/transactions?from=yesterday", "")
	w.problem(400, "after must be", "GET", "/api/v1/transactions?after=x", "")
	w.problem(404, "", "GET", "/api/v1/transactions/x", "")
	w.problem(404, "", "GET", "/api/v1/transactions/019cf2b1-77a4-7c31-8000-0123456789ab", "")
	w.problem(404, "", "GET", "/api/v1/nothing", "")
	w.problem(405, "", "DELETE", "/api/v1/queues", "")
	w.problem(400, "is not known here", "POST", "/api/v1/dead-letters/resend", `{"id":["x"]}`)
	w.problem(400, "behind its end", "POST", "/api/v1/eval", `{"expression":"1"} x`)
	w.problem(400, "base64", "PUT", "/api/v1/flows/f/samples/a", `{"base64":"%%"}`)
	w.problem(400, "'x' is not expected here", "POST", "/api/v1/eval", `{"expression":x}`)
	w.problem(422, "no dead letter is named", "POST", "/api/v1/dead-letters/resend", `{}`)
	w.problem(400, "no id", "POST", "/api/v1/dead-letters/resend", `{"ids":["x"]}`)
	w.problem(404, "", "POST", "/api/v1/dead-letters/discard", `{"ids":["019cf2b1-77a4-7c31-8000-0123456789ab"]}`)
	w.problem(409, "name it", "DELETE", "/api/v1/connections/p", "")
	w.problem(
		422,
		"needs a secret",
		"PUT",
		"/api/v1/connections/q",
		`{"readyferry":"connection/1","name":"q","kind":"http","address":"http://x.invalid","sign-in":{"kind":"bearer"}}`,
	)
	w.problem(400, "delay must be", "PUT", "/api/v1/stand-ins/p/behaviour", `{"delay":-1}`)
	w.problem(404, "", "POST", "/stand-ins/nobody/x", "")
	w.problem(400, "growth", "GET", "/api/v1/schedule?growth=wild", "")
	w.problem(403, "another site", "POST", "/api/v1/flows/f/pause", "", "Sec-Fetch-Site: cross-site")
	w.problem(403, "this machine only", "GET", "/api/v1/flows", "", "Host: evil.invalid")
	w.problem(400, "no name of a file", "PUT", "/api/v1/flows/f/files/..%2Fx", `{}`)
	// What a known caller brought leaves a trace: that it could not be read, lacked
	// what the flow counts on, or was turned away.
	var list []struct{ State string }
	_ = json.Unmarshal(w.ok("GET", "/api/v1/transactions?state=turned+away", ""), &list)
	if len(list) != 3 {
		t.Errorf("bad input left %v", list)
	}
	var names []struct{ Name string }
	_ = json.Unmarshal(w.ok("GET", "/api/v1/flows", ""), &names)
	if len(names) != 1 {
		t.Errorf("bad input left %v", names)
	}
	if a := w.call("GET", "/api/v1/connections/key", ""); strings.Contains(string(a.body), "s3cret") {
		t.Error("a secret came back out")
	}
}

func TestEventsAndPages(t *testing.T) {
	w := start(t)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	req, _ := http.NewRequestWithContext(ctx, "GET", w.server.URL+"/api/v1/events", nil)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	buf := make([]byte, 4096)
	if n, _ := res.Body.Read(buf); !strings.Contains(string(buf[:n]), "listening") {
		t.Fatalf("%s", buf[:n])
	}
	w.furnish()
	var got strings.Builder
	for !strings.Contains(got.String(), `"flows"`) {
		n, err := res.Body.Read(buf)
		if err != nil {
			t.Fatalf("%v after %s", err, got.String())
		}
		got.Write(buf[:n])
	}
	for path, want := range map[string]string{"/": "Ready Ferry", "/transactions/x": "Ready Ferry",
		"/stand-ins": "Ready Ferry", "/assets/a.js": "1"} {
		if a := w.call("GET", path, ""); a.status != 200 || !strings.Contains(string(a.body), want) ||
			a.header.Get("Content-Security-Policy") == "" {
			t.Errorf("%s: %d %s", path, a.status, a.body)
		}
	}
	w.problem(404, "no such file", "GET", "/assets/b.js", "")
}
