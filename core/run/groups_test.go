package run

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"readyferry/core/message"
	"readyferry/core/want"
)

// rehearseAll walks several messages a minute apart and gives for each its
// state and what was told of its steps, then what was sent in all.
func rehearseAll(t *testing.T, steps string, bodies ...string) (told []string, sent string) {
	t.Helper()
	p := read(t, splitHead+steps)
	in, opt := make([]Envelope, len(bodies)), make([]Options, len(bodies))
	for i, b := range bodies {
		in[i] = envelope(b)
		in[i].ID = DeliveryID(in[i].ID, fmt.Sprint(i))
		in[i].ReceivedAt = in[i].ReceivedAt.Add(time.Duration(i) * time.Minute)
	}
	var all []string
	for _, r := range RehearseAll(p, in, opt) {
		var outcomes []string
		for _, e := range r.Trace {
			outcomes = append(outcomes, e.Path+" "+e.Outcome)
		}
		told = append(told, r.State+": "+strings.Join(outcomes, "; "))
		for _, d := range r.Deliveries {
			all = append(all, d.Path+d.Request.URL+" "+*d.Request.Text)
		}
	}
	return told, strings.Join(all, "\n")
}

func TestAnAggregateIsRehearsedOverSeveralSamples(t *testing.T) {
	const deliver = "\n- {id: d, kind: deliver, to: out, path: '/${group.key}'}\n"
	a := func(n int) string { return fmt.Sprintf(`{"k":"a","n":%d}`, n) }
	b := func(n int) string { return fmt.Sprintf(`{"k":"b","n":%d}`, n) }
	for _, c := range []struct {
		name, settings string
		bodies         []string
		told           string
		sent           string
	}{
		{"the second closes a group of two (common practice)", "close: {count: 2, age: 1h}", []string{a(1), b(7), a(2)},
			"delivered: agg member 1 of a|delivered: agg member 1 of b; agg[0] 1 member, by age, 1h; d[0] 200|delivered: " +
				"agg member 2 of a, which closes by count, 2; agg[0] 2 members, by count, 2; d[0] 200",
			"d[0]/b [7]\nd[0]/a [1,2]"},
		{"what nothing closes waits", "close: {count: 3}", []string{a(1), a(2)},
			"waiting: agg member 1 of a|waiting: agg member 2 of a", ""},
		{"quiet", "close: {quiet: 90s}", []string{a(1), a(2), b(1), b(2), a(3)},
			"delivered: agg member 1 of a|delivered: agg member 2 of a; agg[0] 2 members, by quiet, 1m30s; d[0] " +
				"200|delivered: agg member 1 of b|delivered: agg member 2 of b; agg[0] 2 members, by quiet, 1m30s; d[0] " +
				"200|delivered: agg member 1 of a; agg[0] 1 member, by quiet, 1m30s; d[0] 200",
			"d[0]/a [1,2]\nd[0]/b [1,2]\nd[0]/a [3]"},
		{"by condition", "close: {when: 'group.newest > 1', age: 1h}", []string{a(1), a(2)},
			"delivered: agg member 1 of a|delivered: " +
				"agg member 2 of a, which closes by condition; agg[0] 2 members, by condition; d[0] 200", "d[0]/a [1,2]"},
		{"duplicates", "close: {count: 2, age: 1h}, unique: body.n", []string{a(1), a(1), a(2)},
			"delivered: agg member 1 of a|turned " +
				"away: agg turned away|delivered: agg member 2 of a, which closes by count, 2; agg[0] 2 members, by " +
				"count, 2; d[0] 200", "d[0]/a [1,2]"},
		{"late ones are turned away", "close: {count: 1, age: 1h}, late: turn away", []string{a(1), a(2)},
			"delivered: agg member 1 of a, which " +
				"closes by count, 1; agg[0] 1 member, by count, 1; d[0] 200|turned away: agg turned away", "d[0]/a [1]"},
		{"late ones are added", "close: {count: 1, age: 1h}, late: add", []string{a(1), a(2)},
			"delivered: agg member 1 of a, which " +
				"closes by count, 1; agg[0] 1 member, by count, 1; d[0] 200|delivered: agg added to the closed group a; " +
				"agg[0] 1 member, an addition; d[0] 200", "d[0]/a [1]\nd[0]/a [2]"},
		{"late ones begin anew when it is long ago", "close: {count: 1, age: 1h}, late: turn away, late-for: 30s",
			[]string{a(1), a(2)}, "delivered: agg member 1 of a, which " +
				"closes by count, 1; agg[0] 1 member, by count, 1; d[0] 200|delivered: agg member 1 of a, which closes " +
				"by count, 1; agg[0] 1 member, by count, 1; d[0] 200", "d[0]/a [1]\nd[0]/a [2]"},
		{"a full group", "close: {when: 'false', age: 1h}, limit: 1", []string{a(1), a(2)},
			"delivered: agg member 1 of a; agg[0] 1 " +
				"member, by age, 1h; d[0] 200|dead letter: agg the group a is full", "d[0]/a [1]"},
	} {
		told, sent := rehearseAll(
			t,
			"- {id: agg, kind: aggregate, key: body.k, item: body.n, "+c.settings+"}"+deliver,
			c.bodies...)
		if got := strings.Join(told, "|"); got != c.told || sent != c.sent {
			t.Errorf("%s:\n%s\n%s\nwant\n%s\n%s", c.name, got, sent, c.told, c.sent)
		}
	}
}

// The parts of one message are gathered by key: each group closes when all
// parts are in one or have ended elsewhere.
func TestPartsAreGatheredAgain(t *testing.T) {
	const steps = "- id: rows\n  kind: split\n  each: body\n  steps:\n  - {id: f, kind: filter, keep: part.n > " +
		"0}\n  - {id: by, kind: aggregate, key: part.k, item: part.n, close: {parts: true}, result: text, " +
		"separator: '+'}\n  - {id: d, kind: deliver, to: out, path: '/${group.key}'}\n- {id: a, kind: answer, " +
		"status: 201}\n"
	told, sent := rehearseAll(t, steps, `[{"k":"a","n":1},{"k":"b","n":2},{"k":"a","n":3},{"k":"c","n":0}]`)
	want := "delivered: rows 4 parts: 3 delivered, 1 turned away; rows[0]/f goes on; rows[0]/by member 1 of a; " +
		"rows[1]/f goes on; rows[1]/by member 1 of b; rows[2]/f goes on; rows[2]/by member 2 of a; rows[3]/f " +
		"turned away; " +
		"rows/by[0] 2 members, all parts are here; rows/d[0] 200; rows/by[1] 1 member, all parts are here; rows/d[1] 200; a 201"
	if told[0] != want || sent != "rows/d[0]/a 1+3\nrows/d[1]/b 2" {
		t.Errorf("%s\n%s\nwant %s", told[0], sent, want)
	}
	// A dead part is still awaited.
	told, sent = rehearseAll(t, steps, `[{"k":"a","n":1},{"k":"a"}]`)
	if !strings.HasPrefix(told[0], "dead letter: ") || sent != "" {
		t.Errorf("%s\n%s", told[0], sent)
	}
}

// A group goes on where its step stands: to the end of a first way and behind
// it, but not behind a way that works on its own copy, nor behind its split.
func TestAGroupGoesOnBehindItsStep(t *testing.T) {
	for take, want := range map[string]string{
		"first": "delivered: r w; r.w/agg member 1 of k, which closes by count, 1; r.w/agg[0] 1 member, by count, 1; r.w/n[0] in the way; behind[0] behind",
		"every": "delivered: r w; r.w/agg member 1 of k, which closes by count, 1; r.w/agg[0] 1 member, by count, 1; r.w/n[0] in the way; behind behind",
	} {
		told, _ := rehearseAll(
			t,
			"- {id: r, kind: route, take: "+take+", ways: [{name: w, when: 'true', steps: [{id: agg, kind: aggregate, "+
				"key: '\"k\"', close: {count: 1}}, {id: n, kind: note, text: in the way}]}], otherwise: {steps: []}}\n- "+
				"{id: behind, kind: note, text: behind}\n",
			`{}`,
		)
		if told[0] != want {
			t.Errorf("%s: %s\nwant %s", take, told[0], want)
		}
	}
}

func TestAResequenceIsRehearsedOverSeveralSamples(t *testing.T) {
	n := func(k string, i int) string { return fmt.Sprintf(`{"k":%q,"n":%d}`, k, i) }
	for _, c := range []struct {
		name, settings string
		bodies         []string
		told, sent     string
	}{
		{"in order again", "wait: 1h", []string{n("a", 2), n("a", 3), n("b", 1), n("a", 1)},
			"delivered: seq 2, behind 1; d 200|delivered: seq 3, behind 2; d 200|delivered: seq 1; d 200|delivered: seq 1; d 200",
			"d/2\nd/3\nd/1\nd/1"},
		{"a gap is given up", "wait: 90s", []string{n("a", 3), n("a", 4), n("a", 6), n("a", 1)},
			"delivered: seq 3, without 1; d 200|delivered: seq 4, behind 3; d 200|delivered: seq 6, without 5; d " +
				"200|turned away: seq turned away", "d/3\nd/4\nd/6"},
		{"or is a dead letter", "wait: 90s, then: dead letter", []string{n("a", 3), n("a", 1)},
			"dead letter: seq number 3 waited 1m30s " +
				"for number 2, which did not come|delivered: seq 1; d 200", "d/1"},
		{"late goes on", "wait: 90s, late: go on, first: 5", []string{n("a", 5), n("a", 4)},
			"delivered: seq 5; d 200|delivered: seq 4, late; d 200", "d/5\nd/4"},
		{"no room", "wait: 1h, limit: 1", []string{n("a", 2), n("a", 3)}, "delivered: seq 2, without 1; d 200|dead " +
			"letter: seq 1 messages of a wait for their turn, which is the limit", "d/2"},
	} {
		told, sent := rehearseAll(
			t,
			"- {id: seq, kind: resequence, key: body.k, number: body.n, "+c.settings+
				"}\n- {id: d, kind: deliver, to: out, path: '/${body.n}'}\n",
			c.bodies...)
		var urls []string
		for _, l := range strings.Split(sent, "\n") {
			url, _, _ := strings.Cut(l, " ")
			urls = append(urls, url)
		}
		if got := strings.Join(told, "|"); got != c.told || strings.Join(urls, "\n") != c.sent {
			t.Errorf("%s:\n%s\n%v\nwant\n%s\n%s", c.name, got, urls, c.told, c.sent)
		}
	}
}

func TestAScatterIsRehearsedWithStandInAnswers(t *testing.T) {
	json := func(status int, body string) want.Effect {
		return want.Effect{
			Status:  status,
			Body:    []byte(body),
			Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
		}
	}
	const ways = "ways: [{name: north, steps: [{id: an, kind: deliver, to: n}]}, {name: south, steps: [{id: as, " +
		"kind: deliver, to: s}, {id: m, kind: map, fields: [{to: /n, from: replies.as.body.n * 10}]}]}, {name: " +
		"none, steps: [{id: f, kind: filter, keep: 'false', reason: not open}]}]"
	const told = ", fields: [{to: /north, from: replies.north}, {to: /south, from: replies.south}, {to: /none, " +
		"from: replies.none}, {to: /why, from: replies.ask.missing}, {to: /chosen, from: " +
		"replies.ask.chosen}]}\n- {id: d, kind: deliver, to: end}\n"
	for _, c := range []struct {
		name, settings, gather string
		replies                map[string]want.Effect
		outcome, sent          string
	}{
		{"all", "within: 5s", "", map[string]want.Effect{"an": json(200, "7"), "as": json(201, `{"n":2}`)}, "2 of 3 answered",
			`{"north":{"status":200,"headers":{"content-type":"application/json"},"body":7},"south":{"status":201,` +
				`"headers":{"content-type":"application/json"},"body":{"n":20}},"none":null,"why":{"none":"not ` +
				`open"},"chosen":null}`},
		{"one is down", "within: 5s", "", map[string]want.Effect{"an": json(503, ""), "as": json(404, "")}, "0 of 3 answered",
			`{"north":null,"south":null,"none":null,"why":{"north":"no answer within 5s (503, tries again)","south":"s ` +
				`answered 404, and no other try would help","none":"not open"},"chosen":null}`},
		{"the first", "within: 5s, gather: {first: 1}", "", map[string]want.Effect{"an": json(200, "7"), "as": json(201,
			`{"n":2}`)}, "1 of 3 answered",
			`{"north":{"status":200,"headers":{"content-type":"application/json"},"body":7},"south":null,"none":null,` +
				`"why":{"south":"not needed any more","none":"not open"},"chosen":null}`},
		{"the first that fits", `within: 5s, gather: {fits: 'reply.way == "south" && reply.status == 201'}`, "",
			map[string]want.Effect{"an": json(200, "7"), "as": json(201, `{"n":2}`)}, "2 of 3 answered, south fits",
			`{"north":{"status":200,"headers":{"content-type":"application/json"},"body":7},"south":{"status":201,` +
				`"headers":{"content-type":"application/json"},"body":{"n":20}},"none":null,"why":{"none":"not ` +
				`open"},"chosen":"south"}`},
	} {
		p := read(t, splitHead+"- {id: ask, kind: scatter, "+c.settings+", "+ways+told)
		r := Rehearse(p, envelope(`{"x":1}`), Options{Replies: c.replies})
		last := r.Deliveries[len(r.Deliveries)-1]
		if r.State != Delivered || r.Trace[0].Outcome != c.outcome || *last.Request.Text != c.sent || last.Path != "d" {
			t.Errorf("%s: %s, %s\n%s\nwant\n%s", c.name, r.State, r.Trace[0].Outcome, *last.Request.Text, c.sent)
		}
	}
	for settings, reason := range map[string]string{
		"within: 5s, gather: {fits: reply.body.x}": "gather/fits: way north: reply.body.x is missing",
	} {
		p := read(t, splitHead+"- {id: ask, kind: scatter, "+settings+", "+ways+"}\n")
		r := Rehearse(
			p,
			envelope(`{"x":1}`),
			Options{Replies: map[string]want.Effect{"an": json(200, `{"y":1}`), "as": json(200, `{"n":1}`)}},
		)
		if r.State != DeadLetter || !strings.Contains("gather/fits: "+*r.Reason, reason) {
			t.Errorf("%s: %s %v", settings, r.State, *r.Reason)
		}
	}
}

// The patterns stand inside each other, and end in a rehearsal as they do live.
func TestPatternsInsideEachOtherAreRehearsed(t *testing.T) {
	const steps = `- id: per
  kind: split
  each: body.items
  %s
  steps:
  - {id: turn, kind: resequence, key: body.k, number: part.n, wait: 1h}
  - {id: ask, kind: scatter, within: 30s, ways: [{name: one, steps: [
      {id: a1, kind: deliver, to: out}]}], fields: [{to: /n, from: part.n}, {to: /one, from: replies.one.status}]}
  - {id: both, kind: route, take: every, ways: [{name: grouped, when: 'true', steps: [
      {id: agg, kind: aggregate, key: body.one, item: body.n, close: {parts: true},
      result: text, separator: ' '}, {id: g, kind: deliver, to: out}]}, {
      name: alone, when: 'part.n == 2', steps: [{id: d, kind: deliver, to: out}]}], otherwise: {steps: []}}
`
	for settings, order := range map[string]string{"parts: independent": "1 2 3", "parts: in order": "1 2 3"} {
		told, sent := rehearseAll(t, fmt.Sprintf(steps, settings), `{"k":"a","items":[{"n":3},{"n":1},{"n":2}]}`)
		if !strings.HasPrefix(
			told[0],
			"delivered: per 3 parts: 3 delivered; per[0]/turn 3, behind 2; per[1]/turn 1; ",
		) ||
			!strings.HasSuffix(sent, "per/both.grouped/g[0] "+order) {
			t.Errorf("%s: %s\n%s", settings, told[0], sent)
		}
	}
	// What never comes is waited for by those that would meet it.
	told, sent := rehearseAll(t, fmt.Sprintf(steps, "parts: independent"), `{"k":"a","items":[{"n":1},{"n":"x"}]}`)
	if !strings.HasPrefix(told[0], "dead letter: per 2 parts: 1 delivered, 1 dead letter; ") ||
		strings.Contains(sent, "grouped") {
		t.Errorf("%s\n%s", told[0], sent)
	}
}
