package store

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// modelItem is a message of the simple queue that the store's is held against.
type modelItem struct {
	n, queue, priority int
	expires            time.Duration // since epoch, 0 for never
	taken              bool
}

// model says what the store must hold: a plain list.
type model []*modelItem

func (m model) free(queue int) model {
	var out model
	for _, i := range m {
		if i.queue == queue && !i.taken {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(a, b *modelItem) int {
		if a.priority != b.priority {
			return b.priority - a.priority
		}
		return a.n - b.n
	})
	return out
}

func (m *model) drop(i *modelItem) {
	*m = slices.DeleteFunc(*m, func(o *modelItem) bool { return o == i })
}

// Random interleavings of put, take, finish, expire, move, pause and a crash
// agree with a plain list. A crash is a reopening: what is taken stays taken.
func TestQueueAgreesWithAPlainList(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	dir := t.TempDir()
	s, m, now := open(t, dir), model{}, time.Duration(0)
	names := []string{"a", "b", "c"}
	one := func(tx *Tx) error {
		q := r.IntN(len(names))
		now += time.Duration(r.IntN(1000)) * time.Millisecond
		switch what := r.IntN(100); {
		case what < 40:
			i := &modelItem{queue: q, priority: r.IntN(10)}
			item := &QueueItem{
				Queue:    names[q],
				Body:     []byte("x"),
				Headers:  []byte("[]"),
				PutAt:    epoch.Add(now),
				Priority: i.priority,
			}
			if r.IntN(4) == 0 {
				i.expires = now + time.Duration(1+r.IntN(20))*time.Second
				at := epoch.Add(i.expires)
				item.ExpiresAt = &at
			}
			if err := tx.Put(item); err != nil {
				return err
			}
			i.n = int(item.N)
			m = append(m, i)
		case what < 65:
			got, err := tx.Free(names[q], 1)
			want := m.free(q)
			if err != nil || len(got) != min(1, len(want)) || len(got) == 1 && int(got[0].N) != want[0].n {
				return fmt.Errorf("free gives %+v %w, want %+v", got, err, want)
			}
			if len(got) == 0 {
				return nil
			}
			want[0].taken = true
			return tx.Take(got[0].N, NewID())
		case what < 80:
			for _, i := range m {
				if i.taken && r.IntN(2) == 0 {
					m.drop(i)
					return tx.Finish(int64(i.n))
				}
			}
		case what < 90:
			late, err := tx.Expired(names[q], epoch.Add(now), 1000)
			if err != nil {
				return err
			}
			var got, want []int
			for _, i := range m.free(q) {
				if i.expires > 0 && i.expires <= now {
					want = append(want, i.n)
					m.drop(i)
				}
			}
			for _, l := range late {
				got = append(got, int(l.N))
				if err := tx.Finish(l.N); err != nil {
					return err
				}
			}
			slices.Sort(want)
			slices.Sort(got)
			if !slices.Equal(got, want) {
				return fmt.Errorf("expired %v, want %v", got, want)
			}
		default:
			to := r.IntN(len(names))
			want := m.free(q)
			want = want[:min(3, len(want))]
			n, err := tx.MoveItems(names[q], names[to], nil, 3)
			if err != nil || int(n) != len(want) {
				return fmt.Errorf("%d moved %w, want %d", n, err, len(want))
			}
			for _, i := range want {
				i.queue = to
			}
		}
		return nil
	}
	for chunk := range 200 {
		write(t, s, func(tx *Tx) error {
			for step := range 40 {
				if err := one(tx); err != nil {
					return fmt.Errorf("step %d: %w", chunk*40+step, err)
				}
			}
			return nil
		})
		if t.Failed() {
			return
		}
		depths, err := s.QueueDepths()
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range depths {
			if free := len(m.free(slices.Index(names, d.Queue))); int(d.Depth) != free {
				t.Fatalf("depth of %s is %d, want %d", d.Queue, d.Depth, free)
			}
		}
		if r.IntN(20) == 0 {
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
			s = open(t, dir)
		}
	}
	for q, name := range names {
		var got []int
		after := int64(0)
		for { // page by page
			rows, err := s.Peek(name, after, 7)
			if err != nil {
				t.Fatal(err)
			}
			if len(rows) == 0 {
				break
			}
			for _, row := range rows {
				if row.TakenBy == nil {
					got = append(got, int(row.N))
				}
			}
			after = rows[len(rows)-1].N
		}
		var want []int
		for _, i := range m.free(q) {
			want = append(want, i.n)
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s holds %v, want %v", name, got, want)
		}
	}
}

// A page behind a message that has left begins anew, so that none is passed over.
func TestPeekBehindAMessageThatIsGone(t *testing.T) {
	s := open(t, t.TempDir())
	for p := range 3 {
		write(t, s, func(tx *Tx) error {
			return tx.Put(&QueueItem{Queue: "q", Headers: []byte("[]"), PutAt: epoch, Priority: p})
		})
	}
	first, err := s.Peek("q", 0, 1)
	if err != nil || len(first) != 1 || first[0].Priority != 2 {
		t.Fatal(first, err)
	}
	if rest, err := s.Peek("q", first[0].N, 9); err != nil || len(rest) != 2 {
		t.Errorf("%+v %v", rest, err)
	}
	write(t, s, func(tx *Tx) error { return tx.Finish(first[0].N) })
	if rest, err := s.Peek("q", first[0].N, 9); err != nil || len(rest) != 2 || rest[0].Priority != 1 {
		t.Errorf("%+v %v", rest, err)
	}
}

func TestQueuesArePaused(t *testing.T) {
	s := open(t, t.TempDir())
	for _, c := range []struct{ pause, want bool }{{true, true}, {true, true}, {false, false}, {false, false}} {
		write(t, s, func(tx *Tx) error {
			if err := tx.PauseQueue("q", c.pause, epoch); err != nil {
				return err
			}
			got, err := tx.QueuePaused("q")
			if got != c.want {
				t.Errorf("%+v: %v", c, got)
			}
			return err
		})
	}
	if p, err := s.PausedQueues(); err != nil || len(p) != 0 {
		t.Errorf("%v %v", p, err)
	}
}
