package engine

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"

	"readyferry/engine/journal"
	"readyferry/store"
)

func TestCodeRunsOnceAndAnewForARepairedMessage(t *testing.T) {
	synctest.Test(t, testCodeRunsOnceAndAnewForARepairedMessage)
}

func testCodeRunsOnceAndAnewForARepairedMessage(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.table("name: t\n", "k,v\na,1\nb,2\n")
	w.publish(`
readyferry: flow/1
name: c
intake: {kind: webhook, path: /c}
steps:
  - {id: find, kind: lookup, in: t, key: body.k}
  - {id: calc, kind: code, script: "if (body.bad === undefined) body.bad = 'n';\nreturn {twice: Number(vars.find.v) * 2, ...body}"}
  - {id: strict, kind: validate, schema: {properties: {bad: {const: "n"}}}}
  - {id: d, kind: deliver, to: out}
`)
	id := w.accepted("/c", `{"k": "a", "bad": "y"}`)
	w.becomes(id, store.DeadLetter)
	effects, err := w.store.Effects(id)
	if err != nil || len(effects) != 2 ||
		!strings.Contains(string(effects[0].Result), `"value":{"twice":2,"k":"a","bad":"y"}`) {
		t.Fatalf("%v, %v", effects, err)
	}
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(id).ID}, Version: "own",
		Message: []byte(`{"k": "b"}`)}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
	if got := w.out.got()[0].body; got != `{"twice":4,"k":"b","bad":"n"}` {
		t.Errorf("%s", got)
	}
	bad := strings.Replace(`
readyferry: flow/1
name: c
intake: {kind: webhook, path: /c}
steps:
  - id: calc
    kind: code
    script: |
      const a = 1;
      return a +;
`, "\t", "", -1)
	_, findings, err := w.SaveDraft(context.Background(), "c", []byte(bad), nil)
	if err != nil || len(findings) == 0 || findings[0].Code != "script" && findings[len(findings)-1].Code != "script" {
		t.Fatalf("%+v, %v", findings, err)
	}
	for _, f := range findings {
		if f.Code == "script" && f.Line != 10 {
			t.Errorf("%+v", f)
		}
	}
}
