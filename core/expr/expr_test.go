package expr

import (
	"errors"
	"strings"
	"testing"
	"time"

	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

func env(t testing.TB) *Env {
	t.Helper()
	e, err := New()
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func scope(t testing.TB, body string) *Scope {
	t.Helper()
	s := &Scope{Now: time.Date(2026, 3, 17, 9, 41, 7, 0, time.UTC), Seed: "tx/step"}
	if body != "" {
		r, err := jsonfmt.Decode([]byte(body))
		if err != nil {
			t.Fatal(err)
		}
		s.Body = r.Root
	}
	s.Headers = message.HeaderMap([]message.Header{{Name: "Request-Id", Value: "r1"}})
	s.Message = &message.Message{ID: "tx", ReceivedAt: s.Now, Size: 10, Format: "json"}
	return s
}

// eval gives the value as JSON or "error: …".
func eval(t testing.TB, e *Env, source, body string) string {
	t.Helper()
	p, err := e.Compile(source)
	if err != nil {
		return "compile: " + err.Error()
	}
	n, err := p.Eval(scope(t, body))
	if err != nil {
		return "error: " + err.Error()
	}
	return string(jsonfmt.Encode(n))
}

// What stands in a document passes through an expression with its digits.
func TestSelectedNumbersKeepTheirDigits(t *testing.T) {
	e := env(t)
	const body = `{"n":12345678901234567890123,"p":0.10,"l":[{"p":1.50},{"p":2.00}],"ok":true}`
	for source, want := range map[string]string{
		"body.n":                        "12345678901234567890123",
		"body.p":                        "0.10",
		"body.?p.orValue(7)":            "0.10",
		"body.?q.orValue(7)":            "7",
		"body.ok ? body.p : body.n":     "0.10",
		"!body.ok ? body.p : body.n":    "12345678901234567890123",
		"[body.p, body.n]":              "[0.10,12345678901234567890123]",
		"body.l.filter(x, x.p > 1.6)":   `[{"p":2.00}]`,
		"body.l":                        `[{"p":1.50},{"p":2.00}]`,
		`body["p"]`:                     "0.10",
		"body.l[0].p":                   "1.50",
		"body.?l[?1].p":                 "2.00",
		"body.?l[?9].p.orValue(body.p)": "0.10",
		"body.p + 0.2":                  "0.30000000000000004",
		"body.l.size() + 1":             "3",
	} {
		if got := eval(t, e, source, body); got != want {
			t.Errorf("%s: %s, want %s", source, got, want)
		}
	}
}

func TestMissingNamesThePathAndWhatIsNear(t *testing.T) {
	e := env(t)
	const body = `{"patron":{"card":"LC","name":"x"},"n":3,"titles":[1]}`
	for source, want := range map[string]string{
		"body.patron.crad":        "error: body.patron.crad is missing: body.patron has no crad; near it there is card",
		"body.patron.crad.size()": "error: body.patron.crad is missing: body.patron has no crad; near it there is card",
		"body.patron.zzz + 1":     "error: body.patron.zzz is missing: body.patron has no zzz; it has card, name",
		"body.titles[4]":          "error: body.titles[4] is missing: body.titles has no item 4; it has 1 items",
		"body.n.x":                "error: body.n.x is missing: body.n has no x; it has no members, because it is a number",
		`headers["request-di"]`:   `error: headers["request-di"] is missing: headers has no request-di; near it there is request-id`,
		"body.?x":                 "error: body.?x: the value is missing",
		"body.n + body.patron.name": "error: body.n + body.patron.name: the values do not fit together: body.n is " +
			"a number, body.patron.name is a string",
		"has(body.patron.crad) ? 1 : 2": "2",
	} {
		if got := eval(t, e, source, body); got != want {
			t.Errorf("%s:\n got %s\nwant %s", source, got, want)
		}
	}
	p, _ := e.Compile("body.a")
	if _, err := p.Eval(scope(t, "{}")); !IsMissing(err) {
		t.Errorf("%v is not told as missing", err)
	}
}

func TestCompileErrorsHaveAPlaceAndARepair(t *testing.T) {
	e := env(t)
	for source, want := range map[string]string{
		"bdoy.x":      `compile: line 1, column 1: there is no name or function "bdoy" here; did you mean body?`,
		"body.x +":    "compile: line 1, column 9: ",
		"":            "compile: line 1, column 1: the expression is empty; write one, such as body.id",
		"1 + \"a\"":   "compile: line 1, column 3: + is not for a whole number and a text",
		"a &&\n zz()": "compile: line 1, column 1: ",
	} {
		if got := eval(t, e, source, "{}"); !strings.HasPrefix(got, want) {
			t.Errorf("%q: %s, want %s", source, got, want)
		}
	}
	var bad *CompileError
	if _, err := e.CompileBool("1 + 2"); !errors.As(err, &bad) || !strings.Contains(err.Error(), "whole number") {
		t.Errorf("a number as condition: %v", err)
	}
}

// Each example in the help is a test.
func TestFunctionExamples(t *testing.T) {
	e := env(t)
	for _, f := range Functions() {
		if len(f.Examples) == 0 || f.Text == "" {
			t.Errorf("%s has no example or help", f.Name)
		}
		for _, x := range f.Examples {
			files := map[string][]byte{}
			for name, text := range x.Tables {
				files[TableFile(name)] = []byte(text)
			}
			e := e.WithTables(NewTables(files))
			p, err := e.Compile(x.Expression)
			if err != nil {
				t.Errorf("%s: %v", x.Expression, err)
				continue
			}
			s := scope(t, "")
			if x.Body != "" {
				d, err := format.Decode(format.Of(x.Format, ""), []byte(x.Body), message.Layout{}, format.Limits{})
				if err != nil {
					t.Fatal(err)
				}
				s.Body = d.Root
			}
			got, err := p.EvalJSON(s)
			if err != nil || x.Value != "" && got != x.Value {
				t.Errorf("%s over %q: %s %v, want %s", x.Expression, x.Body, got, err, x.Value)
			}
		}
	}
}

func TestNowAndUUIDAreTheSameOnEveryRun(t *testing.T) {
	e := env(t)
	if got := eval(t, e, "now()", ""); got != `"2026-03-17T09:41:07Z"` {
		t.Error(got)
	}
	p, err := e.Compile("[uuid(), uuid()]")
	if err != nil {
		t.Fatal(err)
	}
	s := scope(t, "")
	a, _ := p.Eval(s)
	b, _ := p.Eval(s)
	if string(jsonfmt.Encode(a)) != string(jsonfmt.Encode(b)) || a.Items[0].Text == a.Items[1].Text {
		t.Errorf("%s %s", jsonfmt.Encode(a), jsonfmt.Encode(b))
	}
	s.Seed = "other"
	if c, _ := p.Eval(s); c.Items[0].Text == a.Items[0].Text {
		t.Error("another transaction has the same uuid")
	}
}

// Standard extensions named in the flow's documentation.
func TestExtensionsAreThere(t *testing.T) {
	e := env(t)
	for source, want := range map[string]string{
		`"a b".replace(" ", "")`:                    `"ab"`,
		`math.greatest(1, 3)`:                       "3",
		`[3,1,2].sort()`:                            "[1,2,3]",
		`sets.contains([1,2],[2])`:                  "true",
		`base64.encode(b"hi")`:                      `"aGk="`,
		`{"a":1,"b":2}.transformList(k, v, v)`:      "[1,2]",
		`[1,2].transformMap(i, v, v * 2)[1]`:        "4",
		`timestamp("2026-01-01T00:00:00Z") < now()`: "true",
	} {
		for range 20 { // CEL's own maps have no order; here the same run gives the same
			if got := eval(t, e, source, ""); got != want {
				t.Fatalf("%s: %s, want %s", source, got, want)
			}
		}
	}
}

func TestCostIsBounded(t *testing.T) {
	e := env(t)
	const r = "[0,1,2,3,4,5,6,7,8,9]"
	source := r + ".map(a," + r + ".map(b," + r + ".map(c," + r + ".map(d," + r + ".map(e," + r + ".map(f," + r +
		".map(g, a+b+c+d+e+f+g)))))))"
	if got := eval(t, e, source, ""); !strings.Contains(got, "it was stopped, because it builds more than") {
		t.Errorf("%.200s", got)
	}
	source = strings.ReplaceAll(source, "a+b+c+d+e+f+g", "a<g")
	source = strings.ReplaceAll(source, ".map(", ".all(") + " || true"
	if got := eval(t, e, strings.ReplaceAll(source, "a<g", "a>=0"), ""); !strings.Contains(got, "takes too long") {
		t.Errorf("%.200s", got)
	}
}

// The CEL specification makes optional access into a value without members an
// error (language definition, optional field selection); flows that were published
// before keep what they had.
func TestOptionalAccessNeedsAValueWithMembers(t *testing.T) {
	e := env(t)
	for _, body := range []string{`{"a":null}`, `{"a":5}`, `{"a":"x"}`, `{"a":true}`} {
		for _, source := range []string{
			"body.?a.b", "body.?a.b.orValue(1)", "body.a.?b.orValue(1)", "body.?a[?0].orValue(1)",
			"body.?a.b.hasValue() ? 1 : 2", "body.?a.b.c.orValue(1) + 1", "[body].map(x, x.?a.b.orValue(1))",
		} {
			if got := eval(t, e, source, body); !strings.HasPrefix(got, "error: ") {
				t.Errorf("%s over %s: %s", source, body, got)
			}
			if got := eval(t, e.Lax(), source, body); strings.HasPrefix(got, "error: ") && source != "body.?a.b" {
				t.Errorf("as it was, %s over %s: %s", source, body, got)
			}
		}
	}
	for _, body := range []string{`{}`, `{"a":{}}`} {
		if got := eval(t, e, "body.?a.b.orValue(1)", body); got != "1" {
			t.Errorf("over %s: %s", body, got)
		}
	}
	p, err := e.Compile("body.?a.b")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Eval(scope(t, `{"a":null}`)); IsMissing(err) || !strings.Contains(err.Error(), "body.a is a null") {
		t.Errorf("%v", err) // a map's missing: skip must not hide it
	}
}

func TestErrorsSpeakOfTheMessage(t *testing.T) {
	e := env(t)
	for source, want := range map[string]string{
		`int(body.qty) + 1`:           `body.qty is "a dozen", which is no whole number; it must look like 42`,
		`double(body.qty)`:            `body.qty is "a dozen", which is no number`,
		`timestamp(body.qty)`:         `body.qty is "a dozen", which is no point in time; it must look like 2026-05-04T09:00:00Z`,
		`duration(body.qty)`:          `body.qty is "a dozen", which is no span of time`,
		`body.l.map(x, x[3])`:         `a list in it has no item 3`,
		`body.l[0]["x"]`:              `body.l[0] has no x`,
		`[1, 2].map(x, body.l[x])[0]`: `a list in it has no item 1`,
	} {
		if got := eval(t, e, source, `{"qty":"a dozen","l":[[1]]}`); !strings.Contains(got, want) {
			t.Errorf("%s: %s, want %s", source, got, want)
		}
	}
}

func TestReadsAreKnown(t *testing.T) {
	p, err := env(
		t,
	).Compile(`body.patron.card.replace(" ", "") + (has(body.x) ? body.lines[0].sku : headers["a-b"]) + body.l.map(i, i.z + body.q)[0]`)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, r := range p.Reads {
		got = append(got, r.String())
	}
	want := `body.patron.card body.x body.lines[0].sku headers["a-b"] body.l body.q`
	if s := strings.Join(got, " "); s != want {
		t.Errorf("%s\nwant %s", s, want)
	}
	if ptr := p.Reads[2].Pointer(); ptr != "/lines/0/sku" {
		t.Error(ptr)
	}
}

func TestPlacesOfHL7AreReads(t *testing.T) {
	p, err := env(t).Compile(`hl7(body, "PID-5.1") + hl7(body.messages[0], "PID-3") + string(vars.x)`)
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Reads) != 3 || p.Reads[0].Pointer() != `hl7(body, "PID-5.1")` ||
		p.Reads[1].String() != `hl7(body.messages[0], "PID-3")` {
		t.Errorf("%v", p.Reads)
	}
}

func TestTemplates(t *testing.T) {
	e := env(t)
	const body = `{"b":"MA/RL","q":"a b&c","s":"say \"hi\"\n","n":0.10,"l":[1],"dots":"..","e":"","nul":null}`
	for _, c := range []struct {
		place        Place
		source, want string
	}{
		{PlainText, "hold ${body.n} is ${body.b}", "hold 0.10 is MA/RL"},
		{PlainText, "cost: $${x} ${body.l} ${body.nul}.", "cost: ${x} [1] ."},
		{PlainText, `${ {"a": "}"}.a }`, "}"},
		{URLPath, "/${body.b}/slips?q=${body.q}", "/MA%2FRL/slips?q=a+b%26c"},
		{URLPath, "/${body.dots}/x", `error: ${body.dots}: a segment of a path cannot be ".."`},
		{URLPath, "/${body.e}/x", `error: ${body.e}: a segment of a path cannot be ""`},
		{HeaderValue, "x ${body.n}", "x 0.10"},
		{HeaderValue, "${body.s}", `error: ${body.s}: a header cannot hold the control character '\n'`},
		{JSONText, `{"say": "${body.s}", "n": ${body.n}, "l": ${body.l}}`, `{"say": "say \"hi\"\n", "n": 0.10, "l": [1]}`},
		{PlainText, "${body.zz}", "error: body.zz is missing: body has no zz; it has b, q, s, n, l, dots, e, nul"},
		{PlainText, "a\n ${body.x",
			"compile: line 2, column 2: the hole that begins here is not closed; end it with }, or write $${ for a plain ${"},
		{PlainText, "ab ${bdy}", `compile: line 1, column 6: there is no name or function "bdy" here; did you mean body?`},
	} {
		tpl, err := e.CompileTemplate(c.source, c.place)
		got := ""
		if err != nil {
			got = "compile: " + err.Error()
		} else if got, err = tpl.Eval(scope(t, body)); err != nil {
			got = "error: " + err.Error()
		}
		if got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.source, got, c.want)
		}
	}
}

// Addresses are texts in documents.
func TestNetworkAddressesLeaveAsTexts(t *testing.T) {
	if got := eval(t, env(t), `{"a": ip("2001:db8::68"), "b": [cidr("192.168.0.0/24")], "c": `+
		`cidr("10.0.0.0/8").containsIP(body)}`, `"10.1.2.3"`); got != `{"a":"2001:db8::68","b":["192.168.0.0/24"],"c":true}` {
		t.Error(got)
	}
}

// What CEL says of values and types reaches nobody in its own words: the value is named,
// and what it is called by.
func TestWhatFailedIsNamed(t *testing.T) {
	e := env(t)
	const body = `{"t":"x","n":5,"nil":null,"big":"99999999999999999999","lines":[{"q":"7"},{"q":"seven"}]}`
	for source, want := range map[string]string{
		`body.lines.map(l, int(l.q))`:     `l.q is "seven", which is no whole number; it must look like 42`,
		`int(body.lines[1].q)`:            `body.lines[1].q is "seven", which is no whole number`,
		`body.lines.exists(l, l.q > 3)`:   `l.q is a string, 3 is a number`,
		`int(body.t + "0")`:               `body.t + "0" is "x0", which is no whole number`,
		`int(body.big)`:                   `body.big is 99999999999999999999, which is outside of the whole numbers of 64 bits`,
		`timestamp("yesterday")`:          `"yesterday" is no point in time; it must look like 2026-05-04T09:00:00Z`,
		`{"a": body.t * 2}`:               `body.t is a string, 2 is a number`,
		`body.t ? 1 : 2`:                  `body.t is a string, and a condition is true or false`,
		`body.t.orValue("y")`:             `body.t is a string, "y" is a string`, // it is no optional
		`body.t.matches("(")`:             `a pattern in it is no regular expression`,
		`body.nil + 1`:                    `body.nil is a null, 1 is a number`,
		`"a" + 1`:                         `+ is not for a text and a whole number`,
		`[1, 2].join(3)`:                  `join is not for a list and a whole number`,
		`[1].map(x, x.y)`:                 `a whole number has no members`,
		`body.lines.map(1, x)`:            `a name is expected here`,
		`json.parse(body.t).orValue(1)`:   `json.parse cannot be called here, as its work has no bound`,
		`body.lines.sortBy(l, -l.q)`:      `l.q is a string`,
		`size(body.n)`:                    `body.n is a number`,
		`duration(body.lines[0].q + "x")`: `body.lines[0].q + "x" is "7x", which is no span of time`,
	} {
		if got := eval(t, e, source, body); !strings.Contains(got, want) {
			t.Errorf("%s: %s, want %s", source, got, want)
		}
	}
}

func TestLoopsAndChoicesInTemplates(t *testing.T) {
	env, err := New()
	if err != nil {
		t.Fatal(err)
	}
	body, err := jsonfmt.Decode([]byte(`{"n":"a<b","l":[{"s":"x\"y","t":[1,2]},{"s":"z","t":[]}],"one":{"s":"q"},"none":null,"yes":true}`))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		place     Place
		src, want string
	}{
		{XMLText, `<o>${for l in body.l}<l n="${index + 1}">${l.s}</l>${end}</o>`,
			`<o><l n="1">x&quot;y</l><l n="2">z</l></o>`},
		{JSONText, `[${for l in body.l}{"s": "${l.s}"}${if !last},${end}${end}]`, `[{"s": "x\"y"},{"s": "z"}]`},
		{PlainText, `${for l in body.l}${l.s}:${for t in l.t}${t}${if !last}+${end}${end};${end}`, `x"y:1+2;z:;`},
		{PlainText, `${if body.yes}a${else}b${end}${if !body.yes}a${else}b${end}`, "ab"},
		{PlainText, `${for o in body.one}${o.s}${end}${for o in body.none}${o}${end}`, "q"},
		{PlainText, `$${for x in y} ${if  body.n.startsWith("a") }${body.n}${end}`, "${for x in y} a<b"},
		{HL7Text, "OBX|${for l in body.l}${l.s}|${end}", `OBX|x"y|z|`},
	} {
		tmpl, err := env.CompileTemplate(c.src, c.place)
		if err != nil {
			t.Errorf("%s: %v", c.src, err)
			continue
		}
		if got, err := tmpl.Eval(&Scope{Body: body.Root}); err != nil || got != c.want {
			t.Errorf("%s: %q %v, want %q", c.src, got, err, c.want)
		}
	}
	for src, want := range map[string]string{
		`${for l in body.l}x`: "line 1, column 1: the for that begins here is not ended", `x${end}`: "column 2: nothing begins",
		`${if body.yes}${else}${else}${end}`: "column 22: an else stands only", `${for l in body.l}${else}${end}`: "an else stands only",
		`ab${for l in bdoy.l}${end}`: `column 14`, `${for body in body.l}${end}`: `the name "body" is taken`,
		`${if 5}${end}`: "must be true or false", `${l.x}${for l in body.l}${end}`: `"l"`,
	} {
		if _, err := env.CompileTemplate(src, PlainText); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", src, err, want)
		}
	}
	if _, err := env.CompileTemplate(`/x/${for l in body.l}${end}`, URLPath); err == nil {
		t.Error("a loop in a path")
	}
	bomb := strings.Repeat(`${for a in body.l}`, 19) + strings.Repeat("${end}", 19)
	tmpl, err := env.CompileTemplate(bomb, PlainText)
	if err != nil {
		t.Fatal(err)
	}
	many := message.NewList()
	for range 100 {
		many.Items = append(many.Items, message.NewNull())
	}
	if _, err := tmpl.Eval(&Scope{Body: message.NewMap(message.Member{Name: "l", Value: many})}); err == nil {
		t.Error("loops in loops have no end")
	}
}
