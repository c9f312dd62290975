package engine

import (
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/plan"
	"readyferry/store"
)

// startWith starts with settings that a test changes.
func startWith(t *testing.T, dir string, out *target, change func(c *Config)) *world {
	t.Helper()
	s, err := openStore(dir)
	if err != nil {
		t.Fatal(err)
	}
	reader, err := plan.NewReader(registry(t).Kinds()...)
	if err != nil {
		t.Fatal(err)
	}
	c := Config{
		Store:   s,
		Reader:  reader,
		Systems: registry(t),
		Opener:  out,
		Log:     slog.New(slog.NewTextHandler(io.Discard, nil)),
	}
	change(&c)
	e, err := New(c)
	if err == nil {
		err = e.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	return newWorld(e, t, dir, out)
}

// poisoned runs scripts, and panics over a message with poison in it.
type poisoned struct{}

func (poisoned) Run(_ string, _ time.Duration, in []byte) ([]byte, error) {
	if bytes.Contains(in, []byte("poison")) {
		var none []int
		_ = none[len(in)]
	}
	return []byte(`{"value":{"fine":true}}`), nil
}

// A message over which the application itself fails is a dead letter; those that come with
// it go on.
func TestAPoisonMessageIsContained(t *testing.T) { synctest.Test(t, testAPoisonMessage) }

func testAPoisonMessage(t *testing.T) {
	out := &target{}
	out.say(func(_ int, c call) (reply, error) {
		if strings.Contains(c.path, "poison") {
			panic("it fails over this")
		}
		return reply{Status: 200}, nil
	})
	w := startWith(t, t.TempDir(), out, func(c *Config) {
		reader, err := plan.NewReaderWith(poisoned{}, registry(t).Kinds()...)
		if err != nil {
			t.Fatal(err)
		}
		c.Reader = reader
	})
	w.connect("out", fast)
	const code = "{id: c, kind: code, script: 'return body'}, "
	w.publish("readyferry: flow/1\nname: hook\nintake: {kind: webhook, path: /hook}\n" +
		"steps: [" + code + "{id: d, kind: deliver, to: out}]\n")
	w.publish("readyferry: flow/1\nname: reader\nintake: {kind: queue, queue: q}\n" +
		"steps: [" + code + "{id: d, kind: deliver, to: out}]\n")
	w.publish("readyferry: flow/1\nname: filler\nintake: {kind: webhook, path: /fill}\n" +
		"steps: [{id: d, kind: deliver, to: {queue: q}}]\n")
	w.publish("readyferry: flow/1\nname: parts\nintake: {kind: webhook, path: /parts}\n" +
		"steps: [{id: s, kind: split, each: body.l, " +
		"steps: [{id: m, kind: map, fields: [{to: /p, from: part}]}, " + code + "{id: d, kind: deliver, to: out}]}]\n")
	w.publish("readyferry: flow/1\nname: sent\nintake: {kind: webhook, path: /sent}\n" +
		"steps: [{id: d, kind: deliver, to: out, " +
		"path: '/${body.p}'}]\n")
	w.pauseQueueNamed("q", true)
	for i := range 6 {
		w.accepted("/fill", fmt.Sprintf(`{"n":%d}`, i))
		if i == 2 {
			w.accepted("/fill", `{"n":"poison"}`)
		}
	}
	w.pauseQueueNamed("q", false)
	dead := []store.ID{w.accepted("/hook", `{"n":"poison"}`), w.accepted("/sent", `{"p":"poison"}`)}
	fine := []store.ID{w.accepted("/hook", `{"n":1}`), w.accepted("/sent", `{"p":"good"}`)}
	whole := w.accepted("/parts", `{"l":[1,"poison",3]}`)
	for _, id := range dead {
		w.becomes(id, store.DeadLetter)
		if l := w.letter(id); !strings.Contains(l.Reason, "failed over") {
			t.Errorf("%s", l.Reason)
		}
	}
	for _, id := range fine {
		w.becomes(id, store.Delivered)
	}
	w.becomes(whole, store.DeadLetter)
	w.until("the others of the queue are delivered", func() bool {
		totals := map[store.State]int{}
		rows, err := w.store.Transactions(store.Filter{Flow: "reader", Limit: 100})
		for _, r := range rows {
			totals[r.State]++
		}
		return err == nil && totals[store.Delivered] == 6 && totals[store.DeadLetter] == 1
	})
}

// The machine's clock is set back and forward by hours while messages are tried again, held
// and gathered: each comes through, once.
func TestAClockThatIsSetLosesNothing(t *testing.T) { synctest.Test(t, testAClockThatIsSet) }

func testAClockThatIsSet(t *testing.T) {
	var set atomic.Int64
	began := time.Now()
	out := &target{}
	out.say(func(n int, _ call) (reply, error) {
		if n%3 == 0 {
			return reply{Status: 503}, nil
		}
		return reply{Status: 200}, nil
	})
	w := startWith(t, t.TempDir(), out, func(c *Config) {
		c.Now = func() time.Time { return time.Now().Add(time.Duration(set.Load())).Round(0) }
		c.Elapsed = func() time.Duration { return time.Since(began) }
	})
	w.connect("out", "retry: {first: 2s, growth: exponential, cap: 30s, spread: none, tries: 50, within: 48h}")
	w.publish("readyferry: flow/1\nname: again\nintake: {kind: webhook, path: /again, order: body.k}\n" +
		"steps: [{id: d, kind: deliver, to: out, " +
		"path: '/again/${body.n}'}]\n")
	w.publish("readyferry: flow/1\nname: held\nintake: {kind: webhook, path: /held}\n" +
		"steps: [{id: h, kind: hold, for: 20s}, " +
		"{id: d, kind: deliver, to: out, path: '/held/${body.n}'}]\n")
	w.publish("readyferry: flow/1\nname: agg\nintake: {kind: webhook, path: /agg}\n" +
		"steps: [{id: a, kind: aggregate, key: body.k, " +
		"item: body.n, close: {age: 15s}}, {id: d, kind: deliver, to: out, path: '/agg'}]\n")
	w.publish("readyferry: flow/1\nname: tick\nintake: {kind: schedule, every: 1m, missed: once}\nsteps: []\n")
	var ids []store.ID
	for i, jump := range []time.Duration{0, 3 * time.Hour, -5 * time.Hour, 26 * time.Hour, -1 * time.Hour,
		30 * time.Second} {
		set.Add(int64(jump))
		for _, path := range []string{"/again", "/held", "/agg"} {
			ids = append(ids, w.accepted(path, fmt.Sprintf(`{"n":%d,"k":"k"}`, i)))
		}
		time.Sleep(7 * time.Second)
	}
	for _, id := range ids {
		w.becomes(id, store.Delivered)
	}
	keys := map[string]string{}
	var order []string
	for _, c := range out.got() {
		if had := keys[c.path]; had != "" && had != c.key && c.path != "/agg" {
			t.Errorf("%s came under two keys", c.path)
		} else if had == "" && strings.HasPrefix(c.path, "/again") {
			order = append(order, c.path)
		}
		keys[c.path] = c.key
	}
	if got := strings.Join(order, " "); got != "/again/0 /again/1 /again/2 /again/3 /again/4 /again/5" {
		t.Errorf("%s", got)
	}
}

// A flow whose messages all die leaves another's alone, and every one of its letters is
// there.
func TestAFlowOfDeadLettersAlone(t *testing.T) { synctest.Test(t, testAFlowOfDeadLetters) }

func testAFlowOfDeadLetters(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish("readyferry: flow/1\nname: dead\nintake: {kind: webhook, path: /dead}\n" +
		"steps: [{id: m, kind: map, fields: [{to: /x, from: body.none}]}]\n")
	w.publish("readyferry: flow/1\nname: fine\nintake: {kind: webhook, path: /fine}\n" +
		"steps: [{id: d, kind: deliver, to: out}]\n")
	for i := range 1000 {
		w.accepted("/dead", fmt.Sprintf(`{"n":%d}`, i))
		if i%100 == 0 {
			w.becomes(w.accepted("/fine", `{}`), store.Delivered)
		}
	}
	open, err := w.store.CountOpenLetters()
	if err != nil || open != 1000 {
		t.Errorf("%d letters are open, %v", open, err)
	}
}
