package script

import (
	"errors"
	"strings"
	"testing"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

func sandbox(t testing.TB) *Sandbox {
	t.Helper()
	s, err := NewSandbox()
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func run(t testing.TB, s *Sandbox, source, body string) (string, error) {
	t.Helper()
	p, err := s.Compile(source, 0)
	if err != nil {
		return "", err
	}
	r, err := jsonfmt.Decode([]byte(body))
	if err != nil {
		t.Fatal(err)
	}
	out, err := p.Run(map[string]*message.Node{"body": r.Root})
	if err != nil {
		return "", err
	}
	return string(jsonfmt.Encode(out)), nil
}

func TestScripts(t *testing.T) {
	s := sandbox(t)
	for _, c := range []struct{ source, body, want string }{
		{`return body.a + 1`, `{"a": 41}`, `42`},
		{`return {names: body.list.map(x => x.toUpperCase()).sort()}`, `{"list": ["b", "a"]}`, `{"names":["A","B"]}`},
		{`const {a, ...rest} = body; return [a, rest, vars === undefined]`, `{"a": 1, "b": 2}`, `[1,{"b":2},true]`},
		{`return [[1, [2]], [3]].flat().concat([4]).join("-")`, `{}`, `"1-2-3-4"`},
		{`return [1, 2].flatMap(x => [x, x * 10])`, `{}`, `[1,10,2,20]`},
		{`return "a,b".split(",").concat("c").toString().replace(/,/g, "").padStart(5, "-")`, `{}`, `"--abc"`},
		{`return null`, `{}`, `null`},
		{`return /(?<=€)\d+/.exec("€42")[0]`, `{}`, `"42"`},
	} {
		if got, err := run(t, s, c.source, c.body); got != c.want {
			t.Errorf("%s: %s, %v", c.source, got, err)
		}
	}
}

// What a hostile script tries ends with an error, soon, and harms no later one.
func TestHostileScripts(t *testing.T) {
	s := sandbox(t)
	for name, source := range map[string]string{
		"an endless loop":                  `while (true) {}`,
		"an endless loop of promises":      `async function f() { await f() } f(); while (true) {}`,
		"endless recursion":                `function f() { return f() } return f()`,
		"recursion through sort":           `function f() { return [1, 2].sort(f) } return f()`,
		"a text that doubles":              `let s = "x"; while (true) s += s`,
		"a list that grows":                `const l = []; while (true) l.push({a: l.length})`,
		"a list of lists":                  `let l = [1]; while (true) l = [l, ...l]`,
		"a huge text at once":              `return "x".repeat(1e9)`,
		"a huge text by padding":           `return "x".padEnd(1e9)`,
		"a huge text by join":              `return Array(1e9).join("x")`,
		"a huge text by join of texts":     `const s = "x".repeat(4e6); return Array.from({length: 1000}, () => s).join("")`,
		"a huge text by replacing":         `return "x".repeat(1e6).replaceAll("x", "y".repeat(1e6))`,
		"a huge list":                      `return new Array(1e9).fill(0)`,
		"a walk over holes":                `return new Array(4294967295).indexOf(1)`,
		"a huge list from a length":        `return Array.from({length: 1e9})`,
		"a huge result of shared texts":    `const s = "x".repeat(4e6); return Array.from({length: 1e5}, () => s)`,
		"a result that holds itself":       `const a = []; a.push(a, a); return a`,
		"numbers without bounds":           `return (2n ** 1000000000n).toString()`,
		"a map that grows":                 `const m = new Map(); while (true) m.set(m.size, "x".repeat(1000))`,
		"an expression that goes back":     `return /^(a+)+(?=c)$/.test("a".repeat(40) + "b")`,
		"reading a file":                   `return require("fs").readFileSync("/etc/passwd")`,
		"a module":                         `return import("fs")`,
		"the network":                      `return fetch("http://127.0.0.1")`,
		"an older network":                 `return new XMLHttpRequest()`,
		"the process":                      `return process.env`,
		"the clock":                        `return Date.now()`,
		"a new date":                       `return new Date()`,
		"dice":                             `return Math.random()`,
		"a timer":                          `setTimeout(() => {}, 1)`,
		"compiling by eval":                `return eval("1")`,
		"compiling by Function":            `return Function("return 1")()`,
		"compiling by a constructor":       `return (function () {}).constructor("return 1")()`,
		"compiling by another constructor": `return (function* () {}).constructor("return 1")()`,
		"compiling by the last one":        `return (async () => {}).constructor("return 1")()`,
		"breaking out of the function":     "}); while (true) {} (function () {",
		"what cannot be JSON":              `return () => 1`,
		"a promise":                        `return (async () => 1)()`,
		"nothing":                          `body.a = 1`,
		"a getter that never ends":         `return {get a() { while (true) {} }}`,
		"toJSON that never ends":           `return {toJSON() { while (true) {} }}`,
	} {
		began := time.Now()
		got, err := run(t, s, source, `{}`)
		if err == nil {
			t.Errorf("%s comes to %.100s", name, got)
		}
		if took := time.Since(began); took > 5*time.Second {
			t.Errorf("%s took %s", name, took)
		}
	}
	if got, err := run(t, s, `return body.a`, `{"a": 1}`); got != "1" {
		t.Errorf("afterwards: %s, %v", got, err)
	}
}

func TestLimitsAreTold(t *testing.T) {
	s := sandbox(t)
	for source, want := range map[string]string{
		`while (true) {}`: "it took longer than 200ms",
		`function f() { return f() + 1 } return f()`: "calls are more than 512 deep",
	} {
		if _, err := run(t, s, source, `{}`); !errors.Is(err, ErrLimit) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", source, err)
		}
	}
	for source, want := range map[string]string{
		"const x = 1\n\nreturn body.a.b.c": "line 3: it threw TypeError",
		"throw new Error('no copy')":       "line 1: it threw Error: no copy",
		"const a = ;":                      "line 1, column",
		"return 1\nlet x = 10n":            "line 2, column 1: whole numbers without bounds",
	} {
		if _, err := run(t, s, source, `{}`); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v\nwant %s", source, err, want)
		}
	}
}

// What one script does to the world that it sees is not there for the next.
func TestPrototypesDoNotLeak(t *testing.T) {
	s := sandbox(t)
	for _, source := range []string{
		`Object.prototype.leaked = 1; Array.prototype.map = () => "bad"; JSON.stringify = () => "{}"; JSON.parse = () ` +
			`=> 2; globalThis.x = 1; return 1`,
		`({}).__proto__.toJSON = function () { return "bad" }; return 1`,
	} {
		if _, err := run(t, s, source, `{}`); err != nil && !strings.Contains(err.Error(), "threw") {
			t.Errorf("%v", err)
		}
		if got, err := run(t, s, `return [typeof x, ({}).leaked === undefined, [1].map(x => x + 1), JSON.parse("[3]")]`,
			`{}`); got != `["undefined",true,[2],[3]]` {
			t.Errorf("%s, %v", got, err)
		}
	}
}

func TestTheSameMessageGivesTheSameAnswer(t *testing.T) {
	s := sandbox(t)
	const source = `const m = new Map(); for (const k of Object.keys(body)) m.set(k, body[k]); return {all: ` +
		`[...m], s: [3, 1, 2].sort(), k: Object.keys({b: 1, a: 2, 1: 3})}`
	first, err := run(t, s, source, `{"z": 1, "a": [1, 2], "m": {"x": null}}`)
	if err != nil {
		t.Fatal(err)
	}
	for range 20 {
		if again, _ := run(t, s, source, `{"z": 1, "a": [1, 2], "m": {"x": null}}`); again != first {
			t.Fatalf("%s\n%s", first, again)
		}
	}
	if !strings.Contains(first, `"k":["1","b","a"]`) {
		t.Errorf("%s", first) // the order that ECMAScript prescribes for own keys
	}
}
