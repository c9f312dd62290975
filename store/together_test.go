package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/core/find"
	"readyferry/store/body"
)

// keepsNone is a log that keeps nothing.
type keepsNone struct{ at int64 }

func (c *keepsNone) Append(behind int64, _ []byte) (int64, error) {
	c.at = behind + 1
	return c.at, nil
}

// openOfLog opens the journal of a partition in an empty folder, with a log that begins.
func openOfLog(t *testing.T, dir string, l Log, n int) *Store {
	t.Helper()
	if err := GiveKey(dir, make([]byte, 32)); err != nil {
		t.Fatal(err)
	}
	c, err := OpenCopy(context.Background(), dir)
	if err == nil {
		err = errors.Join(c.Of(context.Background(), fmt.Sprint("log", n)), c.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
	s, err := OpenLogged(dir, l, n)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// partition opens the journal of a partition with some messages.
func partition(t *testing.T, n, messages int) *Store {
	t.Helper()
	s := openOfLog(t, t.TempDir(), &keepsNone{}, n)
	t.Cleanup(func() { _ = s.Close() })
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	for i := range messages {
		id := IDAt(at.Add(time.Duration(2*i+n)*time.Second), uint64(n*1000+i))
		err := s.Write(context.Background(), func(tx *Tx) error {
			tr := &Transaction{
				ID:         id,
				Flow:       "slips",
				Version:    1,
				State:      DeadLetter,
				Reference:  fmt.Sprintf("SLIP %d of %d", i, n),
				ReceivedAt: at,
				Reason:     "no shelf",
			}
			m := &Message{Tx: id, Body: body.OfMessage([]byte(fmt.Sprintf(`{"slip":%d,"of":%d}`, i, n)))}
			if err := tx.AddTransaction(tr, m); err != nil {
				return err
			}
			l := &Letter{
				ID:     IDAt(at.Add(time.Duration(2*i+n)*time.Second), uint64(n*1000+500+i)),
				Tx:     id,
				Flow:   "slips",
				Cause:  "c",
				Reason: "no shelf",
				At:     at,
			}
			return tx.SaveLetter(l, at, "the flow slips", "died", "no shelf")
		})
		if err != nil {
			t.Fatal(err)
		}
		all, err := s.Unsearched(0, 1000)
		if err != nil {
			t.Fatal(err)
		}
		last := all[len(all)-1]
		if err := s.Write(context.Background(), func(tx *Tx) error {
			return tx.Index([]SearchDoc{{Seq: last.Message, Reference: find.Folded(last.Reference), Body: "no shelf",
				Tags: []string{"flow slips", "first"}}}, last.Message, nil, nil)
		}); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// What several partitions have is listed, found and counted as if it were in one.
func TestPartitionsAreReadTogether(t *testing.T) {
	first, second, third := partition(t, 0, 5), partition(t, 1, 4), partition(t, 2, 0)
	together, err := first.Together([]string{second.Dir, third.Dir})
	if err != nil {
		t.Fatal(err)
	}
	all := first.All()
	var pages []string
	var after *ID
	for {
		list, err := all.Transactions(Filter{Limit: 2, After: after})
		if err != nil {
			t.Fatal(err)
		}
		for i := range list {
			pages = append(pages, list[i].Reference)
		}
		if len(list) < 2 {
			break
		}
		after = &list[1].ID
	}
	if got, want := strings.Join(pages, ", "), "SLIP 4 of 0, SLIP 3 of 1, SLIP 3 of 0, SLIP 2 of 1, SLIP 2 of 0, SLIP 1 of 1, SLIP 1 of 0, "+
		"SLIP 0 of 1, SLIP 0 of 0"; got != want {
		t.Errorf("pages:\n%s, not\n%s", got, want)
	}
	dead := DeadLetter
	if list, err := all.Transactions(Filter{Flow: "slips", State: &dead, Limit: 100}); err != nil || len(list) != 9 {
		t.Errorf("by flow and state: %d, %v", len(list), err)
	}
	found, err := all.FindBy(Found{Terms: []find.Term{{Value: "shelf"}}, Filter: Filter{Limit: 4}})
	if err != nil || len(found) != 4 || found[3].Reference != "SLIP 2 of 1" {
		t.Errorf("found by a word: %d, %v", len(found), err)
	}
	found, err = all.FindBy(
		Found{Terms: []find.Term{{Value: "shelf"}}, Filter: Filter{Limit: 100, After: &found[3].ID}},
	)
	if err != nil || len(found) != 5 || found[0].Reference != "SLIP 2 of 0" {
		t.Errorf("and behind those: %d, %v", len(found), err)
	}
	if n, more, err := all.CountFound(Found{Terms: []find.Term{{Key: "reference", Value: "of 1"}}}); err != nil ||
		n != 4 ||
		more {
		t.Errorf("found by a part of the reference: %d, %v", n, err)
	}
	if n, err := all.CountOpenLetters(); err != nil || n != 9 {
		t.Errorf("open letters: %d, %v", n, err)
	}
	causes, err := all.Causes(10)
	if err != nil || len(causes) != 1 || causes[0].N != 9 {
		t.Errorf("causes: %+v, %v", causes, err)
	}
	letters, err := all.Letters(LetterFilter{Cause: "c", Limit: 3})
	if err != nil || len(letters) != 3 {
		t.Fatalf("letters: %d, %v", len(letters), err)
	}
	for i, of := range []string{"0", "1", "0"} { // the oldest first, in turn
		tr, err := all.Transaction(letters[i].Tx)
		m, bad := all.Message(letters[i].Tx)
		if err != nil || bad != nil || !strings.HasSuffix(tr.Reference, "of "+of) ||
			!strings.Contains(string(m.Body.Bytes()), `"of":`+of) {
			t.Errorf("letter %d is of %q with %s; %v, %v", i, tr.Reference, m.Body.Bytes(), err, bad)
		}
		if h, err := all.History(letters[i].ID); err != nil || len(h) != 1 {
			t.Errorf("its history: %v, %v", h, err)
		}
	}
	if list, err := all.Totals(); err != nil || len(list) != 1 || list[0].N != 9 {
		t.Errorf("totals: %+v, %v", list, err)
	}
	if list, err := first.Transactions(Filter{Limit: 100}); err != nil || len(list) != 5 {
		t.Errorf("by itself the first has %d, %v", len(list), err)
	}
	// What another one gets is there at once, and one that has had nothing comes in with its first.
	if err := together.Follow(); err != nil {
		t.Fatal(err)
	}
	if err := together.Close(); err != nil {
		t.Fatal(err)
	}
	if list, err := first.All().Transactions(Filter{Limit: 100}); err != nil || len(list) != 5 {
		t.Errorf("when they are closed the first has %d, %v", len(list), err)
	}
}

// viewsOf gives what each connection reads the groups by.
func viewsOf(t *testing.T, together *Together) []string {
	t.Helper()
	out := make([]string, together.now().Stats().MaxOpenConnections)
	for i := range out {
		c, err := together.now().Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close() // behind the others, so that each is another one
		err = c.QueryRowContext(t.Context(), "SELECT sql FROM temp.sqlite_schema WHERE name = 'groups'").Scan(&out[i])
		if err != nil {
			t.Fatal(err)
		}
	}
	return out
}

// A partition whose tables come while the files are opened is read, too, at the latest when they are followed: whichever
// moment it is, each connection has it.
func TestTablesThatComeMeanwhileAreRead(t *testing.T) {
	first := partition(t, 0, 1)
	var tables []string
	if err := first.sql().Raw("SELECT sql FROM sqlite_schema WHERE type = 'table' AND name IN ? ORDER BY rowid",
		append([]string{"search_words"}, perMessage...)).Scan(&tables).Error; err != nil {
		t.Fatal(err)
	}
	for round := range 15 {
		dirs, copies := make([]string, MostPartitions-1), make([]*Copy, MostPartitions-1)
		for i := range dirs {
			dirs[i] = t.TempDir()
			c, err := OpenCopy(context.Background(), dirs[i])
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = c.Close() })
			copies[i] = c
		}
		var coming sync.WaitGroup
		coming.Go(func() {
			for _, c := range copies {
				for range rand.IntN(60) { // some moments
					_, _ = c.Schema(context.Background())
				}
				if _, err := c.conn.ExecContext(context.Background(), "BEGIN;"+strings.Join(tables, ";")+";COMMIT"); err != nil {
					t.Error(err)
				}
			}
		})
		together, err := first.Together(dirs)
		if err != nil {
			t.Fatal(err)
		}
		viewsOf(t, together) // which makes its connections, whatever is there by now
		coming.Wait()
		if err := together.Follow(); err != nil {
			t.Fatal(err)
		}
		for i, view := range viewsOf(t, together) {
			if n := strings.Count(view, "FROM part"); n != len(dirs) {
				t.Errorf("round %d, connection %d: %d of %d partitions are read: %s", round, i, n, len(dirs), view)
			}
		}
		if err := together.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// No list of several partitions reads them whole: each is merged from their indexes.
func TestListsTogetherUseTheIndexes(t *testing.T) {
	first, second := partition(t, 0, 1), partition(t, 1, 1)
	if _, err := first.Together([]string{second.Dir}); err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{
		"SELECT * FROM transactions WHERE parent IS NULL AND flow = 'a' AND state = 2 ORDER BY id DESC LIMIT 50",
		"SELECT * FROM transactions WHERE parent IS NULL AND id >= x'01' ORDER BY id DESC LIMIT 50",
		"SELECT * FROM transactions WHERE parent IS NULL AND reference = 'a' AND reference <> '' ORDER BY id DESC LIMIT 50",
		"SELECT * FROM transactions WHERE id IN (x'01', x'02') ORDER BY id DESC",
		"SELECT * FROM messages WHERE seq IN (SELECT message FROM transactions WHERE id IN (x'01') UNION ALL SELECT seq FROM messages " +
			"WHERE tx IN (x'01') AND n > 0) ORDER BY n DESC LIMIT 1",
		"SELECT * FROM letters WHERE state = 0 AND cause = 'c' ORDER BY id LIMIT 200",
		"SELECT * FROM counts WHERE minute >= 5 AND minute < 9 AND n <> 0",
		"SELECT * FROM tallies WHERE kind = 'letters' AND key = 'c'",
		"SELECT * FROM deliveries WHERE id = x'01' AND tx = x'02'",
	} {
		var plan []struct{ Detail string }
		if err := first.All().sql().Raw("EXPLAIN QUERY PLAN " + q).Scan(&plan).Error; err != nil {
			t.Fatal(q, err)
		}
		var lines []string
		for _, p := range plan {
			lines = append(lines, p.Detail)
		}
		if text := strings.Join(lines, "\n"); strings.Contains(text, "SCAN") || strings.Contains(text, "MATERIALIZE") {
			t.Errorf("%s reads all there is:\n%s", q, text)
		}
	}
}

// Partitions come together in one journal, which goes on as one that has never been anything else.
func TestPartitionsBecomeOneJournal(t *testing.T) {
	ctx := context.Background()
	first, second, third, none := partition(t, 0, 5), partition(t, 1, 4), partition(t, 2, 3), partition(t, 3, 0)
	large := []byte(strings.Repeat("a large body that stands in pieces, or is kept once for all. ", 5000))
	for i, s := range []*Store{first, second, third} { // the same content in two of them, and one in pieces
		if err := s.Write(ctx, func(tx *Tx) error {
			id := NewID()
			b := large
			if i == 0 {
				b = []byte(strings.Repeat("another one ", 100))
			}
			return tx.AddTransaction(&Transaction{ID: id, Flow: "slips", Version: 1, State: Delivered, ReceivedAt: time.Now()},
				&Message{Tx: id, Body: body.OfMessage(b)})
		}); err != nil {
			t.Fatal(err)
		}
	}
	for i, s := range []*Store{first, second, third, none} {
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		if i > 0 {
			if err := errors.Join(os.MkdirAll(filepath.Join(first.Dir, partsDir), 0o700), os.Rename(s.Dir, PartDir(first.Dir, i))); err != nil {
				t.Fatal(err)
			}
		}
	}
	dir := filepath.Join(t.TempDir(), "restored") // a backup has all of them
	var backup bytes.Buffer
	if _, err := Backup(ctx, first.Dir, &backup, func(int64, int64) {}); err != nil {
		t.Fatal(err)
	}
	if _, err := Restore(ctx, &backup, dir); err != nil {
		t.Fatal(err)
	}
	others, err := PartDirs(dir)
	if err != nil || len(others) != 3 {
		t.Fatalf("%d other partitions, %v", len(others), err)
	}
	if err := Release(ctx, dir, others...); err != nil {
		t.Fatal(err)
	}
	s := open(t, dir)
	list, err := s.Transactions(Filter{Limit: 100})
	if err != nil || len(list) != 15 {
		t.Fatalf("%d transactions, %v", len(list), err)
	}
	numbers := map[int64]bool{}
	for i := range list {
		m, err := s.Message(list[i].ID)
		if err != nil || m.Tx != list[i].ID || m.Seq != list[i].Message || m.Seq > 15 || numbers[m.Seq] {
			t.Errorf("the message of %s is %d, %v", list[i].ID, m.Seq, err)
		}
		numbers[m.Seq] = true
		if list[i].Reference != "" &&
			!strings.HasSuffix(string(m.Body.Bytes()), `"of":`+list[i].Reference[len(list[i].Reference)-1:]+"}") {
			t.Errorf("%s has the message %s", list[i].Reference, m.Body.Bytes())
		}
	}
	if n, err := s.CountOpenLetters(); err != nil || n != 12 {
		t.Errorf("open letters: %d, %v", n, err)
	}
	if totals, err := s.Totals(); err != nil || len(totals) != 2 || totals[0].N+totals[1].N != 15 {
		t.Errorf("totals: %+v, %v", totals, err)
	}
	if left, err := s.Unsearched(5, 100); err != nil || len(left) != 10 {
		t.Errorf("left to be indexed: %d, %v", len(left), err)
	}
	broken, err := s.Sound(ctx)
	if err != nil || len(broken) > 0 {
		t.Errorf("it is not sound: %v, %v", broken, err)
	}
	if err := s.EachBody(ctx, func(b Broken) { t.Errorf("%+v", b) }); err != nil {
		t.Error(err)
	}
	for _, dir := range others {
		if _, err := os.Stat(dir); !os.IsNotExist(err) {
			t.Errorf("%s is still there", dir)
		}
	}
}
