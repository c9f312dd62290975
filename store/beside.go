package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"gorm.io/gorm/schema"
)

// OpenBeside opens the store in a folder for writing people, keys and the audit, also while
// an application is at work there: those it looks up anew, where all else is known to its one
// writer alone. The folder must be there, in the form of this release.
func OpenBeside(dir string) (*Store, error) {
	file := filepath.Join(dir, dbFile)
	if _, err := os.Stat(file); err != nil {
		return nil, fmt.Errorf("there is nothing in %s: %w; start the application there once", dir, err)
	}
	seal, given, err := openKey(dir, file)
	if err != nil {
		return nil, err
	}
	schema.RegisterSerializer("micros", serializer{})
	db, err := connect(file, durable+"_txlock=immediate", 1)
	if err != nil {
		return nil, err
	}
	err = isPresent(db)
	if is, bad := isLogged(db); err == nil && (is || bad != nil) {
		err = errors.Join(bad, errors.New("the journal is of a fleet, which nobody writes beside it: ask a member, by its pages or its API"))
	}
	if err != nil {
		if pool, bad := db.DB(); bad == nil {
			err = errors.Join(err, pool.Close())
		}
		return nil, err
	}
	s := &Store{Dir: dir, file: file, seal: seal, jobs: make(chan job, maxBatch), closed: make(chan struct{}),
		spare: newWork(), sums: newSums(false)}
	if err := errors.Join(s.hold(db), s.checkKey(given)); err != nil {
		return nil, err
	}
	read, err := connect(file, durable+"_query_only=true", 1)
	if err != nil {
		return nil, err
	}
	s.View = View{db: read, units: newUnits()}
	if s.opened, err = os.Stat(file); err != nil {
		return nil, err
	}
	s.done.Add(1)
	go s.writer()
	return s, nil
}
