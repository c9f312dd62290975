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

// What the partitions of a fleet's journal have comes together in one file when that is to be one instance's
// again. Rows come under their ids; those that have numbers get the next ones of the file, in the same
// order.

// movedBy are the columns that have a number behind which a partition's begin, by table.
var movedBy = map[string]string{"messages": "seq", "deliveries": "seq", "transactions": "message"}

// merge brings what another partition has into the file of the connection; a second time it does nothing.
func merge(ctx context.Context, conn *sql.Conn, dir string) (err error) {
	if _, err := os.Stat(filepath.Join(dir, dbFile)); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if _, err := conn.ExecContext(ctx, "ATTACH DATABASE ? AS part1", "file:"+escaped(filepath.Join(dir, dbFile))); err != nil {
		return fmt.Errorf("%s: %w", dir, err)
	}
	defer func() {
		_, bad := conn.ExecContext(ctx, "DETACH DATABASE part1")
		err = errors.Join(err, bad)
	}()
	has, err := sameForm(ctx, conn, dir)
	if err != nil || !has {
		return err
	}
	var log string
	var done int
	if err := errors.Join(conn.QueryRowContext(ctx, "SELECT log FROM part1.log_position").Scan(&log),
		conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM settings WHERE key = ?", merged+log).Scan(&done)); err != nil || done > 0 {
		return err
	}
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	for _, q := range []string{bodiesTogether[0], bodiesTogether[1]} {
		if _, err := tx.ExecContext(ctx, q); err != nil {
			return errors.Join(fmt.Errorf("bodies of %s: %w", dir, err), tx.Rollback())
		}
	}
	for _, table := range []string{"messages", "transactions", "effects", "deliveries", "tries", "letters", "letter_events", "time_limits",
		"splits", "once_keys", "counts", "tallies", "groups", "members", "helds", "sequences", "paces",
		"clocks", "polled_rows", "staged_items"} {
		if err := mergeTable(ctx, tx, table); err != nil {
			return errors.Join(fmt.Errorf("%s of %s: %w", table, dir, err), tx.Rollback())
		}
	}
	// All flows are at home in the one file then.
	_, bad := tx.ExecContext(ctx, "DELETE FROM settings WHERE key >= ? AND key < ?", homeSetting, homesEnd)
	if _, err := tx.ExecContext(ctx, "INSERT INTO settings (key, value) VALUES (?, '')", merged+log); err != nil || bad != nil {
		return errors.Join(err, bad, tx.Rollback())
	}
	return tx.Commit()
}

// merged begins the keys of settings that tell of logs whose partitions are in the file, until all are.
const merged = "merged "

// bodiesTogether brings contents: the pieces of those that are not there yet, then all of them, whose rows that refer to
// them come together.
var bodiesTogether = [2]string{
	`INSERT OR IGNORE INTO main.body_pieces (key, i, data) SELECT p.key, p.i, p.data FROM part1.body_pieces p WHERE p.key IN
		(SELECT coalesce(b.stands, b.key) FROM part1.bodies b WHERE b.pieces > 0 AND b.key NOT IN (SELECT key FROM main.bodies))
		ORDER BY p.n`,
	`INSERT INTO main.bodies (key, size, codec, pieces, data, refs, stands)
		SELECT key, size, codec, pieces, data, refs, stands FROM part1.bodies WHERE true ORDER BY n
		ON CONFLICT (key) DO UPDATE SET refs = coalesce(refs, 0) + coalesce(excluded.refs, 0)`,
}

// mergeTable brings the rows of a table.
func mergeTable(ctx context.Context, tx *sql.Tx, table string) error {
	columns, err := columnsIn(ctx, tx, table)
	if err != nil {
		return err
	}
	into, order := columns, ""
	values := make([]string, len(columns))
	for i, c := range columns {
		if values[i] = quoteName(c); c == movedBy[table] {
			base, next := "messages", "seq"
			if table == "deliveries" {
				base = "deliveries"
			}
			values[i] = fmt.Sprintf(
				"coalesce(%s - (SELECT MIN(%s) FROM part1.%s) + 1 + ?, 0)",
				quoteName(c),
				next,
				base,
			)
			order = " ORDER BY " + quoteName(c)
		}
	}
	switch table {
	case "letter_events", "helds": // the file numbers them
		at := slices.Index(columns, "n")
		into, values = slices.Delete(slices.Clone(columns), at, at+1), slices.Delete(values, at, at+1)
		order = " ORDER BY n"
	case "tallies": // triggers count letters and groups
		order = " AND kind NOT IN ('letters', 'all letters', 'groups', 'all groups')"
	}
	q := "INSERT INTO main." + table + " (" + quoted(
		into,
	) + ") SELECT " + strings.Join(
		values,
		", ",
	) + " FROM part1." + table +
		" WHERE true" + order
	switch table {
	case "counts":
		q += " ON CONFLICT (minute, flow, state) DO UPDATE SET n = n + excluded.n"
	case "tallies":
		q += " ON CONFLICT (kind, key) DO UPDATE SET n = n + excluded.n"
	case "sequences":
		q += " ON CONFLICT DO UPDATE SET next = max(next, excluded.next)"
	case "once_keys", "paces", "clocks", "polled_rows", "staged_items":
		q += " ON CONFLICT DO NOTHING"
	}
	if movedBy[table] == "" {
		_, err = tx.ExecContext(ctx, q)
		return err
	}
	last, err := lastNumber(ctx, tx, table)
	if err == nil {
		_, err = tx.ExecContext(ctx, q, last)
	}
	return err
}

// lastNumber gives the number behind which rows of another partition come.
func lastNumber(ctx context.Context, tx *sql.Tx, table string) (last int64, err error) {
	q := "SELECT COALESCE(MAX(seq), 0) FROM main." + table
	if table == "transactions" { // their messages have come already
		q = "SELECT COALESCE(MAX(seq), 0) - (SELECT COALESCE(MAX(seq) - MIN(seq) + 1, 0) FROM part1.messages) FROM main.messages"
	}
	return last, tx.QueryRowContext(ctx, q).Scan(&last)
}

// sameForm tells whether another partition has anything, and gives an error where its file is of another form.
func sameForm(ctx context.Context, conn *sql.Conn, dir string) (has bool, err error) {
	var tables, own, other int
	err = conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM part1.sqlite_schema WHERE name = 'transactions'").
		Scan(&tables)
	if err != nil || tables == 0 {
		return false, err
	}
	err = errors.Join(conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM main.migrations").Scan(&own),
		conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM part1.migrations").Scan(&other))
	if err == nil && own != other {
		err = fmt.Errorf(
			"%s is of another release than the first partition: start all members of the fleet once under one release",
			dir,
		)
	}
	return true, err
}

func columnsIn(ctx context.Context, tx *sql.Tx, table string) (out []string, err error) {
	rows, err := tx.QueryContext(ctx, "SELECT name FROM pragma_table_info(?)", table)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	return out, rows.Err()
}
