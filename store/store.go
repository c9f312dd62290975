// Package store keeps everything that must survive: flows, connections, the
// journal of transactions, deliveries, queues and dead letters. It is the only
// package that knows SQL.
//
// One SQLite file in WAL mode with synchronous=FULL. There is one writer;
// writes that come together share one commit, and each caller of Write returns
// only when its own work is on disk. Readers never wait for the writer.
//
// In a fleet the file of each partition is made from a log that a majority of
// the members has on disk (Log). There Write returns when its work is in that
// log, and no commit waits until the file is on the own disk (OpenLogged): what
// that has lost, it gets from the log. Members that do not lead follow by a Copy, which says so
// and takes no more where it would become another one. Together reads the files
// of all partitions as one; whoever only reads need not know how many there are.
//
// Rules for whoever writes a statement that changes something: it says the same
// of the same file, whichever machine executes it (no clock, no chance, no
// VACUUM), and it goes over the writer's connection. A table of what messages
// do is named in perMessage, by which partitions are read together, and in
// merge, by which they become one file.
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"github.com/google/uuid"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	"gorm.io/gorm/schema"

	"readyferry/core/table"
)

// ErrClosed is what a write gets after Close.
var ErrClosed = errors.New("the store is closed")

// ErrNotFound is what a look-up by key gets when there is nothing.
var ErrNotFound = gorm.ErrRecordNotFound

// Store is an open store. It is safe for concurrent use.
type Store struct {
	Dir  string
	View                          // reads what is committed
	all  atomic.Pointer[Together] // nil: there are no other partitions
	held *os.File                 // the lock on the folder
	file string
	// partition is which of the partitions of a fleet's journal it is; 0 is the first, and one that is alone.
	partition int
	opened    os.FileInfo // of the database, as it was opened
	write     *gorm.DB    // the writer's connection
	ready     *prepared   // its statements
	pool      *sql.DB     // that has it
	repeats   *sql.Stmt   // knownOnce, for readers: every message of many sources asks it
	spare     *work       // of the job that runs now
	sums      *sums       // that it counts
	observe   func([]Happened)
	numbers
	logs     Log // that keeps what commits change; nil: the file alone does
	rec      *recorder
	position Position     // of the file; the writer has it
	lost     error        // why the log takes nothing any more; the writer has it
	log      int64        // how long the log may become, in bytes, as the writer's connection knows
	mostLog  atomic.Int64 // as the room on the disk has it
	seal     *sealer
	audit    []byte // the key of the audit, once it is read; the writer alone has it
	jobs     chan job
	closed   chan struct{}
	done     sync.WaitGroup
	once     sync.Once
}

// View reads the file: what is committed, or inside of a write what that write
// has made of it so far.
type View struct {
	db          *gorm.DB
	definitions *definitions
	units       *units
	tx          *Tx       // nil outside of a write
	words       bool      // transactions can be found by words
	parts       *Together // that it reads together; nil: it reads one file
}

// Open opens the store in a folder and creates both when absent.
func Open(dir string) (*Store, error) { return openAs(dir, durable, nil, 0) }

// OpenUnsynced opens a store as Open does, but leaves it to the system when a commit comes to the
// disk: what was committed outlives the process, and not a machine that loses its power. It is for
// what can be made again, as what tests and the builders of made-up data write.
func OpenUnsynced(dir string) (*Store, error) { return openAs(dir, unsynced, nil, 0) }

func openAs(dir, written string, l Log, partition int) (*Store, error) {
	held, err := lock(dir)
	if err != nil {
		return nil, err
	}
	s, err := openFiles(dir, written, l, partition)
	if err != nil {
		_ = held.Close()
		return nil, err
	}
	s.held = held
	return s, nil
}

// File is the name of the database in the folder of a store.
const File = "readyferry.db"

// The files of a folder.
const (
	dbFile  = File
	keyFile = "seal.key"
)

// closeToOthers makes the folder and what is in it readable to its owner alone,
// whatever stood there: they hold messages, and the key to all secrets.
func closeToOthers(dir, file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600) // SQLite would make it readable to all
	if err != nil {
		return fmt.Errorf("opening %s: %w", file, err)
	}
	if err := f.Close(); err != nil {
		return err
	}
	own := []string{dir}
	for _, pattern := range []string{dbFile + "*", keyFile + "*", saltFile, marksFile, "lock", "loads", "loads/*",
		"stand-ins", "stand-ins/*"} {
		found, err := filepath.Glob(filepath.Join(dir, pattern))
		if err != nil {
			return err
		}
		own = append(own, found...)
	}
	for _, path := range own {
		mode := fs.FileMode(0o600)
		info, err := os.Lstat(path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue // it was removed just now
		case err != nil:
			return err
		case info.IsDir():
			mode = 0o700
		case !info.Mode().IsRegular():
			continue
		}
		if info.Mode().Perm() != mode {
			if err := os.Chmod(path, mode); err != nil {
				return fmt.Errorf("closing the data folder to others: %w", err)
			}
		}
	}
	return nil
}

// OpenToRead opens the store in a folder for whoever changes nothing in it. It must be there,
// in the form of this release, and in no use.
func OpenToRead(dir string) (*Store, error) {
	if _, err := os.Stat(filepath.Join(dir, dbFile)); err != nil {
		return nil, fmt.Errorf("there is no journal in %s: %w", dir, err)
	}
	held, err := lock(dir)
	if err != nil {
		return nil, err
	}
	schema.RegisterSerializer("micros", serializer{})
	db, err := connect(filepath.Join(dir, dbFile), durable+"_query_only=true", 1)
	if err == nil {
		err = isPresent(db)
	}
	if err != nil {
		if db != nil {
			if pool, bad := db.DB(); bad == nil {
				_ = pool.Close()
			}
		}
		return nil, errors.Join(err, held.Close())
	}
	s := &Store{Dir: dir, held: held, View: View{db: db,
		definitions: &definitions{all: map[string]*table.Definition{}}},
		closed: make(chan struct{})}
	return s, nil
}

// How the journal is written.
const (
	durable  = "_journal_mode=WAL&_synchronous=FULL&" // a commit is on the disk before it returns
	unsynced = "_journal_mode=WAL&_synchronous=OFF&"
)

// escaped gives the path of a file as it stands in a URI: a folder may be named with # or ?.
func escaped(file string) string { return (&url.URL{Path: file}).EscapedPath() }

// connect opens a database with so many connections.
func connect(file, params string, conns int) (*gorm.DB, error) {
	db, err := gorm.Open(
		sqlite.Open("file:"+escaped(file)+"?_busy_timeout=10000&"+params),
		settings(),
	)
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", file, err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(conns)
	pool.SetMaxIdleConns(conns)
	return db, nil
}

func openFiles(dir, written string, l Log, partition int) (*Store, error) {
	file := filepath.Join(dir, dbFile)
	seal, given, err := openKey(dir, file)
	if err != nil {
		return nil, err
	}
	if err := closeToOthers(dir, file); err != nil {
		return nil, err
	}
	schema.RegisterSerializer("micros", serializer{})
	s := &Store{Dir: dir, partition: partition, file: file, seal: seal, jobs: make(chan job, maxBatch), closed: make(chan struct{}),
		spare: newWork(), sums: newSums(false)}
	known := &definitions{all: map[string]*table.Definition{}}
	if err := begin(file, pageSize); err != nil {
		return nil, err
	}
	// One goroutine uses this connection, and needs no lock of the database's own around each call.
	db, err := s.writing(file, written+"_txlock=immediate&_auto_vacuum=incremental&_mutex=no", l)
	if err != nil {
		return nil, err
	}
	if err := migrate(db); err != nil {
		return nil, fmt.Errorf("migrating %s: %w", file, err)
	}
	words, err := searching(db)
	if err != nil {
		return nil, fmt.Errorf("making the index of words: %w", err)
	}
	if l == nil { // else each copy would number its rows otherwise
		if err := shrinkable(db, file); err != nil {
			return nil, fmt.Errorf("making %s one that can be shortened: %w", file, err)
		}
	}
	if err := errors.Join(s.hold(db), s.settleKey(), s.checkKey(given)); err != nil {
		return nil, fmt.Errorf("opening %s: %w", file, err)
	}
	if err := s.sealPasswords(); err != nil {
		return nil, fmt.Errorf("sealing what is kept of passwords in %s: %w", file, err)
	}
	if err := s.append(); err != nil {
		return nil, fmt.Errorf("logging what opening %s has changed: %w", file, err)
	}
	read, err := connect(file, written+"_query_only=true", 4)
	if err != nil {
		return nil, err
	}
	s.View = View{db: read, definitions: known, units: newUnits(), words: words}
	if s.ready.searched, err = s.Searched(); err != nil {
		return nil, err
	}
	readers, err := read.DB()
	if err != nil {
		return nil, err
	}
	if s.repeats, err = readers.Prepare(knownOnce); err != nil {
		return nil, err
	}
	if s.opened, err = os.Stat(file); err != nil {
		return nil, err
	}
	s.done.Add(1)
	go s.writer()
	return s, nil
}

// Close waits for the writes under way and closes the file.
func (s *Store) Close() error {
	s.once.Do(func() { close(s.closed) })
	s.done.Wait()
	var errs []error
	if s.repeats != nil {
		errs = append(errs, s.repeats.Close())
	}
	if pool, err := s.db.DB(); err == nil {
		errs = append(errs, pool.Close())
	}
	if s.ready != nil {
		errs = append(errs, s.ready.close(), s.pool.Close())
	}
	if s.held == nil { // it was opened beside another
		return errors.Join(errs...)
	}
	if err := s.held.Close(); !errors.Is(err, os.ErrClosed) { // closing twice is no fault
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

func settings() *gorm.Config {
	return &gorm.Config{Logger: logger.Discard, SkipDefaultTransaction: true, TranslateError: true}
}

// pageSize is the size of a page of a new file, in bytes. Most of what a commit writes are the
// last pages of tables and indexes, of which it fills a little: small pages are less to write.
// Files of earlier releases keep the 4096 that they were made with.
const pageSize = 1024

// begin makes a file that is empty one with pages of a size; later they are as they are.
func begin(file string, page int) error {
	if size(file) > 0 {
		return nil
	}
	db, err := connect(file, "_journal_mode=DELETE&_synchronous=FULL", 1)
	if err != nil {
		return err
	}
	err = execAll(db, fmt.Sprintf("PRAGMA page_size = %d", page), "PRAGMA auto_vacuum = INCREMENTAL",
		fmt.Sprintf("PRAGMA application_id = %d", applicationID))
	if pool, bad := db.DB(); bad == nil {
		err = errors.Join(err, pool.Close())
	}
	return err
}

// applicationID tells programs that look at a file what it is: "RFer".
const applicationID = 0x52466572

// The log is written back into the file when it has so many bytes: the more they are, the
// more changes of a page are written there at once. A disk on which little is free gets a
// short one.
const (
	longLog  = 64 << 20
	shortLog = 16 << 20
	little   = 16 * longLog // free on the disk, in bytes
)

// logFor gives how long the log may become with so many bytes free on the disk.
func logFor(free int64) int64 {
	if free < little {
		return shortLog
	}
	return longLog
}

// limitLog lets the log become as long as the disk allows. The writer calls it.
func (s *Store) limitLog() error {
	limit := s.mostLog.Load()
	if limit == s.log {
		return nil
	}
	var page int64
	if err := s.write.Raw("PRAGMA page_size").Scan(&page).Error; err != nil {
		return err
	}
	s.log = limit
	return s.ready.exec(fmt.Sprintf("PRAGMA wal_autocheckpoint=%d", limit/page), nil)
}

// hold takes the one connection of the writer, for GORM and prepared statements alike.
func (s *Store) hold(db *gorm.DB) error {
	var err error
	if s.pool, err = db.DB(); err != nil {
		return err
	}
	conn, err := s.pool.Conn(context.Background())
	if err != nil {
		return err
	}
	s.ready = &prepared{conn: conn, all: map[string]*sql.Stmt{}, inserts: map[inserting]*sql.Stmt{}}
	s.write, err = gorm.Open(sqlite.Dialector{Conn: conn}, settings())
	if err != nil {
		return err
	}
	room, _, err := diskOf(s.Dir)
	if err != nil {
		return err
	}
	s.mostLog.Store(logFor(room))
	if err := s.limitLog(); err != nil {
		return err
	}
	// A number of a message of a queue is seen from outside and never given twice; the others
	// only say what came first of what is there.
	first := firstOf(s.partition)
	return errors.Join(
		s.numberFrom(first),
		s.write.Raw("SELECT COALESCE(MAX(seq), ?) FROM messages", first).Scan(&s.numbers.messages).Error,
		s.write.Raw("SELECT COALESCE(MAX(seq), ?) FROM deliveries", first).Scan(&s.deliveries).Error,
		s.write.Raw("SELECT COALESCE(MAX(seq), 0) FROM sqlite_sequence WHERE name = 'queue_items'").Scan(&s.items).Error,
	)
}

// probe is how much room a check wants to find, in bytes: SQLite may write some pages
// into the space that its log has already.
const probe = 256 << 10

// Check tells whether the store can be written and read: it does both, in the database
// and in the folder.
func (s *Store) Check(ctx context.Context) error {
	value := NewID().String()
	err := s.Write(ctx, func(tx *Tx) error {
		return tx.sql().Exec("UPDATE settings SET value = ? WHERE key = 'check'", value).Error
	})
	if err != nil {
		return err
	}
	var read setting
	if err := s.db.Where("key = 'check'").Take(&read).Error; err != nil {
		return fmt.Errorf("reading what was written: %w", err)
	}
	if _, err := uuid.Parse(read.Value); err != nil { // another check may have been in between
		return fmt.Errorf("what was written reads as %q", read.Value)
	}
	f, err := os.CreateTemp(s.Dir, "check-*")
	if err != nil {
		return fmt.Errorf("writing into the data folder: %w", err)
	}
	_, err = f.Write(make([]byte, probe))
	if err = errors.Join(err, f.Sync(), f.Close(), os.Remove(f.Name())); err != nil {
		return fmt.Errorf("writing into the data folder: %w", err)
	}
	return nil
}
