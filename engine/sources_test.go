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

// outside makes a database and a connection to it.
func (w *world) outside(statements ...string) *sql.DB {
	w.t.Helper()
	file := filepath.Join(w.t.TempDir(), "out.db")
	db, err := sql.Open("sqlite3", file)
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { _ = db.Close() })
	for _, s := range statements {
		if _, err := db.Exec(s); err != nil {
			w.t.Fatalf("%s: %v", s, err)
		}
	}
	if _, err := w.SaveConnection(context.Background(), "circ", []byte("readyferry: connection/1\nname: "+
		"circ\nkind: sql\ndriver: sqlite\naddress: file://"+file+"\n"), nil); err != nil {
		w.t.Fatal(err)
	}
	return db
}

// A load by a column whose values are not unique, or are times, brings every row once.
func TestALoadByAnyColumnBringsEveryRowOnce(t *testing.T) {
	w := startAt(t, t.TempDir(), registry(t), time.Now)
	if err := w.Engine.Start(); err != nil {
		t.Fatal(err)
	}
	w.outside(
		`CREATE TABLE rows (id INTEGER PRIMARY KEY, shelf INTEGER, at DATETIME, day TEXT)`,
		`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1300)
			INSERT INTO rows SELECT i, i / 700, datetime('2026-03-17 09:00:00', '+' || (i / 30) || ' seconds'), 'tue' FROM n`,
	)
	w.publish(loadable)
	for _, key := range []string{"shelf", "at", "day", "id"} {
		l := w.load(
			intake.NewLoad{Format: "query", Connection: "circ", Key: key, SQL: "SELECT *, id AS card FROM rows"},
			store.LoadReady,
		)
		if l.Total != 1300 {
			t.Errorf("by %s: %d are counted", key, l.Total)
		}
		before := len(w.references("members"))
		if err := w.SetLoad(context.Background(), l.ID, "start"); err != nil {
			t.Fatal(err)
		}
		if done := w.loadIs(l.ID, store.LoadDone, store.LoadFailed); done.Taken != 1300 || done.Error != "" {
			t.Errorf("by %s: %+v", key, done)
		}
		ids := w.references("members")
		for id, n := range ids {
			if before == 0 && n != 1 {
				t.Errorf("by %s: the row %s came %d times", key, id, n)
			}
		}
		if len(ids) != 1300 {
			t.Errorf("by %s: %d rows", key, len(ids))
		}
	}
}

// A row that was committed after others which stand behind it is found, too.
func TestAPollFindsRowsThatCommitLate(t *testing.T) {
	now := time.Date(2026, 3, 17, 9, 0, 0, 0, time.UTC)
	w := startAt(t, t.TempDir(), registry(t), func() time.Time { return now })
	db := w.outside(
		`CREATE TABLE loans (id INTEGER PRIMARY KEY, changed TEXT)`,
		`INSERT INTO loans VALUES (1, '09:00:01'), (2, '09:00:02')`,
	)
	for name, more := range map[string]string{"keys": "", "changes": ", changed: changed", "strict": ", late: 0s"} {
		w.publish(
			"readyferry: flow/1\nname: " + name + "\nintake: {kind: table, of: circ, table: loans, key: id, every: 24h" +
				more + "}\nsteps: []\n",
		)
	}
	poll := func(name string) int {
		t.Helper()
		before := len(w.bodies(name))
		c, err := w.store.Clock(name)
		if err == nil {
			err = w.Due(c)
		}
		if err != nil {
			t.Fatal(err)
		}
		if c, _ = w.store.Clock(name); c.Error != "" {
			t.Fatal(c.Error)
		}
		return len(w.bodies(name)) - before
	}
	all := func(want map[string]int) {
		t.Helper()
		for _, name := range []string{"keys", "changes", "strict"} {
			if got := poll(name); got != want[name] {
				t.Errorf("%s: %d messages, want %d", name, got, want[name])
			}
		}
	}
	do := func(s string) {
		t.Helper()
		if _, err := db.Exec(s); err != nil {
			t.Fatal(err)
		}
	}
	all(map[string]int{"keys": 2, "changes": 2, "strict": 2})
	now = now.Add(time.Hour)
	do(`INSERT INTO loans VALUES (9, '10:00:09')`)
	all(map[string]int{"keys": 1, "changes": 1, "strict": 1})
	now = now.Add(time.Minute)
	do(`INSERT INTO loans VALUES (5, '10:00:05')`) // it took its number and its time first, and was slower
	all(map[string]int{"keys": 1, "changes": 1})
	all(map[string]int{})
	now = now.Add(time.Hour)
	do(`INSERT INTO loans VALUES (12, '11:02:00')`)
	all(map[string]int{"keys": 1, "changes": 1, "strict": 1})
	if n, _ := w.store.PolledKeys("keys", "", 100); len(n) > 4 {
		t.Errorf("%d rows are remembered of a table of which only new ones are seen", len(n))
	}
	if err := w.SetMark("keys", []byte("null")); err != nil {
		t.Fatal(err)
	}
	all(map[string]int{"keys": 5})
}

// A large answer to a poll lets others write in between, and is all there at the end,
// also when the process ends in the middle.
func TestALargePollLetsOthersIn(t *testing.T) { synctest.Test(t, testALargePoll) }

func testALargePoll(t *testing.T) {
	const n = 3000
	dir, out := t.TempDir(), &target{}
	w := start(t, dir, out)
	w.connect("out", fast)
	var list strings.Builder
	for i := range n {
		fmt.Fprintf(&list, ",%d", i+1)
	}
	out.say(func(n int, _ call) (reply, error) {
		if n > 1 {
			return reply{Status: 204}, nil
		}
		return reply{
			Status:  200,
			Headers: jsonHeaders,
			Body:    []byte(`{"next": 7, "items": [0` + list.String() + `]}`),
		}, nil
	})
	w.publish("readyferry: flow/1\nname: beside\nintake: {kind: webhook, path: /beside}\nsteps: []\n")
	w.publish(
		"readyferry: flow/1\nname: p\nintake: {kind: poll, of: out, path: /new, each: body.items, mark: body.next, " +
			"every: 24h}\nsteps: []\n",
	)
	count := func() int {
		totals, _ := w.store.Totals()
		sum := 0
		for _, c := range totals {
			if c.Flow == "p" {
				sum += int(c.N)
			}
		}
		return sum
	}
	// What comes beside is let in from the first to the half of the answer; how far it is is seen after each, and
	// not by looking alone, so that a machine with much else to do does not miss the beginning.
	between := 0
	for got := count(); got < n/2; got = count() {
		w.accepted("/beside", `{}`)
		if got > 0 {
			between++
		}
	}
	// An answer that is written as one lets nobody in.
	if between < 20 {
		t.Errorf("%d others were let in meanwhile", between)
	}
	w.close()
	again := start(t, dir, out)
	again.until("all are there", func() bool {
		c, err := again.store.Clock("p")
		return err == nil && c.Staged == 0 && c.Taken == n+1 && c.Brought == n+1
	})
	if c, _ := again.store.Clock("p"); string(c.Mark) != "7" {
		t.Errorf("%s", c.Mark)
	}
	if rows, _ := again.store.Staged("p", 1); len(rows) != 0 {
		t.Error("something is left")
	}
}

// Messages for a dead target do not keep those behind them in the queue from a healthy
// one, unless the reader works on one after the other; and so many may wait, no more.
func TestWaitingDoesNotBlockAQueue(t *testing.T) { synctest.Test(t, testWaitingDoesNotBlock) }

func testWaitingDoesNotBlock(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "retry: {first: 1h, growth: constant, cap: 1h, spread: none, tries: 50, within: 100h}")
	w.out.say(func(_ int, c call) (reply, error) {
		if strings.Contains(c.body, "dead") {
			return reply{Status: 503}, nil
		}
		return reply{Status: 200}, nil
	})
	w.publish(
		"readyferry: flow/1\nname: many\nintake: {kind: queue, queue: q, waiting: 6}\nsteps: [{id: d, kind: deliver, to: out}]\n",
	)
	w.publish(
		"readyferry: flow/1\nname: one\nintake: {kind: queue, queue: strict, in-flight: 1}\nsteps: [{id: d, kind: " +
			"deliver, to: out}]\n",
	)
	w.publish(
		"readyferry: flow/1\nname: put\nintake: {kind: webhook, path: /put}\nsteps: [{id: p, kind: deliver, to: {queue: " +
			"'${body.q}'}}]\n",
	)
	for range 5 {
		w.accepted("/put", `{"q": "q", "t": "dead"}`)
	}
	w.accepted("/put", `{"q": "q", "t": "well"}`)
	states := func(flow string) map[store.State]int {
		rows, _ := w.store.Transactions(store.Filter{Flow: flow, Limit: 50})
		out := map[store.State]int{}
		for _, r := range rows {
			out[r.State]++
		}
		return out
	}
	w.until("the healthy one is through", func() bool {
		s := states("many")
		return s[store.Waiting] == 5 && s[store.Delivered] == 1
	})
	for range 8 { // twice as many as it takes at once
		w.accepted("/put", `{"q": "q", "t": "dead"}`)
	}
	w.until("the reader has paused and says so", func() bool {
		c, err := w.store.Clock("many")
		return err == nil && strings.Contains(c.Error, "wait for another try of a delivery") && c.FailsSince != nil
	})
	if n := states("many")[store.Waiting]; n > 9 || w.depth("q") == 0 {
		t.Errorf("%d wait, %d are in the queue", n, w.depth("q"))
	}
	w.out.status(200)
	time.Sleep(2 * time.Hour)
	w.until("all are through", func() bool { return states("many")[store.Delivered] == 14 })
	if c, err := w.store.Clock("many"); err != nil || c.Error != "" {
		t.Errorf("%+v, %v", c, err)
	}
	w.out.say(func(_ int, c call) (reply, error) {
		if strings.Contains(c.body, "dead") {
			return reply{Status: 503}, nil
		}
		return reply{Status: 200}, nil
	})
	w.accepted("/put", `{"q": "strict", "t": "dead"}`)
	w.until("it waits", func() bool { return states("one")[store.Waiting] == 1 })
	w.accepted("/put", `{"q": "strict", "t": "well"}`)
	time.Sleep(time.Minute)
	if s := states("one"); s[store.Delivered] != 0 || w.depth("strict") != 1 {
		t.Errorf("strictly one after the other: %v", s)
	}
}
