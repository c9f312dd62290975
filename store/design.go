package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// What people design stands in the first partition of a fleet's journal. The others take it over, into
// their own files and by their own logs, so that each has what its messages need: a member that
// takes a partition over finds there every version that messages in it are under.

// designed is a table that is taken over.
type designed struct {
	name    string
	keys    int      // how many of its columns, the first, tell rows apart
	columns []string // those that are taken over
	empty   []string // those that are 0 there, or the empty text
	only    string   // a condition, of the program's own
}

// designTables are in the order in which they are taken over: what is referred to is there before.
var designTables = []designed{
	{
		"versions",
		2,
		[]string{"flow", "n", "document", "files", "rules", "published_at", "by", "note", "despite"},
		nil,
		"",
	},
	{
		"connections",
		1,
		[]string{"name", "kind", "document", "sealed", "named", "revision", "updated_at", "by"},
		nil,
		"",
	},
	{"calendars", 1, []string{"name", "title", "zone", "except", "text", "revision"}, nil, ""},
	{"keys", 1, []string{"name", "note", "hash", "rights", "per_second", "bytes", "until", "created_at"}, nil, ""},
	{"holds", 1, []string{"target", "since", "by", "note"}, nil, ""},
	{"settings", 1, []string{"key", "value"}, nil, settingsTaken},
	{
		"tables",
		1,
		[]string{"name", "document", "version", "next", "dropped", "loading", "rows", "keeps_all", "updated_at"},
		nil,
		"",
	},
	{"flows", 1, []string{"name", "title", "live", "paused", "trial", "trial_of", "trial_at", "keeps_all"},
		[]string{"draft", "revision", "planned", "edits", "updated_at"}, ""},
}

// rowsOfTables are those of each table that people have made; they are compared where its row in tables is
// another one.
var rowsOfTables = []designed{
	{"table_rows", 1, []string{"n", "table", "pos", "body", "from", "to"}, nil, ""},
	{"table_keys", 2, []string{"row", "k", "table", "key", "lo", "from", "to"}, nil, ""},
	{
		"table_changes",
		2,
		[]string{"table", "version", "at", "what", "detail", "by", "tx", "added", "removed", "document"},
		nil,
		"",
	},
}

func quoted(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quoteName(n)
	}
	return strings.Join(out, ", ")
}

// read gives the rows of a table by what tells them apart. where narrows them further.
func (d *designed) read(ctx context.Context, db *sql.DB, where string, args ...any) (map[string][]any, error) {
	q := "SELECT " + quoted(d.columns) + " FROM " + d.name
	if d.only != "" {
		q += " WHERE " + d.only
	}
	if where != "" {
		q += " WHERE " + where
	}
	rows, err := db.QueryContext(ctx, q, args...)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", d.name, err)
	}
	defer func() { _ = rows.Close() }()
	out := map[string][]any{}
	for rows.Next() {
		row, into := make([]any, len(d.columns)), make([]any, len(d.columns))
		for i := range row {
			into[i] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		out[asKey(row[:d.keys])] = row
	}
	return out, rows.Err()
}

func asKey(values []any) string {
	var b strings.Builder
	for _, v := range values {
		if raw, is := v.([]byte); is {
			v = string(raw)
		}
		fmt.Fprintf(&b, "%T %v\x00", v, v)
	}
	return b.String()
}

// statement is something to be executed.
type statement struct {
	sql  string
	args []any
}

// differences gives what makes the rows that are there those that are to be.
func (d *designed) differences(there, wanted map[string][]any) (out []statement) {
	put := "INSERT INTO " + d.name + " (" + quoted(append(slices.Clone(d.columns), d.empty...)) + ") VALUES (?" +
		strings.Repeat(", ?", len(d.columns)-1) + nothing(d.empty) + ") ON CONFLICT (" + quoted(d.columns[:d.keys]) +
		") DO UPDATE SET "
	for i, c := range d.columns[d.keys:] {
		put += strings.Repeat(", ", min(i, 1)) + quoteName(c) + " = excluded." + quoteName(c)
	}
	drop := "DELETE FROM " + d.name + " WHERE " + strings.Join(
		strings.Split(quoted(d.columns[:d.keys]), ", "),
		" = ? AND ",
	) + " = ?"
	for _, key := range sortedKeys(wanted) {
		if have, is := there[key]; !is || asKey(have) != asKey(wanted[key]) {
			out = append(out, statement{put, wanted[key]})
		}
	}
	for _, key := range sortedKeys(there) {
		if _, is := wanted[key]; !is {
			out = append(out, statement{drop, there[key][:d.keys]})
		}
	}
	return out
}

// nothing gives the values of columns that are empty.
func nothing(columns []string) (out string) {
	for _, c := range columns {
		out += ", " + map[bool]string{true: "''", false: "0"}[c == "draft"]
	}
	return out
}

func sortedKeys(m map[string][]any) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// Design reads what people have designed out of the journal in another folder, as that stands. It keeps that open
// between two looks, since reading how a journal is made takes longer than to see that nothing is new. One goroutine
// uses it.
type Design struct {
	dir     string
	seen    string // what the last look has seen
	from    *sql.DB
	file    os.FileInfo // that is open
	version int64       // of the file at the last look, as its connection counts
}

// NewDesign gives the design in a folder. It is to be closed.
func NewDesign(dir string) *Design { return &Design{dir: dir} }

// Close ends the reading.
func (d *Design) Close() (err error) {
	if d.from != nil {
		err = d.from.Close()
	}
	d.from, d.file, d.version = nil, nil, 0
	return err
}

// open opens the journal, where it is not open, or where another file stands in its place now; there is none while
// a copy is taken there.
func (d *Design) open() (is bool, err error) {
	file := filepath.Join(d.dir, dbFile)
	now, err := os.Stat(file)
	if err != nil {
		return false, d.Close()
	}
	if d.from != nil && os.SameFile(now, d.file) {
		return true, nil
	}
	if err := d.Close(); err != nil {
		return false, err
	}
	d.from, err = sql.Open("sqlite3", "file:"+escaped(file)+"?mode=ro&_busy_timeout=10000&_query_only=true")
	if err != nil {
		return false, err
	}
	d.from.SetMaxOpenConns(1)
	d.file = now
	return true, nil
}

// settingsTaken are the settings that count in every partition.
const settingsTaken = "(key IN ('outbound', '" + roomSetting + "') OR key >= '" + homeSetting + "' AND key < '" + homesEnd + "')"

// designMark selects what is another text whenever something is designed anew.
const designMark = `SELECT group_concat(line, char(10)) FROM (
	SELECT 'f' || quote(name) || quote(title) || live || quote(paused) || quote(trial) || quote(trial_of) || quote(trial_at) AS line FROM flows
	UNION ALL SELECT 'v' || flow || ' ' || COUNT(*) || ' ' || MAX(n) || ' ' || MAX(published_at) FROM versions GROUP BY flow
	UNION ALL SELECT 'c' || name || ' ' || revision || ' ' || updated_at || ' ' || length(document) || quote(sealed) FROM connections
	UNION ALL SELECT 'k' || name || quote(hash) || quote(rights) || quote(until) || quote(per_second) || quote(bytes) FROM keys
	UNION ALL SELECT 'h' || target || quote(since) || quote(by) || quote(note) FROM holds
	UNION ALL SELECT 'd' || name || revision FROM calendars
	UNION ALL SELECT 's' || key || ' ' || value FROM settings WHERE ` + settingsTaken + `
	UNION ALL SELECT 't' || name || ' ' || version || ' ' || next || ' ' || dropped || ' ' || loading || ' ' || rows FROM tables
	ORDER BY 1)`

// TakeDesign takes over what is designed anew, and tells whether something was. While a folder has no journal
// yet there is nothing.
func (s *Store) TakeDesign(ctx context.Context, d *Design) (changed bool, err error) {
	if is, err := d.open(); !is || err != nil {
		return false, err
	}
	var version int64
	if err := d.from.QueryRowContext(ctx, "PRAGMA data_version").Scan(&version); err != nil || version == d.version {
		return false, errors.Join(err, d.closedOn(err))
	}
	changed, err = s.takeDesign(ctx, d)
	if err == nil {
		d.version = version // what was changed since then is seen by the next look
	}
	return changed, errors.Join(err, d.closedOn(err))
}

// closedOn has the journal opened anew where it could not be read.
func (d *Design) closedOn(err error) error {
	if err == nil {
		return nil
	}
	return d.Close()
}

func (s *Store) takeDesign(ctx context.Context, d *Design) (changed bool, err error) {
	from := d.from
	var is int
	if err := from.QueryRowContext(ctx, "SELECT COUNT(*) FROM sqlite_schema WHERE name = 'flows'").Scan(&is); err != nil ||
		is == 0 {
		return false, err
	}
	if _, err := from.ExecContext(ctx, "BEGIN"); err != nil { // all of it as it is at one moment
		return false, err
	}
	defer func() {
		_, bad := from.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		err = errors.Join(err, bad)
	}()
	var mark sql.NullString
	if err := from.QueryRowContext(ctx, designMark).Scan(&mark); err != nil || mark.String == d.seen {
		return false, err
	}
	own, err := s.db.DB()
	if err != nil {
		return false, err
	}
	list, err := designDifferences(ctx, own, from)
	if err != nil {
		return false, err
	}
	if err := s.execute(ctx, list); err != nil {
		return false, err
	}
	d.seen = mark.String
	return len(list) > 0, nil
}

// designDifferences lists what makes the own design the other one.
func designDifferences(ctx context.Context, own, from *sql.DB) (out []statement, err error) {
	for i := range designTables {
		d := &designTables[i]
		there, err := d.read(ctx, own, "")
		if err != nil {
			return nil, err
		}
		wanted, err := d.read(ctx, from, "")
		if err != nil {
			return nil, err
		}
		list := d.differences(there, wanted)
		if d.name == "tables" { // its rows before it
			if out, err = rowDifferences(ctx, out, own, from, list); err != nil {
				return nil, err
			}
		}
		out = append(out, list...)
	}
	return out, nil
}

// rowDifferences adds those of the rows of the tables that are others.
func rowDifferences(ctx context.Context, out []statement, own, from *sql.DB, tables []statement) ([]statement, error) {
	for _, t := range tables {
		for i := range rowsOfTables {
			d := &rowsOfTables[i]
			there, err := d.read(ctx, own, `"table" = ?`, t.args[0])
			if err != nil {
				return nil, err
			}
			wanted, err := d.read(ctx, from, `"table" = ?`, t.args[0])
			if err != nil {
				return nil, err
			}
			out = append(out, d.differences(there, wanted)...)
		}
	}
	return out, nil
}

// executedAtOnce is how many statements one commit has.
const executedAtOnce = 1000

func (s *Store) execute(ctx context.Context, list []statement) error {
	for some := range slices.Chunk(list, executedAtOnce) {
		err := s.Write(ctx, func(tx *Tx) error {
			for _, one := range some {
				if err := tx.sql().Exec(one.sql, one.args...).Error; err != nil {
					return fmt.Errorf("taking over what was designed: %w", err)
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
