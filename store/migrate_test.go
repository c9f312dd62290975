package store

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"readyferry/store/body"
)

// A file of an earlier release gets the columns and tables that it lacks, and
// keeps what is in it. What later migrations add is taken away from a new file
// to make an earlier one.
func TestAFileOfAnEarlierReleaseIsBroughtForward(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	id := NewID()
	kept := &Transaction{ID: id, Flow: "f", Reference: "R-1", ReceivedAt: time.Now()}
	if err := s.Write(t.Context(), func(tx *Tx) error {
		if err := tx.AddTransaction(kept, &Message{Tx: id, Body: body.Of([]byte("{}"))}); err != nil {
			return err
		}
		for _, sql := range []string{
			"DROP INDEX transactions_of_letter", "DROP INDEX transactions_caller", "DROP INDEX transactions_duplicates", "DROP INDEX time_limits_watched",
			"DROP TABLE tables", "DROP TABLE table_rows", "DROP TABLE table_keys", "DROP TABLE table_changes",
			"DROP TABLE paces", "DROP TABLE asks", "DROP TABLE clocks", "DROP TABLE polled_rows", "DROP TABLE loads",
			"DELETE FROM migrations WHERE id >= '0007'",
		} {
			if err := tx.sql().Exec(sql).Error; err != nil {
				return err
			}
		}
		for column, of := range map[string]string{
			"of_letter": "transactions", "caller": "transactions", "caller_path": "transactions",
			"caller_waits": "transactions", "depth": "transactions",
			"own_waits": "transactions", "idle": "transactions", "watched": "time_limits", "waits": "time_limits",
		} {
			if err := tx.sql().Exec("ALTER TABLE " + of + " DROP COLUMN " + column).Error; err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir)
	got, err := s.Transaction(id)
	if err != nil || got.Reference != "R-1" || got.Caller != nil || got.OfLetter != nil || got.Depth != 0 {
		t.Errorf("%+v, %v", got, err)
	}
	if err := s.Write(t.Context(), func(tx *Tx) error {
		got.Caller, got.OfLetter, got.OwnWaits, got.Idle = &id, &id, 1, true
		for _, err := range []error{
			tx.SaveTransaction(&got, got.State), tx.Limit(&TimeLimit{Tx: id, Path: "h", At: time.Now(), Watched: "t",
				Waits: true}),
			tx.SaveTable(&Table{Name: "t"}), tx.SavePace(&Pace{Flow: "f"}), tx.Ask(&Ask{Correlation: "c"}),
			tx.SaveClock(&Clock{Flow: "f"}),
			tx.SavePolled([]PolledRow{{Flow: "f", Key: "1"}}), tx.SaveLoad(&Load{ID: id}),
			tx.AddChange(&TableChange{Table: "t", Version: 1}),
		} {
			if err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	var names []string
	if err := s.db.Raw("SELECT name FROM sqlite_master WHERE type = 'index'").Scan(&names).Error; err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"time_limits_watched", "transactions_caller", "table_keys_find", "loads_flow"} {
		if !strings.Contains(strings.Join(names, " "), want) {
			t.Errorf("there is no index %s", want)
		}
	}
}

// A file in which messages and deliveries had indexes of their own is brought forward with all
// that it holds, and found as before.
func TestMessagesAndDeliveriesOfAnEarlierReleaseAreFound(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	var ids, deliveries []ID
	for i := range 5 {
		id := NewID()
		ids, deliveries = append(ids, id), append(deliveries, deliveryOf(id))
		write(t, s, func(tx *Tx) error {
			return errors.Join(
				tx.AddTransaction(
					&Transaction{ID: id, Flow: "f", ReceivedAt: epoch},
					&Message{Tx: id, Body: body.Of([]byte{'0' + byte(i)})},
				),
				tx.AddDelivery(
					&Delivery{
						ID:      deliveries[i],
						Tx:      id,
						Target:  "t",
						NextAt:  &epoch,
						Plan:    []byte("{}"),
						Request: []byte("{}"),
					},
				),
			)
		})
	}
	repaired := body.Of([]byte("repaired"))
	write(t, s, func(tx *Tx) error { return tx.AddMessage(&Message{Tx: ids[2], N: 1, Body: repaired}) })
	const columns = "tx, n, headers, params, query, body, source, warnings, answer"
	write(t, s, func(tx *Tx) error {
		return execAll(
			tx.sql(),
			"CREATE TABLE older (tx blob, n integer, headers blob, params blob, query blob, body blob, source text, warnings blob, "+
				"answer blob, PRIMARY KEY (tx, n))",
			"INSERT INTO older SELECT "+columns+" FROM messages ORDER BY tx DESC",
			"DROP TABLE messages",
			"ALTER TABLE older RENAME TO messages",
			"ALTER TABLE transactions DROP COLUMN message",
			"CREATE UNIQUE INDEX deliveries_id ON deliveries (id)",
			"CREATE INDEX transactions_whole ON transactions (id) WHERE parent IS NULL",
			"DELETE FROM migrations WHERE id >= '0021'",
		)
	})
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir)
	for i, id := range ids {
		first, err := s.FirstMessage(id)
		if err != nil || string(first.Body.Bytes()) != fmt.Sprint(i) {
			t.Errorf("%d was received as %q, %v", i, first.Body.Bytes(), err)
		}
		if d, err := s.Delivery(deliveries[i]); err != nil || d.Tx != id {
			t.Errorf("the delivery of %d is %+v, %v", i, d, err)
		}
	}
	if m, err := s.Message(ids[2]); err != nil || string(m.Body.Bytes()) != "repaired" {
		t.Errorf("the repaired one is %q, %v", m.Body.Bytes(), err)
	}
	if all, err := s.Messages(ids[2]); err != nil || len(all) != 2 {
		t.Errorf("%d messages, %v", len(all), err)
	}
	for _, c := range Checks() {
		if broken, err := s.Holds(t.Context(), c, 9); err != nil || len(broken) > 0 {
			t.Errorf("%s: %v, %v", c.Name, broken, err)
		}
	}
}
