package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// ErrInUse tells that another process has the folder open. Two engines on one
// journal would deliver everything twice.
var ErrInUse = errors.New("another process has this folder open; stop it, or name another folder with --data")

// lock takes a data folder for this process. The lock ends with the process,
// however that ends.
func lock(dir string) (*os.File, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("creating the data folder: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("locking the data folder: %w", err)
	}
	if err := lockFile(f); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("%s: %w", dir, err)
	}
	return f, nil
}

// Forget removes all that is kept in a folder, unless a process has it open.
func Forget(dir string) error {
	f, err := lock(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	for _, name := range []string{dbFile, dbFile + "-wal", dbFile + "-shm", keyFile, saltFile, marksFile} {
		if err := os.Remove(filepath.Join(dir, name)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}
