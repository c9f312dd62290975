package engine

import (
	"context"
	"database/sql"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"

	"readyferry/engine/verify"
	"readyferry/store"
)

// Whatever is broken in a journal is found, by the check that is about it; one that nobody
// has touched keeps all that is promised.
func TestVerifyFindsWhatIsBroken(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) { journalOfAllKinds(t, dir) })
	for change, check := range map[string]string{
		"SELECT 1":                                                  "",
		"DELETE FROM deliveries WHERE state = 0":                    "what has not ended waits for something",
		"UPDATE deliveries SET state = 1 WHERE state = 0":           "what waits for its turn has one ahead",
		"UPDATE deliveries SET next_at = NULL WHERE state = 0":      "what is due says when",
		"UPDATE transactions SET state = 2 WHERE state = 1":         "what has ended does nothing any more",
		"UPDATE transactions SET finished_at = NULL":                "what has ended says when",
		"UPDATE transactions SET gathered = 1 WHERE state = 1":      "what waits at a step waits for something that exists",
		"DELETE FROM letters":                                       "a dead letter can be decided about",
		"UPDATE letters SET tx = zeroblob(16)":                      "an open letter is of a dead transaction",
		"DELETE FROM messages":                                      "each transaction has its message",
		"DELETE FROM transactions WHERE parts > 0":                  "a part has its whole",
		"UPDATE effects SET tx = zeroblob(16)":                      "each row of effects belongs to a transaction",
		"DELETE FROM tries":                                         "what is delivered was taken",
		"UPDATE deliveries SET total = total + 1":                   "a delivery counts its tries",
		"UPDATE deliveries SET id = randomblob(16)":                 "each try is of a delivery",
		"UPDATE deliveries SET state = 0, next_at = 1":              "one of each order value is tried at a time",
		"UPDATE queue_items SET taken_by = zeroblob(16)":            "a message of a queue that is worked on knows by whom",
		"UPDATE transactions SET queue_item = 99":                   "who works on a message of a queue has it",
		"UPDATE counts SET n = n + 1 WHERE minute = 0":              "transactions are counted by flow and state",
		"UPDATE counts SET n = n + 1 WHERE minute > 0":              "transactions are counted by minute",
		"UPDATE queue_sizes SET free = free + 1":                    "messages of queues are counted",
		"UPDATE tallies SET n = n + 1":                              "open dead letters are counted",
		"UPDATE splits SET delivered = delivered + 1":               "parts are counted by state",
		"UPDATE splits SET next = next - 1":                         "parts that have begun are there",
		"UPDATE bodies SET data = x'00'":                            "each kept content is the one whose key it has",
		"DELETE FROM bodies":                                        "each body of tries is kept",
		"UPDATE deliveries SET next_at = next_at - 3600000000":      "what is tried again is due when its plan says",
		"UPDATE deliveries SET next_at = next_at + 360000000000000": "what is tried again is due when its plan says",
	} {
		t.Run(change, func(t *testing.T) {
			at := filepath.Join(t.TempDir(), "copy")
			if err := os.CopyFS(at, os.DirFS(dir)); err != nil {
				t.Fatal(err)
			}
			db, err := sql.Open("sqlite3", filepath.Join(at, store.File))
			if err != nil {
				t.Fatal(err)
			}
			done, err := db.Exec(change)
			if err != nil {
				t.Fatal(err)
			}
			if n, _ := done.RowsAffected(); n == 0 && check != "" {
				t.Fatal("it changes nothing")
			}
			_ = db.Close()
			s, err := store.OpenToRead(at)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			findings, err := verify.Run(context.Background(), s, func(string) {})
			if err != nil {
				t.Fatal(err)
			}
			var all []string
			for _, f := range findings {
				all = append(all, f.Check)
			}
			got := strings.Join(all, "\n")
			if check == "" && got != "" || !strings.Contains(got, check) {
				t.Errorf("found:\n%s\nnot: %s\n%+v", got, check, findings)
			}
		})
	}
}

// journalOfAllKinds leaves messages that are delivered, wait for another try and for their
// turn, stand in a queue, are parts, and are dead.
func journalOfAllKinds(t *testing.T, dir string) {
	out := &target{}
	w := start(t, dir, out)
	w.connect("out", "retry: {first: 1h, growth: constant, cap: 1h, spread: none, tries: 3, within: 24h}")
	w.publish("readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f, order: body.o}\n" +
		"steps: [{id: d, kind: deliver, to: out, path: '/${body.n}'}]\n")
	w.publish(
		"readyferry: flow/1\nname: s\nintake: {kind: webhook, path: /s}\nsteps: [{id: s, kind: split, each: body.l, " +
			"steps: [{id: d, kind: deliver, to: out, path: /part}]}]\n",
	)
	w.publish(
		"readyferry: flow/1\nname: q\nintake: {kind: webhook, path: /q}\nsteps: [{id: d, kind: deliver, to: {queue: q1, readers: outside}}]\n",
	)
	noise := make([]byte, 4000)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	out.say(func(_ int, c call) (reply, error) {
		switch {
		case strings.HasPrefix(c.path, "/again"):
			return reply{Status: 503}, nil
		case strings.HasPrefix(c.path, "/never"):
			return reply{Status: 400}, nil
		}
		return reply{Status: 200, Body: noise}, nil
	})
	w.becomes(w.accepted("/f", `{"n":"fine","o":""}`), store.Delivered)
	w.becomes(w.accepted("/f", `{"n":"never","o":""}`), store.DeadLetter)
	w.becomes(w.accepted("/f", `{"n":"again","o":"a"}`), store.Waiting)
	w.becomes(w.accepted("/f", `{"n":"behind","o":"a"}`), store.Waiting)
	w.becomes(w.accepted("/s", `{"l":[1,2]}`), store.Delivered)
	w.becomes(w.accepted("/q", `{}`), store.Delivered)
	w.close()
}
