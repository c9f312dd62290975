package main

import (
	"encoding/xml"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A team's own build learns whether samples come to what is expected of them, and what none reaches.
func TestCheckRehearsesSamples(t *testing.T) {
	binary, dir := program(t), t.TempDir()
	put := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	file := put("f.yaml", `readyferry: flow/1
name: f
intake: {kind: webhook, path: /f, callers: [k]}
steps:
- id: by
  kind: route
  take: first
  ways:
  - {name: big, when: body.n > 10, steps: [{id: big-one, kind: note, text: big}]}
  - {name: odd, when: body.n == 3, steps: [{id: odd-one, kind: map, fields: [{to: /a, from: body.gone}], else: {steps: [{id: lost, kind: note, text: lost}]}}]}
  otherwise: {steps: [{id: rest, kind: note, text: rest}]}
`)
	put(
		"samples/f/1.json",
		`{"name": "large", "group": "great", "body": "{\"n\": 11}", "expect": {"state": "delivered", "outcomes": {"by": "big", "by.big/big-one": "big"}}}`,
	)
	put(
		"samples/f/2.json",
		`{"name": "small", "body": "{\"n\": 1}", "expect": {"state": "dead letter", "outcomes": {"by": "odd"}}}`,
	)
	put("samples/f/3.json", `{"name": "new", "body": "{\"n\": 2}"}`)
	samples := filepath.Join(dir, "samples")
	out, errs, code := execute(t, binary, "check", file, "--samples", samples, "--coverage")
	for _, want := range []string{
		"sample small was a dead letter, now delivered", "sample small at by it was odd, now otherwise",
		"sample small did not come to by.otherwise/rest, now does: rest",
		"no sample reaches the way odd of by", "no sample reaches the step odd-one", "no sample reaches what happens when odd-one fails",
		"3 samples, 1 as expected, 1 not, 1 say nothing of it",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("it does not say %q:\n%s%s", want, out, errs)
		}
	}
	if code != 1 || strings.Contains(out, "reaches the way big") {
		t.Errorf("%d: %s", code, out)
	}
	if out, _, code = execute(t, binary, "check", file, "--samples", samples, "--group", "great"); code != 0 ||
		!strings.Contains(out, "1 samples, 1 as expected") {
		t.Errorf("of a group: %d: %s", code, out)
	}
	report := filepath.Join(dir, "report.xml")
	if out, _, code = execute(t, binary, "check", file, "--samples", samples, "--junit", report, "--json"); code != 1 ||
		!strings.Contains(out, `"expected": "differs"`) || strings.Contains(out, "unreached") {
		t.Errorf("%d: %s", code, out)
	}
	b, err := os.ReadFile(report)
	if err != nil {
		t.Fatal(err)
	}
	var read junitSuites
	if err := xml.Unmarshal(b, &read); err != nil || len(read.Suites) != 1 || read.Suites[0].Failures != 1 ||
		read.Suites[0].Skipped != 1 || read.Suites[0].Tests != 3 || !strings.HasPrefix(read.Suites[0].Cases[1].Failure.Message, "was a dead letter") {
		t.Errorf("%s, %v", b, err)
	}
	put("samples/f/2.json", `{"name": "small", "body": "{\"n\": 1}"}`)
	if out, _, code = execute(t, binary, "check", file, "--samples", samples); code != 0 ||
		!strings.Contains(out, "0 not") {
		t.Errorf("%d: %s", code, out)
	}
	if _, errs, code = execute(t, binary, "check", file, "--coverage"); code != 2 ||
		!strings.Contains(errs, "need --samples") {
		t.Errorf("%d: %s", code, errs)
	}
	put("samples/f/4.json", `{`)
	if _, errs, code = execute(t, binary, "check", file, "--samples", samples); code != 2 ||
		!strings.Contains(errs, "4.json is no sample") {
		t.Errorf("%d: %s", code, errs)
	}
}
