package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/engine/journal"
	"readyferry/engine/watch"
	"readyferry/store"
)

func gatherer(settings string) string {
	return "readyferry: flow/1\nname: g\nintake: {kind: webhook, path: /g, reference: string(body.n)}\nsteps:\n- " +
		"{id: agg, kind: aggregate, key: body.k, item: body.n, " + settings + "}\n- {id: d, kind: deliver, to: out, " +
		"path: '/${group.key}'}\n"
}

func (w *world) member(key string, n int) store.ID {
	w.t.Helper()
	return w.accepted("/g", fmt.Sprintf(`{"k":%q,"n":%d}`, key, n))
}

func (w *world) sent() []string {
	var out []string
	for _, c := range w.out.got() {
		out = append(out, c.path+" "+c.body)
	}
	sort.Strings(out)
	return out
}

// A group of two closes on the second (common practice).
func TestAGroupOfTwoClosesOnTheSecond(t *testing.T) {
	synctest.Test(t, testAGroupOfTwoClosesOnTheSecond)
}

func testAGroupOfTwoClosesOnTheSecond(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(gatherer("close: {count: 2, age: 1h}"))
	first := w.member("a", 1)
	tx := w.becomes(first, store.Waiting)
	if tx.PlaceText != "group a" || tx.Place != "agg" {
		t.Errorf("%+v", tx)
	}
	other := w.member("b", 9)
	open, err := w.OpenGroups(store.OfFlow("g"), nil, 10)
	if err != nil || len(open) != 2 || open[0].Key != "a" || open[0].Members != 1 ||
		strings.Join(open[0].Missing, "; ") != "1 more" ||
		open[0].CloseAt == nil {
		t.Fatalf("%+v %v", open, err)
	}
	second := w.member("a", 2)
	w.becomes(first, store.Delivered)
	w.becomes(second, store.Delivered)
	w.until("the group is sent", func() bool { return len(w.out.got()) == 1 })
	if got := w.sent(); got[0] != "/a [1,2]" {
		t.Error(got)
	}
	g := w.becomes(open[0].ID, store.Delivered)
	if g.Reference != "a" || !g.FromGroup {
		t.Errorf("%+v", g)
	}
	r, err := w.Inspect(g.ID)
	if err != nil || r.Intake.Outcome != "group of 2 members, by count, 2" ||
		r.Trace[0].Outcome != "2 members, by count, 2" ||
		r.Trace[1].Path != "d" {
		t.Errorf("%+v %v", r, err)
	}
	if r, err := w.Inspect(first); err != nil || len(r.Trace) != 1 || r.Trace[0].Outcome != "member 1 of a" {
		t.Errorf("%+v %v", r, err)
	}
	// A person may close one early; it closes once.
	if err := w.CloseGroup(context.Background(), open[1].ID); err != nil {
		t.Fatal(err)
	}
	if err := w.CloseGroup(context.Background(), open[1].ID); !errors.Is(err, ErrDecision) ||
		!strings.Contains(err.Error(), "has closed already, by a person") {
		t.Error(err)
	}
	w.becomes(other, store.Delivered)
	w.until("it is sent", func() bool { return len(w.out.got()) == 2 })
}

func TestAGroupClosesByConditionQuietAndAge(t *testing.T) {
	synctest.Test(t, testAGroupClosesByConditionQuietAndAge)
}

func testAGroupClosesByConditionQuietAndAge(t *testing.T) {
	for _, c := range []struct{ settings, want string }{
		{"close: {when: 'group.newest == 3', age: 1h}", "/a [1,2,3]"},
		{"close: {when: 'group.items.exists(i, i == 1) && group.count == 3', age: 1h}", "/a [1,2,3]"},
		{"close: {quiet: 150ms}", "/a [1,2,3]"},
		{"close: {age: 400ms}", "/a [1,2,3]"},
		{"close: {count: 3, age: 1h}, result: text, separator: ', '", "/a 1, 2, 3"},
		{"close: {count: 3, age: 1h}, result: map, fields: [{to: /sum, from: 'group.items[0] + group.items[2]'}, {to: " +
			"/n, from: group.count}, {to: /why, from: group.why}]", `/a {"sum":4,"n":3,"why":"by count, 3"}`},
		{"close: {count: 3, age: 1h}, result: csv", "/a 1\r\n2\r\n3\r\n"},
	} {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", fast)
		w.publish(gatherer(c.settings))
		for n := 1; n <= 3; n++ {
			w.member("a", n)
		}
		w.until("the group is sent", func() bool { return len(w.out.got()) == 1 })
		if got := w.sent(); got[0] != c.want {
			t.Errorf("%s: %q, want %q", c.settings, got, c.want)
		}
	}
}

func TestLateAndDuplicateMembers(t *testing.T) { synctest.Test(t, testLateAndDuplicateMembers) }

func testLateAndDuplicateMembers(t *testing.T) {
	for _, c := range []struct{ settings, late, sent string }{
		{"", "waiting", "/a [1,2]"},
		{"late: turn away, ", "turned away", "/a [1,2]"},
		{"late: add, ", "delivered", "/a [1,2]|/a [3]"},
	} {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", fast)
		w.publish(gatherer("unique: body.n, " + c.settings + "close: {count: 2, age: 1h}"))
		w.member("a", 1)
		twin := w.becomes(w.member("a", 1), store.TurnedAway)
		if twin.Reason != "the group a has a member 1 already" {
			t.Error(twin.Reason)
		}
		w.member("a", 2)
		w.until("the group is sent", func() bool { return len(w.out.got()) == 1 })
		late, _ := store.ParseState(c.late)
		tx := w.becomes(w.member("a", 3), late)
		if late == store.TurnedAway && !strings.HasPrefix(tx.Reason, "it is late: the group a closed at 20") {
			t.Error(tx.Reason)
		}
		want := strings.Split(c.sent, "|")
		w.until("all is sent", func() bool { return len(w.out.got()) == len(want) })
		if got := w.sent(); !slices.Equal(got, want) {
			t.Errorf("%s: %v", c.settings, got)
		}
	}
}

// What cannot become a member is a dead letter that says where and why, and the
// group goes on without it.
func TestWhatAnAggregateRefuses(t *testing.T) { synctest.Test(t, testWhatAnAggregateRefuses) }

func testWhatAnAggregateRefuses(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(gatherer("close: {count: 3, age: 1h}, limit: 3, groups: 2"))
	w.publish(
		"readyferry: flow/1\nname: h\nintake: {kind: webhook, path: /h}\nsteps:\n- {id: agg, kind: aggregate, key: " +
			"body.k, close: {when: 'group.newest.stop', age: 1h}, limit: 1}\n",
	)
	for body, want := range map[string]string{
		`{"n":1}`:         "agg key: body.k is missing: body has no k; near it there is n",
		`{"k":[],"n":1}`:  "agg key: body.k is a list, not a text or number",
		`{"k":"x","m":1}`: "agg item: body.n is missing: body has no n; near it there is k, m",
	} {
		id := w.accepted("/g", body)
		w.becomes(id, store.DeadLetter)
		if l := w.letter(id); l.Path+" "+l.Phase+": "+l.Reason != want || l.Class != "data" || l.Kind != "aggregate" {
			t.Errorf("%s: %+v", body, l)
		}
	}
	w.member("a", 1)
	w.member("b", 1)
	id := w.member("c", 1)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Phase != "groups" ||
		l.Reason != "2 groups are open, which is the limit; raise groups, or close some" ||
		l.Path != "agg" {
		t.Errorf("%+v", l)
	}
	id = w.accepted("/h", `{"k":"a","n":1}`)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Phase != "close/when" || !strings.Contains(l.Reason, "stop") {
		t.Errorf("%+v", l)
	}
	w.becomes(w.accepted("/h", `{"k":"a","stop":false}`), store.Waiting)
	id = w.accepted("/h", `{"k":"a","stop":false}`)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Phase != "limit" ||
		!strings.HasPrefix(l.Reason, "the group a is full: it has 1 members, its limit") {
		t.Errorf("%+v", l)
	}
}

// A result that fails is a dead letter of the group; its members are not lost,
// and it can be repaired.
func TestAGroupWhoseResultFailsIsRepaired(t *testing.T) {
	synctest.Test(t, testAGroupWhoseResultFailsIsRepaired)
}

func testAGroupWhoseResultFailsIsRepaired(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(
		"readyferry: flow/1\nname: g\nintake: {kind: webhook, path: /g}\nsteps:\n- {id: agg, kind: aggregate, key: " +
			"body.k, close: {count: 2, age: 1h}, result: map, fields: [{to: /all, each: group.items, as: i, fields: " +
			"[{to: /n, from: i.n}]}]}\n- {id: d, kind: deliver, to: out}\n",
	)
	w.accepted("/g", `{"k":"a","n":1.50}`)
	last := w.accepted("/g", `{"k":"a","m":2}`)
	w.becomes(last, store.Delivered)
	rows, _ := w.store.Memberships(last)
	g := w.becomes(rows[0].GroupID, store.DeadLetter)
	l := w.letter(g.ID)
	if l.Path != "agg" || l.Phase != "fields/0/0 /all[]/n" || l.Kind != "aggregate" {
		t.Errorf("%+v", l)
	}
	d := journal.Decision{IDs: []store.ID{l.ID}, Patch: []byte(`[{"op":"add","path":"/1/n","value":2}]`)}
	if p, err := w.Preview(d); err != nil || p[0].Rehearsal == nil || p[0].Rehearsal.State != "delivered" {
		t.Errorf("%+v %v", p, err)
	}
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: d.IDs,
		Message: []byte(`{"no":"list"}`)}); !errors.Is(
		err,
		ErrDecision,
	) {
		t.Error(err)
	}
	if _, err := w.Resend(context.Background(), d); err != nil {
		t.Fatal(err)
	}
	w.becomes(g.ID, store.Delivered)
	if got := w.sent(); got[0] != ` {"all":[{"n":1.50},{"n":2}]}` {
		t.Error(got)
	}
}

// All rows of a file, gathered by card: the groups close when every row is in
// one or has ended elsewhere, also over a restart and a repair.
func TestGroupsOfAllPartsOfASplit(t *testing.T) { synctest.Test(t, testGroupsOfAllPartsOfASplit) }

func testGroupsOfAllPartsOfASplit(t *testing.T) {
	dir, out := t.TempDir(), &target{}
	w := start(t, dir, out)
	w.connect("out", fast)
	w.publish(
		"readyferry: flow/1\nname: o\nintake: {kind: webhook, path: /o, format: csv, header: true}\nsteps:\n- id: " +
			"rows\n  kind: split\n  each: body\n  steps:\n  - {id: due, kind: filter, keep: 'part.due != " +
			"\"never\"'}\n  - {id: price, kind: set, vars: {fine: double(part.fine)}}\n  - {id: by-card, kind: " +
			"aggregate, key: part.card, close: {parts: true}}\n  - {id: d, kind: deliver, to: out, path: '/${group.key}'}\n",
	)
	id := w.accepted("/o", "card,due,fine\n7,x,1\n8,never,1\n7,y,2\n9,z,bad\n9,w,3\n")
	w.becomes(id, store.DeadLetter)
	w.until(
		"all rows have begun",
		func() bool { s, _ := w.store.Splits(id); return s[0].Next == 5 && s[0].Waiting == 3 },
	)
	if got := w.sent(); len(got) != 0 {
		t.Errorf("%v was sent although a row is still dead", got)
	}
	w.close()
	w = start(t, dir, out)
	parts := w.parts(id)
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{w.letter(parts[3].ID).ID},
		Patch: []byte(`[{"op":"replace","path":"/fine","value":"4"}]`)}); err != nil {
		t.Fatal(err)
	}
	w.until("both are sent", func() bool { return len(w.out.got()) == 2 })
	want := []string{
		`/7 [{"card":"7","due":"x","fine":"1"},{"card":"7","due":"y","fine":"2"}]`,
		`/9 [{"card":"9","due":"w","fine":"3"},{"card":"9","due":"z","fine":"4"}]`,
	}
	if got := w.sent(); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	w.becomes(id, store.Delivered)
}

// A queue's reader goes on while its messages wait in a group.
func TestMembersOfAGroupDoNotHoldUpTheirQueue(t *testing.T) {
	synctest.Test(t, testMembersOfAGroupDoNotHoldUpTheirQueue)
}

func testMembersOfAGroupDoNotHoldUpTheirQueue(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(
		"readyferry: flow/1\nname: reader\nintake: {kind: queue, queue: q, in-flight: 1}\nsteps:\n- {id: agg, kind: " +
			"aggregate, key: body.k, item: body.n, close: {count: 3, age: 1h}}\n- {id: d, kind: deliver, to: out}\n",
	)
	w.publish(
		"readyferry: flow/1\nname: filler\nintake: {kind: webhook, path: /g}\nsteps: [{id: put, kind: deliver, to: {queue: q}}]\n",
	)
	for n := 1; n <= 3; n++ {
		w.member("a", n)
	}
	w.until("the group is sent", func() bool { return len(w.out.got()) == 1 })
}

func sequencer(settings string) string {
	return "readyferry: flow/1\nname: g\nintake: {kind: webhook, path: /g, reference: string(body.n)}\nsteps:\n- " +
		"{id: seq, kind: resequence, key: body.k, number: body.n, " + settings + "}\n- {id: d, kind: deliver, to: out, " +
		"path: '/${body.k}/${body.n}'}\n"
}

func (w *world) paths() string {
	var out []string
	for _, c := range w.out.got() {
		out = append(out, c.path)
	}
	return strings.Join(out, " ")
}

func TestMessagesGetBackIntoOrder(t *testing.T) { synctest.Test(t, testMessagesGetBackIntoOrder) }

func testMessagesGetBackIntoOrder(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(sequencer("wait: 1h"))
	// The first delivery takes longest: those behind it leave in order all the same.
	w.out.say(func(_ int, c call) (reply, error) {
		if c.path == "/a/1" {
			time.Sleep(100 * time.Millisecond)
		}
		return reply{Status: 200}, nil
	})
	var ids []store.ID
	for _, n := range []int{3, 2, 5, 1, 4} {
		ids = append(ids, w.member("a", n))
	}
	b := w.member("b", 2)
	for _, id := range ids {
		w.becomes(id, store.Delivered)
	}
	if got := w.paths(); got != "/a/1 /a/2 /a/3 /a/4 /a/5" {
		t.Error(got)
	}
	held := w.becomes(b, store.Waiting)
	if held.PlaceText != "number 1 of b" || held.Place != "seq" {
		t.Errorf("%+v", held)
	}
	twin := w.becomes(w.member("a", 4), store.TurnedAway)
	if twin.Reason != "number 4 of a has come already or is too late; the next one is 6" {
		t.Error(twin.Reason)
	}
	lines, err := w.store.Lines(10)
	if err != nil || len(lines) != 1 || lines[0].Key != "b" || lines[0].Next != 1 || lines[0].Waiting != 1 {
		t.Errorf("%+v %v", lines, err)
	}
	if err := w.SkipGap(context.Background(), journal.LineKey{Flow: "g", Path: "seq", Key: "b"}); err != nil {
		t.Fatal(err)
	}
	w.becomes(b, store.Delivered)
	if r, err := w.Inspect(b); err != nil || r.Trace[0].Outcome != "2, without 1" {
		t.Errorf("%+v %v", r, err)
	}
}

func TestAGapIsWaitedForAndGivenUp(t *testing.T) { synctest.Test(t, testAGapIsWaitedForAndGivenUp) }

func testAGapIsWaitedForAndGivenUp(t *testing.T) {
	for _, c := range []struct{ settings, sent string }{
		{"wait: 150ms", "/a/1 /a/3 /a/4"},
		{"wait: 150ms, then: dead letter", "/a/1"},
	} {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", fast)
		w.publish(sequencer(c.settings))
		w.member("a", 1)
		third, fourth := w.member("a", 3), w.member("a", 4)
		if strings.Contains(c.settings, "dead") {
			w.becomes(third, store.DeadLetter)
			w.becomes(fourth, store.DeadLetter)
			l := w.letter(third)
			if l.Phase != "wait" || l.Path != "seq" ||
				l.Reason != "number 3 waited 150ms for number 2, which did not come" {
				t.Errorf("%+v", l)
			}
			// What a person resends goes on.
			if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{l.ID}}); err != nil {
				t.Fatal(err)
			}
			w.becomes(third, store.Delivered)
			continue
		}
		w.becomes(third, store.Delivered)
		w.becomes(fourth, store.Delivered)
		if got := w.paths(); got != c.sent {
			t.Error(got)
		}
	}
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(sequencer("wait: 1h, limit: 1, late: go on"))
	w.member("a", 2)
	id := w.member("a", 3)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Phase != "limit" || !strings.HasPrefix(l.Reason, "1 messages of a wait for their turn") {
		t.Errorf("%+v", l)
	}
	id = w.accepted("/g", `{"k":"a","n":"one"}`)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Phase != "number" || l.Reason != `body.n is "one", not a whole number` {
		t.Errorf("%+v", l)
	}
	w.becomes(w.member("a", 1), store.Delivered)
	w.becomes(w.member("a", 1), store.Delivered) // late, and goes on
}

// Random messages for an aggregate and a resequence, many at once
// and with restarts in between, agree with plain maps: every member is in
// exactly one group of the right size, and every key leaves in order.
func TestGatheringAgreesWithPlainMaps(t *testing.T) {
	synctest.Test(t, testGatheringAgreesWithPlainMaps)
}

func testGatheringAgreesWithPlainMaps(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 3))
	dir, out := t.TempDir(), &target{}
	w := start(t, dir, out)
	const size, keys, total = 7, 23, 800
	to := func(topic string) string { return "- {id: d, kind: deliver, to: {topic: " + topic + "}}\n" }
	w.publish(
		fmt.Sprintf(
			"readyferry: flow/1\nname: g\nintake: {kind: webhook, path: /g}\nsteps:\n- {id: agg, kind: aggregate, key: "+
				"body.k, item: body.n, close: {count: %d, age: 1h}, result: map, fields: [{to: /k, from: group.key}, "+
				"{to: /items, from: group.items}]}\n",
			size,
		) + to(
			"groups",
		),
	)
	w.publish(
		"readyferry: flow/1\nname: s\nintake: {kind: webhook, path: /s}\nsteps:\n- {id: seq, kind: resequence, key: " +
			"body.k, number: body.n, wait: 1h}\n" + to(
			"turns",
		),
	)
	var calls [][2]string
	members, last := map[string]int{}, map[string]int{}
	for range total {
		k := fmt.Sprint("k", r.IntN(keys))
		members[k]++
		calls = append(calls, [2]string{"/g", fmt.Sprintf(`{"k":%q,"n":%d}`, k, members[k])})
		k = fmt.Sprint("s", r.IntN(keys))
		last[k]++
		calls = append(calls, [2]string{"/s", fmt.Sprintf(`{"k":%q,"n":%d}`, k, last[k])})
	}
	r.Shuffle(len(calls), func(i, j int) { calls[i], calls[j] = calls[j], calls[i] })
	for len(calls) > 0 {
		var some sync.WaitGroup
		for _, c := range calls[:min(len(calls), 1+r.IntN(80))] {
			calls = calls[1:]
			some.Go(func() { w.accepted(c[0], c[1]) })
		}
		some.Wait()
		if r.IntN(30) == 0 {
			w.close()
			w = start(t, dir, out)
		}
	}
	groups := 0
	for _, n := range members {
		groups += n / size
	}
	w.until("all has gone on", func() bool {
		topics, _ := w.store.Topics()
		return len(topics) == 2 && topics[0].Next == int64(groups) && topics[1].Next == total
	})
	turns, err := w.store.ReadLog("turns", 0, false, 10_000)
	if err != nil {
		t.Fatal(err)
	}
	next := map[string]int{}
	for _, m := range turns {
		var c struct {
			K string
			N int
		}
		if err := json.Unmarshal(m.Body, &c); err != nil {
			t.Fatal(err)
		}
		if next[c.K]++; c.N != next[c.K] {
			t.Fatalf("%s goes on with %d, want %d", c.K, c.N, next[c.K])
		}
	}
	closed, err := w.store.ReadLog("groups", 0, false, 10_000)
	if err != nil {
		t.Fatal(err)
	}
	in := map[string]map[int]bool{}
	for _, m := range closed {
		var g struct {
			K     string
			Items []int
		}
		if err := json.Unmarshal(m.Body, &g); err != nil || len(g.Items) != size {
			t.Fatalf("%s %v", m.Body, err)
		}
		if in[g.K] == nil {
			in[g.K] = map[int]bool{}
		}
		for _, n := range g.Items {
			if in[g.K][n] {
				t.Fatalf("member %d of %s is in two groups", n, g.K)
			}
			in[g.K][n] = true
		}
	}
	open, err := w.OpenGroups(store.OfFlow("g"), nil, 1000)
	if err != nil {
		t.Fatal(err)
	}
	left := map[string]int{}
	for _, g := range open {
		left[g.Key] = g.Members
	}
	for k, n := range members {
		if got := len(in[k]) + left[k]; got != n || left[k] != n%size {
			t.Errorf("%s: %d members are in groups and %d wait, want %d", k, len(in[k]), left[k], n)
		}
	}
}

// A group may be split again, and join another group; a part of it is repaired
// like any other.
func TestAGroupIsSplitAndGatheredAgain(t *testing.T) {
	synctest.Test(t, testAGroupIsSplitAndGatheredAgain)
}

func testAGroupIsSplitAndGatheredAgain(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(`readyferry: flow/1
name: g
intake: {kind: webhook, path: /g}
steps:
- id: r
  kind: route
  ways:
  - name: w
    when: 'true'
    steps:
    - {id: pair, kind: aggregate, key: body.k, item: body.n, close: {count: 2, age: 1h}}
  otherwise: {steps: []}
- id: per
  kind: split
  each: body
  steps:
  - {id: m, kind: map, fields: [{to: /n, from: part + 1}, {to: /of, from: 'message.reference'}]}
  - {id: d, kind: deliver, to: out, path: '/${part}'}
- {id: four, kind: aggregate, key: '"pairs"', item: body, close: {count: 2, age: 1h}, result: map, fields: [{to: /all, from: group.items}]}
- {id: e, kind: deliver, to: out, path: /all}
`)
	var ids []store.ID
	for _, m := range []string{`{"k":"a","n":1}`, `{"k":"b","n":2}`, `{"k":"a","n":3}`, `{"k":"b","n":"four"}`} {
		if len(ids) == 3 { // the first pair has gone on, so that it is the first member of the next group
			w.until("the first pair waits for the other", func() bool {
				open, err := w.OpenGroups(store.OfFlow("g"), nil, 10)
				return err == nil && slices.ContainsFunc(open, func(g watch.OpenGroup) bool { return g.Key == "pairs" })
			})
		}
		ids = append(ids, w.accepted("/g", m))
	}
	for _, id := range ids {
		w.becomes(id, store.Delivered)
	}
	w.until("all but the dead one are sent", func() bool { return len(w.out.got()) == 4 })
	want := []string{
		`/1 {"n":2,"of":"a"}`,
		`/2 {"n":3,"of":"b"}`,
		`/3 {"n":4,"of":"a"}`,
		`/all {"all":[[1,3],[2,"four"]]}`,
	}
	if got := w.sent(); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	rows, err := w.store.Memberships(ids[3])
	if err != nil || len(rows) != 1 {
		t.Fatalf("%+v %v", rows, err)
	}
	pair := w.becomes(rows[0].GroupID, store.DeadLetter) // the group takes over the state of its dead part
	parts := w.parts(pair.ID)
	l := w.letter(parts[1].ID)
	if l.Path != "per[1]/m" || len(parts) != 2 {
		t.Errorf("%+v", l)
	}
	if _, err := w.Resend(context.Background(), journal.Decision{IDs: []store.ID{l.ID},
		Message: []byte("4")}); err != nil {
		t.Fatal(err)
	}
	w.becomes(pair.ID, store.Delivered)
	if got := w.sent(); len(got) != 5 || got[3] != `/4 {"n":5,"of":"b"}` {
		t.Errorf("%q", got)
	}
	if r, err := w.Inspect(pair.ID); err != nil || r.Trace[0].Path != "r.w/pair" ||
		r.Trace[len(r.Trace)-1].Outcome != "member 2 of pairs, which closes by count, 2" {
		t.Errorf("%+v %v", r.Trace, err)
	}
}

// The patterns stand inside each other: parts that wait for their turn, that ask
// several systems, and of which a way works on its own copy.
func TestPatternsInsideEachOther(t *testing.T) { synctest.Test(t, testPatternsInsideEachOther) }

func testPatternsInsideEachOther(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.publish(`readyferry: flow/1
name: g
intake: {kind: webhook, path: /g}
steps:
- id: per
  kind: split
  each: body.items
  steps:
  - {id: turn, kind: resequence, key: body.k, number: part.n, wait: 1h}
  - id: ask
    kind: scatter
    within: 30s
    ways:
    - {name: one, steps: [{id: a1, kind: deliver, to: out, path: '/one/${part.n}'}]}
    - {name: two, steps: [{id: a2, kind: deliver, to: out, path: '/two/${part.n}'}]}
    fields: [{to: /n, from: part.n}, {to: /two, from: replies.two.status}, {to: /index, from: index}]
  - id: both
    kind: route
    take: every
    ways:
    - {name: grouped, when: 'true', steps: [
         {id: agg, kind: aggregate, key: body.two, item: body, close: {parts: true}},
         {id: g, kind: deliver, to: out, path: '/group'}]}
    - {name: alone, when: 'part.n == 2', steps: [{id: d, kind: deliver, to: out, path: /alone}]}
    otherwise: {steps: []}
  - {id: end, kind: note, text: 'end of ${part.n}'}
`)
	id := w.accepted("/g", `{"k":"a","items":[{"n":3},{"n":1},{"n":2}]}`)
	w.becomes(id, store.Delivered)
	w.until("the group is sent", func() bool { return len(w.out.got()) == 8 })
	var alone string
	var members []int
	for _, c := range w.out.got() {
		switch c.path {
		case "/alone":
			alone = c.body
		case "/group":
			var group []struct{ N, Two int }
			if err := json.Unmarshal([]byte(c.body), &group); err != nil {
				t.Fatal(err)
			}
			for _, m := range group {
				members = append(members, m.N)
			}
		}
	}
	slices.Sort(members) // they come as their answers do
	if alone != `{"n":2,"two":200,"index":2}` || !slices.Equal(members, []int{1, 2, 3}) {
		t.Errorf("%s %v", alone, members)
	}
	parts := w.parts(id)
	r, err := w.Inspect(parts[2].ID)
	if err != nil || r.State != "delivered" || r.Trace[0].Outcome != "2" ||
		r.Trace[len(r.Trace)-1].Outcome != "end of 2" {
		t.Errorf("%+v %v", r, err)
	}
}
