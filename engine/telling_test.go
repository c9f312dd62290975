package engine

import (
	"bytes"
	"encoding/json"
	"log/slog"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/engine/watch"
	"readyferry/store"
)

const lively = "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f, reference: body.card}\nsteps:\n" +
	"- {id: old, kind: filter, keep: body.card != \"gone\", reason: \"the card ${body.card} is gone\"}\n" +
	"- {id: m, kind: map, fields: [{to: /x, from: int(body.n)}]}\n" +
	"- {id: d, kind: deliver, to: out, path: /d}\n"

// What is counted is what has happened, and no label comes from a message.
func TestTheMeterCountsWhatHappens(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		out := &target{}
		w := start(t, t.TempDir(), out)
		w.connect("out", fast)
		w.publish(lively)
		w.becomes(w.accepted("/f", `{"card":"LC1","n":1}`), store.Delivered)
		w.becomes(w.accepted("/f", `{"card":"gone","n":1}`), store.TurnedAway)
		w.becomes(w.accepted("/f", `{"card":"LC2","n":"secret"}`), store.DeadLetter)
		fails := true
		out.say(func(int, call) (reply, error) {
			if fails {
				fails = false
				return reply{Status: 503}, nil
			}
			return reply{Status: 200}, nil
		})
		w.becomes(w.accepted("/f", `{"card":"LC3","n":1}`), store.Delivered)
		out.status(400)
		w.becomes(w.accepted("/f", `{"card":"LC4","n":1}`), store.DeadLetter)
		c := w.Watch.Meter.Counted()
		if len(c.Flows) != 1 || c.Flows[0].Came != 5 || c.Flows[0].Ended["delivered"] != 2 ||
			c.Flows[0].Ended["turned away"] != 1 || c.Flows[0].Ended["dead letter"] != 2 || c.Flows[0].Took.N != 3 {
			t.Errorf("%+v", c.Flows)
		}
		got, _ := json.Marshal(flat(c.Steps))
		want, _ := json.Marshal(map[string]uint64{"f d delivered": 2, "f d try failed": 2, "f d dead letter": 1,
			"f old turned away": 1, "f m dead letter": 1})
		if string(got) != string(want) {
			t.Errorf("steps: %s\nwant   %s", got, want)
		}
		if n := c.Took["out"].N; n != 4 || c.Took["out"].Counts[len(c.Took["out"].Counts)-1] != 4 {
			t.Errorf("%d tries took a time", n)
		}
	})
}

func flat[K comparable](m map[K]uint64) map[string]uint64 {
	out := map[string]uint64{}
	for k, n := range m {
		b, _ := json.Marshal(k)
		var words struct{ Flow, Step, Outcome string }
		_ = json.Unmarshal(b, &words)
		out[words.Flow+" "+words.Step+" "+words.Outcome] = n
	}
	return out
}

// The log has ids, and nothing that was in a message, in an answer or among secrets.
func TestTheLogHoldsNoSecretAndNoBody(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		out, lines := &target{}, &bytes.Buffer{}
		w := startWith(t, t.TempDir(), out, func(c *Config) {
			c.Log = slog.New(slog.NewJSONHandler(lines, &slog.HandlerOptions{Level: slog.LevelDebug}))
		})
		w.connect("out", fast+"\nsign-in: {kind: bearer, secret: hush-hush}\n")
		w.publish(lively)
		var ids []string
		send := func(body string, state store.State) {
			id := w.accepted("/f", body, "Authorization: Bearer hush-hush")
			w.becomes(id, state)
			ids = append(ids, id.String())
		}
		send(`{"card":"MARKER","n":1}`, store.Delivered)
		send(`{"card":"MARKER","n":"MARKER"}`, store.DeadLetter)
		out.say(func(int, call) (reply, error) { return reply{Status: 400, Body: []byte("MARKER")}, nil })
		send(`{"card":"MARKER","n":1}`, store.DeadLetter)
		out.status(500)
		send(`{"card":"MARKER","n":1}`, store.DeadLetter)
		time.Sleep(time.Second)
		w.close()
		text := lines.String()
		for _, hidden := range []string{"MARKER", "hush"} {
			if strings.Contains(text, hidden) {
				t.Errorf("the log has %q:\n%s", hidden, text)
			}
		}
		for _, id := range ids {
			if !strings.Contains(text, id) {
				t.Errorf("the log says nothing of %s", id)
			}
		}
		for line := range strings.Lines(text) {
			var is map[string]any
			if err := json.Unmarshal([]byte(line), &is); err != nil || is["msg"] == nil || is["level"] == nil {
				t.Errorf("%q: %v", line, err)
			}
		}
		for _, want := range []string{`"message received"`, `"delivery tried"`, `"dead letter"`, `"transaction ended"`} {
			if !strings.Contains(text, want) {
				t.Errorf("the log has no %s", want)
			}
		}
	})
}

// Ends, dead letters, failed tries and notes of all flows are one log, also behind a restart.
func TestTheLogAcrossTransactions(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir, out := t.TempDir(), &target{}
		w := start(t, dir, out)
		w.connect("out", fast)
		w.publish(lively)
		w.publish("readyferry: flow/1\nname: g\nintake: {kind: webhook, path: /g, reference: body.card}\nsteps:\n" +
			"- {id: says, kind: note, text: \"the card is ${body.card}\"}\n")
		fails := true
		out.say(func(int, call) (reply, error) {
			if fails {
				fails = false
				return reply{Status: 503}, nil
			}
			return reply{Status: 200}, nil
		})
		w.becomes(w.accepted("/f", `{"card":"LC1","n":1}`), store.Delivered)
		time.Sleep(time.Second)
		w.becomes(w.accepted("/f", `{"card":"gone","n":1}`), store.TurnedAway)
		time.Sleep(time.Second)
		w.becomes(w.accepted("/f", `{"card":"LC2","n":"x"}`), store.DeadLetter)
		time.Sleep(time.Second)
		w.becomes(w.accepted("/g", `{"card":"LC3"}`), store.Delivered)
		read := func(q watch.LineQuery) string {
			t.Helper()
			q.Limit = 100
			lines, next, err := w.Logged(q)
			if err != nil || next != 0 {
				t.Fatal(next, err)
			}
			var out []string
			for _, l := range lines {
				out = append(out, l.What+" "+l.Flow+" "+l.Reference+" "+l.Text)
			}
			return strings.Join(out, "\n")
		}
		all := "end g LC3 nothing was to be sent\nnote g LC3 the card is LC3\n" +
			"death f LC2 int(body.n): the values do not fit together: body.n is \"x\", which is no whole number; it must look like 42\n" +
			"end f gone the card gone is gone\nend f LC1 to out\nfailed f LC1 try 1 at out: 503"
		got := read(watch.LineQuery{})
		if got != all {
			t.Errorf("%s\nwant\n%s", got, all)
		}
		if got := read(watch.LineQuery{Flow: "f", What: []string{"failed"}}); !strings.HasPrefix(got, "failed f LC1 try 1 at out") ||
			strings.Contains(got, "\n") {
			t.Errorf("%s", got)
		}
		if got := read(watch.LineQuery{What: []string{"note"}, Words: "CARD lc3"}); got != "note g LC3 the card is LC3" {
			t.Errorf("%s", got)
		}
		lines, next, err := w.Logged(watch.LineQuery{Limit: 3})
		if err != nil || len(lines) != 3 || next == 0 {
			t.Fatal(lines, next, err)
		}
		older, _, err := w.Logged(watch.LineQuery{Limit: 100, Before: next})
		if err != nil || len(lines)+len(older) != 6 {
			t.Errorf("%d and %d lines, %v", len(lines), len(older), err)
		}
		w.close()
		w = start(t, dir, out)
		if got := read(watch.LineQuery{}); got+"\nfailed f LC1 try 1 at out: 503" != all {
			t.Errorf("behind a restart: %s", got)
		}
	})
}
