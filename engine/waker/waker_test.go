package waker

import (
	"errors"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// woken tells whether a sleeper has been woken by now.
func woken(s *Sleeper) bool {
	synctest.Wait()
	select {
	case <-s.Woken():
		return true
	default:
		return false
	}
}

func TestEachIsWokenAtItsTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := New(time.Now)
		all := []*Sleeper{w.Sleeper(), w.Sleeper(), w.Sleeper(), w.Sleeper()}
		began := time.Now()
		all[0].Until(began.Add(3 * time.Second))
		all[1].Until(began.Add(time.Second))
		all[2].Until(began.Add(time.Hour)) // no longer than Longest
		all[3].Until(time.Time{})
		for _, step := range []struct {
			after time.Duration
			woken [4]bool
		}{
			{900 * time.Millisecond, [4]bool{}}, {time.Second, [4]bool{1: true}}, {2900 * time.Millisecond, [4]bool{}},
			{3 * time.Second, [4]bool{0: true}}, {Longest, [4]bool{2: true, 3: true}}, {2 * Longest, [4]bool{}},
		} {
			time.Sleep(time.Until(began.Add(step.after)))
			for i, s := range all {
				if got := woken(s); got != step.woken[i] {
					t.Errorf("after %s, sleeper %d: %t", step.after, i, got)
				}
			}
		}
	})
}

func TestWhatIsSaidLastCounts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := New(time.Now)
		s := w.Sleeper()
		s.Until(time.Now().Add(time.Second))
		s.Until(time.Now().Add(5 * time.Second))
		time.Sleep(2 * time.Second)
		if woken(s) {
			t.Error("woken for a time that was taken back")
		}
		s.Wake()
		s.Wake()
		if !woken(s) || woken(s) {
			t.Error("a word wakes once")
		}
		s.End()
		time.Sleep(time.Minute)
		if woken(s) {
			t.Error("woken behind its end")
		}
		s.Until(time.Now().Add(-time.Hour)) // it is due
		time.Sleep(soonest)
		if !woken(s) {
			t.Error("what is due is not looked after")
		}
	})
}

// A clock that is set back by hours makes nobody sleep longer than Longest, and one that is
// set forward is seen by then.
func TestClocksThatAreSet(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var off atomic.Int64
		w := New(func() time.Time { return time.Now().Add(time.Duration(off.Load())) })
		s, other := w.Sleeper(), w.Sleeper()
		s.Until(w.now().Add(10 * time.Second))
		off.Store(int64(-5 * time.Hour))
		time.Sleep(Longest)
		if !woken(s) {
			t.Error("it sleeps until the clock has come back")
		}
		off.Store(0)
		s.Until(w.now().Add(14 * time.Second))
		other.Until(w.now().Add(time.Second))
		off.Store(int64(time.Hour))
		time.Sleep(time.Second)
		if !woken(other) || !woken(s) {
			t.Error("what is due by the new time is not woken with the next that is")
		}
	})
}

func TestKeepLooksAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := New(time.Now)
		s, done := w.Sleeper(), make(chan struct{})
		began := time.Now()
		var at []time.Duration
		failures := 0
		answers := []func() (bool, time.Time, error){
			func() (bool, time.Time, error) { return true, time.Time{}, nil },
			func() (bool, time.Time, error) { return false, time.Time{}, errors.New("x") },
			func() (bool, time.Time, error) { return false, time.Now().Add(2 * time.Second), nil },
		}
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			s.Keep(done, func() (bool, time.Time, error) {
				at = append(at, time.Since(began))
				if n := len(at); n <= len(answers) {
					return answers[n-1]()
				}
				return false, time.Time{}, nil
			}, func(error) { failures++ })
		}()
		time.Sleep(5 * time.Second)
		s.Wake()
		synctest.Wait()
		close(done)
		<-ended
		want := []time.Duration{0, 0, time.Second, 3 * time.Second, 5 * time.Second}
		if len(at) != len(want) || failures != 1 {
			t.Fatalf("%v, %d failures", at, failures)
		}
		for i := range want {
			if at[i] != want[i] {
				t.Errorf("look %d after %s, want %s", i, at[i], want[i])
			}
		}
	})
}
