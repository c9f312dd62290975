package engine

import (
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"readyferry/engine/journal"
	"readyferry/store"
	"readyferry/store/body"
)

// holding gives the places of a file in which a text stands, in any form that this test knows:
// as it is, and in contents that are kept compressed.
func holding(t *testing.T, dir, text string) (out []string) {
	t.Helper()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, store.File)+"?mode=ro")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	names := column[string](t, db, "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'search%'")
	for _, table := range names {
		for _, col := range column[string](t, db, fmt.Sprintf("SELECT name FROM pragma_table_info('%s')", table)) {
			if table == "bodies" && col == "data" {
				continue
			}
			for _, v := range column[[]byte](t, db, fmt.Sprintf("SELECT CAST(%q AS BLOB) FROM %q WHERE %q IS NOT NULL", col,
				table, col)) {
				if strings.Contains(string(v), text) {
					out = append(out, fmt.Sprintf("%s.%s: %.200q", table, col, v))
				}
			}
		}
	}
	rows, err := db.Query("SELECT key, size, codec, data FROM bodies")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var key, data []byte
		var size int64
		var codec uint8
		if err := rows.Scan(&key, &size, &codec, &data); err != nil {
			t.Fatal(err)
		}
		b := body.Referring(body.Key(key), size)
		content, err := body.Unpack(b.Kept(), body.Codec(codec), data)
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(content), text) {
			out = append(out, "a content")
		}
	}
	return out
}

// differing gives what only one of two lists holds, with a sign of which.
func differing(before, after []string) (out []string) {
	n := map[string]int{}
	for _, v := range before {
		n[v]--
	}
	for _, v := range after {
		n[v]++
	}
	for v, by := range n {
		if by != 0 {
			out = append(out, fmt.Sprintf("%+d %s", by, v))
		}
	}
	return out
}

func column[T any](t *testing.T, db *sql.DB, query string) (out []T) {
	t.Helper()
	rows, err := db.Query(query)
	if err != nil {
		t.Fatal(query, err)
	}
	defer rows.Close()
	for rows.Next() {
		var v T
		if err := rows.Scan(&v); err != nil {
			t.Fatal(query, err)
		}
		out = append(out, v)
	}
	return out
}

// A person's value goes from all that their messages and what came of them hold; others' stay, what
// is under way is left and counted, and the journal keeps what it promises.
func TestErasing(t *testing.T) {
	const who, other = "Quillfeather-Maud", "Otto-Weir"
	out := &target{}
	out.say(func(_ int, c call) (reply, error) {
		if c.to == "stuck" {
			return reply{Status: 503}, nil
		}
		return reply{Status: 200, Body: []byte(`{"for":"` + c.body + `"}`)}, nil
	})
	dir := t.TempDir()
	w := start(t, dir, out)
	w.connect("c", "")
	w.connect("stuck", "retry: {first: 1h, cap: 1h, tries: 3}\n")
	long := strings.Repeat("shelf and slip and slip and shelf, ", 100)
	w.publish("readyferry: flow/1\nname: b\nintake: {kind: queue, queue: q}\nsteps:\n" +
		"  - {id: g, kind: aggregate, key: \"'all'\", close: {count: 2, age: 1h}}\n  - {id: d, kind: deliver, to: c}\n")
	w.publish("readyferry: flow/1\nname: a\nmask: [/who, /card]\nintake: {kind: webhook, path: /a, reference: body.who, order: body.who}\nsteps:\n" +
		"  - {id: n, kind: note, text: \"for ${body.who}\"}\n" +
		"  - {id: sp, kind: split, each: body.parts, steps: [{id: p, kind: deliver, to: c}]}\n" +
		"  - {id: d, kind: deliver, to: c, headers: {x-who: \"${body.who}\"}}\n" +
		"  - {id: q, kind: deliver, to: {queue: q}}\n  - {id: t, kind: deliver, to: {topic: t}}\n" +
		"  - {id: f, kind: filter, keep: \"!body.drop\", reason: \"${body.who} is turned away\"}\n" +
		"  - {id: hold, kind: route, take: first, ways: [{name: stay, when: body.stay, steps: [{id: s, kind: deliver, to: stuck}]}]}\n")
	message := func(who string, card int, more string) string {
		return fmt.Sprintf(`{"who":%q,"card":%d,"parts":[{"for":%q},{"for":%q}],"long":%q,"drop":false,"stay":false%s}`,
			who, card, who, who,
			long, more)
	}
	w.accepted("/a", message(who, 7012345, ""))
	w.accepted("/a", message(other, 7099999, ""))
	w.accepted("/a", strings.Replace(message(who, 7012345, ""), `"drop":false`, `"drop":true`, 1))
	stays := w.accepted("/a", strings.Replace(message(who, 7012345, ""), `"stay":false`, `"stay":true`, 1))
	// What a message puts into a queue is a transaction only when it is read there: it is waited for by number, or
	// something would still be written while the file is looked at.
	w.until("all but one have ended, with what came of them through the queue, and that one was tried", func() bool {
		totals, err := w.store.Totals()
		ended, open := map[string]int64{}, int64(0)
		for _, c := range totals {
			if c.State.Ended() {
				ended[c.Flow] += c.N
			} else {
				open += c.N
			}
		}
		all, bad := w.store.Deliveries(stays)
		tried := err == nil && bad == nil
		for i := range all {
			tried = tried && (all[i].State == store.Delivered || all[i].Target == "stuck" && all[i].Tries == 1)
		}
		return tried && open == 1 && ended["a"] == 3 && ended["b"] == 6 // four messages, and two groups of two
	})
	if len(holding(t, dir, who)) < 10 {
		t.Errorf("there is little to erase: %v", holding(t, dir, who))
	}
	for flow, says := range map[string]error{"b": journal.ErrDecision, "none": journal.ErrNotFound} {
		if err := w.Erase.Begin(t.Context(), flow, who, false); !errors.Is(err, says) {
			t.Errorf("%s: %v", flow, err)
		}
	}
	erase := func(value string, preview bool) (left int64) {
		t.Helper()
		if err := w.Erase.Begin(t.Context(), "a", value, preview); err != nil {
			t.Fatal(err)
		}
		w.until("it is done", func() bool { return w.Erase.Now().State != "looking" })
		v := w.Erase.Now()
		if v.State != "done" || v.Found == 0 || v.Erased == 0 {
			t.Errorf("%+v", v)
		}
		return v.Left
	}
	before := holding(t, dir, who)
	erase(who, true)
	if after := holding(t, dir, who); len(after) != len(before) {
		t.Errorf("a preview erases: %s", strings.Join(differing(before, after), "\n"))
	}
	if left := erase(who, false); left != 1 {
		t.Errorf("%d are left", left)
	}
	out.status(200)
	all, err := w.store.Deliveries(stays)
	if err != nil {
		t.Fatal(err)
	}
	for i := range all {
		if all[i].State == store.Pending {
			err = errors.Join(err, w.TryNow(t.Context(), all[i].ID))
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	w.until("it ends", func() bool {
		v, err := w.Transaction(stays)
		return err == nil && v.State.Ended()
	})
	if left := erase(who, false); left != 0 {
		t.Errorf("%d are left", left)
	}
	erase("7012345", false)
	for _, value := range []string{who, strings.ToLower(who), "7012345"} {
		if in := holding(t, dir, value); len(in) > 0 {
			t.Errorf("%s stands in %s", value, strings.Join(in, "\n"))
		}
	}
	if len(holding(t, dir, other)) < 10 {
		t.Error("somebody else is erased")
	}
	rows, err := w.store.OfFlow("a", nil, 100)
	if err != nil {
		t.Fatal(err)
	}
	for i := range rows {
		if _, err := w.Inspect(rows[i].ID); err != nil {
			t.Errorf("it cannot be looked at: %v", err)
		}
	}
}
