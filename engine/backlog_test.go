package engine

import (
	"fmt"
	"sync"
	"testing"
	"testing/synctest"

	"readyferry/store"
)

// A lane knows some of what is due and finds the rest in the file: more than it holds comes
// through all the same, each message once, also what is due again in between.
func TestMoreWaitsThanALaneHolds(t *testing.T) { synctest.Test(t, testMoreWaitsThanALaneHolds) }

func testMoreWaitsThanALaneHolds(t *testing.T) {
	const n = 1300
	w := simpleWorld(t)
	free := make(chan struct{})
	w.out.say(func(nth int, _ call) (reply, error) {
		<-free
		if nth%100 == 7 {
			return reply{Status: 503}, nil // it comes again
		}
		return reply{Status: 200}, nil
	})
	var all sync.WaitGroup
	ids := make([]store.ID, n)
	for i := range n {
		all.Go(func() { ids[i] = w.accepted("/simple", fmt.Sprintf(`{"v":%d,"ref":"R"}`, i)) })
	}
	all.Wait()
	close(free)
	for _, id := range ids {
		w.becomes(id, store.Delivered)
	}
	delivered, keys := map[string]int{}, map[string]string{}
	for _, c := range w.out.got() {
		delivered[c.path]++
		if had := keys[c.path]; had != "" && had != c.key {
			t.Errorf("%s came under %s and %s", c.path, had, c.key)
		}
		keys[c.path] = c.key
	}
	again := 0
	for _, times := range delivered {
		again += times - 1
	}
	if len(delivered) != n || again < n/100 || again > n/100+3 {
		t.Errorf("%d of %d came, %d of them again", len(delivered), n, again)
	}
}

// The application stops at once, however much waits for a target that answers nobody.
func TestStoppingDoesNotTakeUpWhatWaits(t *testing.T) {
	synctest.Test(t, testStoppingDoesNotTakeUpWhatWaits)
}

func testStoppingDoesNotTakeUpWhatWaits(t *testing.T) {
	const n = 1300
	w := simpleWorld(t)
	free := make(chan struct{})
	w.out.say(func(int, call) (reply, error) { <-free; return reply{Status: 200}, nil })
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() { w.accepted("/simple", fmt.Sprintf(`{"v":%d,"ref":"R"}`, i)) })
	}
	all.Wait()
	synctest.Wait()
	began := len(w.out.got())
	w.Engine.Close()
	w.Engine.Stop()
	close(free)
	synctest.Wait()
	if calls := len(w.out.got()); began == 0 || calls != began {
		t.Errorf("%d tries had begun, and %d behind the stop", began, calls)
	}
}
