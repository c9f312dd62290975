package store

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestAMissingKeyIsNotReplaced(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	key := filepath.Join(dir, keyFile)
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "bring it back from a backup") {
		t.Errorf("%v", err)
	}
	if _, err := os.Stat(key); !errors.Is(err, fs.ErrNotExist) {
		t.Error("there is a new key")
	}
}

func TestNobodyElseMayReadTheFolder(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	for range 2 {
		s, err := Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Check(context.Background()); err != nil {
			t.Fatal(err)
		}
		names, _ := filepath.Glob(dir + "/*")
		for _, name := range append(names, dir) {
			info, err := os.Stat(name)
			if err != nil {
				t.Fatal(err)
			}
			if info.Mode().Perm()&0o077 != 0 {
				t.Errorf("%s is %s", name, info.Mode())
			}
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		for _, name := range append(names, dir) { // whatever stood there
			_ = os.Chmod(name, 0o777)
		}
	}
}

// Nothing is promised that would be written into a file which nobody can find again.
func TestAFolderThatVanishesStopsWriting(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Check(context.Background()); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(dir, dir+"-away"); err != nil {
		t.Fatal(err)
	}
	write := func() error { return s.Write(context.Background(), func(*Tx) error { return nil }) }
	if err := write(); !errors.Is(err, ErrGone) {
		t.Errorf("a write: %v", err)
	}
	if err := s.Check(context.Background()); !errors.Is(err, ErrGone) {
		t.Errorf("the check: %v", err)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, dbFile), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := write(); !errors.Is(err, ErrGone) {
		t.Errorf("a write beside another file: %v", err)
	}
	if err := os.RemoveAll(dir); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(dir+"-away", dir); err != nil {
		t.Fatal(err)
	}
	if err := write(); err != nil {
		t.Errorf("once it is back: %v", err)
	}
}

// A folder may have any name: what means something in a URI means nothing here.
func TestAFolderMayHaveAnyName(t *testing.T) {
	for _, name := range []string{"a#b", "a?b=c", "a%41b", "ä ö"} {
		dir := filepath.Join(t.TempDir(), name)
		s, err := OpenUnsynced(dir)
		if err != nil {
			t.Fatal(name, err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		if info, err := os.Stat(filepath.Join(dir, dbFile)); err != nil || info.Size() == 0 {
			t.Errorf("%q: the file stands elsewhere (%v)", name, err)
		}
	}
}
