package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
)

// ErrOfAFleet tells that several machines have a journal, so that one alone may not change it.
var ErrOfAFleet = errors.New("the journal is of a fleet: start it with --fleet, or take it out with readyferry fleet release")

// OpenLogged opens the store of a folder as Open does, with a log that keeps what commits change: a
// commit is behind the log, and the log at most one record ahead of the file. The folder's journal is
// of that log, as a Copy was. partition is which partition of the journal it is, from 0.
func OpenLogged(dir string, l Log, partition int) (*Store, error) {
	return openAs(dir, logged, l, partition)
}

// writing opens the writer's connection. What opening changes by it is the first record of a log.
func (s *Store) writing(file, params string, l Log) (*gorm.DB, error) {
	if l == nil {
		db, err := connect(file, params, 1)
		if err != nil {
			return nil, err
		}
		if is, bad := isLogged(db); bad == nil && is {
			pool, err := db.DB()
			if err == nil {
				err = pool.Close()
			}
			return nil, errors.Join(err, fmt.Errorf("%w: %s", ErrOfAFleet, filepath.Dir(file)))
		}
		return db, nil
	}
	s.logs, s.rec = l, &recorder{}
	pool := sql.OpenDB(&recording{"file:" + escaped(file) + "?_busy_timeout=10000&" + params, s.rec})
	pool.SetMaxOpenConns(1)
	pool.SetMaxIdleConns(1)
	conn, err := pool.Conn(context.Background())
	if err == nil {
		s.position, err = positionOf(context.Background(), conn)
		err = errors.Join(err, conn.Close())
	}
	if err == nil && s.position.Log == "" {
		err = fmt.Errorf("%s is of no log", file)
	}
	if err != nil {
		return nil, errors.Join(err, pool.Close())
	}
	s.rec.begin()
	return gorm.Open(sqlite.Dialector{Conn: pool}, settings())
}

// append hands the log what was executed since the record was begun, and notes where that stands.
func (s *Store) append() error {
	if s.rec == nil {
		return nil
	}
	record, err := s.rec.end()
	if err != nil || len(record) == 0 {
		return err
	}
	at, err := s.logs.Append(s.position.At, record)
	if err != nil {
		return err
	}
	if err := s.ready.exec(positionUpdate, []any{at}); err != nil {
		return err
	}
	s.position.At = at
	return nil
}
