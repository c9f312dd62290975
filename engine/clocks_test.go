package engine

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/engine/watch"
	"readyferry/store"
)

// bodies gives what the transactions of a flow received, the oldest first.
func (w *world) bodies(flow string) []string {
	w.t.Helper()
	rows, err := w.store.Transactions(store.Filter{Flow: flow, Limit: 1000})
	if err != nil {
		w.t.Fatal(err)
	}
	var out []string
	for _, r := range rows {
		m, err := w.store.FirstMessage(r.ID)
		if err != nil {
			w.t.Fatal(err)
		}
		out = append(out, string(m.Body.Bytes()))
	}
	slices.Reverse(out)
	return out
}

const ticking = "readyferry: flow/1\nname: tick\nintake: {kind: schedule, every: 1h, missed: %s}\nsteps: []\n"

// startAt is start with a clock that tests move.
func startAt(t *testing.T, dir string, out connect.Opener, now func() time.Time) *world {
	t.Helper()
	s, err := openStore(dir)
	if err != nil {
		t.Fatal(err)
	}
	reader, err := plan.NewReader(registry(t).Kinds()...)
	if err != nil {
		t.Fatal(err)
	}
	e, err := New(
		Config{
			Store:   s,
			Reader:  reader,
			Systems: registry(t),
			Opener:  out,
			Now:     now,
			Log:     slog.New(slog.NewTextHandler(io.Discard, nil)),
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	return newWorld(e, t, dir, nil)
}

// A clock that jumps: forward, the times that passed are there once, each or not
// at all, as the flow says; back, none comes twice.
func TestASchedulesTimesThatPassed(t *testing.T) { synctest.Test(t, testASchedulesTimesThatPassed) }

func testASchedulesTimesThatPassed(t *testing.T) {
	begin := time.Date(2026, 3, 17, 9, 30, 0, 0, time.UTC)
	for missed, want := range map[string]string{
		"once": `{"scheduled":"2026-03-17T10:00:00Z","zone":"UTC","missed":0}|{"scheduled":"2026-03-17T14:00:00Z","zone":"UTC","missed":3}`,
		"each": `{"scheduled":"2026-03-17T10:00:00Z","zone":"UTC","missed":0}|{"scheduled":"2026-03-17T11:00:00Z",` +
			`"zone":"UTC","missed":0}|{"scheduled":"2026-03-17T12:00:00Z","zone":"UTC",` +
			`"missed":0}|{"scheduled":"2026-03-17T13:00:00Z","zone":"UTC",` +
			`"missed":0}|{"scheduled":"2026-03-17T14:00:00Z","zone":"UTC","missed":0}`,
		"skip": `{"scheduled":"2026-03-17T10:00:00Z","zone":"UTC","missed":0}`,
	} {
		now := begin
		w := startAt(t, t.TempDir(), &target{}, func() time.Time { return now })
		w.publish(fmt.Sprintf(ticking, missed))
		turn := func() {
			all, err := w.store.Clocks()
			if err != nil || len(all) != 1 {
				t.Fatalf("%+v, %v", all, err)
			}
			if !all[0].NextAt.After(now) {
				if err := w.Due(all[0]); err != nil {
					t.Fatal(err)
				}
			}
		}
		for _, at := range []time.Duration{0, 30 * time.Minute, 31 * time.Minute, 4*time.Hour + 50*time.Minute, time.Hour,
			0, 4*time.Hour + 55*time.Minute} {
			now = begin.Add(at)
			turn()
		}
		if got := strings.Join(w.bodies("tick"), "|"); got != want {
			t.Errorf("%s:\n%s\nwant\n%s", missed, got, want)
		}
		// A paused flow lets its times pass.
		if err := w.Pause(context.Background(), "tick", true, false); err != nil {
			t.Fatal(err)
		}
		n := len(w.bodies("tick"))
		now = begin.Add(9 * time.Hour)
		turn()
		if err := w.Pause(context.Background(), "tick", false, false); err != nil {
			t.Fatal(err)
		}
		turn()
		if got := len(w.bodies("tick")); got != n {
			t.Errorf("%s: %d messages while it was paused", missed, got-n)
		}
	}
}

// polling is a flow that asks a desk each day for what has changed.
const polling = `
readyferry: flow/1
name: poll
intake: {kind: poll, of: desk, path: '/changes?since=${mark}', every: 24h, each: body.items, mark: item.at, first: "2026-01-01", reference: 'string(body.id)'}
steps: []
`

// inJSON is an answer in JSON.
func inJSON(status int, body string) reply {
	return reply{
		Status:  status,
		Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
		Body:    []byte(body),
	}
}

func TestAnHTTPPollRemembersHowFarItHasCome(t *testing.T) {
	synctest.Test(t, testAnHTTPPollRemembersHowFarItHasCome)
}

func testAnHTTPPollRemembersHowFarItHasCome(t *testing.T) {
	dir, out := t.TempDir(), &target{}
	w := start(t, dir, out)
	w.connect("desk", "")
	answer := func(status int, body string) {
		out.say(func(int, call) (reply, error) { return inJSON(status, body), nil })
	}
	answer(200, `{"items": [{"id": 9, "at": "2026-03-02"}, {"id": 10, "at": "2026-03-01"}]}`)
	w.publish(polling)
	w.until("two items came", func() bool { return len(w.bodies("poll")) == 2 })
	state := func() *watch.ClockState {
		c, err := w.ClockOf("poll")
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	w.until("it is noted", func() bool { return state().LastAt != nil })
	if c := state(); string(c.Mark) != `"2026-03-02"` || c.Taken != 2 || c.Error != "" {
		t.Errorf("%+v", c)
	}
	answer(503, ``)
	if err := w.RunNow("poll"); err != nil {
		t.Fatal(err)
	}
	w.until("it has failed", func() bool { return state().Error == "desk answered 503" && state().Fails == 1 })
	answer(200, `{"wrong": 1}`)
	_ = w.RunNow("poll")
	w.until("its shape has changed", func() bool { return strings.Contains(state().Error, "items is missing") })
	answer(200, `{"items": []}`)
	_ = w.RunNow("poll")
	w.until("it is well again", func() bool { return state().Error == "" && state().Fails == 0 })
	w.close()
	w = start(t, dir, out)
	answer(200, `{"items": [{"id": 11, "at": "2026-03-05"}]}`)
	_ = w.RunNow("poll")
	w.until("the next one came", func() bool { return len(w.bodies("poll")) == 3 })
	var since []string
	for _, c := range out.got() {
		since = append(since, c.path)
	}
	if since[0] != "/changes?since=2026-01-01" || since[len(since)-1] != "/changes?since=2026-03-02" {
		t.Errorf("%v", since)
	}
}

// Whoever asks for a poll while one is being done gets another one: the first may have read already.
func TestAPollAskedForWhileOneIsDoneIsDoneOnceMore(t *testing.T) {
	synctest.Test(t, testAPollAskedForWhileOneIsDoneIsDoneOnceMore)
}

func testAPollAskedForWhileOneIsDoneIsDoneOnceMore(t *testing.T) {
	out := &target{}
	w := start(t, t.TempDir(), out)
	w.connect("desk", "")
	out.say(func(n int, _ call) (reply, error) {
		if n <= 2 { // twice, so that the second one is seen beside the first as the first is beside the time it was due
			if err := w.RunNow("poll"); err != nil {
				return reply{}, err
			}
		}
		return inJSON(200, fmt.Sprintf(`{"items": [{"id": %d, "at": "2026-03-0%d"}]}`, n, n)), nil
	})
	w.publish(polling)
	w.until("each that was asked for was done", func() bool { return len(w.bodies("poll")) == 3 })
	w.until("the next one is tomorrow", func() bool {
		c, err := w.ClockOf("poll")
		return err == nil && c.LastAt != nil && c.NextAt.Sub(*c.LastAt) > 23*time.Hour
	})
	if n := len(out.got()); n != 3 {
		t.Errorf("it was asked %d times", n)
	}
}

func TestATablePollSaysCreatedUpdatedDeleted(t *testing.T) {
	synctest.Test(t, testATablePollSaysCreatedUpdatedDeleted)
}

func testATablePollSaysCreatedUpdatedDeleted(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "out.db")
	db, err := sql.Open("sqlite3", file)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	do := func(statement string) {
		t.Helper()
		if _, err := db.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	do(`CREATE TABLE loans (id INTEGER PRIMARY KEY, item TEXT, changed DATETIME)`)
	do(
		`INSERT INTO loans VALUES (1, 'a', '2026-03-17 09:00:00'), (2, 'b', '2026-03-17 09:00:00'), (3, 'c', ` +
			`'2026-03-17 09:00:00')`,
	)
	databases := registry(t)
	w := startAt(t, t.TempDir(), databases, time.Now)
	if _, err := w.SaveConnection(context.Background(), "circ", []byte("readyferry: connection/1\nname: "+
		"circ\nkind: sql\ndriver: sqlite\naddress: file://"+file+"\n"), nil); err != nil {
		t.Fatal(err)
	}
	w.publish(`
readyferry: flow/1
name: rows
intake: {kind: table, of: circ, table: loans, key: id, changed: changed, deleted: true, every: 24h, most: 2}
steps: []
`)
	w.publish(`
readyferry: flow/1
name: keys
intake: {kind: table, of: circ, table: loans, key: id, every: 24h, most: 2, begin: latest}
steps: []
`)
	events := func(name string) string {
		t.Helper()
		c, err := w.store.Clock(name)
		if err != nil {
			t.Fatal(err)
		}
		before := len(w.bodies(name))
		if err := w.Due(c); err != nil {
			t.Fatal(err)
		}
		if c, err = w.store.Clock(name); err != nil || c.Error != "" {
			return c.Error
		}
		var out []string
		for _, b := range w.bodies(name)[before:] {
			var m struct {
				Event string
				Key   int
				Row   *struct{ Item string }
			}
			if err := json.Unmarshal([]byte(b), &m); err != nil {
				t.Fatal(err)
			}
			item := ""
			if m.Row != nil {
				item = " " + m.Row.Item
			}
			out = append(out, fmt.Sprintf("%s %d%s", m.Event, m.Key, item))
		}
		slices.Sort(out)
		return strings.Join(out, ", ")
	}
	expect := func(name, want string) {
		t.Helper()
		if got := events(name); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	expect("rows", "created 1 a, created 2 b, created 3 c")
	expect("keys", "") // what is there is known
	expect("rows", "")
	do(`UPDATE loans SET item = 'B', changed = '2026-03-17 10:00:00' WHERE id = 2`)
	do(`INSERT INTO loans VALUES (4, 'd', '2026-03-17 08:00:00')`) // with an older time than the mark: not seen
	do(`INSERT INTO loans VALUES (5, 'e', '2026-03-17 10:00:00')`)
	expect("rows", "created 5 e, updated 2 B")
	do(`INSERT INTO loans VALUES (6, 'f', '2026-03-17 10:00:00')`) // committed late, with the time of the mark
	do(`DELETE FROM loans WHERE id = 1`)
	expect("rows", "created 6 f, deleted 1")
	expect("rows", "")
	expect("keys", "created 4 d, created 5 e, created 6 f")
	expect("keys", "")
	do(`ALTER TABLE loans RENAME COLUMN changed TO altered`)
	if got := events("rows"); !strings.Contains(got, "refuses the statement: no such column: changed") {
		t.Errorf("%q", got)
	}
	do(`ALTER TABLE loans RENAME COLUMN altered TO changed`)
	expect("rows", "")
}
