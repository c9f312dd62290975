package engine

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/engine/intake"
	"readyferry/store"
)

const loadable = `
readyferry: flow/1
name: members
intake: {kind: load, reference: body.card}
steps:
  - {id: n, kind: note, text: '${body.card}'}
`

func (w *world) load(n intake.NewLoad, until ...store.LoadState) store.Load {
	w.t.Helper()
	n.Flow, n.Title = "members", "test"
	l, err := w.AddLoad(context.Background(), n)
	if err != nil {
		w.t.Fatal(err)
	}
	return w.loadIs(l.ID, until...)
}

func (w *world) loadIs(id store.ID, states ...store.LoadState) (l store.Load) {
	w.t.Helper()
	w.until(fmt.Sprint(states), func() bool {
		l, _ = w.store.Load(id)
		for _, s := range states {
			if l.State == s {
				return true
			}
		}
		return false
	})
	return l
}

func (w *world) references(flow string) map[string]int {
	w.t.Helper()
	out := map[string]int{}
	var after *store.ID
	for {
		rows, err := w.store.Transactions(store.Filter{Flow: flow, Limit: 1000, After: after})
		if err != nil {
			w.t.Fatal(err)
		}
		for _, r := range rows {
			out[r.Reference]++
		}
		if len(rows) < 1000 {
			return out
		}
		after = &rows[len(rows)-1].ID
	}
}

// A bulk load that is stopped half way, by a person and by the end of the
// process, goes on where it stopped: nothing is missing, nothing is loaded twice.
func TestABulkLoadIsPausedAndGoesOnAfterARestart(t *testing.T) {
	synctest.Test(t, testABulkLoadIsPausedAndGoesOnAfterARestart)
}

func testABulkLoadIsPausedAndGoesOnAfterARestart(t *testing.T) {
	dir := t.TempDir()
	w := start(t, dir, &target{})
	w.publish(loadable)
	const n = 1500
	var file strings.Builder
	file.WriteString("\uFEFFcard,name\r\n")
	for i := range n {
		fmt.Fprintf(&file, "c%d,\"line\r\nbreak, %d\"\r\n", i, i)
	}
	l := w.load(
		intake.NewLoad{Format: "csv", Filter: `!record.card.endsWith("7")`, File: strings.NewReader(file.String())},
		store.LoadReady,
	)
	if l.Total != n || l.Matching != n-n/10 || l.Taken != 0 || len(w.references("members")) != 0 {
		t.Fatalf("the count: %+v", l)
	}
	ctx := context.Background()
	if err := w.SetLoad(ctx, l.ID, "start"); err != nil {
		t.Fatal(err)
	}
	w.until("some are loaded", func() bool { x, _ := w.store.Load(l.ID); return x.Taken > 0 })
	if err := w.SetLoad(ctx, l.ID, "pause"); err == nil {
		paused := w.loadIs(l.ID, store.LoadPaused)
		time.Sleep(50 * time.Millisecond)
		if again, _ := w.store.Load(l.ID); again.Read != paused.Read && again.Read > paused.Read+200 {
			t.Errorf("it goes on although it is paused: %+v", again)
		}
		if err := w.SetLoad(ctx, l.ID, "resume"); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(20 * time.Millisecond)
	w.close() // in the middle
	w = start(t, dir, &target{})
	done := w.loadIs(l.ID, store.LoadDone)
	if done.Read != n || done.Taken != n-n/10 || done.Skipped != n/10 || done.Refused != 0 {
		t.Errorf("%+v", done)
	}
	got := w.references("members")
	if len(got) != n-n/10 {
		t.Errorf("%d records", len(got))
	}
	for ref, times := range got {
		if times != 1 || strings.HasSuffix(ref, "7") {
			t.Errorf("%s is loaded %d times", ref, times)
		}
	}
	if err := w.SetLoad(ctx, l.ID, "resume"); err == nil {
		t.Error("a load that is done goes on")
	}
}

func TestJSONLinesAndWhatCannotBeRead(t *testing.T) {
	synctest.Test(t, testJSONLinesAndWhatCannotBeRead)
}

func testJSONLinesAndWhatCannotBeRead(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.publish(loadable)
	l := w.load(
		intake.NewLoad{
			Format: "jsonl",
			File:   strings.NewReader("{\"card\": \"a\"}\n\n{\"card\": \"b\"}\r\n{\"card\": \"c\n{\"card\": \"d\"}"),
		},
		store.LoadReady,
	)
	if l.Total != 4 {
		t.Errorf("%+v", l)
	}
	if err := w.SetLoad(context.Background(), l.ID, "start"); err != nil {
		t.Fatal(err)
	}
	done := w.loadIs(l.ID, store.LoadDone)
	if done.Taken != 3 || done.Refused != 1 { // the line that is no JSON is a dead letter: nothing is lost
		t.Errorf("%+v", done)
	}
	if got := fmt.Sprint(w.references("members")); got != "map[:1 a:1 b:1 d:1]" {
		t.Error(got)
	}
	for name, n := range map[string]intake.NewLoad{
		"filter":              {Format: "csv", Filter: "record.", File: strings.NewReader("a\n1\n")},
		"there is no SQL":     {Format: "query", Connection: "none", SQL: "SELECT 1", Key: "id"},
		"a load reads csv":    {Format: "xml"},
		"the file is missing": {Format: "csv"},
	} {
		n.Flow = "members"
		if _, err := w.AddLoad(context.Background(), n); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
	failed := w.load(intake.NewLoad{Format: "csv", File: strings.NewReader("card\na\nb,c\n")}, store.LoadFailed)
	if failed.Error != "at record 2: a row has 2 fields, and the first row names 1 columns" {
		t.Errorf("%q", failed.Error)
	}
	// What the filter cannot decide stops the load before anything is loaded.
	odd := w.load(
		intake.NewLoad{Format: "csv", Filter: "int(record.n) > 1", File: strings.NewReader("card,n\na,2\nb,x\n")},
		store.LoadFailed,
	)
	if !strings.HasPrefix(odd.Error, "at record 2: filter: ") || odd.Taken != 0 {
		t.Errorf("%+v", odd)
	}
}

func TestTheRowsOfAQueryAreLoaded(t *testing.T) { synctest.Test(t, testTheRowsOfAQueryAreLoaded) }

func testTheRowsOfAQueryAreLoaded(t *testing.T) {
	file := filepath.Join(t.TempDir(), "out.db")
	db, err := sql.Open("sqlite3", file)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`CREATE TABLE members (id INTEGER PRIMARY KEY, card TEXT); WITH RECURSIVE n(i) AS (SELECT ` +
		`1 UNION ALL SELECT i + 1 FROM n WHERE i < 1200) INSERT INTO members SELECT i, 'c' || i FROM n`); err != nil {
		t.Fatal(err)
	}
	databases := registry(t)
	w := startAt(t, t.TempDir(), databases, time.Now)
	if err := w.Engine.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := w.SaveConnection(context.Background(), "circ", []byte("readyferry: connection/1\nname: "+
		"circ\nkind: sql\ndriver: sqlite\naddress: file://"+file+"\n"), nil); err != nil {
		t.Fatal(err)
	}
	w.publish(loadable)
	l := w.load(
		intake.NewLoad{
			Format:     "query",
			Connection: "circ",
			SQL:        "SELECT id, card FROM members WHERE id % 2 = 0;",
			Key:        "id",
		},
		store.LoadReady,
	)
	if l.Total != 600 {
		t.Fatalf("%+v", l)
	}
	if err := w.SetLoad(context.Background(), l.ID, "start"); err != nil {
		t.Fatal(err)
	}
	if done := w.loadIs(l.ID, store.LoadDone); done.Taken != 600 || len(w.references("members")) != 600 {
		t.Errorf("%+v", done)
	}
}
