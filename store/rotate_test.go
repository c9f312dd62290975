package store

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Wherever a change of the key is cut off, every secret can be read behind it, and the chain of the
// audit holds.
func TestTheKeyIsChangedWhereverItIsCutOff(t *testing.T) {
	for _, cut := range []string{"nowhere", "before anything is sealed", "behind the commit"} {
		t.Run(cut, func(t *testing.T) {
			dir := t.TempDir()
			s, err := OpenUnsynced(dir)
			if err != nil {
				t.Fatal(err)
			}
			sealed, err := s.Seal("c", []byte(`["s3cret"]`))
			if err != nil {
				t.Fatal(err)
			}
			kept, err := s.SealPassword("ada", "$argon2id$x")
			if err != nil || strings.Contains(kept, "argon2id") {
				t.Fatal(kept, err)
			}
			l := AuditLine{At: time.Now(), What: "x"}
			if err := s.Write(t.Context(), func(tx *Tx) error {
				for name, password := range map[string]string{"ada": kept, "bea": "$argon2id$of-before", "eve": ""} {
					if err := tx.SavePerson(&Person{Name: name, Password: password}); err != nil {
						return err
					}
				}
				if err := tx.SaveConnection(&Connection{Name: "c", Document: []byte("{}"), Sealed: sealed,
					UpdatedAt: time.Now()}); err != nil {
					return err
				}
				return tx.Audit(s, &l)
			}); err != nil {
				t.Fatal(err)
			}
			// What an earlier release kept unsealed is sealed at the next start.
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
			if s, err = OpenUnsynced(dir); err != nil {
				t.Fatal(err)
			}
			own, next := filepath.Join(dir, keyFile), filepath.Join(dir, nextKeyFile)
			old, err := os.ReadFile(own)
			if err != nil {
				t.Fatal(err)
			}
			if cut == "before anything is sealed" {
				if _, err := newKey(next); err != nil {
					t.Fatal(err)
				}
			} else if n, err := s.RotateKey(t.Context(), false); err != nil || n != 4 {
				t.Fatal(n, err)
			}
			if cut == "behind the commit" { // the new key has not taken its place yet
				if err := os.Rename(own, next); err != nil {
					t.Fatal(err)
				}
				if err := os.WriteFile(own, old, 0o600); err != nil {
					t.Fatal(err)
				}
			}
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
			if s, err = OpenUnsynced(dir); err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			now, err := os.ReadFile(own)
			if err != nil || bytes.Equal(now, old) != (cut == "before anything is sealed") {
				t.Errorf("the key is the old one: %v %v", bytes.Equal(now, old), err)
			}
			if _, err := os.Stat(next); err == nil {
				t.Error("the new key still stands beside")
			}
			row, err := s.Connection("c")
			if err != nil {
				t.Fatal(err)
			}
			if plain, err := s.Unseal("c", row.Sealed); err != nil || string(plain) != `["s3cret"]` {
				t.Errorf("%s %v", plain, err)
			}
			for name, want := range map[string]string{"ada": "$argon2id$x", "bea": "$argon2id$of-before", "eve": ""} {
				p, err := s.Person(name)
				if err != nil || strings.Contains(p.Password, "argon2id") {
					t.Fatal(p.Password, err)
				}
				if kept, err := s.UnsealPassword(&p); err != nil || kept != want {
					t.Errorf("%s: %q %v", name, kept, err)
				}
			}
			if lines, faults, err := s.VerifyAudit(9); err != nil || len(faults) > 0 || lines != 1 {
				t.Errorf("%d %v %v", lines, faults, err)
			}
			if err := s.Write(t.Context(), func(tx *Tx) error {
				return tx.Audit(s, &AuditLine{At: time.Now(),
					What: "y"})
			}); err != nil {
				t.Error(err)
			}
		})
	}
}
