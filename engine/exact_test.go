package engine

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/flow"
	"readyferry/store"
)

// Times that a document or a person writes with a zone mean the instant, and what is
// shown as UTC is UTC.
func TestTimesWithAZoneMeanTheInstant(t *testing.T) { synctest.Test(t, testTimesWithAZone) }

func testTimesWithAZone(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(`
readyferry: flow/1
name: h
intake: {kind: webhook, path: /h}
steps:
  - {id: wait, kind: hold, until: body.at}
  - {id: d, kind: deliver, to: out}
`)
	for _, zone := range []*time.Location{time.UTC, time.FixedZone("east", 5*3600), time.FixedZone("west", -8*3600)} {
		until := time.Now().Add(5 * time.Second)
		id := w.accepted("/h", fmt.Sprintf(`{"at": %q}`, until.In(zone).Format(time.RFC3339Nano)))
		want := "held until " + until.UTC().Format("2006-01-02 15:04:05") + " UTC"
		if got := w.becomes(id, store.Waiting); got.PlaceText != want {
			t.Errorf("%s: %q, want %q", zone, got.PlaceText, want)
		}
		w.becomes(id, store.Delivered)
		if went := time.Since(until); went < 0 || went > time.Second {
			t.Errorf("%s: it went on %s after its time", zone, went)
		}
	}
	w.publish("readyferry: flow/1\nname: scans\nintake: {kind: webhook, path: /scan}\nsteps: [{id: p, kind: deliver, " +
		"to: {topic: returns}}]\n")
	var at time.Time
	for i := range 4 {
		time.Sleep(time.Minute)
		if i == 2 {
			at = time.Now()
		}
		w.scan(i)
	}
	for i, zone := range []*time.Location{time.UTC, time.FixedZone("east", 5*3600), time.FixedZone("west", -8*3600)} {
		name := fmt.Sprintf("reader%d", i)
		w.publish(topicReader(name, ", begin: {time: '"+at.Add(-time.Second).In(zone).Format(time.RFC3339)+"'}", "out"))
		w.until("what came since is read", func() bool { return len(w.heardBy(name)) == 2 })
		if n, err := w.Rewind(context.Background(), "returns", name,
			flow.Begin{Time: at.Add(-time.Second).In(zone)}); err != nil || n != 2 {
			t.Errorf("%s: rewound to %d, %v", zone, n, err)
		}
	}
}

// A row that a flow writes while a table is imported does not let anybody see half of
// the import, then or after a restart.
func TestAPairDuringAnImportShowsNothingOfIt(t *testing.T) { synctest.Test(t, testAPairDuringAnImport) }

func testAPairDuringAnImport(t *testing.T) {
	dir := t.TempDir()
	w := start(t, dir, &target{})
	w.table("name: ids\nkind: cross-reference\nkeys: [[ours], [theirs]]\n", "ours,theirs\na,1\n")
	w.publish(
		"readyferry: flow/1\nname: link\nintake: {kind: webhook, path: /link}\nsteps: [{id: p, kind: pair, in: ids, " +
			"row: {ours: body.o, theirs: body.t}}]\n",
	)
	var file strings.Builder
	file.WriteString("ours,theirs\n")
	for i := range 9000 {
		fmt.Fprintf(&file, "n%d,m%d\n", i, i)
	}
	done := make(chan error, 1)
	go func() {
		_, err := w.Import(context.Background(), "ids", "csv", []byte(file.String()), false, false)
		done <- err
	}()
	for { // time stands still while it is worked on, so that there is nothing to sleep for
		if l, ok := w.LoadingOf("ids"); ok && l.Done > 0 || len(done) > 0 {
			break
		}
		runtime.Gosched()
	}
	w.becomes(w.accepted("/link", `{"o": "b", "t": "2"}`), store.Delivered)
	const want = `{"ours":"a","theirs":"1"} {"ours":"b","theirs":"2"}`
	if got := w.rows("ids"); got != want {
		t.Errorf("while it is imported: %.200s", got)
	}
	if err := <-done; err == nil || !strings.Contains(err.Error(), "a flow has written to the table meanwhile") {
		t.Errorf("%v", err)
	}
	if got := w.rows("ids"); got != want {
		t.Errorf("behind it: %.200s", got)
	}
	w.close()
	again := start(t, dir, w.out)
	if got := again.rows("ids"); got != want {
		t.Errorf("after a restart: %.200s", got)
	}
	if _, err := again.Import(context.Background(), "ids", "csv", []byte(file.String()), false, false); err != nil {
		t.Error(err)
	}
	if n := strings.Count(again.rows("ids"), "ours"); n != 9000 {
		t.Errorf("%d rows", n)
	}
}
