package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"readyferry/core/message"
	"readyferry/engine/journal"
	"readyferry/store"
)

func splitter(settings, steps string) string {
	return "readyferry: flow/1\nname: s\nintake: {kind: webhook, path: /s, reference: body.ref}\nsteps:\n- {id: " +
		"per, kind: split, each: body.items, " + settings + "steps: [" + steps + "]}\n- {id: n, kind: note, text: behind}\n"
}

const perItem = `{id: m, kind: map, fields: [{to: /of, from: body.ref}, {to: /item, from: part.id}, {to: /n, ` +
	`from: index}, {to: /last, from: last}]}, {id: d, kind: deliver, to: out, path: '/${part.id}'}`

func items(ids ...string) string {
	var out []string
	for _, id := range ids {
		out = append(out, fmt.Sprintf(`{"id":%q}`, id))
	}
	return `{"ref":"R-1","items":[` + strings.Join(out, ",") + `]}`
}

func (w *world) parts(id store.ID) []store.Transaction {
	w.t.Helper()
	out, err := w.store.Parts(id, nil, nil, 100_000)
	if err != nil {
		w.t.Fatal(err)
	}
	return out
}

func TestEachPartIsATransactionOfItsOwn(t *testing.T) {
	synctest.Test(t, testEachPartIsATransactionOfItsOwn)
}

func testEachPartIsATransactionOfItsOwn(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(splitter("", perItem))
	id := w.accepted("/s", items("a", "b", "c"))
	whole := w.becomes(id, store.Delivered)
	parts := w.parts(id)
	if len(parts) != 3 || whole.Parts != 3 || parts[2].PartIndex != 2 || parts[1].SplitPath != "per" ||
		parts[1].Reference != "R-1" {
		t.Fatalf("%+v of %+v", parts, whole)
	}
	bodies := []string{}
	for _, c := range w.out.got() {
		bodies = append(bodies, c.body)
	}
	slices.Sort(bodies)
	if want := `{"of":"R-1","item":"c","n":2,"last":true}`; bodies[2] != want || len(bodies) != 3 {
		t.Errorf("%v", bodies)
	}
	// The list and the counts are of whole transactions.
	if rows, err := w.store.Transactions(store.Filter{Limit: 10}); err != nil || len(rows) != 1 {
		t.Errorf("%d in the list, %v", len(rows), err)
	}
	if totals, err := w.store.Totals(); err != nil || len(totals) != 1 || totals[0].N != 1 {
		t.Errorf("%+v %v", totals, err)
	}
	r, err := w.Inspect(parts[1].ID)
	if err != nil || len(r.Trace) != 2 || r.Trace[1].Path != "per[1]/d" || r.Trace[1].Outcome != "200, 1st try" ||
		r.Intake.Outcome != "part 2 of 3" ||
		r.Answer != nil {
		t.Errorf("%+v %v", r, err)
	}
	if r, err := w.Inspect(id); err != nil || len(r.Trace) != 2 || r.Trace[0].Outcome != "3 parts" ||
		r.Trace[1].Outcome == "" {
		t.Errorf("%+v %v", r, err)
	}
}

// The whole shows its most troubled part; a part is repaired and resent by itself.
func TestAPartDiesIsRepairedAndResent(t *testing.T) {
	synctest.Test(t, testAPartDiesIsRepairedAndResent)
}

func testAPartDiesIsRepairedAndResent(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(splitter("", perItem))
	id := w.accepted("/s", `{"ref":"R-1","items":[{"id":"a"},{"no":"b"},{"id":"c"}]}`)
	whole := w.becomes(id, store.DeadLetter)
	w.until("the rest goes on", func() bool { return len(w.out.got()) == 2 })
	parts := w.parts(id)
	l := w.letter(parts[1].ID)
	if whole.Reason != "part 2: "+l.Reason || whole.Place != "per[1]/m" || l.Phase != "fields/1 /item" ||
		l.Path != "per[1]/m" ||
		l.Class != "data" {
		t.Errorf("%+v %+v", whole, l)
	}
	d := journal.Decision{IDs: []store.ID{l.ID}, Patch: []byte(`[{"op":"add","path":"/id","value":"b"}]`)}
	if p, err := w.Preview(d); err != nil || p[0].Error != "" || p[0].Rehearsal.State != "delivered" ||
		p[0].Rehearsal.Deliveries[0].Path != "per[1]/d" {
		t.Fatalf("%+v %v", p, err)
	}
	if _, err := w.Resend(context.Background(), d); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
	got := w.out.got()
	if len(got) != 3 || got[2].body != `{"of":"R-1","item":"b","n":1,"last":false}` {
		t.Errorf("%+v", got)
	}
	if r, err := w.Inspect(parts[1].ID); err != nil || r.State != "delivered" ||
		*r.Intake.Body.Text != `{"no":"b","id":"b"}` {
		t.Errorf("%+v %v", r, err)
	}
}

func TestPartsInOrderBeginOneAfterTheOther(t *testing.T) {
	synctest.Test(t, testPartsInOrderBeginOneAfterTheOther)
}

func testPartsInOrderBeginOneAfterTheOther(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(splitter("parts: in order, ", perItem))
	w.out.say(func(n int, c call) (reply, error) {
		if n == 1 {
			return reply{Status: 503}, nil // the first is tried again before the second begins
		}
		return reply{Status: 200}, nil
	})
	id := w.accepted("/s", items("a", "b", "c"))
	w.becomes(id, store.Delivered)
	var order []string
	for _, c := range w.out.got() {
		order = append(order, c.path)
	}
	if strings.Join(order, " ") != "/a /a /b /c" {
		t.Error(order)
	}
}

func TestADeadPartStopsThoseThatHaveNotBegun(t *testing.T) {
	synctest.Test(t, testADeadPartStopsThoseThatHaveNotBegun)
}

func testADeadPartStopsThoseThatHaveNotBegun(t *testing.T) {
	for _, c := range []struct{ settings, sent string }{
		{"parts: in order, ", "/a /c"},
		{"parts: in order, when-dead: stop, ", "/a"},
		{"when-dead: stop, ", "/a"},
	} {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", fast)
		w.publish(splitter(c.settings, perItem))
		id := w.accepted("/s", `{"ref":"R-1","items":[{"id":"a"},{"no":"b"},{"id":"c"}]}`)
		w.becomes(id, store.DeadLetter)
		w.until("the first is sent", func() bool { return len(w.out.got()) >= len(strings.Fields(c.sent)) })
		s, err := w.store.Splits(id)
		if err != nil || s[0].Stop && s[0].Next != 2 {
			t.Errorf("%s: %+v %v", c.settings, s, err)
		}
		// When a person has decided, the rest goes on.
		parts := w.parts(id)
		if err := w.Discard(context.Background(), journal.Decision{IDs: []store.ID{w.letter(parts[1].ID).ID}}); err != nil {
			t.Fatal(err)
		}
		w.becomes(id, store.Delivered)
		var sent []string
		for _, call := range w.out.got() {
			sent = append(sent, call.path)
		}
		if strings.Join(sent, " ") != "/a /c" {
			t.Errorf("%s: %v", c.settings, sent)
		}
	}
}

// Parts may be split again, and what is half done goes on after a restart.
func TestPartsOfPartsSurviveARestart(t *testing.T) { synctest.Test(t, testPartsOfPartsSurviveARestart) }

func testPartsOfPartsSurviveARestart(t *testing.T) {
	dir, out := t.TempDir(), &target{}
	w := start(t, dir, out)
	w.connect("out", "retry: {first: 20ms, growth: constant, cap: 20ms, spread: none, tries: 500, within: 1m}")
	w.publish(
		"readyferry: flow/1\nname: s\nintake: {kind: webhook, path: /s}\nsteps:\n- {id: o, kind: split, each: body, " +
			"parts: in order, steps: [{id: i, kind: split, each: part.list, steps: [{id: d, kind: deliver, to: out, " +
			"path: '/${part}'}]}]}\n",
	)
	out.status(503)
	id := w.accepted("/s", `[{"list":["a","b"]},{"list":[]},{"list":["c"]}]`)
	w.until("two are tried", func() bool { return len(out.got()) > 4 })
	tx, err := w.store.Transaction(id)
	if err != nil || tx.State > store.Waiting {
		t.Errorf("%+v %v", tx, err)
	}
	w.close()
	w = start(t, dir, out)
	out.say(nil)
	w.becomes(id, store.Delivered)
	outer := w.parts(id)
	if len(outer) != 3 || outer[0].Parts != 2 || outer[1].Parts != 0 {
		t.Fatalf("%+v", outer)
	}
	inner := w.parts(outer[0].ID)
	if r, err := w.Inspect(inner[1].ID); err != nil || r.Trace[0].Path != "o[0]/i[1]/d" ||
		!strings.HasPrefix(r.Trace[0].Outcome, "200") {
		t.Errorf("%+v %v", r, err)
	}
}

func TestASplitOverNoListIsADeadLetter(t *testing.T) {
	synctest.Test(t, testASplitOverNoListIsADeadLetter)
}

func testASplitOverNoListIsADeadLetter(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(splitter("limit: 2, ", perItem))
	for body, want := range map[string]string{
		`{"ref":"1","items":"many"}`:     "each: body.items is a string, not a list; many(body.items) takes one value for a list of one",
		`{"ref":"1"}`:                    "each: body.items is missing: body has no items; it has ref",
		`{"ref":"1","items":[1,2,3]}`:    "limit: the message has 3 parts, and at most 2 are taken; raise limit, or send less at once",
		`{"ref":"1","items":{"id":"x"}}`: "each: body.items is a map, not a list; many(body.items) takes one value for a list of one",
	} {
		id := w.accepted("/s", body)
		w.becomes(id, store.DeadLetter)
		if l := w.letter(id); l.Phase+": "+l.Reason != want || l.Path != "per" || l.Class != "data" {
			t.Errorf("%s: %+v", body, l)
		}
	}
	w.becomes(w.accepted("/s", `{"ref":"1","items":[]}`), store.Delivered)
}

// A part begins with what the message was when it was split, also when the
// answer of an outside system came before.
func TestPartsSeeRepliesFromBeforeTheSplit(t *testing.T) {
	synctest.Test(t, testPartsSeeRepliesFromBeforeTheSplit)
}

func testPartsSeeRepliesFromBeforeTheSplit(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(
		"readyferry: flow/1\nname: s\nintake: {kind: webhook, path: /s}\nsteps:\n- {id: ask, kind: deliver, to: " +
			"out}\n- {id: v, kind: set, vars: {n: replies.ask.body.n}}\n- {id: per, kind: split, each: body, steps: " +
			"[{id: d, kind: deliver, to: out, path: '/${vars.n}/${part}'}]}\n",
	)
	id := w.accepted("/s", `["a","b"]`)
	w.becomes(id, store.Delivered)
	var sent []string
	for _, c := range w.out.got() {
		sent = append(sent, c.path)
	}
	slices.Sort(sent)
	if strings.Join(sent, " ") != " /1/a /1/b" {
		t.Errorf("%q", sent)
	}
}

// Parts in order that wait in a group let the next one begin, which may be what
// the group waits for.
func TestPartsInOrderMeetInAGroup(t *testing.T) { synctest.Test(t, testPartsInOrderMeetInAGroup) }

func testPartsInOrderMeetInAGroup(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(
		splitter(
			"parts: in order, ",
			"{id: agg, kind: aggregate, key: part.id, item: index, close: {count: 2, age: 1h}}, {id: d, kind: deliver, to: out, path: '/${group.key}'}",
		),
	)
	id := w.accepted("/s", items("a", "b", "a", "b"))
	w.becomes(id, store.Delivered)
	w.until("both are sent", func() bool { return len(w.out.got()) == 2 })
	if got := w.sent(); got[0] != "/a [0,2]" || got[1] != "/b [1,3]" {
		t.Error(got)
	}
	if s, err := w.store.Splits(id); err != nil || s[0].Aside != 0 || s[0].Delivered != 4 {
		t.Errorf("%+v %v", s, err)
	}
}

// A wrong flow is mended, published, and the part and the group that died under
// the old version are resent under the new one.
func TestPartsAndGroupsAreResentUnderANewVersion(t *testing.T) {
	synctest.Test(t, testPartsAndGroupsAreResentUnderANewVersion)
}

func testPartsAndGroupsAreResentUnderANewVersion(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	flow := func(field, result string) string {
		return "readyferry: flow/1\nname: s\nintake: {kind: webhook, path: /s}\nsteps:\n- {id: per, kind: split, " +
			"each: body.items, steps: [{id: m, kind: map, fields: [{to: /id, from: part." + field +
			"}]}, {id: agg, kind: aggregate, key: " +
			"'\"all\"', item: body.id, close: {parts: true}, result: map, fields: [{to: /ids, from: group." + result +
			"}]}, {id: d, kind: deliver, to: out}]}\n"
	}
	w.publish(flow("wrong", "nothing"))
	id := w.accepted("/s", items("a", "b"))
	w.becomes(id, store.DeadLetter)
	w.until("both are dead", func() bool { s, _ := w.store.Splits(id); return s[0].Dead == 2 })
	w.publish(flow("id", "nothing"))
	var letters []store.ID
	for _, p := range w.parts(id) {
		letters = append(letters, w.letter(p.ID).ID)
	}
	if p, err := w.Preview(journal.Decision{IDs: letters, Version: "live"}); err != nil || p[0].Error != "" ||
		p[0].Rehearsal.Trace[0].Outcome != "1 of 1 set" {
		t.Fatalf("%+v %v", p, err)
	}
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: letters, Version: "live"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.Delivered)
	rows, err := w.store.Memberships(w.parts(id)[0].ID)
	if err != nil || len(rows) != 1 {
		t.Fatalf("%+v %v", rows, err)
	}
	g := w.becomes(rows[0].GroupID, store.DeadLetter)
	if l := w.letter(g.ID); l.Phase != "fields/0 /ids" || l.Version != 2 {
		t.Errorf("%+v", l)
	}
	w.publish(flow("id", "items"))
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(g.ID).ID},
		Version: "live"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(g.ID, store.Delivered)
	if got := w.sent(); len(got) != 1 || got[0] != ` {"ids":["a","b"]}` {
		t.Error(got)
	}
	// A version without the split cannot take a part, and says so.
	bad := w.accepted("/s", `{"items":[{"no":1}]}`)
	w.becomes(bad, store.DeadLetter)
	w.until("the part is dead", func() bool { p := w.parts(bad); return len(p) == 1 && p[0].State == store.DeadLetter })
	w.publish("readyferry: flow/1\nname: s\nintake: {kind: webhook, path: /s}\nsteps: [{id: n, kind: note, text: x}]\n")
	_, err = w.Resend(
		context.Background(),
		journal.Decision{IDs: []store.ID{w.letter(w.parts(bad)[0].ID).ID}, Version: "live"},
	)
	if err == nil || !strings.Contains(err.Error(), "does not come to per") {
		t.Error(err)
	}
}

func TestTheWholeIsReadWhileItsPartsWait(t *testing.T) {
	synctest.Test(t, testTheWholeIsReadWhileItsPartsWait)
}

// The last delivery of a message is through, and its parts are not: what that one was answered
// is known to whoever reads the message again.
func testTheWholeIsReadWhileItsPartsWait(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("shop", "")
	w.out.say(func(_ int, c call) (reply, error) {
		if strings.HasPrefix(c.path, "/part") {
			return reply{Status: 503}, nil
		}
		return reply{Status: 201, Headers: []message.Header{{Name: "X-Number", Value: "7"}}, Body: []byte("taken")}, nil
	})
	w.publish(fmt.Sprintf(keeping, "month", ""))
	id := w.accepted("/month", `{"once":"1","go":"on","list":[{"list":[{"n":1},{"n":2}]}]}`)
	w.until("the last delivery is through", func() bool {
		d, err := w.store.Deliveries(id)
		return err == nil && len(d) == 1 && d[0].State == store.Done
	})
	effects, err := w.Effects(id)
	if err != nil {
		t.Fatal(err)
	}
	if e := effects["shop"]; e.Status != 201 || len(e.Headers) != 1 || string(e.Body) != "taken" {
		t.Errorf("it was answered %+v", e)
	}
	if r, err := w.Inspect(id); err != nil || len(r.Trace) == 0 {
		t.Errorf("%+v, %v", r, err)
	}
}
