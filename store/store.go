// Package store keeps everything that must survive: flows, connections, the
// journal of transactions, deliveries, queues and dead letters. It is the only
// package that knows SQL.
//
// One SQLite file in WAL mode with synchronous=FULL. There is one writer;
// writes that come together share one commit, and each caller of Write returns
// only when its own work is on disk. Readers never wait for the writer.
package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	"gorm.io/gorm/schema"

	"readyferry/core/table"
	"readyferry/store/body"
)

// maxBatch is the largest number of writes that share one commit.
const maxBatch = 256

// ErrClosed is what a write gets after Close.
var ErrClosed = errors.New("the store is closed")

// ErrNotFound is what a look-up by key gets when there is nothing.
var ErrNotFound = gorm.ErrRecordNotFound

// Store is an open store. It is safe for concurrent use.
type Store struct {
	Dir    string
	View            // reads what is committed
	held   *os.File // the lock on the folder
	write  *gorm.DB
	seal   *sealer
	jobs   chan job
	closed chan struct{}
	done   sync.WaitGroup
	once   sync.Once
}

// View reads the file: what is committed, or inside of a write what that write
// has made of it so far.
type View struct {
	db          *gorm.DB
	definitions *definitions
}

type job struct {
	work func(*Tx) error
	done chan error
}

// Open opens the store in a folder and creates both when absent.
func Open(dir string) (*Store, error) {
	held, err := lock(dir)
	if err != nil {
		return nil, err
	}
	s, err := openFiles(dir)
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

func openFiles(dir string) (*Store, error) {
	seal, err := openSealer(filepath.Join(dir, keyFile))
	if err != nil {
		return nil, err
	}
	schema.RegisterSerializer("micros", serializer{})
	file := filepath.Join(dir, dbFile)
	open := func(params string, conns int) (*gorm.DB, error) {
		db, err := gorm.Open(
			sqlite.Open("file:"+file+"?_journal_mode=WAL&_synchronous=FULL&_busy_timeout=10000&"+params),
			&gorm.Config{
				Logger: logger.Discard, SkipDefaultTransaction: true, TranslateError: true,
			},
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
	s := &Store{Dir: dir, seal: seal, jobs: make(chan job, maxBatch), closed: make(chan struct{})}
	known := &definitions{all: map[string]*table.Definition{}}
	if s.write, err = open("_txlock=immediate", 1); err != nil {
		return nil, err
	}
	if err := migrate(s.write); err != nil {
		return nil, fmt.Errorf("migrating %s: %w", file, err)
	}
	read, err := open("_query_only=true", 4)
	if err != nil {
		return nil, err
	}
	s.View = View{read, known}
	s.done.Add(1)
	go s.writer()
	return s, nil
}

// Close waits for the writes under way and closes the file.
func (s *Store) Close() error {
	s.once.Do(func() { close(s.closed) })
	s.done.Wait()
	var errs []error
	for _, db := range []*gorm.DB{s.db, s.write} {
		if pool, err := db.DB(); err == nil {
			errs = append(errs, pool.Close())
		}
	}
	if err := s.held.Close(); !errors.Is(err, os.ErrClosed) { // closing twice is no fault
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// Write runs work in a database transaction and returns when it is on disk.
// When work fails, nothing of it stays. Work must not wait for anything: all
// other writers wait for it.
func (s *Store) Write(ctx context.Context, work func(*Tx) error) error {
	j := job{work, make(chan error, 1)}
	select {
	case s.jobs <- j:
	case <-s.closed:
		return ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-j.done: // once taken it is not given up: the caller must know
		return err
	case <-s.closed:
		select {
		case err := <-j.done:
			return err
		case <-time.After(5 * time.Second):
			return ErrClosed
		}
	}
}

func (s *Store) writer() {
	defer s.done.Done()
	for {
		var batch []job
		select {
		case j := <-s.jobs:
			batch = append(batch, j)
		case <-s.closed:
			return
		}
	more:
		for len(batch) < maxBatch {
			select {
			case j := <-s.jobs:
				batch = append(batch, j)
			default:
				break more
			}
		}
		s.commit(batch)
	}
}

// commit runs a batch in one database transaction, each job under a savepoint
// of its own so that a failing one takes nothing with it.
func (s *Store) commit(batch []job) {
	results := make([]error, len(batch))
	err := s.write.Transaction(func(db *gorm.DB) error {
		counts := map[countKey]int64{}
		for i, j := range batch {
			if err := db.SavePoint("job").Error; err != nil {
				return err
			}
			tx := &Tx{View: View{db, s.definitions}, counts: map[countKey]int64{}}
			if results[i] = run(j.work, tx); results[i] != nil {
				if err := db.RollbackTo("job").Error; err != nil {
					return err
				}
				continue
			}
			for k, n := range tx.counts {
				counts[k] += n
			}
		}
		return addCounts(db, counts)
	})
	for i, j := range batch {
		if err != nil {
			results[i] = fmt.Errorf("the store could not commit: %w", err)
		}
		j.done <- results[i]
	}
}

func run(work func(*Tx) error, tx *Tx) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("a write failed: %v", r)
		}
	}()
	return work(tx)
}

// Tx is a database transaction under way. It is used only inside the function
// that Write runs.
type Tx struct {
	View
	counts map[countKey]int64
	kept   map[body.Key]bool // contents that this write has stored
}

// Check tells whether the store can be read and written.
func (s *Store) Check(ctx context.Context) error {
	return s.Write(ctx, func(tx *Tx) error {
		return tx.db.Exec("UPDATE settings SET value = value WHERE key = 'check'").Error
	})
}
