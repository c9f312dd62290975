package engine

import (
	"context"
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/flow"
	"readyferry/core/run"
	"readyferry/engine/catalog"
	"readyferry/engine/design"
	"readyferry/store"
)

const (
	flies = `
readyferry: flow/1
name: flies
intake: {kind: webhook, path: /flies}
steps:
  - {id: p, kind: deliver, to: loft, perch: '${body.side}', weight: body.grams * 2, bird: white}
  - {id: n, kind: note, text: 'a ${replies.p.body.bird} one'}
`
)

// A system that the application does not know by itself: its folder and one line
// where systems are listed make it known in documents, rehearsals and live.
func TestASystemIsItsFolderAndOneLine(t *testing.T) {
	synctest.Test(t, testASystemIsItsFolderAndOneLine)
}

func testASystemIsItsFolderAndOneLine(t *testing.T) {
	w := startAt(t, t.TempDir(), registry(t), time.Now)
	ctx := context.Background()
	save := func(document string) error {
		_, err := w.SaveConnection(
			ctx,
			strings.Fields(strings.SplitN(document, "name: ", 2)[1])[0],
			[]byte(document),
			nil,
		)
		return err
	}
	// Connections are checked by its schema.
	for document, want := range map[string]string{
		"readyferry: connection/1\nname: loft\nkind: pigeon\naddress: http://x\n":                 "'http://x' does not match pattern",
		"readyferry: connection/1\nname: loft\nkind: pigeon\naddress: loft://a\ndriver: sqlite\n": "driver is not expected here",
		"readyferry: connection/1\nname: loft\nkind: carrier\n":                                   "kind \"carrier\" is no kind of connection",
	} {
		var refused *design.FindingsError
		if err := save(document); !errors.As(err, &refused) || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
	if err := save("readyferry: connection/1\nname: loft\nkind: pigeon\naddress: loft://harbour\nrings: true\nlimits: {in-flight: 2}\n"); err != nil {
		t.Fatal(err)
	}
	if r, err := w.TestConnection(ctx, "loft"); err != nil || !r.OK || r.Detail != "the loft is open" {
		t.Errorf("%+v, %v", r, err)
	}
	// So are flows.
	find := func(document, code string) flow.Finding {
		t.Helper()
		_, findings := w.Read("flies", []byte(document), nil)
		for _, f := range findings {
			if f.Code == code {
				return f
			}
		}
		t.Errorf("no finding %s in %+v", code, findings)
		return flow.Finding{}
	}
	if f := find(strings.Replace(flies, ", bird: white", ", bird: pink", 1),
		"wrong-value"); f.Pointer != "/steps/0/bird" ||
		f.Line == 0 {
		t.Errorf("%+v", f)
	}
	if f := find(strings.Replace(flies, "perch: '${body.side}', ", "", 1), "missing-key"); !strings.Contains(
		f.Message,
		`"perch" is required`,
	) {
		t.Errorf("%+v", f)
	}
	if f := find(strings.Replace(flies, "bird: white", "method: PUT, path: /x", 1),
		"unknown-key"); f.Pointer != "/steps/0/method" {
		t.Errorf("%+v", f)
	}
	if f := find(strings.Replace(flies, "body.grams * 2", "body.grams *", 1),
		"expression"); f.Pointer != "/steps/0/weight" {
		t.Errorf("%+v", f)
	}
	if f := find(strings.Replace(flies, "perchs", "perch", 1)+"  - {id: x, kind: deliver, to: loft, perhc: a}\n",
		"unknown-key"); !strings.Contains(
		f.Repair,
		"perch",
	) {
		t.Errorf("%+v", f)
	}
	// A rehearsal shows what it would be told.
	w.publish(flies)
	r, findings, err := w.RehearseSamples(
		"flies",
		nil,
		[]catalog.Sample{{Name: "one", Body: `{"side":"north","grams":4}`}},
	)
	if err != nil || len(r) != 1 || r[0].State != run.DeadLetter && r[0].State != run.Delivered {
		t.Fatalf("%+v, %+v, %v", r, findings, err)
	}
	if d := r[0].Deliveries[0]; d.Kind != "pigeon" ||
		string(d.Request.Settings) != `{"perch":"north","weight":8,"bird":"white","rest":"10s"}` {
		t.Errorf("%+v %s", d, d.Request.Settings)
	}
	if err := w.Engine.Start(); err != nil {
		t.Fatal(err)
	}
	// Live: out by the one door, in by the other, each once.
	w.publish(
		"readyferry: flow/1\nname: lands\nintake: {kind: pigeon, of: loft, perch: north, reference: body.ref}\nsteps: " +
			"[{id: n, kind: note, text: '${headers.ring}'}]\n",
	)
	sent := w.accepted("/flies", `{"side":"north","grams":4,"ref":"R-1"}`)
	w.becomes(sent, store.Delivered)
	w.until("it has landed", func() bool { return len(w.bodies("lands")) == 1 })
	heavy := w.accepted("/flies", `{"side":"north","grams":40}`)
	if dead := w.becomes(heavy, store.DeadLetter); dead.Reason != "loft: too heavy" {
		t.Errorf("%q", dead.Reason)
	}
	c, err := w.store.Clock("lands")
	if err != nil || string(c.Mark) != "1" || c.Taken != 1 {
		t.Errorf("%+v, %v", c, err)
	}
	// Begun anew it goes on behind its mark; one that comes again is a repeat.
	if err := w.Pause(ctx, "lands", true, false); err != nil {
		t.Fatal(err)
	}
	if err := w.SetMark("lands", []byte("0")); err != nil {
		t.Fatal(err)
	}
	if err := w.Pause(ctx, "lands", false, false); err != nil {
		t.Fatal(err)
	}
	w.until("the repeat is turned away", func() bool {
		state := store.TurnedAway
		rows, err := w.store.Transactions(store.Filter{Flow: "lands", State: &state, Limit: 5})
		return err == nil && len(rows) == 1 && strings.HasPrefix(rows[0].Reason, "duplicate of ")
	})
}
