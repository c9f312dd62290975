package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"testing"
	"testing/synctest"

	"readyferry/engine/journal"
)

// The source of a flow is where the flow is at home. Where it comes home to the first partition, how far it has come
// comes along: nothing comes twice and nothing is missing, whatever goes wrong meanwhile.
func TestASourceComesHome(t *testing.T) { synctest.Test(t, testASourceComesHome) }

func testASourceComesHome(t *testing.T) {
	file := filepath.Join(t.TempDir(), "out.db")
	db, err := sql.Open("sqlite3", file)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	do := func(s string) {
		t.Helper()
		if _, err := db.Exec(s); err != nil {
			t.Fatal(err)
		}
	}
	do(`CREATE TABLE loans (id INTEGER PRIMARY KEY, changed TEXT)`)
	do(`INSERT INTO loans VALUES (1, '09:00:01'), (2, '09:00:02'), (3, '09:00:03')`)
	e := partitions(t, 2)
	version := func(w *world, steps string) {
		t.Helper()
		w.publish("readyferry: flow/1\nname: rows\nintake: {kind: table, of: circ, table: loans, key: id, changed: changed, " +
			"deleted: true, every: 24h, reference: string(body.key)}\nsteps:" + steps)
	}
	for _, w := range e.of {
		if _, err := w.SaveConnection(context.Background(), "circ",
			[]byte("readyferry: connection/1\nname: circ\nkind: sql\ndriver: sqlite\naddress: file://"+file+"\n"), nil); err != nil {
			t.Fatal(err)
		}
		w.publish("readyferry: flow/1\nname: zero\nintake: {kind: schedule, every: 24h}\nsteps: []\n")
		version(w, " []\n")
	}
	first, second := e.of[0], e.of[1]
	together, err := first.store.Together([]string{second.dir})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = together.Close() }()
	are := func(w *world, references ...string) {
		t.Helper()
		w.until(fmt.Sprint("they are ", references), func() bool {
			var got []string
			for r, n := range w.references("rows") {
				got = append(got, slices.Repeat([]string{r}, n)...)
			}
			slices.Sort(got)
			return slices.Equal(got, references)
		})
	}
	are(second, "1", "2", "3")
	do(`INSERT INTO loans VALUES (4, '09:00:04')`)
	if err := first.RunNow("rows"); err != nil {
		t.Fatal(err)
	}
	are(second, "1", "2", "3", "4")
	c, err := first.ClockOf("rows")
	if err != nil || c == nil || c.Taken != 4 {
		t.Fatalf("its clock is %+v %v", c, err)
	}
	// It comes home: the other one does not answer at first, and has not heard yet what was published.
	e.lose(func(n int) error {
		if n%2 == 1 {
			return errors.New("the line broke")
		}
		return nil
	})
	version(first, "\n- {id: q, kind: deliver, to: {queue: q, readers: outside}}\n")
	first.until("it has come", func() bool {
		_, err := first.store.Clock("rows")
		_, there := second.store.Clock("rows")
		return err == nil && errors.Is(there, journal.ErrNotFound)
	})
	e.lose(nil)
	do(`INSERT INTO loans VALUES (5, '09:00:05')`)
	do(`DELETE FROM loans WHERE id = 2`)
	if err := second.RunNow("rows"); !errors.Is(err, journal.ErrNotFound) {
		t.Errorf("it is still there: %v", err)
	}
	version(second, "\n- {id: q, kind: deliver, to: {queue: q, readers: outside}}\n")
	if err := first.RunNow("rows"); err != nil {
		t.Fatal(err)
	}
	are(first, "2", "5") // the row that is gone, and the new one
	are(second, "1", "2", "3", "4")
	if err := first.SetMark("rows", []byte("null")); err != nil {
		t.Fatal(err)
	}
	if c, err := first.ClockOf("rows"); err != nil || string(c.Mark) != "null" || c.Taken != 6 {
		t.Errorf("its clock is %+v %v", c, err)
	}
}
