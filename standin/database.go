package standin

import (
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"

	_ "github.com/mattn/go-sqlite3" // the driver "sqlite3"
)

// Database is a simulated database of an outside system: an SQLite file.
type Database struct{ path string }

// NewDatabase makes the file of a simulated database by a script, unless it is
// there already.
func NewDatabase(dir, name, script string) (*Database, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	d := &Database{filepath.Join(dir, name)}
	if _, err := os.Stat(d.path); err == nil {
		return d, nil
	}
	if err := d.Exec(script); err != nil {
		return nil, errors.Join(fmt.Errorf("making the stand-in %s: %w", name, err), os.Remove(d.path))
	}
	return d, nil
}

// Exec changes the database, as its owner would.
func (d *Database) Exec(statement string, args ...any) error {
	db, err := sql.Open("sqlite3", "file:"+(&url.URL{Path: d.path}).EscapedPath()+"?_busy_timeout=5000")
	if err != nil {
		return err
	}
	_, err = db.Exec(statement, args...)
	return errors.Join(err, db.Close())
}
