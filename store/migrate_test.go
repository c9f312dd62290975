package store

import (
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
