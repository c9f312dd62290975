package plan

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/step"
)

func reader(t testing.TB) *Reader {
	t.Helper()
	r, err := NewReader()
	if err != nil {
		t.Fatal(err)
	}
	return r
}

const head = "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f, callers: [k]}\n"

// Findings say what, where and what next.
func TestFindings(t *testing.T) {
	r := reader(t)
	for _, c := range []struct{ src, want string }{
		{"", `error syntax 1:1 the document is empty (begin with readyferry: flow/1)`},
		{"a: [1", `error syntax 1:4 this is no valid YAML: `},
		{"- 1\n", `error wrong-type 1:1 a flow document is a map, not a list (begin with readyferry: flow/1)`},
		{"readyferry: flow/9\nname: f\nintake: {kind: webhook, path: /f}\nsteps: []\n",
			`error wrong-value 1:13 this is not a ` +
				`flow document of a version that is known (write readyferry: flow/1)`},
		{"readyferry: flow/1\nintake: {kind: webhook, path: /f}\nsteps: []\n",
			`error missing-key 1:1 the key "name" is required (add name:)`},
		{head + "stpes: []\nsteps: []\n", `error unknown-key 4:1 the key "stpes" is not known here (did you mean steps?)`},
		{head + "steps:\n  - id: a\n    kind: map\n    feilds: []\n    fields: []\n",
			`error unknown-key 7:5 the key "feilds" ` +
				`is not known here (did you mean fields?)`},
		{head + "steps:\n  - {id: a, kind: mapp}\n", `error wrong-value 5:19 "kind" cannot be "mapp" (did you mean map?)`},
		{head + "steps:\n  - {id: a, kind: map}\n", `error missing-key 5:6 the key "fields" is required (add fields:)`},
		{head + "steps:\n  - {id: a, kind: filter, keep: 'bdoy.x == 1'}\n", `error expression 5:34 there is no name ` +
			`or function "bdoy" here (did you mean body?)`},
		{head + "steps:\n  - id: a\n    kind: note\n    text: >-\n      see\n      ${body.x +}\n", `error expression `},
		{head + "steps:\n  - id: a\n    kind: filter\n    keep: |\n      body.x == 1 &&\n      zz == 2\n",
			`error expression 9:7 there is no name ` +
				`or function "zz" here`},
		{head + "steps:\n  - {id: a, kind: filter, keep: '1 +'}\n",
			`error expression 5:37 the expression ends before it is complete`},
		{head + "steps:\n  - {id: a, kind: filter, keep: 'body.n = 1'}\n",
			`error expression 5:41 = compares nothing; write == for equal`},
		{head + "steps:\n  - {id: a, kind: deliver, off: true, path: 7}\n  - {id: a, kind: mapp}\n",
			`error wrong-value 6:19 "kind" cannot be "mapp"`},
		{head + "steps:\n  - {id: s, kind: scatter, within: 5s, gather: {first: 2}, ways: [{name: a, steps: []}]}\n",
			`error wrong-value 5:56 1 ways never give 2 answers`},
		{head + "steps:\n  - {id: s, kind: scatter, within: 5s, ways: [{name: a, steps: [{id: g, kind: aggregate, " +
			"key: body.k, close: {age: 1m}}]}]}\n", `error wrong-value 5:79 a way of the ` +
			`scatter s answers within a time, so no step in it can wait for other messages`},
		{head + "steps:\n  - {id: s, kind: scatter, within: 5s, ways: [{name: a, steps: [{id: g, kind: split, each: " +
			"body, steps: []}]}]}\n", `error wrong-value 5:79 parts answer ` +
			`nobody, so a way of the scatter s cannot be split`},
		{head + "steps:\n  - {id: s, kind: scatter, within: soon, ways: [{name: a, steps: []}, {name: a, steps: []}]}\n",
			`error duplicate-way`},
		{head + "steps:\n  - {id: g, kind: aggregate, key: body.k, close: {count: 2}}\n",
			`warning waits-for-ever 5:51 a group to ` +
				`which nothing more comes waits for ever (add age or quiet, so that it closes after a time)`},
		{head + "steps:\n  - {id: g, kind: aggregate, key: body.k, close: {parts: true}}\n",
			`error wrong-value 5:58 there is no ` +
				`split around this step whose parts could be here`},
		{head + "steps:\n  - {id: g, kind: aggregate, key: body.k, close: {age: soon}}\n",
			`error wrong-value 5:56 "soon" is no span of time`},
		{head + "steps:\n  - {id: g, kind: aggregate, key: body.k, result: map, close: {age: 1m}}\n",
			`error missing-key 5:6 the fields of the map are missing`},
		{head + "steps:\n  - {id: g, kind: aggregate, key: body.k, limit: 2, close: {age: 1m, count: 3}}\n",
			`error wrong-value 5:77 a group never ` +
				`comes to 3 members, because its limit is 2`},
		{head + "steps:\n  - {id: s, kind: split, steps: []}\n", `error missing-key 5:6 a split says what its parts ` +
			`are, in one way (write one of each, elements, segments or lines)`},
		{head + "steps:\n  - {id: s, kind: split, elements: '//(', steps: []}\n", `error expression`},
		{head + "steps:\n  - {id: n, kind: note, text: '${part.x}'}\n", `error expression`},
		{head + "steps:\n  - {id: s, kind: split, each: body, steps: [{id: a, kind: answer}]}\n",
			`warning late-answer 5:47 the caller has ` +
				`been answered before the step s`},
		{head + "steps:\n  - {id: r, kind: resequence, key: body.k, number: body.n, wait: 0s}\n",
			`error wrong-value 5:66 "0s" must be longer than 0`},
		{head + "steps:\n  - {id: d, kind: deliver, to: x}\n  - {id: a, kind: answer}\n",
			`warning late-answer 6:6 the caller has ` +
				`been answered before the step d, so nobody waits for this (move the answer above that step)`},
		{head + "steps:\n  - {id: r, kind: route, ways: [{name: w, when: 'true', steps: [{id: d, kind: deliver, to: " +
			"x}]}, {name: v, when: 'true', steps: [{id: early, kind: answer}]}], otherwise: {steps: []}}\n  - {id: " +
			"late, kind: answer}\n", `warning late-answer 6:6 the caller has ` +
			`been answered before the step d`},
		{head + "steps:\n  - {id: a, kind: filter, keep: '1 + 1'}\n", `error expression 5:34 a condition must be true ` +
			`or false, but this is a whole number (compare it with something)`},
		{head + "steps:\n  - {id: a, kind: note, text: x}\n  - {id: a, kind: note, text: y}\n",
			`error duplicate-id 6:10 the id "a" is ` +
				`taken by the step in line 5 (give one of them another id)`},
		{head + "steps:\n  - {id: r, kind: route, ways: [{name: w, when: 'true', steps: []}]}\n",
			`warning no-otherwise 5:6 a message that ` +
				`no way fits goes on without a word`},
		{head + "steps:\n  - {id: r, kind: route, ways: [{name: w, when: 'true', steps: [{id: n, kind: note, txt: a, " +
			"text: b}]}], otherwise: {steps: []}}\n", `error unknown-key 5:85 the key "txt" is ` +
			`not known here (did you mean text?)`},
		{head + "steps:\n  - {id: m, kind: map, fields: [{to: a, from: body}]}\n", `error place 5:38 the pointer "a" must ` +
			`be empty or begin with / (write the place as /a/b)`},
		{head + "steps:\n  - {id: d, kind: deliver, to: x, retry: {first: soon}}\n",
			`error retry 5:50 "soon" is no span of time`},
		{head + "steps:\n  - {id: d, kind: deliver, to: x, retry: {tries: 0}}\n",
			`error wrong-value 5:50 "tries" does not fit: `},
		{head + "steps:\n  - {id: d, kind: deliver, to: x, retry: {first: 10s, cap: 1s}}\n",
			`error retry 5:43 cap (1s) must not be ` +
				`shorter than first (10s)`},
		{head + "steps:\n  - {id: d, kind: deliver, to: {queu: x}}\n", `error `},
		{head + "steps:\n  - {id: v, kind: validate, schema: {type: objct}}\n",
			`error schema 5:38 the schema does not compile: `},
		{head + "steps:\n  - {id: v, kind: validate, schema: {$ref: missing.json}}\n",
			`error schema 5:38 the schema does not ` +
				`compile: the flow has no file "missing.json"`},
		{head + "steps:\n  - {id: v, kind: validate, schema: {$ref: 'http://x.invalid/s'}}\n",
			`error schema 5:38 the schema does not ` +
				`compile: http://x.invalid/s is not among the flow's own files, and nothing is fetched`},
		{"readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: []\n",
			`warning open-webhook 3:10 anyone who ` +
				`knows the address may call this webhook`},
		{"readyferry: flow/1\nname: f\nintake: {kind: webhook, path: f}\nsteps: []\n",
			`error wrong-value 3:31 "path" does not fit: `},
		{"readyferry: flow/1\nname: f\nintake: {kind: queue, queue: q, path: /f}\nsteps: []\n",
			`error unknown-key 3:33 the key "path" is not known here`},
		{"readyferry: flow/1\nname: f\nintake: {kind: webhook, path: '/a/{x}/{x}'}\nsteps: []\n",
			`error wrong-value 3:32 the parameter ` +
				`{x} stands twice in the path`},
		{"readyferry: flow/1\nname: f\nname: g\n",
			`error syntax 3:1 this is no valid YAML: the key "name" stands twice in one map`},
		{"a: &x [*x]\n", `error syntax 1:8 the anchor &x contains itself`},
		{strings.Repeat("[", 5000), `error syntax 1:1 the document is nested deeper than 100 levels`},
		{strings.Repeat("- ", 5000), `error syntax 1:1 the document is nested deeper than 100 levels`},
	} {
		_, findings := r.Read([]byte(c.src), nil)
		var got []string
		hit := false
		for _, f := range findings {
			line := fmt.Sprintf("%s %s %d:%d %s", f.Level, f.Code, f.Line, f.Column, f.Message)
			if f.Repair != "" {
				line += " (" + f.Repair + ")"
			}
			got = append(got, line)
			hit = hit || strings.HasPrefix(line, c.want)
		}
		if !hit {
			t.Errorf("%.300s\n got %s\nwant %s", c.src, strings.Join(got, "\n     "), c.want)
		}
	}
}

func TestEveryKindsExampleCompiles(t *testing.T) {
	r := reader(t)
	for _, k := range step.Kinds() {
		p, findings := r.Read([]byte(head+"steps:\n  - "+k.Example+"\n"), nil)
		if p == nil || flow.HasErrors(findings) {
			t.Errorf("%s: %v", k.Name, findings)
		}
		if k.Summary == "" || k.Reason == "" {
			t.Errorf("%s has no help", k.Name)
		}
	}
}

// JSON and YAML are two ways to write the same document, and what Write gives
// reads back as the same tree.
func TestDocumentsRoundTrip(t *testing.T) {
	r := reader(t)
	const doc = `{"readyferry":"flow/1","name":"f","note":"first\nsecond: line\n","intake":{"kind":"webhook","path":"/f/{p}","callers":["k"]},
	 "steps":[{"id":"m","kind":"map","fields":[{"to":"/a","from":"body.x == \"#1\" ? 'yes' : \"no: \\t\\u00e9\""},{"to":"/n","from":1.50}]},
	 {"id":"n","kind":"note","text":"- null ${body.yes} 'q' {x}","note":"true"},{"id":"e","kind":"note","text":""},{"id":"o","kind":"note","text":" 007 "}]}`
	first, bad := flow.Parse([]byte(doc))
	if bad != nil {
		t.Fatal(bad)
	}
	out, err := flow.Write(first.Root)
	if err != nil {
		t.Fatal(err)
	}
	second, bad := flow.Parse(out)
	if bad != nil {
		t.Fatalf("%s\n%v", out, bad)
	}
	if a, b := jsonfmt.Encode(first.Root), jsonfmt.Encode(second.Root); string(a) != string(b) {
		t.Errorf("%s\n%s\n%s", a, b, out)
	}
	if _, findings := r.Read(out, nil); flow.HasErrors(findings) {
		t.Errorf("%s\n%v", out, findings)
	}
}

func TestSchemaFilesAreFound(t *testing.T) {
	files := map[string][]byte{
		"schemas/a.json":    []byte(`{"type":"object","properties":{"p":{"$ref":"part.json"}}}`),
		"schemas/part.json": []byte(`{"type":"integer"}`),
	}
	_, findings := reader(
		t,
	).Read([]byte(head+"steps:\n  - {id: v, kind: validate, schema: {$ref: schemas/a.json}}\n"), files)
	if flow.HasErrors(findings) {
		t.Error(findings)
	}
}

func FuzzRead(f *testing.F) {
	r := reader(f)
	for _, k := range step.Kinds() {
		f.Add([]byte(head + "steps:\n  - " + k.Example + "\n"))
	}
	f.Add([]byte("a: &b\n  - *b\n"))
	f.Add([]byte("{\"readyferry\": \"flow/1\", \"steps\": [1, {}]}"))
	f.Fuzz(func(t *testing.T, src []byte) {
		watchdog := time.AfterFunc(5*time.Second, func() { panic(fmt.Sprintf("reading takes too long: %q", src)) })
		defer watchdog.Stop()
		p, findings := r.Read(src, nil)
		if p == nil && !flow.HasErrors(findings) {
			t.Fatal("neither a plan nor an error")
		}
		for _, f := range findings {
			if f.Line < 1 || f.Column < 1 || f.Message == "" {
				t.Fatalf("%+v", f)
			}
		}
	})
}
