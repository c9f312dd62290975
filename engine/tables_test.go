package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/table"
	"readyferry/engine/design"
	"readyferry/engine/journal"
	"readyferry/store"
)

func (w *world) table(document, file string) {
	w.t.Helper()
	name := strings.Fields(strings.SplitN(document, "name:", 2)[1])[0]
	if _, err := w.SaveTable(context.Background(), name, []byte("readyferry: table/1\n"+document), nil); err != nil {
		w.t.Fatal(err)
	}
	if file == "" {
		return
	}
	if _, err := w.Import(context.Background(), name, "csv", []byte(file), false, false); err != nil {
		w.t.Fatal(err)
	}
}

func node(t *testing.T, src string) *message.Node {
	t.Helper()
	r, err := jsonfmt.Decode([]byte(src))
	if err != nil {
		t.Fatal(err)
	}
	return r.Root
}

func (w *world) rows(name string) string {
	w.t.Helper()
	info, err := w.store.TableInfo(name)
	if err != nil {
		w.t.Fatal(err)
	}
	var out []string
	if err := w.store.EachTableRow(name, info.Version, func(row *table.Row) error {
		out = append(out, string(jsonfmt.Encode(row.Value)))
		return nil
	}); err != nil {
		w.t.Fatal(err)
	}
	if int(info.Rows) != len(out) {
		w.t.Errorf("%s counts %d rows and holds %d", name, info.Rows, len(out))
	}
	return strings.Join(out, " ")
}

const hops = `
readyferry: flow/1
name: hops
intake: {kind: webhook, path: /hops}
steps:
  - {id: find, kind: lookup, in: copies, key: body.item, then: [{in: branches, key: row.branch, into: branch},
      {in: runs, key: {run: row.run, day: body.day}}], into: run}
  - {id: out, kind: map, fields: [{to: /van, from: vars.run.van}, {to: /branch, from: vars.branch.name}]}
  - {id: d, kind: deliver, to: out, path: /x}
`

func TestALookupOverThreeHops(t *testing.T) { synctest.Test(t, testALookupOverThreeHops) }

func testALookupOverThreeHops(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.table("name: copies\nkeys: [[item]]\n", "item,branch\ni1,ELMS\ni2,MARL\n")
	w.table("name: branches\n", "code,name,run\nELMS,Elms Park,1\n")
	w.table("name: runs\nkeys: [[run, day]]\n", "run,day,van\n1,mon,A\n1,tue,B\n")
	w.publish(hops)
	id := w.accepted("/hops", `{"item": "i1", "day": "tue"}`)
	w.becomes(id, store.Delivered)
	if got := w.out.got()[0].body; got != `{"van":"B","branch":"Elms Park"}` {
		t.Errorf("delivered %s", got)
	}
	// A row that is missing at the second hop is a dead letter that names it.
	second := w.accepted("/hops", `{"item": "i2", "day": "tue"}`)
	w.becomes(second, store.DeadLetter)
	l := w.letter(second)
	if l.Kind != "lookup" || l.Class != "data" ||
		!strings.Contains(l.Reason, `the table "branches" has no row for code "MARL"`) {
		t.Errorf("%+v", l)
	}
	// The table changes: the message that is sent again looks anew, and what
	// the first one found then is still shown.
	if _, err := w.EditRows(context.Background(), "branches", nil, []design.RowEdit{{Value: node(t,
		`{"code":"MARL","name":"Marlow Road","run":"1"}`)}}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Import(context.Background(), "runs", "csv", []byte("run,day,van\n1,tue,Z\n"), false,
		false); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{l.ID}, Version: "own"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(second, store.Delivered)
	if calls := w.out.got(); calls[1].body != `{"van":"Z","branch":"Marlow Road"}` {
		t.Errorf("delivered %s", calls[1].body)
	}
	r, err := w.Inspect(id)
	if err != nil {
		t.Fatal(err)
	}
	looked := r.Trace[0].Looked
	if len(looked) != 3 || string(looked[2].Row) != `{"run":"1","day":"tue","van":"B"}` ||
		looked[2].Key != `run "1", day "tue"` ||
		looked[2].Version == 0 {
		t.Errorf("inspection shows %+v", looked)
	}
	if r.Trace[0].Outcome != "found, 3 hops" {
		t.Errorf("%+v", r.Trace[0])
	}
}

func TestATableThatIsMissingOrHasChangedItsShape(t *testing.T) {
	synctest.Test(t, testATableThatIsMissingOrHasChangedItsShape)
}

func testATableThatIsMissingOrHasChangedItsShape(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.table("name: copies\n", "item,branch\ni1,ELMS\n")
	w.table("name: branches\n", "code,name,run\nELMS,Elms Park,1\n")
	w.table("name: runs\nkeys: [[run, day]]\n", "run,day,van\n1,mon,A\n")
	w.publish(hops)
	if err := w.DeleteTable(context.Background(), "runs"); !errors.Is(err, ErrInUse) {
		t.Errorf("a table in use is deleted: %v", err)
	}
	if _, err := w.SaveTable(context.Background(), "runs", []byte("readyferry: table/1\nname: runs\nkeys: [[run]]\n"),
		nil); err != nil {
		t.Fatal(err)
	}
	id := w.accepted("/hops", `{"item": "i1", "day": "mon"}`)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Class != "flow" ||
		!strings.Contains(l.Reason, `the table "runs" has no key of the columns run, day; its keys are {run}`) {
		t.Errorf("%+v", l)
	}
	_, findings, err := w.SaveDraft(
		context.Background(),
		"hops",
		[]byte(strings.Replace(hops, "in: branches", "in: branchs", 1)),
		nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	if s := fmt.Sprint(findings); !strings.Contains(s, `there is no table "branchs"`) ||
		!strings.Contains(s, "did you mean branches?") ||
		!strings.Contains(s, "has no key of the columns run, day") {
		t.Errorf("%s", s)
	}
}

func TestPairsAreWrittenWithTheStepAndConflictsReported(t *testing.T) {
	synctest.Test(t, testPairsAreWrittenWithTheStepAndConflictsReported)
}

func testPairsAreWrittenWithTheStepAndConflictsReported(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.table("name: keys\nkind: cross-reference\nkeys: [[card], [member]]\n", "")
	w.publish(`
readyferry: flow/1
name: link
intake: {kind: webhook, path: /link}
steps:
  - {id: known, kind: lookup, in: keys, key: {card: body.card}, missing: skip}
  - {id: w, kind: pair, in: keys, row: {card: body.card, member: body.member}}
  - {id: d, kind: deliver, to: out, path: '/${has(vars.known) ? "update" : "create"}'}
`)
	w.becomes(w.accepted("/link", `{"card": "1", "member": "a"}`), store.Delivered)
	w.becomes(w.accepted("/link", `{"card": "1", "member": "a"}`), store.Delivered)
	clash := w.accepted("/link", `{"card": "2", "member": "a"}`)
	w.becomes(clash, store.DeadLetter)
	if l := w.letter(clash); !strings.Contains(
		l.Reason,
		`the pair card "2" = member "a" conflicts with card "1" = member "a"`,
	) {
		t.Errorf("%s", l.Reason)
	}
	if calls := w.out.got(); len(calls) != 2 || calls[0].path != "/create" || calls[1].path != "/update" {
		t.Errorf("%+v", calls)
	}
	if got := w.rows("keys"); got != `{"card":"1","member":"a"}` {
		t.Errorf("%s", got)
	}
	changes, err := w.store.TableChanges("keys", 0, 10)
	if err != nil || changes[0].By != "link" || changes[0].Tx == nil || changes[0].What != "paired" {
		t.Errorf("%+v, %v", changes, err)
	}
}

func TestATableKeepsItsVersions(t *testing.T) { synctest.Test(t, testATableKeepsItsVersions) }

func testATableKeepsItsVersions(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	ctx := context.Background()
	w.table("name: t\n", "k,v\n1,a\n2,b\n")
	first, _ := w.store.TableInfo("t")
	preview, err := w.Import(ctx, "t", "csv", []byte("k,v\n2,B\n3,c\n"), false, true)
	if err != nil || preview != (design.Imported{Rows: 2, Added: 1, Changed: 1, Removed: 1}) {
		t.Errorf("%+v, %v", preview, err)
	}
	if got := w.rows("t"); got != `{"k":"1","v":"a"} {"k":"2","v":"b"}` {
		t.Errorf("a preview changes the table: %s", got)
	}
	if _, err := w.Import(ctx, "t", "csv", []byte("k,v\n2,B\n3,c\n"), true, false); err != nil {
		t.Fatal(err)
	}
	if got := w.rows("t"); got != `{"k":"1","v":"a"} {"k":"2","v":"B"} {"k":"3","v":"c"}` {
		t.Errorf("merged: %s", got)
	}
	if _, err := w.EditRows(ctx, "t", nil, []design.RowEdit{{Value: node(t, `{"k":"3","v":"again"}`)}}); err == nil ||
		!strings.Contains(err.Error(), "clashes") {
		t.Errorf("a key stands twice: %v", err)
	}
	if _, err := w.EditRows(ctx, "t", &first.Version, []design.RowEdit{{Value: node(t, `{"k":"9"}`)}}); !errors.Is(
		err,
		ErrConflict,
	) {
		t.Errorf("a lost edit: %v", err)
	}
	// Keys change places in one edit.
	info, _ := w.store.TableInfo("t")
	rows, err := w.store.TableRows("t", info.Version, 0, "", 10)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.EditRows(ctx, "t", nil, []design.RowEdit{{Row: rows[0].N, Value: node(t, `{"k":"2","v":"a"}`)},
		{Row: rows[1].N, Value: node(t, `{"k":"1","v":"B"}`)}, {Row: rows[2].N}}); err != nil {
		t.Fatal(err)
	}
	if got := w.rows("t"); got != `{"k":"2","v":"a"} {"k":"1","v":"B"}` {
		t.Errorf("edited: %s", got)
	}
	if _, err := w.RestoreTable(ctx, "t", first.Version); err != nil {
		t.Fatal(err)
	}
	if got := w.rows("t"); !strings.Contains(got, `{"k":"1","v":"a"}`) || !strings.Contains(got, `{"k":"2","v":"b"}`) ||
		strings.Contains(got, "B") {
		t.Errorf("restored: %s", got)
	}
	// A definition that the rows do not fit changes nothing.
	if _, err := w.SaveTable(ctx, "t", []byte("readyferry: table/1\nname: t\nkeys: [[missing]]\n"), nil); err == nil ||
		!strings.Contains(err.Error(), "the column missing of the key is empty") {
		t.Errorf("%v", err)
	}
}

// A load that is stopped half way leaves the table as it was, and can be done again.
func TestALoadThatIsStoppedHalfWay(t *testing.T) { synctest.Test(t, testALoadThatIsStoppedHalfWay) }

func testALoadThatIsStoppedHalfWay(t *testing.T) {
	dir := t.TempDir()
	w := start(t, dir, &target{})
	w.table("name: big\n", "k,v\n0,old\n")
	var file strings.Builder
	file.WriteString("k,v\n")
	for i := range 3 * 2000 {
		fmt.Fprintf(&file, "%d,new\n", i)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		_, err := w.Import(ctx, "big", "csv", []byte(file.String()), false, false)
		done <- err
	}()
	w.until(
		"some rows are loaded",
		func() bool { l, ok := w.LoadingOf("big"); return ok && l.Done > 0 || len(done) > 0 },
	)
	stop()
	if err := <-done; err != nil {
		if got := w.rows("big"); got != `{"k":"0","v":"old"}` {
			t.Errorf("%s", got)
		}
	}
	if _, err := w.Import(context.Background(), "big", "csv", []byte(file.String()), false, false); err != nil {
		t.Fatal(err)
	}
	if n := strings.Count(w.rows("big"), "new"); n != 3*2000 {
		t.Errorf("%d rows", n)
	}
}
