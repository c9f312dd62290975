package store

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/store/body"
)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := OpenUnsynced(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func write(t *testing.T, s *Store, work func(*Tx) error) {
	t.Helper()
	if err := s.Write(context.Background(), work); err != nil {
		t.Fatal(err)
	}
}

var epoch = time.Date(2026, 3, 17, 9, 0, 0, 0, time.UTC)

func add(t *testing.T, s *Store, flow string, state State, reference string) ID {
	t.Helper()
	id := NewID()
	write(t, s, func(tx *Tx) error {
		return tx.AddTransaction(
			&Transaction{ID: id, Flow: flow, State: state, Reference: reference, ReceivedAt: time.Now().UTC()},
			&Message{
				Tx:      id,
				Headers: []byte("[]"),
				Params:  []byte("[]"),
				Query:   []byte("[]"),
				Body:    body.Of([]byte("{}")),
			},
		)
	})
	return id
}

// Writes that come together share a commit, and one that fails takes nothing
// with it.
func TestAFailingWriteTakesNothingWithIt(t *testing.T) {
	s := open(t, t.TempDir())
	var all sync.WaitGroup
	fail := errors.New("no")
	for i := range 200 {
		all.Go(func() {
			err := s.Write(context.Background(), func(tx *Tx) error {
				if err := tx.SaveFlow(&Flow{Name: fmt.Sprintf("f%03d", i)}); err != nil {
					return err
				}
				switch i % 4 {
				case 1:
					return fail
				case 2:
					panic("a fault")
				}
				return nil
			})
			if bad := i%4 == 1 || i%4 == 2; (err != nil) != bad {
				t.Errorf("write %d: %v", i, err)
			}
		})
	}
	all.Wait()
	flows, err := s.Flows()
	if err != nil || len(flows) != 100 {
		t.Fatalf("%d flows, %v", len(flows), err)
	}
	for _, f := range flows {
		if n := strings.TrimLeft(f.Name[1:], "0"); n != "" {
			var i int
			_, _ = fmt.Sscan(n, &i)
			if i%4 == 1 || i%4 == 2 {
				t.Errorf("%s stayed although its write failed", f.Name)
			}
		}
	}
}

func TestWhatIsWrittenSurvivesReopening(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	id := add(t, s, "f", Delivered, "R")
	sealed, err := s.Seal("c", []byte("secret"))
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if err := s.Write(context.Background(), func(*Tx) error { return nil }); !errors.Is(err, ErrClosed) {
		t.Errorf("a write after closing: %v", err)
	}
	s = open(t, dir)
	if got, err := s.Transaction(id); err != nil || got.Reference != "R" {
		t.Errorf("%+v %v", got, err)
	}
	if plain, err := s.Unseal("c", sealed); err != nil || string(plain) != "secret" {
		t.Errorf("%s %v", plain, err)
	}
	// Sealed for one name, it opens for no other, nor with another key.
	if _, err := s.Unseal("d", sealed); err == nil {
		t.Error("opened under another name")
	}
	if _, err := open(t, t.TempDir()).Unseal("c", sealed); err == nil {
		t.Error("opened with another key")
	}
	info, err := os.Stat(filepath.Join(dir, "seal.key"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key's file: %v %v", info.Mode(), err)
	}
}

func TestPagingSeesEveryTransactionOnce(t *testing.T) {
	s := open(t, t.TempDir())
	var want []ID
	for i := range 57 {
		want = append(want, add(t, s, []string{"a", "b"}[i%2], State(i%5), fmt.Sprintf("R-%d", i%3)))
	}
	slices.Reverse(want)
	var got []ID
	f := Filter{Limit: 10}
	for {
		rows, err := s.Transactions(f)
		if err != nil {
			t.Fatal(err)
		}
		if len(rows) == 0 {
			break
		}
		for _, r := range rows {
			got = append(got, r.ID)
		}
		f.After = &rows[len(rows)-1].ID
	}
	if !slices.Equal(got, want) {
		t.Errorf("%d of %d, in another order or not once", len(got), len(want))
	}
	waiting := Waiting
	for name, c := range map[string]struct {
		f Filter
		n int
	}{
		"flow":      {Filter{Flow: "a"}, 29},
		"state":     {Filter{State: &waiting}, 12},
		"both":      {Filter{Flow: "b", State: &waiting}, 6},
		"reference": {Filter{Reference: "R-1"}, 19},
		"none":      {Filter{Reference: "R"}, 0},
		"before":    {Filter{To: time.Now().Add(-time.Hour)}, 0},
		"since":     {Filter{From: time.Now().Add(-time.Hour)}, 57},
		"later":     {Filter{From: time.Now().Add(time.Hour)}, 0},
	} {
		c.f.Limit = 100
		if rows, err := s.Transactions(c.f); err != nil || len(rows) != c.n {
			t.Errorf("%s: %d, %v, want %d", name, len(rows), err, c.n)
		}
	}
}

// The counts that pages show are those of the transactions, after any sequence
// of changes.
func TestCountsFollowTheTransactions(t *testing.T) {
	s := open(t, t.TempDir())
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 2))
	var ids []ID
	for range 300 {
		if len(ids) == 0 || r.IntN(3) == 0 {
			ids = append(ids, add(t, s, []string{"a", "b"}[r.IntN(2)], State(r.IntN(5)), ""))
			continue
		}
		id, to, broken := ids[r.IntN(len(ids))], State(r.IntN(5)), r.IntN(5) == 0
		err := s.Write(context.Background(), func(tx *Tx) error {
			t, err := tx.Transaction(id)
			if err != nil {
				return err
			}
			before := t.State
			t.State = to
			if err := tx.SaveTransaction(&t, before); err != nil {
				return err
			}
			if broken {
				return errors.New("taken back")
			}
			return nil
		})
		if (err != nil) != broken {
			t.Fatal(err)
		}
	}
	want := map[string]int64{}
	rows, err := s.Transactions(Filter{Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range rows {
		want[row.Flow+" "+row.State.String()]++
	}
	for name, read := range map[string]func() ([]Count, error){
		"totals":  s.Totals,
		"minutes": func() ([]Count, error) { return s.Counts(nil, time.Now().Add(-time.Hour), time.Now()) },
	} {
		counts, err := read()
		if err != nil {
			t.Fatal(err)
		}
		got := map[string]int64{}
		for _, c := range counts {
			got[c.Flow+" "+c.State.String()] += c.N
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s:\n got %v\nwant %v", name, got, want)
		}
	}
}

// deliveryOf gives an id for a delivery of a transaction.
func deliveryOf(tx ID) ID {
	id := NewID()
	copy(id[:], tx[:6])
	return id
}

// Model test: deliveries of one order value to one target take their turns as
// in a plain line, whatever happens to them.
func TestLinesKeepTheirOrder(t *testing.T) {
	s := open(t, t.TempDir())
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 3))
	lines := map[string][]ID{} // the model: what has not ended, in order
	tx := NewID()
	for step := range 400 {
		key := fmt.Sprintf("t%d/o%d", r.IntN(2), r.IntN(3))
		target, order, _ := strings.Cut(key, "/")
		if len(lines[key]) == 0 || r.IntN(2) == 0 {
			d := &Delivery{ID: deliveryOf(tx), Tx: tx, Target: target, OrderValue: order, NextAt: &epoch}
			write(t, s, func(tx *Tx) error { return tx.AddDelivery(d) })
			lines[key] = append(lines[key], d.ID)
		} else {
			at := r.IntN(len(lines[key])) // mostly the head ends, sometimes one behind is withdrawn
			if r.IntN(4) > 0 {
				at = 0
			}
			id := lines[key][at]
			write(t, s, func(tx *Tx) error {
				d, err := tx.Delivery(id)
				if err != nil {
					return err
				}
				d.State, d.NextAt = []DeliveryState{Done, Dead, Withdrawn}[r.IntN(3)], nil
				return tx.SaveDelivery(&d, epoch)
			})
			lines[key] = slices.Delete(lines[key], at, at+1)
		}
		var heads []ID
		for k, line := range lines {
			if strings.HasPrefix(k, target+"/") && len(line) > 0 {
				heads = append(heads, line[0])
			}
		}
		due, err := s.Due(target, "", epoch, 100)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range due {
			if !slices.Contains(heads, d.ID) {
				t.Fatalf("step %d: %s is due and not at the head of its line", step, d.ID)
			}
		}
		if len(due) != len(heads) {
			t.Fatalf("step %d: %d due, %d heads", step, len(due), len(heads))
		}
	}
}

func TestDueGoesByTime(t *testing.T) {
	s := open(t, t.TempDir())
	var want []ID
	for i := range 6 {
		at := epoch.Add(time.Duration(5-i) * 100 * time.Millisecond)
		tx := NewID()
		d := &Delivery{ID: deliveryOf(tx), Tx: tx, Target: "t", NextAt: &at}
		write(t, s, func(tx *Tx) error { return tx.AddDelivery(d) })
		want = append([]ID{d.ID}, want...)
	}
	due, err := s.Due("t", "", epoch.Add(250*time.Millisecond), 10)
	if err != nil || len(due) != 3 || due[0].ID != want[0] || due[2].ID != want[2] {
		t.Errorf("%+v %v", due, err)
	}
	if at, err := s.After("t", "", epoch.Add(250*time.Millisecond)); err != nil ||
		!at.Equal(epoch.Add(300*time.Millisecond)) {
		t.Errorf("%v %v", at, err)
	}
	if n, err := s.WaitingFor("t"); n != 6 || err != nil {
		t.Errorf("%d %v", n, err)
	}
	if targets, err := s.PendingTargets(); err != nil || !slices.Equal(targets, []string{"t"}) {
		t.Errorf("%v %v", targets, err)
	}
}

func TestQueuesHandOutInOrder(t *testing.T) {
	s := open(t, t.TempDir())
	for i := range 5 {
		write(t, s, func(tx *Tx) error {
			return tx.Put(
				&QueueItem{
					Queue:   []string{"q", "r"}[i%2],
					Body:    fmt.Append(nil, i),
					Headers: []byte("[]"),
					PutAt:   epoch.Add(time.Duration(i) * time.Minute),
				},
			)
		})
	}
	write(t, s, func(tx *Tx) error {
		free, err := tx.Free("q", 10)
		if err != nil || len(free) != 3 || string(free[0].Body) != "0" || string(free[2].Body) != "4" {
			t.Errorf("%+v %v", free, err)
		}
		reader := &Transaction{ID: NewID(), Flow: "reader", ReceivedAt: epoch}
		if err := tx.AddTransaction(reader, &Message{Tx: reader.ID}); err != nil {
			return err
		}
		if err := tx.Take(free[0].N, reader.ID); err != nil {
			return err
		}
		for flow, want := range map[string]int64{"reader": 1, "another": 0} {
			if n, err := tx.Taken("q", flow); n != want || err != nil {
				t.Errorf("%s has taken %d, %v", flow, n, err)
			}
		}
		return nil
	})
	depths, err := s.QueueDepths()
	if err != nil || len(depths) != 2 || depths[0].Depth != 2 || depths[0].InFlight != 1 ||
		!depths[0].Oldest.Equal(epoch.Add(2*time.Minute)) {
		t.Errorf("%+v %v", depths, err)
	}
	all, err := s.Peek("q", 0, 10)
	if err != nil || len(all) != 3 || all[0].TakenBy == nil {
		t.Errorf("%+v %v", all, err)
	}
	if rest, _ := s.Peek("q", all[0].N, 1); len(rest) != 1 || rest[0].N != all[1].N {
		t.Errorf("%+v", rest)
	}
	write(t, s, func(tx *Tx) error { return tx.Finish(all[0].N) })
	if left, _ := s.Peek("q", 0, 10); len(left) != 2 {
		t.Errorf("%d left", len(left))
	}
}

func TestOnceForgetsInTime(t *testing.T) {
	s := open(t, t.TempDir())
	first, second := NewID(), NewID()
	ask := func(id ID, now time.Time) (ID, bool) {
		t.Helper()
		var got ID
		var fresh bool
		write(t, s, func(tx *Tx) (err error) {
			got, fresh, err = tx.Once(&OnceKey{Flow: "f", Key: []byte("k"), Tx: id, Until: now.Add(time.Hour)}, now)
			return err
		})
		return got, fresh
	}
	if _, fresh := ask(first, epoch); !fresh {
		t.Error("the first is not fresh")
	}
	if got, fresh := ask(second, epoch.Add(59*time.Minute)); fresh || got != first {
		t.Errorf("%s %v", got, fresh)
	}
	if _, fresh := ask(second, epoch.Add(61*time.Minute)); !fresh {
		t.Error("it is remembered too long")
	}
	write(t, s, func(tx *Tx) error {
		_, err := tx.ForgetOnce(epoch.Add(10*time.Hour), 100)
		return err
	})
	if _, fresh := ask(first, epoch.Add(62*time.Minute)); !fresh {
		t.Error("it was not forgotten")
	}
}

func TestVersionsAndSamplesKeepTheirOrder(t *testing.T) {
	s := open(t, t.TempDir())
	write(t, s, func(tx *Tx) error {
		for i := range 3 {
			v := Version{Flow: "f", Document: fmt.Sprint(i), PublishedAt: epoch}
			if err := tx.AddVersion(&v); err != nil || v.N != i+1 {
				return fmt.Errorf("version %d: %w", v.N, err)
			}
			if err := tx.SaveSample(&Sample{Flow: "f", Name: string(rune('c' - i)), Document: []byte("{}")}); err != nil {
				return err
			}
		}
		return tx.SaveSample(&Sample{Flow: "f", Name: "c", Document: []byte(`{"changed":true}`)})
	})
	versions, err := s.Versions("f")
	if err != nil || len(versions) != 3 || versions[0].N != 3 {
		t.Errorf("%+v %v", versions, err)
	}
	samples, err := s.Samples("f")
	if err != nil || len(samples) != 3 || samples[0].Name != "c" || string(samples[0].Document) != `{"changed":true}` {
		t.Errorf("%+v %v", samples, err)
	}
	if err := s.Write(context.Background(), func(tx *Tx) error { return tx.DeleteSample("f", "nobody") }); !errors.Is(
		err,
		ErrNotFound,
	) {
		t.Errorf("%v", err)
	}
	write(t, s, func(tx *Tx) error { return tx.DeleteFlow("f") })
	if versions, _ := s.Versions("f"); len(versions) != 3 {
		t.Errorf("%d versions are left to look at transactions with", len(versions))
	}
	if samples, _ := s.Samples("f"); len(samples) != 0 {
		t.Errorf("%d samples are left", len(samples))
	}
}

func TestIDs(t *testing.T) {
	a, b := NewID(), NewID()
	if a.String() >= b.String() && a == b {
		t.Errorf("%s %s", a, b)
	}
	if got, err := ParseID(a.String()); err != nil || got != a {
		t.Errorf("%s %v", got, err)
	}
	for _, bad := range []string{"", "x", a.String()[1:], "{" + a.String() + "}", strings.ReplaceAll(a.String(), "-",
		"")} {
		if _, err := ParseID(bad); err == nil {
			t.Errorf("%q is taken for an id", bad)
		}
	}
	for i, name := range []string{"under way", "waiting", "delivered", "turned away", "dead letter"} {
		if s, ok := ParseState(name); !ok || s != State(i) || s.String() != name {
			t.Errorf("%s: %v", name, s)
		}
	}
	if _, ok := ParseState("lost"); ok {
		t.Error("lost is a state")
	}
}

// Two engines on one journal would deliver everything twice.
func TestAFolderIsOpenedOnce(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); !errors.Is(err, ErrInUse) {
		t.Errorf("opened twice: %v", err)
	}
	if err := Forget(dir); !errors.Is(err, ErrInUse) {
		t.Errorf("forgotten while open: %v", err)
	}
	if err := s.Write(t.Context(), func(tx *Tx) error { return tx.SaveFlow(&Flow{Name: "f"}) }); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if err := Forget(dir); err != nil {
		t.Fatal(err)
	}
	if s, err = Open(dir); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Flow("f"); !errors.Is(err, ErrNotFound) {
		t.Errorf("not forgotten: %v", err)
	}
}

// What a store that leaves syncing to the system has committed is there for the next one.
func TestAnUnsyncedStoreKeepsWhatWasCommitted(t *testing.T) {
	dir := t.TempDir()
	s, err := OpenUnsynced(dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Write(context.Background(), func(tx *Tx) error { return tx.SaveHold(&Hold{Target: "a"}) }); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if s, err = Open(dir); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if held, err := s.HeldTargets(); err != nil || len(held) != 1 {
		t.Errorf("%v %v", held, err)
	}
}
