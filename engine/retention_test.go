package engine

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/engine/journal"
	"readyferry/store"
)

const keeping = `readyferry: flow/1
name: %s
%s
intake: {kind: webhook, path: /%[1]s, format: json, once: body.once}
steps:
  - {id: only, kind: filter, keep: body.go != "away"}
  - {id: each, kind: split, each: body.list, steps: [
      {id: inner, kind: split, each: part.list, steps: [
        {id: gone, kind: deliver, to: shop, path: "/part/${part.n}"}]}]}
  - {id: shop, kind: deliver, to: shop, path: /whole}
`

// days lets days pass at once, and then the time in which what is old is found.
type days struct{ passed atomic.Int64 }

func (d *days) now() time.Time { return time.Now().Add(time.Duration(d.passed.Load())) }

func (d *days) pass(n int) {
	d.passed.Add(int64(time.Duration(n) * 24 * time.Hour))
	time.Sleep(3 * time.Minute)
	synctest.Wait()
}

func TestWhatHasEndedGoesInTime(t *testing.T) { synctest.Test(t, testWhatHasEndedGoesInTime) }

func testWhatHasEndedGoesInTime(t *testing.T) {
	clock, out := &days{}, &target{}
	w := startAt(t, t.TempDir(), out, clock.now)
	w.out = out
	if err := w.Engine.Start(); err != nil {
		t.Fatal(err)
	}
	w.connect("shop", "")
	out.say(func(_ int, c call) (reply, error) {
		if strings.Contains(c.body, "bad") {
			return reply{Status: 400}, nil
		}
		return reply{Status: 200, Body: []byte(strings.Repeat("an answer that is kept beside. ", 20))}, nil
	})
	w.publish(fmt.Sprintf(keeping, "month", ""))
	w.publish(fmt.Sprintf(keeping, "year", "retain: {days: 365}"))
	w.publish(fmt.Sprintf(keeping, "ever", "retain: {days: forever}"))
	w.publish(fmt.Sprintf(keeping, "old", ""))
	if err := w.store.Write(context.Background(), func(tx *store.Tx) error {
		f, err := tx.Flow("old")
		if err != nil {
			return err
		}
		f.KeepsAll = true // as in flows of an earlier release
		return tx.SaveFlow(&f)
	}); err != nil {
		t.Fatal(err)
	}
	const message = `{"once":"%d","go":"on","list":[{"list":[{"n":1},{"n":2}]},{"list":[{"n":3}]}]}`
	var ended, stays []store.ID
	for i, flow := range []string{"month", "year", "ever", "old"} {
		id := w.accepted("/"+flow, fmt.Sprintf(message, i))
		away := w.accepted("/"+flow, fmt.Sprintf(`{"once":"away %d","go":"away","list":[]}`, i))
		w.becomes(id, store.Delivered)
		w.becomes(away, store.TurnedAway)
		if flow == "month" {
			ended = append(ended, id, away)
		} else {
			stays = append(stays, id, away)
		}
	}
	dead := w.accepted("/month", `{"once":"d","go":"bad","list":[]}`)
	discarded := w.accepted("/month", `{"once":"e","go":"bad","list":[]}`)
	w.becomes(dead, store.DeadLetter)
	w.becomes(discarded, store.DeadLetter)
	if err := w.Discard(context.Background(), journal.Decision{IDs: []store.ID{w.letter(discarded).ID}, Why: "not ours"}); err != nil {
		t.Fatal(err)
	}
	clock.pass(29)
	for _, id := range append(append(ended, stays...), dead, discarded) {
		if _, err := w.store.Transaction(id); err != nil {
			t.Errorf("%s went before its time: %v", id, err)
		}
	}
	clock.pass(2)
	for _, id := range append(ended, discarded) {
		if tx, err := w.store.Transaction(id); err == nil {
			t.Errorf("%s of %s is %s, and ended a month ago", id, tx.Flow, tx.State)
		}
	}
	w.becomes(dead, store.DeadLetter) // until somebody decides
	clock.pass(310)
	for _, id := range stays {
		if tx, err := w.store.Transaction(id); err != nil {
			t.Errorf("%s of %s is gone: %v", id, tx.Flow, err)
		}
	}
	clock.pass(30)
	for i, id := range stays {
		if _, err := w.store.Transaction(id); (err == nil) != (i >= 2) {
			t.Errorf("the flow keeps %d: %v", i, err)
		}
	}
	// A value whose message has gone is new again.
	again := w.accepted("/month", fmt.Sprintf(message, 0))
	if tx := w.becomes(again, store.Delivered); tx.DuplicateOf != nil {
		t.Error("a message is the repeat of one that has gone")
	}
}

func TestTheOldestGoWhenThereIsTooMuch(t *testing.T) { synctest.Test(t, testTheOldestGo) }

func testTheOldestGo(t *testing.T) {
	out := &target{}
	w := start(t, t.TempDir(), out)
	w.connect("shop", "")
	w.publish(`readyferry: flow/1
name: much
retain: {days: forever, bytes: 10KiB}
intake: {kind: webhook, path: /much, format: json}
steps: [{id: shop, kind: deliver, to: shop, path: /}]
`)
	var all []store.ID
	for i := range 20 {
		all = append(all, w.accepted("/much", fmt.Sprintf(`{"n":%d,"text":%q}`, i, strings.Repeat("x", 1000))))
		w.becomes(all[i], store.Delivered)
	}
	time.Sleep(3 * time.Minute)
	left := 0
	for i, id := range all {
		if _, err := w.store.Transaction(id); err == nil {
			left++
		} else if left > 0 {
			t.Errorf("%d has gone, and an older one stays", i)
		}
	}
	size, err := w.store.BytesOf("much")
	if err != nil || size > 10<<10 || left < 9 || left > 10 {
		t.Errorf("%d messages of %d bytes are left of 10 KiB, %v", left, size, err)
	}
}

// Versions of a table that others have followed for long go; the one that stood then stays,
// and with it all that it has.
func TestOldVersionsOfATableGo(t *testing.T) { synctest.Test(t, testOldVersions) }

func testOldVersions(t *testing.T) {
	clock := &days{}
	w := startAt(t, t.TempDir(), &target{}, clock.now)
	if err := w.Engine.Start(); err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	w.table("name: month\n", "k,v\n1,a\n2,b\n")
	w.table("name: ever\nretain: {days: forever}\n", "k,v\n1,a\n2,b\n")
	change := func(content string) {
		t.Helper()
		for _, name := range []string{"month", "ever"} {
			if _, err := w.Import(ctx, name, "csv", []byte(content), false, false); err != nil {
				t.Fatal(err)
			}
		}
	}
	versions := func(name string) int {
		t.Helper()
		all, err := w.store.TableChanges(name, 0, 100)
		if err != nil {
			t.Fatal(err)
		}
		return len(all)
	}
	began := versions("month")
	clock.pass(1)
	change("k,v\n1,A\n2,b\n")
	clock.pass(20)
	change("k,v\n1,A\n2,B\n3,c\n")
	clock.pass(11) // the first ones were followed 31 days ago
	if got := versions("month"); got != 2 {
		t.Errorf("%d versions are left of %d", got, began+2)
	}
	if got := versions("ever"); got != began+2 {
		t.Errorf("%d versions are left of a table that keeps %d", got, began+2)
	}
	if got := w.rows("month"); got != `{"k":"1","v":"A"} {"k":"2","v":"B"} {"k":"3","v":"c"}` {
		t.Errorf("%s", got)
	}
	all, err := w.store.TableChanges("month", 0, 100)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.RestoreTable(ctx, "month", all[1].Version); err != nil {
		t.Fatal(err)
	}
	if got := w.rows("month"); got != `{"k":"1","v":"A"} {"k":"2","v":"b"}` {
		t.Errorf("the version that stood then is not as it was: %s", got)
	}
}
