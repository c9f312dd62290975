package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/store"
)

func TestAMessageIsDelivered(t *testing.T) { synctest.Test(t, testAMessageIsDelivered) }

func testAMessageIsDelivered(t *testing.T) {
	w := simpleWorld(t)
	id := w.accepted("/simple", `{"v":7,"ref":"R-1"}`)
	tx := w.becomes(id, store.Delivered)
	if tx.Reference != "R-1" || tx.Tries != 1 || tx.FinishedAt == nil {
		t.Errorf("%+v", tx)
	}
	calls := w.out.got()
	if len(calls) != 1 || calls[0].path != "/x/7" || !strings.HasPrefix(calls[0].body, `{"v":7,"key":"`) {
		t.Errorf("%+v", calls)
	}
	r, err := w.Inspect(id)
	if err != nil {
		t.Fatal(err)
	}
	var outcomes []string
	for _, e := range r.Trace {
		outcomes = append(outcomes, e.Outcome)
	}
	if got := strings.Join(outcomes, "|"); got != "3 of 3 set|200, 1st try|answered 200" {
		t.Error(got)
	}
}

func TestOutcomesOfATry(t *testing.T) { synctest.Test(t, testOutcomesOfATry) }

func testOutcomesOfATry(t *testing.T) {
	w := simpleWorld(t)
	for _, c := range []struct {
		answer reply
		err    error
		class  string
		tries  int
		reason string
	}{
		{reply{Status: 422}, nil, "data", 1, "out answered 422"},
		{reply{Status: 404}, nil, "target", 1, "out answered 404"},
		{reply{}, errors.New("out refused the connection"), "target", 3,
			"out refused the connection, given up after 3 tries"},
		{reply{}, fmt.Errorf("%w: bad url", connect.ErrCannotSend), "target", 1, "the request cannot be made: bad url"},
	} {
		w.out.say(func(int, call) (reply, error) { return c.answer, c.err })
		id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
		tx := w.becomes(id, store.DeadLetter)
		if l := w.letter(id); l.Class != c.class || tx.Tries != c.tries || l.Reason != c.reason {
			t.Errorf("%+v: %+v, %d tries", c, l, tx.Tries)
		}
	}
}

func TestRetryAfterMovesTheNextTry(t *testing.T) { synctest.Test(t, testRetryAfterMovesTheNextTry) }

func testRetryAfterMovesTheNextTry(t *testing.T) {
	w := simpleWorld(t)
	w.out.say(func(n int, _ call) (reply, error) {
		if n == 1 {
			return reply{Status: 429, Headers: []message.Header{{Name: "Retry-After", Value: "1"}}}, nil
		}
		return reply{Status: 200}, nil
	})
	id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
	w.becomes(id, store.Waiting)
	d, err := w.store.Deliveries(id)
	if err != nil || d[0].NextWhy != "as Retry-After asks" {
		t.Fatalf("%+v %v", d, err)
	}
	planned, err := w.Upcoming(&d[0])
	if err != nil || len(planned) != 2 || !planned[0].Planned.Equal(*d[0].NextAt) {
		t.Fatalf("%+v %v", planned, err)
	}
	w.becomes(id, store.Delivered)
	calls := w.out.got()
	if gap := calls[1].at.Sub(calls[0].at); gap < 950*time.Millisecond {
		t.Errorf("tried again after %s", gap)
	}
}

// The engine does what the previewed schedule says.
func TestTriesComeAsPreviewed(t *testing.T) { synctest.Test(t, testTriesComeAsPreviewed) }

func testTriesComeAsPreviewed(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "retry: {first: 60ms, growth: linear, spread: equal, tries: 4, within: 5s}")
	w.publish(simple)
	w.out.status(500)
	id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
	w.becomes(id, store.Waiting)
	d, _ := w.store.Deliveries(id)
	planned, err := w.Upcoming(&d[0])
	if err != nil {
		t.Fatal(err)
	}
	w.becomes(id, store.DeadLetter)
	tries, err := w.store.Tries(d[0].ID)
	if err != nil || len(tries) != 4 {
		t.Fatalf("%d tries, %v", len(tries), err)
	}
	for _, p := range planned {
		if at := tries[p.N-1].At; at.Before(p.Planned) {
			t.Errorf("try %d came %s early", p.N, p.Planned.Sub(at))
		}
	}
}

// Deliveries with the same order value leave one after the other in order of
// arrival; a head that waits blocks its own value only.
func TestOrderIsKeptPerValue(t *testing.T) { synctest.Test(t, testOrderIsKeptPerValue) }

func testOrderIsKeptPerValue(t *testing.T) {
	w := simpleWorld(t)
	fails := 2
	w.out.say(func(_ int, c call) (reply, error) {
		if c.path == "/x/0" && fails > 0 {
			fails--
			return reply{Status: 503}, nil
		}
		return reply{Status: 200}, nil
	})
	var last store.ID
	for i := range 6 {
		last = w.accepted("/simple", fmt.Sprintf(`{"v":%d,"ref":"R","order":"P"}`, i))
	}
	other := w.accepted("/simple", `{"v":100,"ref":"R","order":"Q"}`)
	w.becomes(other, store.Delivered)
	w.becomes(last, store.Delivered)
	var order []string
	for _, c := range w.out.got() {
		if c.path != "/x/100" {
			order = append(order, strings.TrimPrefix(c.path, "/x/"))
		}
	}
	if got := strings.Join(order, " "); got != "0 0 0 1 2 3 4 5" {
		t.Errorf("left in the order %s", got)
	}
}

func TestASlowTargetSlowsOnlyItself(t *testing.T) { synctest.Test(t, testASlowTargetSlowsOnlyItself) }

func testASlowTargetSlowsOnlyItself(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("slow", "limits: {in-flight: 1}\n"+fast)
	w.connect("quick", fast)
	hold := make(chan struct{})
	w.out.say(func(_ int, c call) (reply, error) {
		if c.to == "slow" {
			<-hold
		}
		return reply{Status: 200}, nil
	})
	for _, to := range []string{"slow", "quick"} {
		w.publish(
			"readyferry: flow/1\nname: " + to + "\nintake: {kind: webhook, path: /" + to +
				"}\nsteps: [{id: d, kind: deliver, to: " + to + "}]\n",
		)
	}
	for range 20 {
		w.accepted("/slow", `{}`)
	}
	for range 20 {
		w.becomes(w.accepted("/quick", `{}`), store.Delivered)
	}
	n := 0
	for _, c := range w.out.got() {
		if c.to == "slow" {
			n++
		}
	}
	if n != 1 {
		t.Errorf("%d tries at once to a target that takes one", n)
	}
	close(hold)
	w.until("the slow ones are through", func() bool { return len(w.out.got()) == 40 })
}

func TestABreakerProbesOneAtATime(t *testing.T) { synctest.Test(t, testABreakerProbesOneAtATime) }

func testABreakerProbesOneAtATime(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect(
		"out",
		"breaker: {trip: 3, probe: 150ms}\nlimits: {in-flight: 1}\nretry: {first: 1ms, growth: constant, cap: 1ms, spread: none, tries: 50, within: 1h}",
	)
	w.publish(simple)
	w.out.status(503)
	for i := range 5 {
		w.accepted("/simple", fmt.Sprintf(`{"v":%d,"ref":"R"}`, i))
	}
	w.until("it has tripped", func() bool { return len(w.out.got()) >= 3 })
	time.Sleep(500 * time.Millisecond)
	if n := len(w.out.got()); n > 8 {
		t.Errorf("%d tries although the breaker is open", n)
	}
	w.out.say(nil)
	w.until("all are delivered", func() bool {
		rows, _ := w.store.Transactions(store.Filter{Limit: 10})
		for _, r := range rows {
			if r.State != store.Delivered {
				return false
			}
		}
		return true
	})
}

func TestWorkGoesOnAfterARestart(t *testing.T) { synctest.Test(t, testWorkGoesOnAfterARestart) }

func testWorkGoesOnAfterARestart(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "retry: {first: 400ms, growth: constant, cap: 400ms, spread: none, tries: 50, within: 60s}")
	w.publish(simple)
	w.out.say(func(int, call) (reply, error) { return reply{Status: 503}, nil })
	id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
	w.becomes(id, store.Waiting)
	w.close()
	w.out.say(nil)
	w2 := start(t, w.dir, w.out)
	w2.becomes(id, store.Delivered)
}
