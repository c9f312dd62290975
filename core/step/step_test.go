package step

import (
	"errors"
	"strings"
	"testing"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/want"
)

// compiled compiles one step, written in YAML.
func compiled(t *testing.T, yaml string) (*Compiled, []flow.Finding) {
	t.Helper()
	source, bad := flow.Parse([]byte("steps:\n- " + yaml + "\n"))
	if bad != nil {
		t.Fatalf("%s: %v", yaml, bad)
	}
	env, err := expr.New()
	if err != nil {
		t.Fatal(err)
	}
	c := NewCompiler(env, &flow.Document{Source: source}, nil)
	b := c.Block(flow.Steps(source.Root.Get("steps"), "/steps"))
	return b.Steps[0], c.Findings
}

func state(t *testing.T, body string) State {
	t.Helper()
	r, err := jsonfmt.Decode([]byte(body))
	if err != nil {
		t.Fatal(err)
	}
	return State{Message: message.Message{
		ID: "tx", Format: "json", Raw: []byte(body), Body: r.Root, Params: message.NewMap(), Query: message.NewMap(),
		Headers: message.HeaderMap([]message.Header{{Name: "X-Old", Value: "old"}}),
	}}
}

func do(t *testing.T, yaml, body string) (Result, *Failure) {
	t.Helper()
	s, findings := compiled(t, yaml)
	if flow.HasErrors(findings) {
		t.Fatalf("%s: %v", yaml, findings)
	}
	res, err := s.Runner.Run(&Call{State: state(t, body), Path: s.ID, Now: time.Unix(0, 0).UTC(), Trace: true})
	if err == nil {
		return res, nil
	}
	var f *Failure
	if !errors.As(err, &f) {
		t.Fatalf("%s: %v is no failure", yaml, err)
	}
	return res, f
}

// What a map makes, or why it fails.
func TestMap(t *testing.T) {
	for _, c := range []struct{ settings, body, want string }{
		{`fields: []`, `{"a":1}`, `{}`},
		{`fields: [{to: /a/b, from: body.x}, {to: /a/c, from: "1 + 1"}]`, `{"x":1.50}`, `{"a":{"b":1.50,"c":2}}`},
		{`fields: [{to: /list/-, from: body.x}, {to: /list/-, from: body.y}]`, `{"x":1,"y":"2"}`, `{"list":[1,"2"]}`},
		{`fields: [{to: "", from: body.inner}]`, `{"inner":{"k":[]}}`, `{"k":[]}`},
		{`start: body, fields: [{to: /a, from: '"new"'}, {to: /z, from: 'true'}]`, `{"a":1,"b":0.10}`,
			`{"a":"new","b":0.10,"z":true}`},
		{`fields: [{to: /n, from: body.n}]`, `{"n":null}`, `{"n":null}`},
		{`fields: [{to: /a, from: body.zz, missing: skip}, {to: /b, from: 'body.?y', missing: skip}, {to: /c, from: '1'}]`,
			`{}`, `{"c":1}`},
		{`fields: [{to: /a, from: body.zz, missing: skip}]`, `{"zz":null}`, `{"a":null}`},
		{`fields: [{to: /a, from: '1'}, {to: /a, from: '2'}]`, `{}`, `{"a":2}`},
		{`fields: [{to: /t, from: 'timestamp("2026-03-17T09:41:07Z") + duration("90s")'}, {to: /d, from: 'duration("90s")'}]`,
			`{}`, `{"t":"2026-03-17T09:42:37Z","d":"90s"}`},
		{`fields: [{to: /b, from: 'b"hi"'}, {to: /m, from: '{"z": 1, "a": [1, 2.5]}'}]`, `{}`,
			`{"b":"aGk=","m":{"a":[1,2.5],"z":1}}`},
		{`fields: [{to: /a, from: body.zz}]`, `{"z":1}`,
			`data fields/0 /a: body.zz is missing: body has no zz; near it there is z`},
		{`fields: [{to: /a, from: 'body.?zz'}]`, `{}`, `data fields/0 /a: body.?zz: the value is missing`},
		{`fields: [{to: /a, from: '1'}, {to: /a/b, from: '2'}]`, `{}`,
			`flow fields/1 /a/b: /a/b: a number is in the way, only maps and lists have places`},
		{`fields: [{to: /a, from: '1.0 / 0.0'}]`, `{}`,
			`flow fields/0 /a: 1.0 / 0.0: the result is Infinity, which no document can hold`},
		{`fields: [{to: /a, from: 'body.x + 1', missing: skip}]`, `{"x":"s"}`, `data fields/0 /a: body.x + 1: the ` +
			`values do not fit together: body.x is a string, 1 is a number`},
	} {
		res, f := do(t, "{id: m, kind: map, "+c.settings+"}", c.body)
		got := ""
		if f != nil {
			got = string(f.Class) + " " + f.Phase + ": " + f.Reason
		} else {
			got = string(Bytes(&res.State.Message))
		}
		if got != c.want {
			t.Errorf("%s over %s:\n got %s\nwant %s", c.settings, c.body, got, c.want)
		}
	}
}

func TestMapTellsEveryField(t *testing.T) {
	res, f := do(
		t,
		`{id: m, kind: map, fields: [{to: /a, from: body.p.x}, {to: /b, from: body.zz, missing: skip}, {to: /c, from: `+
			`body.yy}, {to: /d, from: '[body.l[0], body.p]'}]}`,
		`{"p":{"x":0.10},"l":[7]}`,
	)
	if f == nil || len(res.Fields) != 4 || res.Outcome != "2 of 4 set" {
		t.Fatalf("%+v %v", res, f)
	}
	for i, want := range []Field{
		{To: "/a", Value: "0.10", Outcome: "set", Reads: []string{"/p/x"}},
		{To: "/b", Outcome: "skipped", Reads: []string{"/zz"}},
		{To: "/c", Outcome: "failed", Reads: []string{"/yy"}},
		{To: "/d", Value: `[7,{"x":0.10}]`, Outcome: "set", Reads: []string{"/l/0", "/p"}},
	} {
		got := res.Fields[i]
		if got.To != want.To || got.Value != want.Value || got.Outcome != want.Outcome ||
			strings.Join(got.Reads, " ") != strings.Join(want.Reads, " ") {
			t.Errorf("%+v, want %+v", got, want)
		}
	}
}

func TestSetKeepsValuesAndHeaders(t *testing.T) {
	res, f := do(
		t,
		`{id: s, kind: set, vars: {a: body.n, b: vars.a + 1}, headers: {X-New: 'n ${body.n}', x-old: null}}`,
		`{"n":41}`,
	)
	if f != nil {
		t.Fatal(f)
	}
	if got := string(jsonfmt.Encode(res.State.Vars)); got != `{"a":41,"b":42}` {
		t.Error(got)
	}
	if got := string(jsonfmt.Encode(res.State.Message.Headers)); got != `{"x-new":"n 41"}` {
		t.Error(got)
	}
	if len(res.State.Sent) != 1 || res.State.Sent[0].Value != "n 41" || res.Outcome != "4 set" {
		t.Errorf("%+v", res)
	}
	if string(res.State.Message.Raw) != `{"n":41}` {
		t.Error("the body's bytes changed")
	}
	if _, f := do(t, `{id: s, kind: set, headers: {x: '${body.t}'}}`, `{"t":"a\r\nb: c"}`); f == nil ||
		!strings.Contains(f.Reason, "control character") {
		t.Errorf("a header with a line break: %v", f)
	}
}

func TestDoors(t *testing.T) {
	const v = `{id: v, kind: validate, schema: {type: object, required: [a]}`
	for _, c := range []struct {
		yaml, body, outcome, end string
		answer                   int
		class                    Class
	}{
		{v + `}`, `{"a":1}`, "valid", "", 0, ""},
		{v + `}`, `{}`, "/a", "", 0, Data},
		{`{id: v, kind: validate, schema: true}`, `{}`, "valid", "", 0, ""},
		{`{id: v, kind: validate, schema: false}`, `{}`, "nothing is allowed here", "", 0, Data},
		{v + `, else: dead letter}`, `{}`, "/a", "", 0, Data},
		{v + `, else: turn away}`, `{}`, "/a", "/a is required", 0, ""},
		{v + `, else: {answer: 409}}`, `{}`, "409, /a", "/a is required", 409, ""},
		{`{id: f, kind: filter, keep: body.n > 1}`, `{"n":2}`, "goes on", "", 0, ""},
		{`{id: f, kind: filter, keep: body.n > 1}`, `{"n":1}`, "turned away", "not: body.n > 1", 0, ""},
		{`{id: f, kind: filter, keep: 'false', reason: 'n is ${body.n}'}`, `{"n":1}`, "turned away", "n is 1", 0, ""},
		{`{id: f, kind: filter, keep: 'false', else: dead letter}`, `{}`, "stopped", "", 0, Data},
		{`{id: f, kind: filter, keep: 'false', else: {answer: 403}}`, `{}`, "403, turned away", "not: false", 403, ""},
		{`{id: f, kind: filter, keep: body.n}`, `{"n":1}`, "", "", 0, Flow},
		{`{id: f, kind: filter, keep: body.zz}`, `{}`, "", "", 0, Data},
	} {
		res, f := do(t, c.yaml, c.body)
		end, answer, class := "", 0, Class("")
		if res.End != nil {
			end = res.End.Reason
		}
		if res.Answer != nil {
			answer = res.Answer.Status
			if !strings.Contains(string(res.Answer.Body), `"status":`) ||
				res.Answer.Headers[0].Value != "application/problem+json" {
				t.Errorf("%s: answered %s", c.yaml, res.Answer.Body)
			}
		}
		if f != nil {
			class = f.Class
		}
		if res.Outcome != c.outcome || end != c.end || answer != c.answer || class != c.class {
			t.Errorf("%s over %s: %q %q %d %s %v", c.yaml, c.body, res.Outcome, end, answer, class, f)
		}
	}
}

func TestRouteTakesFirstOrEvery(t *testing.T) {
	const ways = `ways: [{name: a, when: body.n > 0, steps: []}, {name: b, when: body.n > 1, steps: []}]`
	for _, c := range []struct{ settings, body, want string }{
		{ways, `{"n":2}`, "a [0]"},
		{`take: every, ` + ways, `{"n":2}`, "a, b [0 1]"},
		{`take: every, ` + ways, `{"n":1}`, "a [0]"},
		{ways, `{"n":0}`, "no way []"},
		{ways + `, otherwise: {steps: []}`, `{"n":0}`, "otherwise [2]"},
		{`take: every, ` + ways + `, otherwise: {steps: []}`, `{"n":5}`, "a, b [0 1]"},
		{ways, `{"n":"x"}`, "ways/a: body.n > 0: the values do not fit together: body.n is a string, 0 is a number"},
	} {
		res, f := do(t, "{id: r, kind: route, "+c.settings+"}", c.body)
		got := res.Outcome + " " + sprint(res.Ways)
		if f != nil {
			got = f.Phase + ": " + f.Reason
		}
		if got != c.want {
			t.Errorf("%s over %s: %s, want %s", c.settings, c.body, got, c.want)
		}
	}
}

func sprint(ways []int) string {
	var b strings.Builder
	for i, w := range ways {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteByte(byte('0' + w))
	}
	return "[" + b.String() + "]"
}

func TestDeliverWantsAndGoesOn(t *testing.T) {
	s, _ := compiled(
		t,
		`{id: d, kind: deliver, to: out, method: PUT, path: '/a/${body.id}?q=${body.q}', headers: {content-type: `+
			`text/x, x-b: '${body.id}'}}`,
	)
	call := &Call{State: state(t, `{"id": "x/y", "q": "a&b"}`), Path: "w.a/d"}
	call.State.Sent = []message.Header{{Name: "X-B", Value: "set"}, {Name: "x-c", Value: "kept"}}
	res, err := s.Runner.Run(call)
	if err != nil || res.Want == nil {
		t.Fatal(res, err)
	}
	r := res.Want.(*want.Send).Request
	var headers []string
	for _, h := range r.Headers {
		headers = append(headers, h.Name+"="+h.Value)
	}
	if r.Method != "PUT" || r.Path != "/a/x%2Fy?q=a%26b" ||
		strings.Join(headers, " ") != "X-C=kept Content-Type=text/x X-B=x/y" ||
		string(r.Body) != `{"id": "x/y", "q": "a&b"}` {
		t.Errorf("%+v", r)
	}
	call.Effect = &want.Effect{
		Status:  201,
		Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}, {Name: "ETag", Value: "1"}},
		Body:    []byte(`{"n": 1.0}`),
	}
	res, err = s.Runner.Run(call)
	if err != nil || res.Want != nil || res.Outcome != "201" {
		t.Fatal(res, err)
	}
	if got := string(jsonfmt.Encode(res.State.Replies)); got != `{"d":{"status":201,"headers":{"content-`+
		`type":"application/json","etag":"1"},"body":{"n":1.0}}}` {
		t.Error(got)
	}
	for path, class := range map[string]Class{`'/${body.id}/x'`: Data, `'/${body.zz}'`: Data, `'/${1/0}'`: Flow} {
		if _, f := do(t, `{id: d, kind: deliver, to: out, path: `+path+`}`, `{"id":".."}`); f == nil ||
			f.Class != class ||
			f.Phase != "path" {
			t.Errorf("%s: %+v", path, f)
		}
	}
	if res, f := do(t, `{id: d, kind: deliver, to: {queue: q}, headers: {x-a: b}}`, `{}`); f != nil ||
		res.Want.(*want.Put).Queue != "q" ||
		res.Want.(*want.Put).Request.Method != "" {
		t.Errorf("%+v %v", res.Want, f)
	}
}

func TestAnswers(t *testing.T) {
	for _, c := range []struct{ settings, body, kind, want string }{
		{``, `{"a": 1.0}`, "application/json", `200 {"a": 1.0}`},
		{`, status: 201, text: '{"id": ${body.a}, "s": "${body.s}"}'`, `{"a":[1],"s":"q\"q"}`, "application/json",
			`201 {"id": [1], "s": "q\"q"}`},
		{`, text: 'got ${body.a}'`, `{"a":1}`, "text/plain; charset=utf-8", `200 got 1`},
		{`, text: '', headers: {content-type: text/html}`, `{}`, "text/html", `200 `},
	} {
		res, f := do(t, "{id: a, kind: answer"+c.settings+"}", c.body)
		if f != nil {
			t.Fatal(f)
		}
		kind := ""
		for _, h := range res.Answer.Headers {
			if strings.EqualFold(h.Name, "content-type") {
				kind += h.Value
			}
		}
		if got := res.Outcome + " " + string(res.Answer.Body); got != c.want || kind != c.kind {
			t.Errorf("%s: %s %s, want %s %s", c.settings, kind, got, c.kind, c.want)
		}
	}
	if res, _ := do(t, `{id: n, kind: note, text: '${size(body.l)} titles', level: warning}`,
		`{"l":[1,2]}`); *res.Note != (Note{"warning", "2 titles"}) {
		t.Errorf("%+v", res.Note)
	}
}

// A step that has errors can still be rehearsed: it fails with its first one.
func TestAWrongStepFailsWithItsError(t *testing.T) {
	s, findings := compiled(t, `{id: f, kind: filter, keep: bdoy.x}`)
	if !flow.HasErrors(findings) {
		t.Fatal(findings)
	}
	_, err := s.Runner.Run(&Call{State: state(t, `{}`)})
	if err == nil || !strings.Contains(err.Error(), `no name or function "bdoy"`) {
		t.Error(err)
	}
	if s, _ := compiled(t, `{id: f, kind: filter, keep: bdoy.x, off: true}`); s.Runner != nil {
		t.Error("a step that is off is compiled")
	}
}

func TestWhenMayBeABareBoolean(t *testing.T) {
	for yaml, want := range map[string]bool{"when: false": false, "when: true": true, "when: '1 == 2'": false} {
		s, findings := compiled(t, "{id: n, kind: note, text: x, "+yaml+"}")
		if s.When == nil {
			t.Fatalf("%s is not compiled: %v", yaml, findings)
		}
		if got, err := s.When.EvalBool(&expr.Scope{}); err != nil || got != want {
			t.Errorf("%s: %v %v", yaml, got, err)
		}
	}
}

func TestFormats(t *testing.T) {
	for kind, want := range map[string]string{"": "json", "application/json; charset=utf-8": "json",
		"text/plain": "text", "application/vnd.x+json": "json", ";;": "json", "text/xml": "xml",
		"application/soap+xml": "xml", "text/csv": "csv", "image/png": "binary"} {
		var n *message.Node
		if kind != "" {
			n = message.NewString(kind)
		}
		if got := FormatOf("auto", n, nil); got != want {
			t.Errorf("%q: %s", kind, got)
		}
		if got := FormatOf("text", n, nil); got != "text" {
			t.Errorf("set: %s", got)
		}
	}
	form := message.NewString("application/x-www-form-urlencoded")
	if FormatOf("auto", form, []byte(" {}")) != "json" || FormatOf("auto", form, []byte("a=1")) != "form" ||
		FormatOf("form", form, []byte("{}")) != "form" {
		t.Error("JSON under the type of forms")
	}
}

func TestReadRetryTakesDefaults(t *testing.T) {
	r, err := jsonfmt.Decode(
		[]byte(
			`{"first":"1h","tries":6.0,"never":[503],"delivered":[409],"growth":"linear","spread":"none","within":"2h","factor":3}`,
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	p, bad := ReadRetry(r.Root)
	plan := p
	if len(bad) != 0 || plan.First != time.Hour || plan.Cap != time.Hour || plan.Tries != 6 ||
		plan.Growth != "linear" ||
		plan.Within != 2*time.Hour ||
		plan.Factor != 3 ||
		len(plan.Never) != 1 ||
		plan.Check() != nil {
		t.Errorf("%+v %v", plan, bad)
	}
	r, _ = jsonfmt.Decode([]byte(`{"first":"x","cap":"-1s"}`))
	if _, bad := ReadRetry(r.Root); len(bad) != 2 {
		t.Errorf("%v", bad)
	}
}

// What counts where a step says nothing is part of its schema, so that forms and
// editors need not know it, too.
func TestEveryDefaultStandsInTheSchema(t *testing.T) {
	// Each of these depends on the message or the step, and is told in words.
	told := map[string]bool{
		"aggregate/item": true, "aggregate/separator": true, "ask/reply-to": true,
		"lookup/into": true, "lookup/default": true, "scatter/gather": true, "hold/fits": true,
	}
	seen := 0
	var look func(kind, name string, n *message.Node)
	look = func(kind, name string, n *message.Node) {
		if d := n.Get("description"); d != nil && d.Kind == message.String && !told[kind+"/"+name] &&
			(strings.Contains(d.Text, "by default") || strings.Contains(d.Text, "(default)")) {
			if seen++; n.Get("default") == nil {
				t.Errorf("%s: %s has a default in words alone: %s", kind, name, d.Text)
			}
		}
		for _, m := range n.Members {
			if m.Value.Kind == message.Map {
				look(kind, m.Name, m.Value)
			}
		}
	}
	for _, k := range Kinds() {
		n, err := jsonfmt.Decode([]byte(k.Properties))
		if err != nil {
			t.Fatal(err)
		}
		look(k.Name, "", n.Root)
	}
	if seen < 20 {
		t.Fatalf("only %d defaults were found", seen)
	}
}
