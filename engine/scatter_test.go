package engine

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/message"
	"readyferry/store"
)

func scatterer(settings, fields string) string {
	return "readyferry: flow/1\nname: s\nintake: {kind: webhook, path: /s}\nsteps:\n- id: ask\n  kind: scatter\n  " +
		settings + "\n  ways:\n" +
		"  - {name: north, steps: [{id: ask-north, kind: deliver, to: out, path: /north}]}\n" +
		"  - {name: south, steps: [{id: ask-south, kind: deliver, to: out, path: /south}]}\n" +
		"  - {name: west, steps: [{id: ask-west, kind: deliver, to: out, path: /west}]}\n" +
		"  fields: [" + fields + "]\n- {id: d, kind: deliver, to: end}\n"
}

const bests = `{to: /north, from: replies.north}, {to: /south, from: replies.south}, {to: /west, from: replies.west}, {to: /ask, from: replies.ask}`

// answers lets each partner answer in its own way; none: it does not answer in time.
func (f *target) answers(by map[string]string) {
	f.say(func(_ int, c call) (reply, error) {
		body, known := by[strings.TrimPrefix(c.path, "/")]
		switch {
		case c.to == "end":
			return reply{Status: 204}, nil
		case !known:
			time.Sleep(600 * time.Millisecond)
			return reply{Status: 503}, nil
		case body == "404":
			return reply{Status: 404}, nil
		}
		time.Sleep(20 * time.Millisecond)
		if c.path == "/west" {
			time.Sleep(150 * time.Millisecond) // the last of those that answer
		}
		return reply{
			Status:  200,
			Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
			Body:    []byte(body),
		}, nil
	})
}

func (w *world) ended() string {
	w.t.Helper()
	body := ""
	w.until("it goes on", func() bool {
		for _, c := range w.out.got() {
			if c.to == "end" {
				body = c.body
			}
		}
		return body != ""
	})
	return strings.ReplaceAll(body, `"headers":{"content-type":"application/json"},`, "")
}

func TestAScatterGathersItsAnswers(t *testing.T) { synctest.Test(t, testAScatterGathersItsAnswers) }

func testAScatterGathersItsAnswers(t *testing.T) {
	for _, c := range []struct {
		settings string
		answers  map[string]string
		want     string
	}{
		{"within: 30s", map[string]string{"north": "1", "south": "2", "west": "3"},
			`{"north":{"status":200,"body":1},"south":{"status":200,"body":2},"west":{"status":200,"body":3},` +
				`"ask":{"answered":3,"chosen":null,"missing":{}}}`},
		{"within: 30s", map[string]string{"north": "1", "south": "404", "west": "3"},
			`{"north":{"status":200,"body":1},"south":null,"west":{"status":200,"body":3},"ask":{"answered":2,` +
				`"chosen":null,"missing":{"south":"out answered 404"}}}`},
		{"within: 400ms", map[string]string{"north": "1", "west": "3"},
			`{"north":{"status":200,"body":1},"south":null,"west":{"status":200,"body":3},"ask":{"answered":2,` +
				`"chosen":null,"missing":{"south":"no answer within 400ms"}}}`},
		{"within: 30s\n  gather: {first: 1}", map[string]string{"west": "3"},
			`{"north":null,"south":null,"west":{"status":200,"body":3},"ask":{"answered":1,"chosen":null,` +
				`"missing":{"north":"not needed any more","south":"not needed any more"}}}`},
		{"within: 30s\n  gather: {fits: reply.body > 1}", map[string]string{"north": "1", "west": "3"},
			`{"north":{"status":200,"body":1},"south":null,"west":{"status":200,"body":3},"ask":{"answered":2,` +
				`"chosen":"west","missing":{"south":"not needed any more"}}}`},
		{"within: 30s\n  gather: {fits: reply.body > 7}", map[string]string{"north": "1", "south": "2", "west": "3"},
			`{"north":{"status":200,"body":1},"south":{"status":200,"body":2},"west":{"status":200,"body":3},` +
				`"ask":{"answered":3,"chosen":null,"missing":{}}}`},
	} {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", "retry: {first: 1h, growth: constant, cap: 1h, spread: none, tries: 3, within: 24h}")
		w.connect("end", fast)
		w.publish(scatterer(c.settings, bests))
		w.out.answers(c.answers)
		id := w.accepted("/s", `{}`)
		if got := w.ended(); got != c.want {
			t.Errorf("%s:\n%s\n%s", c.settings, got, c.want)
		}
		tx := w.becomes(id, store.Delivered)
		r, err := w.Inspect(id)
		if err != nil || !strings.HasSuffix(strings.SplitN(r.Trace[0].Outcome, ",", 2)[0], "of 3 answered") ||
			tx.Reason != "" {
			t.Errorf("%+v %v", r, err)
		}
		deliveries, err := w.store.Deliveries(id)
		if err != nil || len(deliveries) != 4 {
			t.Fatalf("%d deliveries, %v", len(deliveries), err)
		}
		for _, d := range deliveries {
			if d.State == store.Pending {
				t.Errorf("%s still waits", d.Path)
			}
		}
		if n, err := w.store.CountOpenLetters(); err != nil || n != 0 {
			t.Errorf("%d dead letters, %v", n, err)
		}
	}
}

// Half of the answers are there when the process ends; the time runs on.
func TestAScatterSurvivesARestart(t *testing.T) { synctest.Test(t, testAScatterSurvivesARestart) }

func testAScatterSurvivesARestart(t *testing.T) {
	dir, out := t.TempDir(), &target{}
	w := start(t, dir, out)
	w.connect("out", "retry: {first: 1h, growth: constant, cap: 1h, spread: none, tries: 3, within: 24h}")
	w.connect("end", fast)
	w.publish(scatterer("within: 1500ms", bests))
	out.answers(map[string]string{"north": "1"})
	id := w.accepted("/s", `{}`)
	w.until("all were asked", func() bool {
		d, _ := w.store.Deliveries(id)
		tries := 0
		for _, x := range d {
			tries += x.Tries
		}
		return tries == 3
	})
	tx, err := w.store.Transaction(id)
	if err != nil || tx.State != store.Waiting {
		t.Errorf("%+v %v", tx, err)
	}
	w.close()
	w = start(t, dir, out)
	if got, want := w.ended(), `{"north":{"status":200,"body":1},"south":null,"west":null,"ask":{"answered":1,`+
		`"chosen":null,"missing":{"south":"no answer within 1.5s","west":"no answer within 1.5s"}}}`; got != want {
		t.Error(got)
	}
	w.becomes(id, store.Delivered)
}

// A result that fails is a dead letter, with phase, step and path.
func TestAScatterWhoseResultFailsIsADeadLetter(t *testing.T) {
	synctest.Test(t, testAScatterWhoseResultFailsIsADeadLetter)
}

func testAScatterWhoseResultFailsIsADeadLetter(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	w.connect("end", fast)
	w.publish(scatterer("within: 30s", `{to: /n, from: replies.south.body.price}`))
	w.out.answers(map[string]string{"north": "1", "south": "404", "west": "3"})
	id := w.accepted("/s", `{}`)
	w.becomes(id, store.DeadLetter)
	if l := w.letter(id); l.Path != "ask" || l.Kind != "scatter" || l.Phase != "fields/0 /n" {
		t.Errorf("%+v", l)
	}
}
