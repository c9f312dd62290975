// Package mirror is for tests: it opens a journal whose commits go into a log, and looks whether a
// file that follows that log holds the same, row by row.
package mirror

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"readyferry/store"
)

// Log keeps records in memory.
type Log struct {
	mu      sync.Mutex
	records [][]byte
	// Fails, where it is not nil, is asked before a record is kept.
	Fails func() error
}

// Append implements store.Log.
func (l *Log) Append(behind int64, record []byte) (int64, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.Fails != nil {
		if err := l.Fails(); err != nil {
			return 0, err
		}
	}
	if behind != int64(len(l.records)) {
		return 0, fmt.Errorf("a record behind %d, and there are %d", behind, len(l.records))
	}
	l.records = append(l.records, bytes.Clone(record))
	return int64(len(l.records)), nil
}

// From gives the records behind a position.
func (l *Log) From(at int64) [][]byte {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.records[at:])
}

// Size gives how many records there are, and their bytes.
func (l *Log) Size() (records int, size int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, r := range l.records {
		size += int64(len(r))
	}
	return len(l.records), size
}

// Open opens the journal of a folder, which it makes one of a log where it is of none.
func Open(dir string, l *Log) (*store.Store, error) {
	ctx := context.Background()
	if err := store.GiveKey(dir, make([]byte, 32)); err != nil {
		return nil, err
	}
	c, err := store.OpenCopy(ctx, dir)
	if err != nil {
		return nil, err
	}
	if c.Log == "" {
		err = c.Of(ctx, "mirror")
	}
	if err == nil {
		err = follow(ctx, c, l)
	}
	if err = errors.Join(err, c.Close()); err != nil {
		return nil, err
	}
	return store.OpenLogged(dir, l, 0)
}

func follow(ctx context.Context, c *store.Copy, l *Log) error {
	for _, record := range l.From(c.At) {
		if err := c.Apply(ctx, c.At+1, record); err != nil {
			return err
		}
	}
	return c.Commit(ctx)
}

// Same replays the log into a folder of its own, and says what differs from the closed journal in dir.
func Same(dir string, l *Log) error {
	other, err := os.MkdirTemp("", "mirror-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(other)
	ctx := context.Background()
	c, err := store.OpenCopy(ctx, other)
	if err != nil {
		return err
	}
	if err := c.Of(ctx, "mirror"); err != nil {
		return errors.Join(err, c.Close())
	}
	if err := errors.Join(follow(ctx, c, l), c.Close()); err != nil {
		return err
	}
	return Differ(dir, other)
}

// Differ says what two folders' journals do not have alike; nil: nothing.
func Differ(a, b string) error {
	one, err := read(a)
	if err != nil {
		return err
	}
	two, err := read(b)
	if err != nil {
		return err
	}
	for name, rows := range one {
		other, has := two[name]
		switch {
		case !has:
			return fmt.Errorf("only one has %s", name)
		case !slices.Equal(rows, other):
			for i := range max(len(rows), len(other)) {
				if i >= len(rows) || i >= len(other) || rows[i] != other[i] {
					return fmt.Errorf("%s has %d rows and %d; row %d is\n%s\nand\n%s", name, len(rows), len(other), i, at(rows, i),
						at(other, i))
				}
			}
		}
	}
	if len(one) != len(two) {
		return fmt.Errorf("%d tables and %d", len(one), len(two))
	}
	return nil
}

func at(rows []string, i int) string {
	if i < len(rows) {
		return rows[i]
	}
	return "none"
}

// read gives all that a file holds: its schema and each table's rows in their order, with their numbers.
func read(dir string) (map[string][]string, error) {
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, store.File)+"?_query_only=true")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	out := map[string][]string{}
	rows, err := db.Query("SELECT type, name, tbl_name, sql FROM sqlite_master ORDER BY name")
	if err != nil {
		return nil, err
	}
	if out["the schema"], err = lines(rows); err != nil {
		return nil, err
	}
	var tables []string
	names, err := db.Query("SELECT name FROM sqlite_master WHERE type = 'table' AND sql NOT LIKE 'CREATE VIRTUAL%' ORDER BY name")
	if err != nil {
		return nil, err
	}
	defer names.Close()
	for names.Next() {
		var name string
		if err := names.Scan(&name); err != nil {
			return nil, err
		}
		tables = append(tables, name)
	}
	for _, name := range tables {
		rows, err := db.Query(`SELECT rowid, * FROM "` + name + `" ORDER BY rowid`)
		if err != nil { // it is one without numbers
			if rows, err = db.Query(`SELECT * FROM "` + name + `"`); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
		}
		if out[name], err = lines(rows); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	return out, names.Err()
}

func lines(rows *sql.Rows) (out []string, err error) {
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	values, into := make([]any, len(columns)), make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		var line strings.Builder
		for i, v := range values {
			fmt.Fprintf(&line, "%s=%q ", columns[i], fmt.Sprint(v))
		}
		out = append(out, line.String())
	}
	return out, rows.Err()
}
