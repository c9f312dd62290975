package engine

import (
	"context"
	"encoding/json"
	"strings"
	"testing"
	"testing/synctest"

	"readyferry/engine/journal"
	"readyferry/store"
)

// died leaves a mark as a process does that dies while it works on a message.
func died(t *testing.T, dir, flow, body string, alone bool, deaths, grew int) {
	t.Helper()
	m, _, err := store.OpenMarks(dir)
	if err != nil {
		t.Fatal(err)
	}
	slot := m.Begin()
	m.Set(slot, journal.MarkOf(flow, []byte(body)), alone, deaths)
	m.Grew(slot, grew)
	if err := m.Close(); err != nil {
		t.Fatal(err)
	}
}

// What was computed when the process died is computed alone; what it dies over alone is
// set aside, until a person sends it again. Nothing else is.
func TestOnlyWhatTheProcessDiesOverAloneIsSetAside(t *testing.T) {
	synctest.Test(t, testOnlyWhatTheProcessDiesOver)
}

func testOnlyWhatTheProcessDiesOver(t *testing.T) {
	for name, c := range map[string]struct {
		alone        bool
		deaths, grew int
		aside        bool
	}{
		"beside others":                  {false, 0, 0, false},
		"alone, by a signal":             {true, 0, 3, false},
		"alone, and it had grown":        {true, 0, 900, true},
		"alone, for the second time":     {true, 1, 3, true},
		"beside others, after one death": {false, 1, 0, false},
	} {
		dir, out := t.TempDir(), &target{}
		w := start(t, dir, out)
		w.connect("out", fast)
		w.publish(
			"readyferry: flow/1\nname: f\nintake: {kind: queue, queue: q}\nsteps: [{id: d, kind: deliver, to: out}, {id: e, " +
				"kind: deliver, to: out}]\n",
		)
		w.publish(
			"readyferry: flow/1\nname: g\nintake: {kind: webhook, path: /g}\nsteps: [{id: p, kind: deliver, to: {queue: q}}]\n",
		)
		w.pauseQueueNamed("q", true)
		w.accepted("/g", `{"bad": 1}`)
		w.accepted("/g", `{"good": 1}`)
		w.close()
		died(t, dir, "f", `{"bad": 1}`, c.alone, c.deaths, c.grew)
		again := start(t, dir, out)
		again.pauseQueueNamed("q", false)
		again.until(name+": both have ended", func() bool {
			rows, _ := again.store.Transactions(store.Filter{Flow: "f", Limit: 5})
			ended := 0
			for _, r := range rows {
				if r.State >= store.Delivered {
					ended++
				}
			}
			return ended == 2
		})
		letters, _ := again.store.OpenLetters("", "", nil, 5)
		if (len(letters) == 1) != c.aside {
			t.Fatalf("%s: %+v", name, letters)
		}
		if c.aside {
			if l := letters[0]; l.Phase != "crash" || !strings.Contains(l.Reason, "it was set aside") {
				t.Errorf("%s: %+v", name, l)
			}
			if _, err := again.Resend(context.Background(), journal.Decision{IDs: []store.ID{letters[0].ID}}); err != nil {
				t.Fatal(err)
			}
			again.becomes(letters[0].Tx, store.Delivered)
		}
		again.close()
	}
}

// A message that has been stored is set aside where it stands, and one that comes anew
// when it comes.
func TestASetAsideMessageIsKept(t *testing.T) { synctest.Test(t, testASetAsideMessage) }

func testASetAsideMessage(t *testing.T) {
	dir, out := t.TempDir(), &target{}
	w := start(t, dir, out)
	w.connect("out", fast)
	w.publish(
		"readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: [{id: d, kind: deliver, to: out}, {id: e, " +
			"kind: deliver, to: out}]\n",
	)
	out.status(503)
	id := w.accepted("/f", `{"n": 1}`)
	w.becomes(id, store.Waiting)
	w.close()
	died(t, dir, "f", `{"n": 1}`, true, 1, 900)
	out.status(200)
	again := start(t, dir, out)
	again.becomes(id, store.DeadLetter)
	if d, err := again.store.Deliveries(id); err != nil || d[0].State != store.Done {
		t.Errorf("what was delivered is not known: %+v, %v", d, err)
	}
	a, err := again.post("/f", `{"n": 1}`)
	var told struct{ Transaction string }
	if err != nil || a.Status != 202 || json.Unmarshal(a.Body, &told) != nil {
		t.Fatalf("%+v, %v", a, err)
	}
	again.becomes(mustID(t, told.Transaction), store.DeadLetter)
	again.becomes(again.accepted("/f", `{"n": 2}`), store.Delivered)
}
