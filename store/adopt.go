package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// Adopt makes the journal of a folder the beginning of a log: what stands in it is what the log begins
// with. Release makes it one of its own again.
func Adopt(ctx context.Context, dir, log string) error {
	return relog(ctx, dir, func(conn *sql.Conn, p Position) error {
		if p.Log != "" {
			return fmt.Errorf("the journal in %s is of a fleet already", dir)
		}
		if _, err := conn.ExecContext(ctx, positionTable); err != nil {
			return err
		}
		return nameLog(ctx, conn, Position{Log: log})
	})
}

// Release makes the journal of a folder one of its own: the log that it is of goes on without it. What other
// partitions have comes into it, and their folders go.
func Release(ctx context.Context, dir string, others ...string) error {
	return relog(ctx, dir, func(conn *sql.Conn, p Position) error {
		if p.Log == "" {
			return fmt.Errorf("the journal in %s is of no fleet", dir)
		}
		for _, other := range others {
			if err := merge(ctx, conn, other); err != nil {
				return err
			}
			// What has come is not brought twice where this is done again.
			if err := os.RemoveAll(other); err != nil {
				return err
			}
		}
		_, err := conn.ExecContext(ctx, "DELETE FROM settings WHERE substr(key, 1, ?) = ?", len(merged), merged)
		if err == nil {
			_, err = conn.ExecContext(ctx, "DROP TABLE log_position")
		}
		return err
	})
}

func relog(ctx context.Context, dir string, do func(conn *sql.Conn, p Position) error) error {
	if _, err := os.Stat(filepath.Join(dir, dbFile)); err != nil {
		return fmt.Errorf("there is no journal in %s: %w", dir, err)
	}
	held, err := lock(dir)
	if err != nil {
		return err
	}
	defer held.Close()
	db, err := sql.Open("sqlite3", "file:"+escaped(filepath.Join(dir, dbFile))+"?"+durable)
	if err != nil {
		return err
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return errors.Join(err, db.Close())
	}
	p, err := positionOf(ctx, conn)
	if errors.Is(err, ErrOfNoFleet) {
		err = nil
	}
	if err == nil {
		err = do(conn, p)
	}
	return errors.Join(err, conn.Close(), db.Close())
}
