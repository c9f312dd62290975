package run

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"readyferry/core/plan"
	"readyferry/core/table"
	"readyferry/core/want"
)

// given are the tables of these tests.
func given(t *testing.T) table.Tables {
	t.Helper()
	m := table.Memory{}
	for name, src := range map[string][2]string{
		"copies":   {"keys: [[item]]", "item,branch\ni1,ELMS\ni2,GONE\n"},
		"branches": {"keys: [[code]]\ndefault: {code: \"?\", run: \"9\"}", "code,run\nELMS,1\n"},
		"runs":     {"keys: [[run, day]]", "run,day,van\n1,mon,Heron\n9,mon,Any\n"},
		"tariff":   {"keys: [[zone]]\nrange: {from: from, to: to}", "zone,from,to,cents\nA,0,99,150\nA,100,,290\n"},
		"keys":     {"kind: cross-reference\nkeys: [[card], [member]]", "card,member\n1,a\n"},
	} {
		d, findings := table.Read([]byte("readyferry: table/1\nname: " + name + "\n" + src[0] + "\n"))
		if d == nil {
			t.Fatal(findings)
		}
		f, err := table.ReadFile("csv", []byte(src[1]))
		if err != nil {
			t.Fatal(err)
		}
		if m[name], err = table.InMemory(d, f.Rows); err != nil {
			t.Fatal(err)
		}
	}
	return m
}

// told gives a rehearsal in one line: state, what each step said, the body at the end.
func told(r Rehearsal) string {
	var out []string
	for _, e := range r.Trace {
		out = append(out, e.Path+": "+e.Outcome)
	}
	if n := len(r.Trace); n > 0 && r.Trace[n-1].After != nil {
		out = append(out, *r.Trace[n-1].After.Text)
	}
	if r.State == DeadLetter || r.State == TurnedAway {
		out = append(out, "because "+*r.Reason)
	}
	return r.State + "; " + strings.Join(out, "; ")
}

func answered(status int, body string) want.Effect {
	return want.Effect{Status: status, Body: []byte(body)}
}

// Golden cases of the steps that need the world or time.
func TestStepsThatNeedTheWorld(t *testing.T) {
	tables := given(t)
	for _, c := range []struct {
		name, steps, body string
		replies           map[string]want.Effect
		want              string
	}{
		{"lookup over three hops", `[{id: f, kind: lookup, in: copies, key: body.i, then: [{in: branches, key: ` +
			`row.branch}, {in: runs, key: {run: row.run, day: body.d}}], into: run}, {id: m, kind: map, fields: ` +
			`[{to: /v, from: vars.run.van}]}]`,
			`{"i": "i1", "d": "mon"}`, nil, `delivered; f: found, 3 hops; m: 1 of 1 set; {"v":"Heron"}`},
		{"lookup, missing at the second hop",
			`[{id: f, kind: lookup, in: copies, key: body.i, then: [{in: branches, key: row.branch}]}]`,
			`{"i": "i2"}`, nil, `dead letter; f: the table "branches" has no row for code "GONE"; {"i": "i2"}; because ` +
				`the table "branches" has no row for code "GONE"`},
		{"lookup, skipped",
			`[{id: f, kind: lookup, in: copies, key: body.i, missing: skip}, {id: n, kind: note, text: 'found ${has(vars.f)}'}]`,
			`{"i": "zz"}`, nil, `delivered; f: not there, skipped; n: found false; {"i": "zz"}`},
		{"lookup, the step's default row", `[{id: f, kind: lookup, in: copies, key: body.i, then: [{in: branches, ` +
			`key: row.branch}], into: b, missing: default, default: {run: "0"}}, {id: n, kind: note, text: 'run ` +
			`${vars.b.run}'}]`,
			`{"i": "i2"}`, nil, `delivered; f: default row; n: run 0; {"i": "i2"}`},
		{"lookup, the table's default row leads on", `[{id: f, kind: lookup, in: branches, key: body.b, then: [{in: ` +
			`runs, key: {run: row.run, day: '"mon"'}}], into: r, missing: default}, {id: n, kind: note, text: ` +
			`'${vars.r.van}'}]`,
			`{"b": "NEW"}`, nil, `delivered; f: default row; n: Any; {"b": "NEW"}`},
		{"lookup in a range",
			`[{id: f, kind: lookup, in: tariff, key: '"A"', at: body.g, into: t}, {id: n, kind: note, text: '${vars.t.cents}'}]`,
			`{"g": 99.0}`, nil, `delivered; f: found; n: 150; {"g": 99.0}`},
		{"lookup between ranges", `[{id: f, kind: lookup, in: tariff, key: '"A"', at: body.g}]`,
			`{"g": 99.5}`, nil, `dead letter; f: the table "tariff" has no row for zone "A", at 99.5; {"g": 99.5}; ` +
				`because the table "tariff" has no row for zone "A", at 99.5`},
		{"lookup in no table", `[{id: f, kind: lookup, in: copys, key: body.i}]`,
			`{"i": "i1"}`, nil,
			`dead letter; f: there is no table "copys"; {"i": "i1"}; because there is no table "copys"; did you mean copies?`},
		{"lookup with a stand-in row",
			`[{id: f, kind: lookup, in: nowhere, key: body.i, into: r}, {id: n, kind: note, text: '${vars.r.x}'}]`,
			`{"i": "i1"}`, map[string]want.Effect{"f": answered(200, `{"x": 5}`)}, `delivered; f: found; n: 5; {"i": "i1"}`},
		{"lookup() in a loop of a map",
			`[{id: m, kind: map, fields: [{to: /all, each: body.l, fields: [{to: /run, from: 'lookup("branches", item, ` +
				`{"run": "none"}).run'}]}]}]`,
			`{"l": ["ELMS", "NEW", "ELMS"]}`, nil,
			`delivered; m: 3 of 3 set; {"all":[{"run":"1"},{"run":"none"},{"run":"1"}]}`},
		{"lookup() by several columns, one after the other",
			`[{id: n, kind: note, text: '${lookup("runs", {"run": lookup("branches", body.b).run, "day": "mon"}).van}'}]`,
			`{"b": "ELMS"}`, nil, `delivered; n: Heron; {"b": "ELMS"}`},
		{"lookup() of a key that is not there",
			`[{id: m, kind: map, fields: [{to: /r, from: 'lookup("branches", body.b).run'}, ` +
				`{to: /s, from: body.b}]}]`, `{"b": "NEW"}`, nil, `dead letter; m: 1 of 2 set; {"b": "NEW"}; ` +
				`because lookup("branches", body.b).run is missing: the table "branches" has no key "NEW"`},
		{"lookup() in when, in ways and behind an answer",
			`[{id: a, kind: ask, of: desk, path: '/${lookup("branches", body.b).run}', ` +
				`when: 'lookup("branches", body.b).run == "1"'}, {id: r, kind: route, ways: [{name: heron, when: 'lookup("runs", ` +
				`{"run": replies.a.body.run, "day": "mon"}).van == "Any"', steps: [{id: n, kind: note, text: '${lookup("copies", ` +
				`"i1").branch}'}]}], otherwise: {steps: []}}]`, `{"b": "ELMS"}`, map[string]want.Effect{"a": answered(200,
				`{"run": "9"}`)},
			`delivered; a: 200; r: heron; r.heron/n: ELMS; {"b": "ELMS"}`},
		{"lookup() of a table with ranges", `[{id: n, kind: note, text: '${lookup("tariff", "A").cents}', else: skip}]`,
			`{}`, nil,
			`delivered; n: caught: lookup("tariff", "A").cents; {}`},
		{"lookup() with the wrong columns, and its else",
			`[{id: n, kind: note, text: '${lookup("runs", "1").van}', else: {steps: [` +
				`{id: why, kind: note, text: '${caught.reason}'}], then: go on}}]`, `{}`, nil, `delivered; n: caught: lookup("runs", ` +
				`"1").van; n.else/why: lookup("runs", "1").van: lookup: the key of the table "runs" has several columns: ` +
				`write key ` +
				`as {run: …, day: …}; {}`},
		{"lookup() in a table that comes of the message", `[{id: n, kind: note, text: '${lookup(body.t, "ELMS").run}'}]`,
			`{"t": "branches"}`, nil, `delivered; n: 1; {"t": "branches"}`},
		{"lookup() in each part",
			`[{id: s, kind: split, each: body.l, steps: [{id: n, kind: note, text: '${lookup("copies", ` +
				`part).branch}'}]}]`, `{"l": ["i1", "i2"]}`, nil, `delivered; s: 2 parts: 2 delivered; s[0]/n: ELMS; s[1]/n: GONE; ` +
				`{"l": ["i1", "i2"]}`},
		{"the body as it came in, and behind an earlier step",
			`[{id: a, kind: map, fields: [{to: /x, from: body.v}]}, {id: b-c, ` +
				`kind: map, fields: [{to: /y, from: '1'}]}, {id: n, kind: note, text: '${bodies.intake.v} ${bodies.a.x} ${body.y} ` +
				`${bodies["b-c"].y}'}]`, `{"v": 7}`, nil, `delivered; a: 1 of 1 set; b-c: 1 of 1 set; n: 7 7 1 1; {"y":1}`},
		{"no earlier step", `[{id: a, kind: note, text: '${bodies.b.x}'}, {id: b, kind: note, text: x}]`, `{"v": 7}`, nil,
			`dead letter; a: there is no earlier step "b"; {"v": 7}; because there is no earlier step "b"`},
		{"the whole in a part, and behind an else",
			`[{id: a, kind: map, fields: [{to: /l, from: body.l}, {to: /h, from: '"H"'}]}, ` +
				`{id: s, kind: split, each: body.l, message: part, steps: [{id: n, kind: note, text: '${bodies.a.h} ` +
				`${body}'}, {id: f, kind: ` +
				`set, vars: {x: body.no}, else: {steps: [{id: e, kind: note, text: '${size(bodies.intake.l)}'}]}}]}]`, `{"l": [1, 2]}`, nil,
			`turned away; a: 2 of 2 set; s: 2 parts: 2 turned away; s[0]/n: H 1; s[0]/f: caught: body.no is missing; ` +
				`s[0]/f.else/e: 2; ` +
				`s[1]/n: H 2; s[1]/f: caught: body.no is missing; s[1]/f.else/e: 2; 2; because all 2 parts were turned away, the ` +
				`first: body.no is missing: body has no no; it has no members, because it is a number`},
		{"lookup() in what stands in for a failure",
			`[{id: a, kind: deliver, to: desk, else: {default: {x: 'lookup("branches", ` +
				`body.b).run'}}}, {id: n, kind: note, text: '${vars.x}'}]`, `{"b": "ELMS"}`, map[string]want.Effect{"a": answered(422, ``)},
			`delivered; a: caught: desk answered 422, and no other try would help; n: 1; {"b": "ELMS"}`},
		{"lookup() in the key of a lookup",
			`[{id: f, kind: lookup, in: runs, key: {run: 'lookup("branches", body.b).run', day: ` +
				`'"mon"'}}, {id: n, kind: note, text: '${vars.f.van}'}]`, `{"b": "ELMS"}`, nil,
			`delivered; f: found; n: Heron; {"b": "ELMS"}`},
		{"lookup() where answers are gathered",
			`[{id: s, kind: scatter, within: 1m, ways: [{name: a, steps: [{id: q, kind: ask, of: desk, ` +
				`path: /}]}], fields: [{to: /r, from: 'lookup("branches", replies.a.body.b).run'}]}, {id: n, kind: note, ` +
				`text: x}]`, `{}`,
			map[string]want.Effect{"q": answered(200,
				`{"b": "ELMS"}`)}, `delivered; s: 1 of 1 answered; s.a/q: 200; n: x; {"r":"1"}`},
		{"lookup() where a group closes",
			`[{id: g, kind: aggregate, key: '"k"', close: {count: 1, age: 1h}, result: map, fields: [{to: /r, ` +
				`from: 'lookup("branches", group.items[0].b).run'}]}]`, `{"b": "ELMS"}`, nil, `delivered; g: member 1 of k, which ` +
				`closes by count, 1; g[0]: 1 member, by count, 1; {"r":"1"}`},
		{"pair, then found", `[{id: p, kind: pair, in: keys, row: {card: body.c, member: body.m}}, {id: f, kind: ` +
			`lookup, in: keys, key: {member: body.m}, into: k}, {id: n, kind: note, text: '${vars.k.card}'}]`,
			`{"c": "2", "m": "b"}`, nil, `delivered; p: paired; f: found; n: 2; {"c": "2", "m": "b"}`},
		{"pair in conflict", `[{id: p, kind: pair, in: keys, row: {card: body.c, member: body.m}}]`,
			`{"c": "2", "m": "a"}`, nil, `dead letter; p: the pair card "2" = member "a" conflicts with card "1" = ` +
				`me…; {"c": "2", "m": "a"}; because the pair card "2" = member "a" conflicts with card "1" = member ` +
				`"a" in the table "keys"`},
		{"pair in conflict, kept", `[{id: p, kind: pair, in: keys, row: {card: body.c, member: body.m}, conflict: ` +
			`keep, into: k}, {id: n, kind: note, text: '${vars.k.card}'}]`,
			`{"c": "2", "m": "a"}`, nil, `delivered; p: kept the old one; n: 1; {"c": "2", "m": "a"}`},
		{"once", `[{id: o, kind: once, key: body.k}]`, `{"k": 1}`, nil, `delivered; o: the first; {"k": 1}`},
		{"hold for a time", `[{id: h, kind: hold, for: 72h}]`, `{}`, nil, `delivered; h: held for 72h; {}`},
		{"hold until a time that has passed", `[{id: h, kind: hold, until: body.at}]`, `{"at": "2020-01-01T00:00:00Z"}`,
			nil, `delivered; h: not held, the time has ` +
				`passed; {"at": "2020-01-01T00:00:00Z"}`},
		{"hold until no time", `[{id: h, kind: hold, until: body.at}]`, `{"at": "soon"}`, nil,
			`dead letter; h: body.at is "soon", no ` +
				`point in time; {"at": "soon"}; because body.at is "soon", no point in time; it must look like ` +
				`2026-05-04T09:00:00Z`},
		{"hold until a row is there", `[{id: h, kind: hold, until: {in: branches, key: body.b}}]`, `{"b": "ELMS"}`, nil,
			`delivered; h: the row is there; {"b": "ELMS"}`},
		{"hold for a row that is not there", `[{id: h, kind: hold, until: {in: branches, key: body.b, fits: 'row.run ` +
			`== "2"'}}]`, `{"b": "ELMS"}`, nil, `waiting; h: held until a row of ` +
			`branches fits; {"b": "ELMS"}`},
		{"pace", `[{id: p, kind: pace, most: 1, per: 1h}]`, `{}`, nil, `delivered; p: at once; {}`},
		{"code for a new body", `[{id: c, kind: code, script: "return {sum: body.l.reduce((a, b) => a + b, 0)}"}]`,
			`{"l": [1, 2, 3]}`, nil, `delivered; c: a map; {"sum":6}`},
		{"code for a value", `[{id: c, kind: code, into: n, script: "return body.l.length"}, {id: n, kind: note, ` +
			`text: '${vars.n}'}]`, `{"l": [1, 2, 3]}`, nil, `delivered; c: number under n; n: 3; {"l": [1, 2, 3]}`},
		{"code that throws", `[{id: c, kind: code, script: "return body.l.x.y"}]`, `{"l": 1}`, nil,
			`dead letter; c: line 1; {"l": 1}; ` +
				`because line 1: it threw TypeError: Cannot read property 'y' of undefined`},
		{"ask over HTTP", `[{id: a, kind: ask, of: desk, path: '/m/${body.m}'}, {id: m, kind: map, fields: [{to: /n, ` +
			`from: replies.a.body.name}]}]`, `{"m": 7}`,
			map[string]want.Effect{"a": answered(200,
				`{"name": "maud"}`)}, `delivered; a: 200; m: 1 of 1 set; {"n":"maud"}`},
		{"ask that is refused", `[{id: a, kind: ask, of: desk, path: /m}]`, `{}`,
			map[string]want.Effect{"a": answered(404,
				``)}, `dead letter; a: desk answered 404, and ` +
				`no other try would help; {}; because desk answered 404, and no other try would help`},
		{"ask for which 404 is an answer", `[{id: a, kind: ask, of: desk, path: /m, retry: {delivered: [404]}}, {id: ` +
			`n, kind: note, text: '${replies.a.status}'}]`, `{}`, map[string]want.Effect{"a": answered(404, ``)},
			`delivered; a: 404; n: 404; {}`},
		{"ask by SQL for one row", `[{id: a, kind: ask, of: db, sql: 'SELECT * FROM t WHERE id = :id', params: {id: ` +
			`body.m}, rows: one}, {id: n, kind: note, text: '${replies.a.body.x}'}]`, `{"m": 7}`,
			map[string]want.Effect{"a": answered(200, `[{"x": 1}]`)}, `delivered; a: 1 row; n: 1; {"m": 7}`},
		{"ask by SQL, too many", `[{id: a, kind: ask, of: db, sql: 'SELECT 1', rows: one}]`, `{}`,
			map[string]want.Effect{"a": answered(200, `[{"x": 1}, {"x": 2}]`)}, `dead letter; a: 2 rows; {}; because the ` +
				`query gives 2 rows, and there must be exactly one`},
		{"ask by SQL, none", `[{id: a, kind: ask, of: db, sql: 'SELECT 1', rows: first}, {id: n, kind: note, text: ` +
			`'${replies.a.body == null}'}]`, `{}`, map[string]want.Effect{"a": answered(200, `[]`)},
			`delivered; a: 0 rows; n: true; {}`},
		{"ask by a queue", `[{id: a, kind: ask, of: {queue: q}}, {id: n, kind: note, text: '${replies.a.body.ok}'}]`,
			`{}`,
			map[string]want.Effect{"a": answered(0, `{"ok": true}`)}, `delivered; a: replied; n: true; {}`},
		{"subflow", `[{id: s, kind: subflow, flow: other}]`, `{}`, nil, `delivered; s: handed on; {}`},
		{"subflow with its answer", `[{id: s, kind: subflow, flow: other, wait: true}, {id: n, kind: note, text: ` +
			`'${replies.s.body.v}'}]`, `{}`, map[string]want.Effect{"s": answered(201, `{"v": 1}`)},
			`delivered; s: answered 201; n: 1; {}`},
		{"subflow at a runner", `[{id: s, kind: subflow, flow: other, at: depot, wait: true}, {id: n, kind: note, text: ` +
			`'${replies.s.body.v}'}]`, `{}`, map[string]want.Effect{"s": answered(201, `{"v": 1}`)},
			`delivered; s: answered 201; n: 1; {}`},
		{"subflow at a runner, whose answer nobody waits for", `[{id: s, kind: subflow, flow: other, at: depot}]`, `{}`,
			map[string]want.Effect{"s": answered(200, ``)}, `delivered; s: handed on; {}`},
		{"else, skipped", `[{id: a, kind: set, vars: {x: body.no}, else: skip}]`, `{}`, nil,
			`delivered; a: caught: body.no is missing; {}`},
		{"else, values", `[{id: a, kind: set, vars: {x: body.no}, else: {default: {x: 'caught.class'}}}, {id: n, ` +
			`kind: note, text: '${vars.x}'}]`, `{}`, nil, `delivered; a: caught: body.no is missing; n: data; {}`},
		{"else, other steps", `[{id: a, kind: deliver, to: desk, else: {steps: [{id: w, kind: note, text: ` +
			`'${caught.step} ${caught.kind}: ${caught.reason}'}], then: go on}}, {id: n, kind: note, text: on}]`, `{}`,
			map[string]want.Effect{"a": answered(422, ``)}, `delivered; a: caught: desk answered 422, and no other try ` +
				`would help; a.else/w: a deliver: desk answered 422, and no other try would help; n: on; {}`},
		{"else, other steps, and the end", `[{id: a, kind: deliver, to: desk, else: {steps: [{id: w, kind: note, text: ` +
			`'${caught.kind}'}]}}, {id: n, kind: note, text: on}]`, `{}`,
			map[string]want.Effect{"a": answered(422, ``)}, `turned away; a: caught: desk answered 422, and no other try ` +
				`would help; a.else/w: deliver; {}; because desk answered 422, and no other try would help`},
		{"all parts turned away", `[{id: p, kind: split, each: body.l, steps: [{id: f, kind: filter, keep: 'part > 2', ` +
			`reason: '${part} is small'}]}]`, `{"l": [1, 2]}`, nil, `turned away; p: 2 parts: 2 turned away; ` +
			`p[0]/f: turned away; p[1]/f: turned away; {"l": [1, 2]}; because all 2 parts were turned away, the first: 1 is small`},
		{"a part has an id of its own", `[{id: p, kind: split, each: body.l, steps: [{id: n, kind: note, text: ` +
			`'${message.id != message.parent} ${message.parent.size()}'}]}, {id: m, kind: note, text: '${message.parent}.'}]`,
			`{"l": [1]}`, nil, `delivered; p: 1 part: 1 delivered; p[0]/n: true 36; m: .; {"l": [1]}`},
		{"else that fails, too", `[{id: a, kind: set, vars: {x: body.no}, else: {steps: [{id: b, kind: set, vars: {y: ` +
			`body.neither}}]}}]`, `{}`, nil, `dead letter; a: caught: body.no is ` +
			`missing; a.else/b: body.neither is missing; {}; because body.neither is missing: body has no neither`},
		{"else of a validation", `[{id: v, kind: validate, schema: {required: [x]}, else: {steps: [{id: f, kind: ` +
			`note, text: '${caught.setting}'}]}}, {id: n, kind: note, text: on}]`, `{}`, nil, `turned away; v: caught: ` +
			`/x is required; v.else/f: schema; {}; because /x is required`},
	} {
		p := readLoose(
			t,
			"readyferry: flow/1\nname: w\nintake: {kind: queue, queue: q0, format: json}\nsteps: "+c.steps+"\n",
		)
		r := RehearseAll(p, []Envelope{envelope(c.body)}, []Options{{Replies: c.replies, Tables: tables}})[0]
		if got := told(r); got != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, c.want)
		}
	}
}

// What came in is read by its own format behind a step that has made another of it.
func TestEarlierBodiesKeepTheirFormat(t *testing.T) {
	for _, c := range []struct{ format, body, expression, want string }{
		{"hl7", "MSH|^~\\&|A|B|C|D|20260101||ADT^A01|1|P|2.5\rPID|1||X^^^L\r", `hl7(bodies.intake, "PID-3.1")`, "X"},
		{"xml", "<o><l>1</l><l>2</l></o>", `xpath(bodies.intake, "//l[2]")[0]`, "2"},
		{"csv", "a,b\n1,2\n", `bodies.intake[1][1]`, "2"},
		{"json", `{"price": 0.10}`, `bodies.intake.price`, "0.10"},
	} {
		p := readLoose(
			t,
			"readyferry: flow/1\nname: w\nintake: {kind: queue, queue: q0, format: "+c.format+"}\nsteps: [{id: m, "+
				"kind: map, as: json, fields: [{to: /x, from: '1'}]}, {id: n, kind: note, text: '${"+c.expression+"}'}]\n",
		)
		r := Rehearse(p, envelope(c.body), Options{})
		if n := len(r.Trace); n != 2 || r.Trace[1].Outcome != c.want {
			t.Errorf("%s: %s", c.format, told(r))
		}
		if got := r.Trace[1].Earlier; len(got) != 1 || got[0] != "intake" {
			t.Errorf("%s: earlier are %v", c.format, got)
		}
	}
}

// readLoose reads a flow whatever it names.
func readLoose(t *testing.T, src string) *plan.Plan {
	t.Helper()
	r, err := plan.NewReader()
	if err != nil {
		t.Fatal(err)
	}
	p, findings := r.Read([]byte(src), nil)
	if p == nil {
		t.Fatalf("%s\n%v", src, findings)
	}
	return p
}

// Several messages of one rehearsal meet where a step remembers.
func TestSamplesMeetAtOnceAndPace(t *testing.T) {
	p := readLoose(
		t,
		"readyferry: flow/1\nname: w\nintake: {kind: queue, queue: q0, format: json}\nsteps: [{id: o, kind: once, "+
			"key: body.k, for: 1h}, {id: p, kind: pace, most: 1, per: 10m, within: 15m}]\n",
	)
	var in []Envelope
	for i, body := range []string{`{"k": 1}`, `{"k": 1}`, `{"k": 2}`, `{"k": 3}`, `{"k": 1}`} {
		e := envelope(body)
		e.ID = fmt.Sprintf("019cf2b1-77a4-7c31-8000-0123456789%02d", i)
		if i == 4 {
			e.ReceivedAt = e.ReceivedAt.Add(90 * time.Minute)
		}
		in = append(in, e)
	}
	var got []string
	for _, r := range RehearseAll(p, in, make([]Options, len(in))) {
		got = append(got, told(r))
	}
	want := []string{
		`delivered; o: the first; p: at once; {"k": 1}`,
		`turned away; o: a repeat; {"k": 1}; because a message with the key 1 came before`,
		`delivered; o: the first; p: after 10m; {"k": 2}`,
		`dead letter; o: the first; p: at 1 per 10m0s, this step has so many messages waiting that…; {"k": 3}; ` +
			`because at 1 per 10m0s, this step has so many messages waiting that this one would wait 20m0s; within ` +
			`allows 15m0s`,
		`delivered; o: the first; p: at once; {"k": 1}`,
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// A dead letter's steps are rehearsed behind it; they see the letter and the
// message as it came in.
func TestTheStepsForADeadLetterAreRehearsed(t *testing.T) {
	p := readLoose(
		t,
		"readyferry: flow/1\nname: w\nintake: {kind: queue, queue: q0, format: json, reference: body.r}\nsteps: [{id: "+
			"m, kind: map, fields: [{to: /x, from: body.no}]}]\non-dead-letter: {steps: [{id: t, kind: map, fields: "+
			"[{to: /what, from: letter.reason}, {to: /ref, from: letter.reference}, {to: /r, from: body.r}]}, {id: "+
			"d, kind: deliver, to: desk}]}\n",
	)
	r := Rehearse(p, envelope(`{"r": "R-1"}`), Options{})
	if n := len(r.Trace); r.State != DeadLetter || n != 3 || r.Trace[2].Path != "on-dead-letter/d" ||
		*r.Trace[2].After.Text != `{"what":"body.no is missing: body has no no; it has r","ref":"R-1","r":"R-1"}` {
		t.Errorf("%s", told(r))
	}
	if len(r.Deliveries) != 1 || r.Deliveries[0].Path != "on-dead-letter/d" {
		t.Errorf("%+v", r.Deliveries)
	}
}
