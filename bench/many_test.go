package bench

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	_ "github.com/mattn/go-sqlite3" // the driver "sqlite3", to fill tables without the application

	"readyferry/store"
)

// holding opens a folder that holds so many transactions, of which one in a hundred is
// delivered under one of fifty references, as many dead letters of ten causes, and as
// many open groups.
func holding(b *testing.B, n int) *store.Store {
	b.Helper()
	dir := b.TempDir()
	s, err := store.Open(dir)
	if err != nil {
		b.Fatal(err)
	}
	if err := s.Close(); err != nil {
		b.Fatal(err)
	}
	db, err := sql.Open("sqlite3", filepath.Join(dir, "readyferry.db"))
	if err != nil {
		b.Fatal(err)
	}
	for _, fill := range []string{
		`INSERT INTO transactions (id, flow, version, state, reason, reference, received_at, revision)
			SELECT randomblob(16), 'f', 1, CASE WHEN n % 100 = 0 THEN 2 ELSE 4 END, '', 'R-' || (n % 50), n, 1 FROM numbers`,
		`INSERT INTO letters (id, tx, flow, version, step, cause, cause_text, state, at)
			SELECT randomblob(16), randomblob(16), 'f', 1, 's', 'cause ' || (n % 10), 'why', 0, n FROM numbers`,
		`INSERT INTO groups (id, flow, path, scope, key, version, state, members, bytes, opened_at, last_at)
			SELECT randomblob(16), 'f', 'g', '', n, 1, 0, 1, 10, n, n FROM numbers`,
		`INSERT INTO time_limits (tx, path, at, watched, waits)
			SELECT randomblob(16), 'h', 4000000000000000 + n, '', 1 FROM numbers`,
		`INSERT INTO deliveries (seq, id, tx, flow, path, step, target, order_value, state, next_at, created_at)
			SELECT n, randomblob(16), randomblob(16), 'f', 'd', 'd', 't', '', 0, 4000000000000000 + n, n FROM numbers`,
	} {
		if _, err := db.Exec(`WITH RECURSIVE numbers(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM numbers WHERE n < ?) `+fill,
			n); err != nil {
			b.Fatal(err)
		}
	}
	if err := db.Close(); err != nil {
		b.Fatal(err)
	}
	if s, err = store.Open(dir); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = s.Close() })
	return s
}

// What is looked up often over half a million of something, beside the same over five
// thousand.
func BenchmarkManyOfSomething(b *testing.B) {
	few, many := holding(b, 5_000), holding(b, 500_000)
	delivered := store.Delivered
	must := func(err error) {
		if err != nil {
			b.Fatal(err)
		}
	}
	opened := 0
	for _, c := range []struct {
		name string
		do   func(s *store.Store)
	}{
		{"transactions-of-a-reference-and-state", func(s *store.Store) {
			_, err := s.Transactions(store.Filter{Reference: "R-0", State: &delivered, Limit: 100})
			must(err)
		}},
		{"open-letters-counted", func(s *store.Store) {
			_, err := s.CountOpenLetters()
			must(err)
		}},
		{"open-letters-of-a-cause", func(s *store.Store) {
			_, err := s.OpenLetters("cause 3", "", nil, 100)
			must(err)
		}},
		{"causes", func(s *store.Store) {
			_, err := s.Causes(500)
			must(err)
		}},
		{"what-is-due-by-time", func(s *store.Store) {
			now := time.Now()
			_, err := s.DueLimits(now, 100)
			must(err)
			_, err = s.NextGather()
			must(err)
			_, err = s.Due("t", "f", now, 100)
			must(err)
			_, err = s.After("t", "f", now)
			must(err)
		}},
		{"a-new-group", func(s *store.Store) {
			must(s.Write(context.Background(), func(tx *store.Tx) error {
				if _, err := tx.CountOpenGroups("f", "g", 1_000_000); err != nil {
					return err
				}
				opened++
				return tx.SaveGroup(&store.Group{ID: store.NewID(), Flow: "f", Path: "g", Key: fmt.Sprint("new ", opened)})
			}))
		}},
	} {
		b.Run(c.name, func(b *testing.B) {
			c.do(few)
			c.do(many)
			ratio(b, func() { c.do(many) }, func() { c.do(few) })
		})
	}
}
