package engine

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"

	"readyferry/core/message"
	"readyferry/engine/design"
	"readyferry/engine/journal"
	"readyferry/store"
)

const looks = `
readyferry: flow/1
name: looks
intake: {kind: webhook, path: /looks}
steps:
  - {id: m, kind: map, fields: [{to: /all, each: body.items, fields: [{to: /run, from: 'lookup("branches", item).run'}]}]}
  - {id: d, kind: deliver, to: out, path: '/${lookup("runs", {"run": body.all[0].run, "day": "mon"}).van}'}
  - {id: n, kind: note, text: '${lookup("branches", replies.d.body.code).run}'}
`

// lookup() in an expression finds the rows of tables that are kept beside the flows; the
// transaction keeps what was found, and a resend looks anew.
func TestLookupInAnExpression(t *testing.T) { synctest.Test(t, testLookupInAnExpression) }

func testLookupInAnExpression(t *testing.T) {
	w := start(t, t.TempDir(), &target{answer: func(int, call) (reply, error) {
		return reply{Status: 200, Headers: []message.Header{{Name: "content-type", Value: "application/json"}},
			Body: []byte(`{"code": "ELMS"}`)}, nil
	}})
	w.connect("out", fast)
	w.table("name: branches\n", "code,run\nELMS,1\n")
	w.table("name: runs\nkeys: [[run, day]]\n", "run,day,van\n1,mon,A\n")
	w.publish(looks)
	if err := w.DeleteTable(context.Background(), "runs"); err == nil {
		t.Error("a table that an expression names is deleted")
	}
	id := w.accepted("/looks", `{"items": ["ELMS", "ELMS"]}`)
	w.becomes(id, store.Delivered)
	if got := w.out.got()[0]; got.path != "/A" || got.body != `{"all":[{"run":"1"},{"run":"1"}]}` {
		t.Errorf("delivered %s to %s", got.body, got.path)
	}
	second := w.accepted("/looks", `{"items": ["ELMS", "MARL"]}`)
	w.becomes(second, store.DeadLetter)
	l := w.letter(second)
	if !strings.Contains(l.Reason, `the table "branches" has no key "MARL"`) || l.Class != "data" {
		t.Errorf("%+v", l)
	}
	for table, row := range map[string]string{"branches": `{"code":"MARL","run":"1"}`,
		"runs": `{"run":"2","day":"mon","van":"B"}`} {
		edit := []design.RowEdit{{Value: node(t, row)}}
		if _, err := w.EditRows(context.Background(), table, nil, edit); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := w.Import(context.Background(), "branches", "csv", []byte("code,run\nELMS,2\nMARL,2\n"), false,
		false); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{l.ID}, Version: "own"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(second, store.Delivered)
	if got := w.out.got()[1]; got.path != "/B" || got.body != `{"all":[{"run":"2"},{"run":"2"}]}` {
		t.Errorf("delivered %s to %s", got.body, got.path)
	}
	// What the first one found is still shown as it was then, each row once.
	r, err := w.Inspect(id)
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{
		`code "ELMS" {"code":"ELMS","run":"1"}`,
		`run "1", day "mon" {"run":"1","day":"mon","van":"A"}`,
		`code "ELMS" {"code":"ELMS","run":"1"}`,
	} {
		looked := r.Trace[i].Looked
		if len(looked) != 1 || looked[0].Key+" "+string(looked[0].Row) != want || looked[0].Version == 0 {
			t.Errorf("step %s shows %+v, want %s", r.Trace[i].Path, looked, want)
		}
	}
}

// A table that is not there is a finding at the place of its name, and so is one of another key.
func TestLookupsAreChecked(t *testing.T) { synctest.Test(t, testLookupsAreChecked) }

func testLookupsAreChecked(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.table("name: branches\n", "code,run\nELMS,1\n")
	w.table("name: runs\nkeys: [[run, day]]\n", "")
	_, findings := w.Read("looks", []byte(strings.ReplaceAll(strings.ReplaceAll(looks, `lookup("branches", item)`,
		`lookup("branchs", item)`),
		`"day": "mon"`, `"tag": "mon"`)), nil)
	var got []string
	for _, f := range findings {
		if f.Step != "" {
			got = append(got, f.Step+" "+f.Pointer+": "+f.Message+"; "+f.Repair)
		}
	}
	want := []string{
		`m /steps/0/fields/0/fields/0/from: there is no table "branchs"; did you mean branches?`,
		`d /steps/1/path: the table "runs" has no key of the columns run, tag; its keys are {run, day}`,
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("found\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
