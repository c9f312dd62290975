package engine

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/engine/design"
	"readyferry/engine/intake"
	"readyferry/engine/journal"
	"readyferry/store"
	"readyferry/store/release1"
)

// A folder that the first release left with work of every kind under way: it is
// all there, and comes to its end under this one, each thing once.
func TestWorkOfTheReleaseBeforeEndsUnderThisOne(t *testing.T) {
	synctest.Test(t, testWorkOfTheReleaseBeforeEndsUnderThisOne)
}

func testWorkOfTheReleaseBeforeEndsUnderThisOne(t *testing.T) {
	dir := t.TempDir()
	if err := release1.Unpack(dir); err != nil {
		t.Fatal(err)
	}
	out := &target{}
	out.say(func(_ int, c call) (reply, error) {
		body := `{"ok":true}`
		if strings.HasPrefix(c.path, "/items") {
			body = `{"items":[{"id":3}],"next":"3"}`
		}
		return reply{
			Status:  200,
			Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
			Body:    []byte(body),
		}, nil
	})
	made := time.Date(2026, 11, 27, 9, 32, 2, 0, time.UTC)
	began := time.Now()
	w := startAt(t, dir, out, func() time.Time { return made.Add(25*time.Hour + time.Since(began)) })
	w.out = out

	open := map[string]int{}
	all, err := w.store.Transactions(store.Filter{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range all {
		open[r.Flow+" "+r.State.String()]++
	}
	want := "map[asks waiting:1 calls waiting:1 child waiting:1 deaths delivered:1 desk waiting:1 dies dead " +
		"letter:1 dies delivered:1 gathers waiting:2 holds waiting:1 news delivered:2 paces waiting:2 polls " +
		"waiting:2 puts delivered:2 rows waiting:1 scatters waiting:1 splits waiting:1 turns waiting:3 waits waiting:2]"
	if got := fmt.Sprint(open); got != want {
		t.Fatalf("it holds\n%s\nwant\n%s", got, want)
	}
	if c := w.Engine.Catalog.Connection("up"); c == nil || len(c.SignIn.Secrets) != 1 ||
		c.SignIn.Secrets[0] != "made-up-token" {
		t.Errorf("the secret is not there: %+v", c)
	}
	if samples, err := w.Engine.Catalog.Samples("waits"); err != nil || len(samples) != 1 {
		t.Errorf("%v, %v", samples, err)
	}

	if err := w.Engine.Start(); err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	post := func(path, body string) {
		t.Helper()
		in, _ := w.Find("POST", "/"+path)
		if _, err := w.Accept(ctx, in, intake.Call{Method: "POST", Path: "/" + path,
			Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(body)}); err != nil {
			t.Fatal(err)
		}
	}
	post("gathers", `{"key":"k","n":3}`)
	post("turns", `{"key":"k","n":2}`)
	post("waits", `{"id":"W-1"}`) // it came before
	row, err := json.Decode([]byte(`{"code":"MARL"}`))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.EditRows(ctx, "branches", nil, []design.RowEdit{{Value: row.Root}}); err != nil {
		t.Fatal(err)
	}
	if err := w.PauseQueue(ctx, "shelf", false); err != nil {
		t.Fatal(err)
	}
	letters, err := w.store.OpenLetters("", "", nil, 10)
	if err != nil || len(letters) != 1 {
		t.Fatalf("%+v, %v", letters, err)
	}
	if _, err := w.Resend(ctx, journal.Decision{IDs: []store.ID{letters[0].ID}}); err != nil {
		t.Fatal(err)
	}
	loads, err := w.store.Loads(store.OfFlow("loads"), nil, 10)
	if err != nil || len(loads) != 1 || loads[0].State != store.LoadReady || loads[0].Total != 50 {
		t.Fatalf("%+v, %v", loads, err)
	}
	if err := w.SetLoad(ctx, loads[0].ID, "start"); err != nil {
		t.Fatal(err)
	}

	w.until("all of it has ended", func() bool {
		totals, err := w.store.Totals()
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range totals {
			if c.N > 0 && (c.State == store.UnderWay || c.State == store.Waiting || c.State == store.DeadLetter) {
				return false
			}
		}
		l, err := w.store.Load(loads[0].ID)
		return err == nil && l.State == store.LoadDone && l.Taken == 50 && len(w.bodies("ticks")) > 0 &&
			len(w.bodies("polls")) == 3
	})
	sent := map[string]int{}
	for _, c := range out.got() {
		sent[c.path]++
	}
	for path, n := range map[string]int{
		"/w/W-1": 1, "/w/W-2": 1, "/d": 1, "/g/k": 1, "/s/0": 1, "/s/1": 1, "/s/2": 1, "/p/1": 1, "/p/2": 1, "/p/3": 1,
		"/h/H-1": 1, "/r/R-1": 1, "/c/C-1": 1, "/c/C-2": 1,
		"/t/1": 1, "/t/2": 1, "/t/3": 1, "/t/4": 1, "/x": 1, "/child": 1, "/desk": 1, "/shelf": 2, "/seen": 0,
		"/items?after=2": 1,
	} {
		if sent[path] != n {
			t.Errorf("%s was called %d times, want %d", path, sent[path], n)
		}
	}
	var order []string
	for _, c := range out.got() {
		if strings.HasPrefix(c.path, "/t/") {
			order = append(order, c.path)
		}
	}
	if got := strings.Join(order, " "); !strings.HasSuffix(got, "/t/2 /t/3 /t/4") {
		t.Errorf("out of order: %s", got)
	}
	if rows := w.rows("keys"); !strings.Contains(rows, `"card":"A"`) {
		t.Errorf("the pair was not written: %s", rows)
	}
}
