package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/mattn/go-sqlite3"
	"gorm.io/gorm"
)

// positionUpdate notes up to where a file has the log. It is in the same commit as what the log says,
// and no part of a record: each file says it of itself.
const positionUpdate = "UPDATE log_position SET at = ?"

// Position is which log a file is of, and up to where it has that.
type Position struct {
	Log string // its id; "": the file is of none
	At  int64
}

// copyPage is the size of a page of a file that begins as a copy, in bytes. No commit waits until such a file is on
// the disk, since the log is; so it matters little how much is written, and much how often: each page is two calls of
// the system, and a copy that writes a hundred messages at a time fills pages of this size. A file that was adopted
// has the pages that it was made with (pageSize).
const copyPage = 4096

// Copy is a file that follows a log that another machine writes. One goroutine uses it.
type Copy struct {
	Position
	dir    string
	held   *os.File
	pool   *sql.DB
	conn   *sql.Conn
	replay replaying
	begun  bool
	broken error
}

// OpenCopy opens the file in a folder as a copy of a journal, and makes an empty one where there is
// none; that one is of a log that begins with nothing.
func OpenCopy(ctx context.Context, dir string) (*Copy, error) {
	held, err := lock(dir)
	if err != nil {
		return nil, err
	}
	c := &Copy{dir: dir, held: held}
	if err := c.open(ctx); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return c, nil
}

func (c *Copy) open(ctx context.Context) error {
	file := filepath.Join(c.dir, dbFile)
	if err := closeToOthers(c.dir, file); err != nil {
		return err
	}
	if err := begin(file, copyPage); err != nil {
		return err
	}
	var err error
	// One goroutine uses the one connection, and needs no lock of the database's own around each call.
	if c.pool, err = sql.Open("sqlite3", "file:"+escaped(file)+"?_busy_timeout=10000&_mutex=no&"+logged); err != nil {
		return err
	}
	c.pool.SetMaxOpenConns(1)
	if c.conn, err = c.pool.Conn(ctx); err != nil {
		return fmt.Errorf("opening %s: %w", file, err)
	}
	if err := c.conn.Raw(func(conn any) error {
		c.replay = replaying{conn: conn.(*sqlite3.SQLiteConn), stmts: map[string]*sqlite3.SQLiteStmt{}}
		return nil
	}); err != nil {
		return err
	}
	var others int
	if err := c.conn.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master").Scan(&others); err != nil {
		return fmt.Errorf("reading %s: %w", file, err)
	}
	if others == 0 {
		if _, err := c.conn.ExecContext(ctx, positionTable); err != nil {
			return err
		}
	}
	if err := c.limitLog(ctx); err != nil {
		return err
	}
	c.Position, err = positionOf(ctx, c.conn)
	return err
}

// limitLog lets the log of the file become as long as that of a journal that is written here: what is not
// written back after each megabyte is written back once for many changes.
func (c *Copy) limitLog(ctx context.Context) error {
	room, _, err := diskOf(c.dir)
	if err != nil {
		return err
	}
	var page int64
	if err := c.conn.QueryRowContext(ctx, "PRAGMA page_size").Scan(&page); err != nil {
		return err
	}
	_, err = c.conn.ExecContext(ctx, fmt.Sprintf("PRAGMA wal_autocheckpoint=%d", logFor(room)/page))
	return err
}

const positionTable = "CREATE TABLE IF NOT EXISTS log_position (only INTEGER PRIMARY KEY CHECK (only = 0), log TEXT NOT NULL, " +
	"at INTEGER NOT NULL)"

// ErrOfNoFleet tells that a journal is of one instance alone.
var ErrOfNoFleet = errors.New("the journal is of one instance alone: take it into a fleet with readyferry fleet adopt, or name another folder")

// logged is how a journal is written whose commits are in a log: a commit that its own disk has lost
// is found there, so it need not wait for that.
const logged = "_journal_mode=WAL&_synchronous=NORMAL&"

// positionOf reads which log a file is of.
func positionOf(ctx context.Context, conn *sql.Conn) (p Position, err error) {
	var n int
	if err = conn.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master WHERE name = 'log_position'").Scan(&n); err != nil {
		return p, err
	}
	if n == 0 {
		return p, ErrOfNoFleet
	}
	err = conn.QueryRowContext(ctx, "SELECT log, at FROM log_position").Scan(&p.Log, &p.At)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return p, err
}

// isLogged tells whether a file is of a log.
func isLogged(db *gorm.DB) (bool, error) {
	var n int
	err := db.Raw("SELECT count(*) FROM sqlite_master WHERE name = 'log_position'").Scan(&n).Error
	return n > 0, err
}

// Schema names the form of the journal that this release writes; later ones sort behind earlier ones.
func Schema() string { return lastMigration }

// Schema names the form that the copy has; "" while it is empty.
func (c *Copy) Schema(ctx context.Context) (form string, err error) {
	var n int
	if err = c.conn.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master WHERE name = 'migrations'").Scan(&n); err == nil && n > 0 {
		err = c.conn.QueryRowContext(ctx, "SELECT COALESCE(MAX(id), '') FROM migrations").Scan(&form)
	}
	return form, err
}

// Of makes the copy one of a log, from its beginning. It must be empty.
func (c *Copy) Of(ctx context.Context, log string) error {
	var tables int
	if err := c.conn.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master").Scan(&tables); err != nil {
		return err
	}
	if c.Log != "" || tables > 1 {
		return fmt.Errorf("the journal in %s is of another log, or of none", c.dir)
	}
	if err := nameLog(ctx, c.conn, Position{Log: log}); err != nil {
		return err
	}
	c.Log = log
	return nil
}

func nameLog(ctx context.Context, conn *sql.Conn, p Position) error {
	_, err := conn.ExecContext(ctx, "INSERT OR REPLACE INTO log_position (only, log, at) VALUES (0, ?, ?)", p.Log,
		p.At)
	return err
}

// Apply does what a record says, or holds it until the commit; it stands in the file behind Commit. The error wraps ErrNotTheSame
// where the copy must be made anew; then it takes no further records.
func (c *Copy) Apply(ctx context.Context, at int64, record []byte) error {
	if c.broken != nil {
		return c.broken
	}
	if at != c.At+1 {
		return fmt.Errorf("record %d does not follow %d", at, c.At)
	}
	if !c.begun {
		if _, err := c.conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
			return err
		}
		c.begun = true
	}
	if err := c.conn.Raw(func(any) error { return c.replay.do(record) }); err != nil {
		c.broken = fmt.Errorf("record %d: %w", at, err)
		_, _ = c.conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		c.begun = false
		return c.broken
	}
	c.At = at
	return nil
}

// Skip notes a record that changes nothing in the file.
func (c *Copy) Skip(ctx context.Context, at int64) error {
	return c.Apply(ctx, at, []byte{plainRecord})
}

// Commit puts what was applied into the file.
func (c *Copy) Commit(ctx context.Context) error {
	if !c.begun || c.broken != nil {
		return c.broken
	}
	c.begun = false
	err := c.conn.Raw(func(any) error { return c.replay.flush() })
	if err != nil {
		err = fmt.Errorf("records up to %d: %w", c.At, err)
	} else {
		_, err = c.conn.ExecContext(ctx, positionUpdate, c.At)
	}
	if err == nil {
		_, err = c.conn.ExecContext(ctx, "COMMIT")
	}
	if err != nil {
		c.broken = err
		_, _ = c.conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	}
	return err
}

// Close closes the file. What is not committed is applied again another time.
func (c *Copy) Close() error {
	errs := []error{c.replay.close()}
	if c.conn != nil {
		if c.begun {
			_, err := c.conn.ExecContext(context.Background(), "ROLLBACK")
			errs = append(errs, err)
		}
		errs = append(errs, c.conn.Close())
	}
	if c.pool != nil {
		errs = append(errs, c.pool.Close())
	}
	return errors.Join(append(errs, c.held.Close())...)
}

// GiveKey gives the folder of a copy the key to secrets that all machines of a fleet have, where it has
// none: the journal that comes there is sealed with it.
func GiveKey(dir string, key []byte) error {
	if os.Getenv(PassphraseVariable) != "" || os.Getenv(PassphraseFileVariable) != "" {
		return errors.New("a passphrase makes another key in each folder: give the members of a fleet the key itself, by " + KeyVariable +
			" or " + KeyFileVariable)
	}
	if KeyIsGiven() {
		return nil
	}
	if len(key) != 32 {
		return errors.New("the key to secrets has 32 bytes")
	}
	file := filepath.Join(dir, keyFile)
	had, err := os.ReadFile(file)
	switch {
	case errors.Is(err, os.ErrNotExist):
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		return onDisk(file, key)
	case err == nil && !bytes.Equal(had, key):
		err = fmt.Errorf("%s is another key than that of the fleet", file)
	}
	return err
}

// Discard removes the file of a copy that is not the same any more. It is to be closed.
func Discard(dir string) error {
	held, err := lock(dir)
	if err != nil {
		return err
	}
	defer held.Close()
	for _, end := range []string{"-wal", "-shm", ""} {
		if err := os.Remove(filepath.Join(dir, dbFile+end)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}

// WriteCopy writes the file of a folder, as it is at one moment, for another machine to follow the
// same log from there. It may be in use: nobody waits for it. Its pages are those of the file, since a
// file that is written anew numbers rows otherwise.
func WriteCopy(ctx context.Context, dir string, to io.Writer) (Position, error) {
	temp, err := os.MkdirTemp(dir, "copy-")
	if err != nil {
		return Position{}, fmt.Errorf("making room for the copy: %w", err)
	}
	defer os.RemoveAll(temp)
	file := filepath.Join(temp, dbFile)
	if err := pages(ctx, filepath.Join(dir, dbFile), file); err != nil {
		return Position{}, fmt.Errorf("copying the journal: %w", err)
	}
	db, err := sql.Open("sqlite3", "file:"+escaped(file)+"?_journal_mode=DELETE")
	if err != nil {
		return Position{}, err
	}
	var p Position
	err = db.QueryRowContext(ctx, "SELECT log, at FROM log_position").Scan(&p.Log, &p.At)
	if err = errors.Join(err, db.Close()); err != nil {
		return p, fmt.Errorf("the journal is of no log: %w", err)
	}
	f, err := os.Open(file)
	if err != nil {
		return p, err
	}
	defer f.Close()
	_, err = io.Copy(to, f)
	return p, err
}

// pages copies a database page by page (its online backup), in one step so that it is of one moment.
func pages(ctx context.Context, from, to string) error {
	open := func(file, params string) (*sqlite3.SQLiteConn, error) {
		c, err := (&sqlite3.SQLiteDriver{}).Open("file:" + escaped(file) + params)
		if err != nil {
			return nil, err
		}
		return c.(*sqlite3.SQLiteConn), nil
	}
	src, err := open(from, "?_busy_timeout=10000&_query_only=true")
	if err != nil {
		return err
	}
	defer src.Close()
	dst, err := open(to, "")
	if err != nil {
		return err
	}
	defer dst.Close()
	b, err := dst.Backup("main", src, "main")
	if err != nil {
		return err
	}
	done, err := b.Step(-1)
	if err == nil && !done {
		err = errors.New("it was not copied to its end")
	}
	return errors.Join(err, b.Finish(), ctx.Err())
}

// TakeCopy puts what WriteCopy has written into a folder that has no journal.
func TakeCopy(dir string, from io.Reader) error {
	held, err := lock(dir)
	if err != nil {
		return err
	}
	defer held.Close()
	file := filepath.Join(dir, dbFile)
	if _, err := os.Stat(file); err == nil {
		return fmt.Errorf("there is a journal in %s", dir)
	}
	f, err := os.OpenFile(file+".part", os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, from)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(file+".part"))
	}
	return os.Rename(file+".part", file)
}
