package engine

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"

	"readyferry/core/flow"
	"readyferry/engine/journal"
	"readyferry/store"
)

// publishUnder makes a document a version as it was published under older rules.
func (w *world) publishUnder(rules flow.Rules, document string) {
	w.t.Helper()
	w.publish(document)
	name := strings.TrimPrefix(strings.Split(strings.TrimSpace(document), "\n")[1], "name: ")
	err := w.store.Write(context.Background(), func(tx *store.Tx) error {
		f, err := tx.Flow(name)
		if err != nil {
			return err
		}
		v := store.Version{Flow: name, Document: f.Draft, Rules: int(rules)}
		if err := tx.AddVersion(&v); err != nil {
			return err
		}
		f.Live = v.N
		return tx.SaveFlow(&f)
	})
	if err == nil {
		err = w.Engine.Catalog.Changed()
	}
	if err != nil {
		w.t.Fatal(err)
	}
}

const ruledFlow = `
readyferry: flow/1
name: ruled
intake: {kind: webhook, path: /ruled}
steps:
  - {id: ok, kind: validate, schema: {required: [x]}, else: {steps: [{id: why, kind: note, text: '${caught.reason}'}]}}
  - {id: d, kind: deliver, to: out, path: '/${body.?inner.name.orValue("none")}'}
`

// A version keeps the rules that it was published under: for new messages, for those
// that are looked at, and for those that are sent again under it. A version that is
// published now has the newest, and its draft says where that makes a difference.
func TestAVersionKeepsItsRules(t *testing.T) { synctest.Test(t, testAVersionKeepsItsRules) }

func testAVersionKeepsItsRules(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publishUnder(flow.Rules1, ruledFlow)
	old := w.accepted("/ruled", `{"inner": null}`)
	w.becomes(old, store.Delivered)
	if got := w.out.got(); len(got) != 1 || got[0].path != "/none" {
		t.Fatalf("%+v", got)
	}
	_, findings := w.Read("ruled", []byte(ruledFlow), nil)
	said := map[string]bool{}
	for _, f := range findings {
		said[f.Code] = f.Code != "else-ends" || strings.Contains(f.Repair, "then: go on")
	}
	if !said["else-ends"] || !said["optional-access"] {
		t.Errorf("nothing says that the draft does something else: %v", findings)
	}
	w.out.status(422)
	dead := w.accepted("/ruled", `{"inner": null, "n": 2}`)
	w.becomes(dead, store.DeadLetter)

	w.publish(ruledFlow)
	if got := w.becomes(w.accepted("/ruled", `{"inner": null}`), store.TurnedAway); got.Reason != "/x is required" {
		t.Errorf("%q", got.Reason)
	}
	if got := w.becomes(w.accepted("/ruled", `{"x": 1, "inner": null}`), store.DeadLetter); !strings.Contains(
		got.Reason, "body.inner is a null, which has no members",
	) {
		t.Errorf("%q", got.Reason)
	}
	_, findings = w.Read("ruled", []byte(ruledFlow), nil)
	for _, f := range findings {
		if f.Code == "else-ends" || f.Code == "optional-access" {
			t.Errorf("the live version ends there, too: %v", f)
		}
	}
	r, err := w.Inspect(old)
	if err != nil || r.State != "delivered" || len(r.Trace) != 3 {
		t.Errorf("%+v, %v", r, err)
	}
	w.out.status(200)
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(dead).ID},
		Version: "own"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(dead, store.Delivered)
}

// message.id of a part is its own; a whole of which nothing came through says so.
func TestPartsHaveTheirOwnIDsAndAWholeSaysThatAllWereTurnedAway(t *testing.T) {
	synctest.Test(t, testPartsHaveTheirOwnIDs)
}

func testPartsHaveTheirOwnIDs(t *testing.T) {
	const doc = `
readyferry: flow/1
name: parts
intake: {kind: webhook, path: /parts}
steps:
  - {id: each, kind: split, each: body.l, steps: [
      {id: big, kind: filter, keep: 'part > 2', reason: '${part} is small'},
      {id: d, kind: deliver, to: out, path: '/${message.id}/${message.parent == "" ? "-" : message.parent}'}]}
`
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(doc)
	id := w.accepted("/parts", `{"l": [3]}`)
	w.becomes(id, store.Delivered)
	part := w.parts(id)[0].ID
	if got := w.out.got()[0].path; got != "/"+part.String()+"/"+id.String() {
		t.Errorf("%s, the part is %s of %s", got, part, id)
	}
	away := w.becomes(w.accepted("/parts", `{"l": [1, 2]}`), store.TurnedAway)
	if away.Reason != "all 2 parts were turned away, the first: 1 is small" {
		t.Errorf("%q", away.Reason)
	}
	w.becomes(w.accepted("/parts", `{"l": [1, 7]}`), store.Delivered)

	w.publishUnder(flow.Rules1, doc)
	id = w.accepted("/parts", `{"l": [3]}`)
	w.becomes(id, store.Delivered)
	if got := w.out.got()[2].path; got != "/"+id.String()+"/-" {
		t.Errorf("as it was: %s, the whole is %s", got, id)
	}
	w.becomes(w.accepted("/parts", `{"l": [1, 2]}`), store.Delivered)
	said := map[string]bool{}
	_, findings := w.Read("parts", []byte(doc), nil)
	for _, f := range findings {
		said[f.Code] = true
	}
	if !said["part-id"] || !said["all-turned-away"] {
		t.Errorf("nothing says what is otherwise: %v", findings)
	}
}

// A condition of ? : is true or false; it was taken for false before.
func TestAConditionIsTrueOrFalse(t *testing.T) { synctest.Test(t, testAConditionIsTrueOrFalse) }

func testAConditionIsTrueOrFalse(t *testing.T) {
	const doc = `
readyferry: flow/1
name: cond
intake: {kind: webhook, path: /cond}
steps: [{id: m, kind: map, fields: [{to: /a, from: 'body.t ? 1 : 2'}, {to: /b, from: 'body.t.orValue(3)'}]}]
`
	w := start(t, t.TempDir(), &target{})
	w.publishUnder(flow.Rules1, doc)
	w.becomes(w.accepted("/cond", `{"t": "x"}`), store.Delivered)
	said := false
	_, findings := w.Read("cond", []byte(doc), nil)
	for _, f := range findings {
		said = said || f.Code == "condition"
	}
	if !said {
		t.Errorf("nothing says what is otherwise: %v", findings)
	}
	w.publish(doc)
	dead := w.becomes(w.accepted("/cond", `{"t": "x"}`), store.DeadLetter)
	if !strings.Contains(dead.Reason, "body.t is a string, and a condition is true or false") {
		t.Errorf("%q", dead.Reason)
	}
}
