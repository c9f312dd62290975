package engine

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"readyferry/engine/catalog"
	"readyferry/engine/intake"
	"readyferry/engine/journal"
	"readyferry/store"
)

// A call is taken in the partition that its message belongs to, and handed on from every other one, with nothing kept
// of it.
func TestWhichPartitionACallBelongsTo(t *testing.T) {
	out := &target{}
	w := startWith(t, t.TempDir(), out, func(c *Config) { c.Partition = journal.Partition{This: 1, Of: 3} })
	w.connect("out", "")
	w.connect("narrow", "limits: {in-flight: 2}\n")
	w.connect("far", "at: depot\n")
	w.connect(
		"signed",
		"sign-in: {kind: oauth2, grant: authorization-code, token-address: 'http://127.0.0.1:1/token', "+
			"authorize-address: 'http://127.0.0.1:1/authorize', client-id: a}\n",
	)
	to := func(name, intake, target string) string {
		return fmt.Sprintf("readyferry: flow/1\nname: %s\nintake: {kind: webhook, path: /%[1]s, format: json%s}\n"+
			"steps:\n- {id: d, kind: deliver, to: %s}\n", name, intake, target)
	}
	for _, document := range []string{
		to("plain", "", "out"), to("ordered", ", order: body.v", "out"), to("once", ", once: body.v", "out"),
		to("narrowly", "", "narrow"), to("farther", "", "far"), to("personally", "", "signed"),
		to("queued", ", order: body.v", "{queue: q, readers: outside}"), to("called", "", "out"),
		"readyferry: flow/1\nname: calls\nintake: {kind: webhook, path: /calls}\nsteps:\n- {id: c, kind: subflow, flow: called}\n",
	} {
		w.publish(document)
	}
	for flow, why := range map[string]string{"plain": "", "ordered": "", "once": "", "narrowly": "narrow takes 2 at once",
		"farther": "far is reached by the runner depot", "personally": "a person has signed in for signed",
		"queued": "it uses the queue q", "called": "the flow calls calls it", "calls": "it calls the flow called", "none": "it is not live"} {
		if got := w.PlaceOf(flow).Why; got != why {
			t.Errorf("%s is at home: %q, not %q", flow, got, why)
		}
	}
	if _, _, err := w.SaveDraft(context.Background(), "draft", []byte(to("draft", "", "out")), nil); err != nil {
		t.Fatal(err)
	}
	taken := 0
	for i := range 30 {
		v := fmt.Sprintf("v%d", i)
		home := w.Partition.Holding(v)
		for path, wanted := range map[string]int{"/plain": 1, "/ordered": home, "/once": home, "/queued": 0, "/narrowly": 0, "/draft": 0} {
			_, err := w.post(path, fmt.Sprintf(`{"v":%q}`, v))
			var elsewhere *intake.ElsewhereError
			switch {
			case wanted == 1 && err == nil:
				taken++
			case wanted != 1 && errors.As(err, &elsewhere) && elsewhere.Partition == wanted:
			default:
				t.Errorf("%s of %s belongs to %d, and comes to %v", v, path, wanted, err)
			}
		}
	}
	list, err := w.store.Transactions(store.Filter{Limit: 1000})
	if err != nil || len(list) != taken || taken < 31 || taken > 89 {
		t.Errorf("%d were taken and %d are kept, %v", taken, len(list), err)
	}
}

// A flow whose messages meet only each other is at home in a partition of its own, which it keeps: what it has is there.
// One that was in the first stays there.
func TestAFlowIsAtHomeWhereTheFewestAre(t *testing.T) {
	w := startWith(t, t.TempDir(), &target{}, func(c *Config) { c.Partition = journal.Partition{This: 1, Of: 3} })
	w.connect("out", "")
	version := func(name, steps string) {
		t.Helper()
		w.publish(fmt.Sprintf("readyferry: flow/1\nname: %s\nintake: {kind: webhook, path: /%[1]s, format: json, order: body.v}\n"+
			"steps:\n%s- {id: n, kind: note, text: '%[3]d'}\n", name, steps, len(steps)))
	}
	const alone, queues = "", "- {id: d, kind: deliver, to: {queue: q, readers: outside}}\n"
	const meets, meets2 = "- {id: o, kind: once, key: body.id, for: 1h}\n", "- {id: o2, kind: pace, most: 5, per: 1s}\n"
	is := func(name string, wanted catalog.Place) {
		t.Helper()
		if got := w.PlaceOf(name); got != wanted {
			t.Errorf("%s is at %+v, not %+v", name, got, wanted)
		}
		_, err := w.post("/"+name, `{"v":"a","id":"1"}`)
		home := wanted.Partition
		if wanted.Spread {
			home = w.Partition.Holding("a")
		}
		var elsewhere *intake.ElsewhereError
		if home == 1 && err != nil || home != 1 && (!errors.As(err, &elsewhere) || elsewhere.Partition != home) {
			t.Errorf("a message of %s comes to %v", name, err)
		}
	}
	once, pace := "it has a step of kind once", "it has a step of kind pace"
	version("zero", queues)
	version("one", meets)
	version("two", meets)
	version("three", meets)
	is("zero", catalog.Place{Why: "it uses the queue q"})
	is("one", catalog.Place{Partition: 1, Why: once})
	is("two", catalog.Place{Partition: 2, Why: once})
	is("three", catalog.Place{Why: once})
	version("zero", meets)
	is("zero", catalog.Place{Why: once})
	version("two", alone)
	is("two", catalog.Place{Spread: true})
	version("two", meets2)
	is("two", catalog.Place{Partition: 2, Why: pace})
	version("four", alone)
	version("four", meets2)
	is("four", catalog.Place{Partition: 1, Why: pace})
	if err := w.Designs.Delete(context.Background(), "two", true); err != nil {
		t.Fatal(err)
	}
	if homes, err := w.store.Homes(""); err != nil || fmt.Sprint(homes) != "map[four:1 one:1]" {
		t.Errorf("homes are %v %v", homes, err)
	}
}

// A message over which the process has died alone is not read once more to see which partition it belongs to: it is
// kept where it comes in, as a dead letter.
func TestWhatIsSetAsideStaysWhereItComesIn(t *testing.T) {
	dir, out := t.TempDir(), &target{}
	part := func(c *Config) { c.Partition = journal.Partition{This: 1, Of: 3} }
	w := startWith(t, dir, out, part)
	w.connect("out", "")
	w.publish("readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f, format: json, order: body.v}\n" +
		"steps:\n- {id: d, kind: deliver, to: out}\n")
	body := ""
	for i := range 100 {
		if v := fmt.Sprintf("v%d", i); w.Partition.Holding(v) == 2 {
			body = fmt.Sprintf(`{"v":%q}`, v)
			break
		}
	}
	var elsewhere *intake.ElsewhereError
	if _, err := w.post("/f", body); !errors.As(err, &elsewhere) {
		t.Errorf("it is taken here: %v", err)
	}
	w.close()
	died(t, dir, "f", body, true, 1, 900)
	again := startWith(t, dir, out, part)
	if _, err := again.post("/f", body); err != nil {
		t.Errorf("it is not taken: %v", err)
	}
	if letters, err := again.store.Letters(store.LetterFilter{Limit: 10}); err != nil || len(letters) != 1 {
		t.Errorf("%+v %v", letters, err)
	}
}
