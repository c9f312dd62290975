package expr

import (
	"errors"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"readyferry/core/message"
)

// items gives a body with a list of n numbers and a long text.
func items(n int) string {
	return `{"l":[0` + strings.Repeat(",7", n-1) + `],"s":"` + strings.Repeat("abcdefghij", n) + `"}`
}

// Small in memory, and without bounds when it is written: none of these may be.
func TestWhatAnExpressionBuildsIsBounded(t *testing.T) {
	e := env(t)
	for name, source := range map[string]string{
		"lists that share":       "cel.bind(b, body.l.map(x, body.l), b.map(x, b))",
		"written out":            "json(cel.bind(b, body.l.map(x, body.l), b.map(x, b)))",
		"nested loops":           "body.l.map(x, body.l.map(y, body.l.map(z, body.l)))",
		"doubled lists":          doubled("body.l", 40),
		"doubled texts":          doubled("body.s", 40),
		"many additions":         "size(" + strings.TrimSuffix(strings.Repeat("body.s + ", 200), " + ") + ")",
		"replacing":              `body.s.replace("", body.s).replace("", body.s)`,
		"joining":                "body.l.map(x, body.s).join(body.s)",
		"formatting":             `("%s".format([body.l.map(x, body.l.map(y, body.l))])).size()`,
		"maps":                   `body.l.map(x, {"a": body, "b": body, "c": body})`,
		"a literal of the whole": "[" + strings.TrimSuffix(strings.Repeat("body,", 10_000), ",") + "]",
		"flattened":              "cel.bind(b, body.l.map(x, body.l), b.map(x, b)).flatten(3)",
		"compared":               "cel.bind(b, body.l.map(x, body.l), cel.bind(c, b.map(x, b), c == c))",
		"a range":                "lists.range(1000000000)",
		"a precision":            `("%." + string(body.l[1]) + "00000000f").format([1.5])`,
		"transformed":            "body.l.transformList(i, v, body.l.transformList(j, w, body))",
	} {
		t.Run(name, func(t *testing.T) {
			p, err := e.Compile(source)
			if err != nil {
				t.Fatal(err)
			}
			s := scope(t, items(1000))
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err = p.Eval(s)
			if err == nil {
				_, err = p.EvalJSON(s)
			}
			runtime.ReadMemStats(&after)
			if err == nil {
				t.Fatal("it was not stopped")
			}
			if got := after.TotalAlloc - before.TotalAlloc; got > 1<<30 {
				t.Errorf("%d MiB were allocated before it was stopped: %v", got>>20, err)
			}
		})
	}
}

func doubled(what string, times int) string {
	var b strings.Builder
	last := what
	for i := range times {
		fmt.Fprintf(&b, "cel.bind(v%d, %s + %s, ", i, last, last)
		last = fmt.Sprintf("v%d", i)
	}
	return b.String() + "size(" + last + ") > 0 ? " + last + " : " + last + strings.Repeat(")", times)
}

// What many evaluations build counts for the whole of their work.
func TestEvaluationsShareAMemory(t *testing.T) {
	e := env(t)
	p, err := e.Compile(`body.l.map(x, {"n": x})`)
	if err != nil {
		t.Fatal(err)
	}
	s := scope(t, items(1000))
	s.Memory = message.NewMemory("a message", 1<<20)
	for n := 0; ; n++ {
		_, err := p.Eval(s)
		var much *message.MemoryError
		if errors.As(err, &much) {
			if n == 0 || much.What != "a message" {
				t.Errorf("after %d: %v", n, err)
			}
			return
		}
		if err != nil || n > 100 {
			t.Fatalf("after %d: %v", n, err)
		}
	}
}

// What is usual stays far from the limits.
func TestOrdinaryWorkIsNotStopped(t *testing.T) {
	e := env(t)
	for _, source := range []string{
		`body.l.map(x, {"n": x, "text": string(x) + "!"}).size()`,
		`body.l.filter(x, x > 3).map(x, [x, x]).size()`,
		`body.s.replace("a", "bb").size()`,
		`body.l.map(x, string(x)).join(", ").size()`,
		`{"whole": body, "again": body}`,
	} {
		p, err := e.Compile(source)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := p.Eval(scope(t, items(50_000))); err != nil {
			t.Errorf("%s: %v", source, err)
		}
	}
}
