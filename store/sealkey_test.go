package store

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// withSecret opens a folder, looks at the secret of a connection in it, or puts it there, and
// gives what to say of a folder that does not open.
func withSecret(t *testing.T, dir string, do func(s *Store)) error {
	t.Helper()
	s, err := OpenUnsynced(dir)
	if err != nil {
		return err
	}
	row, err := s.Connection("c")
	if errors.Is(err, ErrNotFound) {
		sealed, err := s.Seal("c", []byte(`["s3cret"]`))
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Write(t.Context(), func(tx *Tx) error {
			return tx.SaveConnection(&Connection{Name: "c", Document: []byte("{}"), Sealed: sealed, UpdatedAt: time.Now()})
		}); err != nil {
			t.Fatal(err)
		}
	} else if plain, err := s.Unseal("c", row.Sealed); err != nil || string(plain) != `["s3cret"]` {
		t.Errorf("%s %v", plain, err)
	}
	if do != nil {
		do(s)
	}
	return s.Close()
}

// The key to secrets is changed from the folder to a variable, to a passphrase, and back; a
// folder never opens with another key than the one that its secrets are sealed with.
func TestTheKeyIsOutsideOfTheFolder(t *testing.T) {
	dir := t.TempDir()
	own := filepath.Join(dir, keyFile)
	if err := withSecret(t, dir, nil); err != nil {
		t.Fatal(err)
	}
	refused := func(says string) {
		t.Helper()
		if err := withSecret(t, dir, nil); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("it should say %q: %v", says, err)
		}
	}
	change := func(toFile bool) {
		t.Helper()
		if err := withSecret(t, dir, func(s *Store) {
			if n, err := s.RotateKey(t.Context(), toFile); err != nil || n != 1 {
				t.Errorf("%d are sealed anew: %v", n, err)
			}
		}); err != nil {
			t.Fatal(err)
		}
	}
	key := strings.Repeat("0123456789abcdef", 4)
	t.Setenv(KeyVariable, key)
	refused("rotate-key changes it")
	t.Setenv(KeyVariable, "")
	t.Setenv(KeyVariable+NextKey, "short")
	if err := withSecret(t, dir, func(s *Store) {
		if _, err := s.RotateKey(t.Context(), false); err == nil || !strings.Contains(err.Error(), "64 hexadecimal digits") {
			t.Error(err)
		}
	}); err != nil {
		t.Fatal(err)
	}
	old, err := os.ReadFile(own)
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv(KeyVariable+NextKey, key)
	change(false)
	t.Setenv(KeyVariable+NextKey, "")
	if _, err := os.Stat(own); !errors.Is(err, fs.ErrNotExist) {
		t.Error("the old key stays in the folder")
	}
	refused("is missing beside")
	if err := os.WriteFile(own, old, 0o600); err != nil { // as if it had been cut off
		t.Fatal(err)
	}
	refused("sealed with another key than that in")
	t.Setenv(KeyVariable, strings.Repeat("f", 64))
	refused("another key than the one that was given")
	t.Setenv(KeyVariable, key)
	if err := withSecret(t, dir, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(own); !errors.Is(err, fs.ErrNotExist) {
		t.Error("what was cut off is not ended")
	}

	file := filepath.Join(t.TempDir(), "passphrase")
	if err := os.WriteFile(file, []byte("four shelves of quiet lanterns\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv(PassphraseFileVariable+NextKey, file)
	change(false)
	t.Setenv(PassphraseFileVariable+NextKey, "")
	t.Setenv(PassphraseVariable, "four shelves of quiet lanterns")
	refused("both set")
	t.Setenv(KeyVariable, "")
	if err := withSecret(t, dir, func(s *Store) {
		if _, err := s.RotateKey(t.Context(), false); err == nil || !strings.Contains(err.Error(), "give the new one by") {
			t.Error(err)
		}
	}); err != nil {
		t.Fatal(err)
	}
	t.Setenv(PassphraseVariable, "four shelves")
	refused("at least 16 letters")
	t.Setenv(PassphraseVariable, "four shelves of quiet lanterns")
	change(true)
	t.Setenv(PassphraseVariable, "")
	if err := withSecret(t, dir, nil); err != nil {
		t.Fatal(err)
	}

	fresh := t.TempDir()
	t.Setenv(PassphraseVariable, "four shelves of quiet lanterns")
	for range 2 {
		if err := withSecret(t, fresh, nil); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := os.Stat(filepath.Join(fresh, keyFile)); !errors.Is(err, fs.ErrNotExist) {
		t.Error("a new folder has a key of its own though one was given")
	}
}
