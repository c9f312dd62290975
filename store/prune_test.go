package store

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"readyferry/store/body"
)

// noise is content that does not compress.
func noise(seed uint64, n int) []byte {
	out := make([]byte, n)
	r := rand.New(rand.NewPCG(seed, 1))
	for i := range out {
		out[i] = byte(r.Uint32())
	}
	return out
}

// delivered stores a transaction that has come to its end.
func delivered(t *testing.T, s *Store, content []byte) ID {
	t.Helper()
	id, at := NewID(), time.Now()
	write(t, s, func(tx *Tx) error {
		return tx.AddTransaction(&Transaction{ID: id, Flow: "f", Version: 1, State: Delivered, ReceivedAt: at, FinishedAt: &at},
			&Message{Tx: id, Body: body.Of(content)})
	})
	return id
}

func prune(t *testing.T, s *Store, ids ...ID) {
	t.Helper()
	write(t, s, func(tx *Tx) error {
		for _, id := range ids {
			if _, done, err := tx.Prune(id, 10); err != nil || !done {
				t.Error(done, err)
			}
		}
		return nil
	})
	for more := true; more; {
		write(t, s, func(tx *Tx) (err error) {
			more, err = tx.SweepBodies(8)
			return err
		})
	}
}

// A content goes with the last message that has it, and not before; the file then gives
// back what it took.
func TestWhatGoesGivesItsRoomBack(t *testing.T) {
	s := open(t, t.TempDir())
	shared, large := noise(1, 9000), noise(2, 3<<20)
	first, second, third := delivered(t, s, shared), delivered(t, s, shared), delivered(t, s, large)
	size := func() int64 {
		if err := s.db.Exec("PRAGMA wal_checkpoint(TRUNCATE)").Error; err != nil {
			t.Fatal(err)
		}
		info, err := os.Stat(s.file)
		if err != nil {
			t.Fatal(err)
		}
		return info.Size()
	}
	before := size()
	prune(t, s, first)
	m, err := s.Message(second)
	if err != nil || !bytes.Equal(m.Body.Bytes(), shared) {
		t.Fatal("a content went with the first of two messages that have it:", err)
	}
	if m, err = s.Message(third); err != nil || !bytes.Equal(m.Body.Bytes(), large) {
		t.Fatal(err)
	}
	prune(t, s, third)
	for more := true; more; {
		if more, err = s.GiveBack(context.Background(), 64<<10); err != nil {
			t.Fatal(err)
		}
	}
	if after := size(); after > before-2<<20 {
		t.Errorf("the file has %d bytes, and had %d with 3 MB more in it", after, before)
	}
	prune(t, s, second)
	var bodies, pieces int64
	s.db.Model(&keptBody{}).Count(&bodies)
	s.db.Model(&bodyPiece{}).Count(&pieces)
	bytesOf, err := s.BytesOf("f")
	if bodies != 0 || pieces != 0 || bytesOf != 0 || err != nil {
		t.Errorf("%d contents, %d pieces and %d bytes are left of nothing, %v", bodies, pieces, bytesOf, err)
	}
	if id := delivered(t, s, shared); id == second {
		t.Fatal("an id came twice")
	} else if m, err = s.Message(id); err != nil || !bytes.Equal(m.Body.Bytes(), shared) {
		t.Error("a content that had gone does not come again:", err)
	}
	for _, c := range Checks() {
		if broken, err := s.Holds(context.Background(), c, 5); err != nil || len(broken) > 0 {
			t.Errorf("%s: %v %v", c.Name, broken, err)
		}
	}
}

// What has not ended stays, whoever asks.
func TestWhatIsUnderWayIsNotPruned(t *testing.T) {
	s := open(t, t.TempDir())
	for _, state := range []State{UnderWay, Waiting, DeadLetter} {
		id := add(t, s, "f", state, "")
		prune(t, s, id)
		if got, err := s.Transaction(id); err != nil || got.State != state {
			t.Errorf("%s: %v %v", state, got.State, err)
		}
	}
}
