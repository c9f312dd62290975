package store

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"readyferry/store/body"
)

// keepsAll is a log that keeps everything.
type keepsAll struct{ records [][]byte }

func (l *keepsAll) Append(behind int64, record []byte) (int64, error) {
	if behind != int64(len(l.records)) {
		return 0, errors.New("it does not follow")
	}
	l.records = append(l.records, append([]byte(nil), record...))
	return behind + 1, nil
}

// What is inserted and changed in the records that a copy applies together is written once, and is as if it had been
// written twice; what cannot be part of its insert is not.
func TestACopyWritesOnceWhatIsInsertedAndChanged(t *testing.T) {
	ctx := context.Background()
	log := &keepsAll{}
	s := openOfLog(t, t.TempDir(), log, 0)
	opened := len(log.records)
	const messages = 40
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	late := at.Add(time.Hour)
	write := func(work func(tx *Tx) error) {
		t.Helper()
		if err := s.Write(ctx, work); err != nil {
			t.Fatal(err)
		}
	}
	for i := range messages {
		tr := &Transaction{ID: IDAt(at, uint64(i)), Flow: "slips", Version: 1, State: UnderWay, ReceivedAt: at}
		d := &Delivery{ID: IDAt(at, uint64(1000+i)), Tx: tr.ID, Flow: "slips", Step: "d", Target: "out", NextAt: &at, CreatedAt: at}
		write(func(tx *Tx) error {
			m := &Message{Tx: tr.ID, Body: body.OfMessage(fmt.Appendf(nil, `{"slip":%d}`, i))}
			return errors.Join(tx.AddTransaction(tr, m), tx.AddDelivery(d))
		})
		write(func(tx *Tx) error {
			now, err := tx.Transaction(tr.ID)
			if err != nil {
				return err
			}
			if now.State = Delivered; i%4 == 0 { // it is tried again: its insert has no place for when
				now.State, now.NextTryAt = UnderWay, &late
			}
			now.Place = "d"
			d.State, d.Tries, d.NextAt, d.FirstAt = Done, 1, nil, &at
			return errors.Join(tx.SaveTransaction(&now, UnderWay), tx.SaveDelivery(d, at))
		})
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}

	// rows gives what a copy holds that applies so many records together, and how many rows it has written for the messages.
	rows := func(together int) (all string, written int) {
		t.Helper()
		dir := t.TempDir()
		c, err := OpenCopy(ctx, dir)
		if err != nil {
			t.Fatal(err)
		}
		if err := c.Of(ctx, "log"); err != nil {
			t.Fatal(err)
		}
		changes := func() (n int) {
			if err := c.conn.QueryRowContext(ctx, "SELECT total_changes()").Scan(&n); err != nil {
				t.Fatal(err)
			}
			return n
		}
		before := 0
		for i, record := range log.records {
			if i == opened {
				if err := c.Commit(ctx); err != nil {
					t.Fatal(err)
				}
				before = changes()
			}
			if err := c.Apply(ctx, c.At+1, record); err != nil {
				t.Fatal(err)
			}
			if (i-opened+1)%together == 0 {
				if err := c.Commit(ctx); err != nil {
					t.Fatal(err)
				}
			}
		}
		if err := c.Commit(ctx); err != nil {
			t.Fatal(err)
		}
		written = changes() - before
		if err := c.Close(); err != nil {
			t.Fatal(err)
		}
		db, err := connect(filepath.Join(dir, dbFile), durable, 1)
		if err != nil {
			t.Fatal(err)
		}
		var lines []string
		for _, table := range []string{"transactions", "deliveries", "messages", "bodies", "counts"} {
			var found []map[string]any
			if err := db.Raw("SELECT * FROM " + table).Scan(&found).Error; err != nil {
				t.Fatal(err)
			}
			for _, row := range found {
				lines = append(lines, fmt.Sprint(table, row))
			}
		}
		pool, err := db.DB()
		if err == nil {
			err = pool.Close()
		}
		if err != nil {
			t.Fatal(err)
		}
		return strings.Join(lines, "\n"), written
	}
	apart, each := rows(1)
	together, once := rows(1000)
	if apart != together {
		t.Errorf("applied together they are\n%s\nand one by one\n%s", together, apart)
	}
	if n := strings.Count(apart, "transactions"); n != messages {
		t.Errorf("%d transactions", n)
	}
	// Three of four transactions and their deliveries are written once less; for the fourth, whose change cannot be part of
	// its insert, all that is held is executed first. Where each record is committed by itself, the copy notes after each
	// how far it is.
	notes := len(log.records) - opened - 1
	if saved := each - once - notes; saved != 2*messages*3/4 {
		t.Errorf("%d rows were written in place of %d: %d less", once, each-notes, saved)
	}
}

func TestWhatIsHeld(t *testing.T) {
	for query, held := range map[string]bool{
		plainTransaction.insertOf(4): true, deliveryRow.insertOf(16): true, messageRow.insertOf(1): true, moveTransaction: true,
		reviseTransaction: true, moveDelivery: true, addCount: true, bodyRow.insertOf(1): true, addRefs: true, indexed: true,
		saveDelivery:  false, // what it refers to may change, which is counted
		answerMessage: false, // it reads which message that is
		"UPDATE transactions SET lent=? WHERE of_letter=?":                       false,
		"UPDATE transactions SET tries=tries+1 WHERE id=?":                       false,
		"INSERT OR IGNORE INTO transactions (`id`) VALUES (?)":                   false,
		"INSERT INTO transactions (`id`) VALUES (?) ON CONFLICT (id) DO NOTHING": false,
		"INSERT INTO transactions (`id`) SELECT ?":                               false,
		"INSERT INTO flows (`name`) VALUES (?)":                                  false,
		"DELETE FROM transactions WHERE id=?":                                    false,
		"INSERT INTO counts (`n`) SELECT count(*) FROM transactions":             false,
		"INSERT INTO messages (`seq`) VALUES (?) RETURNING seq":                  false,
		"SAVEPOINT job": false, "ROLLBACK TO job": false,
	} {
		if (shapeOf(query) != nil) != held {
			t.Errorf("%q is held: %v", query, !held)
		}
	}
}
