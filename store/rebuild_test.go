package store

import (
	"bytes"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"readyferry/store/release1"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// unpack lays out a folder as the first release left it when it was killed.
func unpack(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	if err := release1.Unpack(dir); err != nil {
		t.Fatal(err)
	}
	return dir
}

// contents is what a file holds, for comparing.
func contents(t *testing.T, dir string) string {
	t.Helper()
	s, err := Open(dir)
	if err != nil {
		t.Error(err)
		return ""
	}
	defer s.Close()
	var b strings.Builder
	rows, err := s.Transactions(Filter{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rows {
		m, err := s.Messages(r.ID)
		if err != nil {
			t.Fatal(err)
		}
		b.WriteString(
			r.Flow + " " + r.State.String() + " " + r.ReceivedAt.Format(
				"2006-01-02T15:04:05.000000Z07:00",
			) + " " + string(
				m[0].Body.Bytes(),
			) + "\n",
		)
		effects, err := s.Effects(r.ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range effects {
			b.WriteString("  effect " + e.Path + " " + string(e.Result) + " " + string(e.Body.Bytes()) + "\n")
		}
		deliveries, err := s.Deliveries(r.ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range deliveries {
			if err := s.Fill(&d.Body); err != nil {
				t.Fatal(err)
			}
			next := "-"
			if d.NextAt != nil {
				next = d.NextAt.Format("15:04:05.000")
			}
			b.WriteString(
				"  delivery " + d.Path + " " + d.State.String() + " " + next + " " + string(
					d.Request,
				) + " " + string(
					d.Body.Bytes(),
				) + "\n",
			)
		}
	}
	return b.String()
}

// Cut off at any statement, as when the machine loses its power there, the file
// of the release before opens again with all that it held.
func TestAMigrationThatIsCutOffLosesNothing(t *testing.T) {
	want := contents(t, unpack(t))
	if n := strings.Count(want, "\n"); n < 40 || !strings.Contains(want, strings.Repeat("y", 3000)) {
		t.Fatalf("the folder holds less than it should:\n%s", want)
	}
	dir := unpack(t)
	db, err := gorm.Open(
		sqlite.Open("file:"+filepath.Join(dir, dbFile)+"?_journal_mode=WAL&_synchronous=FULL&_txlock=immediate"),
		&gorm.Config{Logger: logger.Discard, SkipDefaultTransaction: true},
	)
	if err != nil {
		t.Fatal(err)
	}
	pool, err := db.DB()
	if err != nil {
		t.Fatal(err)
	}
	pool.SetMaxOpenConns(1)
	if err := db.Exec("PRAGMA wal_checkpoint(TRUNCATE)").Error; err != nil { // so that copies are small
		t.Fatal(err)
	}
	before, err := os.ReadFile(filepath.Join(dir, dbFile))
	if err != nil {
		t.Fatal(err)
	}
	var cuts []string
	cut := func(*gorm.DB) { cuts = append(cuts, copyOf(t, dir)) }
	for _, one := range []interface {
		Register(string, func(*gorm.DB)) error
	}{db.Callback().Raw().After("gorm:raw"), db.Callback().Create().After("gorm:create"),
		db.Callback().Update().After("gorm:update"), db.Callback().Delete().After("gorm:delete")} {
		if err := one.Register("cut", cut); err != nil {
			t.Fatal(err)
		}
	}
	if err := migrate(db); err != nil {
		t.Fatal(err)
	}
	if err := pool.Close(); err != nil {
		t.Fatal(err)
	}
	if len(cuts) < 150 {
		t.Errorf("it was cut at %d statements only", len(cuts))
	}
	// Where the file is to the byte as it was, it opens as the first one did; that
	// is shown once more with some of them.
	for i, c := range cuts {
		if whole := i%40 == 0 || i == len(cuts)-1; whole && contents(t, c) != want {
			t.Fatalf("cut off behind statement %d it does not hold what it held", i)
		} else if !whole && !bytes.Equal(recovered(t, c), before) {
			t.Fatalf("cut off behind statement %d the file is not as it was", i)
		}
	}
	if got := contents(t, dir); got != want {
		t.Errorf("not cut off it holds\n%s\nwant\n%s", got, want)
	}
}

// recovered gives the file of a folder as SQLite recovers it.
func recovered(t *testing.T, dir string) []byte {
	t.Helper()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, dbFile)+"?_journal_mode=WAL")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(filepath.Join(dir, dbFile))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// copyOf copies a folder as it is on the disk now.
func copyOf(t *testing.T, dir string) string {
	t.Helper()
	to := t.TempDir()
	for _, name := range []string{dbFile, dbFile + "-wal", keyFile} {
		b, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(to, name), b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return to
}

// No column of the file holds a time as a text.
func TestTimesAreNumbers(t *testing.T) {
	for _, dir := range []string{unpack(t), t.TempDir()} {
		s, err := Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		var columns []struct{ Tbl, Name, Type string }
		if err := s.db.Raw("SELECT m.name AS tbl, c.name, c.type FROM sqlite_master m, pragma_table_info(m.name) c " +
			"WHERE m.type = 'table'").Scan(&columns).Error; err != nil {
			t.Fatal(err)
		}
		for _, c := range columns {
			if strings.Contains(strings.ToLower(c.Type), "date") || strings.Contains(strings.ToLower(c.Type), "time") {
				t.Errorf("%s.%s is of type %s", c.Tbl, c.Name, c.Type)
			}
			isTime := strings.HasSuffix(c.Name, "_at") || c.Name == "at" && c.Tbl != "helds" // there it is a path
			if isTime || c.Name == "until" || c.Name == "since" {
				var texts int
				if err := s.db.Raw("SELECT COUNT(*) FROM `" + c.Tbl + "` WHERE typeof(`" + c.Name +
					"`) = 'text'").Scan(&texts).Error; err != nil {
					t.Fatal(err)
				}
				if texts > 0 {
					t.Errorf("%d texts in %s.%s", texts, c.Tbl, c.Name)
				}
			}
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
