package engine

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/store"
)

// A target that is held gets nothing, over a restart as well, until it is released; a wait is
// skipped; and what waits is moved to the dead letters, from where it can be sent again.
func TestATargetIsHeldSkippedAndGivenUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir, out := t.TempDir(), &target{}
		w := start(t, dir, out)
		w.connect(
			"out",
			"retry: {first: 1h, growth: constant, cap: 1h, spread: none, tries: 3, within: 24h}\nbreaker: {trip: 1, probe: 30m}\n",
		)
		w.publish(simple)
		ctx := context.Background()
		if err := w.Hold(ctx, store.Hold{Target: "out", By: "Ines", Note: "new disks"}); err != nil {
			t.Fatal(err)
		}
		id := w.accepted("/simple", `{"v":1,"ref":"R"}`)
		time.Sleep(time.Second)
		w.close()
		w = start(t, dir, out)
		time.Sleep(time.Second)
		if len(out.got()) != 0 {
			t.Fatal("a target that is held was called")
		}
		if h := w.Standing("out").Held; h == nil || h.By != "Ines" {
			t.Errorf("%+v", h)
		}
		if v, err := w.Watch.Target("out"); err != nil || v.Waiting != 1 || v.Oldest == nil {
			t.Errorf("%+v %v", v, err)
		}
		if err := w.Release(ctx, "out"); err != nil {
			t.Fatal(err)
		}
		w.becomes(id, store.Delivered)
		// The breaker opens, and the next try would be in an hour: nobody has to wait for that.
		out.status(503)
		id = w.accepted("/simple", `{"v":2,"ref":"S"}`)
		w.until("it was tried", func() bool { return len(out.got()) == 2 && !w.Standing("out").ProbeAt.IsZero() })
		out.say(nil)
		if n, err := w.SkipWait(ctx, "out"); err != nil || n != 1 {
			t.Errorf("%d %v", n, err)
		}
		w.becomes(id, store.Delivered)
		if tries := w.Watch; tries == nil {
			t.Fatal("no watch")
		}
		if v, err := w.Watch.Target("out"); err != nil || v.Tries.Bad != 1 || v.Tries.Good < 1 || v.Waiting != 0 {
			t.Errorf("%+v %v", v.Tries, err)
		}
		out.status(503)
		id = w.accepted("/simple", `{"v":3,"ref":"T"}`)
		w.until("it was tried", func() bool { return len(out.got()) == 4 })
		w.until("it waits", func() bool { n, _ := w.store.CountPending("out", 10); return n == 1 })
		if n, err := w.GiveUp(ctx, "out", "Ines", "it is gone for good"); err != nil || n != 1 {
			t.Errorf("%d %v", n, err)
		}
		w.becomes(id, store.DeadLetter)
		if l := w.letter(id); !strings.Contains(l.Reason, "by Ines: it is gone for good") || l.Path != "d" {
			t.Errorf("%+v", l)
		}
	})
}
