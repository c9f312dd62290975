package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// How the key to secrets is changed. The new one is on the disk before anything is sealed
// with it, in a file of its own; one transaction seals everything anew and notes which key
// that was; then the file takes the place of the old one. Cut off anywhere, the next start
// sees by the note which of the two it is.

// nextKeyFile is the new key while it takes the old one's place.
const nextKeyFile = "seal.key.next"

// sealedSetting notes with which key everything is sealed, since it was changed.
const sealedSetting = "sealed with"

func fingerprint(key []byte) string {
	h := sha256.Sum256(key)
	return hex.EncodeToString(h[:8])
}

// settleKey ends a change of the key that was cut off.
func (s *Store) settleKey() error {
	next := filepath.Join(s.Dir, nextKeyFile)
	key, err := os.ReadFile(next)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("reading the new key for secrets: %w", err)
	}
	note, err := s.sealedWith()
	if err != nil {
		return err
	}
	if note != fingerprint(key) {
		return os.Remove(next) // nothing was sealed with it
	}
	return s.takeKey()
}

// sealedWith gives the fingerprint of the key that everything is sealed with; "" where none was noted.
func (s *Store) sealedWith() (string, error) {
	var note setting
	err := s.write.Where("key = ?", sealedSetting).Take(&note).Error
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return note.Value, err
}

// takeKey puts the new key in the place of the old one.
func (s *Store) takeKey() error {
	own := filepath.Join(s.Dir, keyFile)
	if err := os.Rename(filepath.Join(s.Dir, nextKeyFile), own); err != nil {
		return fmt.Errorf("the new key for secrets: %w", err)
	}
	if err := syncDir(s.Dir); err != nil {
		return err
	}
	seal, err := openSealer(own, s.file)
	if err == nil {
		s.seal = seal
	}
	return err
}

// RotateKey seals every secret with another key: one that the process was given (NextKey), or
// one that is made in the folder, also where the key was a given one if toFile says so. It
// gives how many secrets there were. Backups from before open with the old key.
func (s *Store) RotateKey(ctx context.Context, toFile bool) (sealed int, err error) {
	given, err := givenKey(s.Dir, NextKey)
	switch {
	case err != nil:
		return 0, err
	case given != nil && toFile:
		return 0, errors.New("the new key is in the folder, or given: not both")
	case given == nil && !toFile && KeyIsGiven():
		return 0, fmt.Errorf("the key is given by a variable of the process; give the new one by %s, %s or %s, or say that it goes "+
			"into the folder", KeyVariable+NextKey, KeyFileVariable+NextKey, PassphraseVariable+NextKey)
	case given != nil:
		if sealed, err = s.sealAnew(ctx, given); err != nil {
			return 0, err
		}
		if err = os.Remove(filepath.Join(s.Dir, keyFile)); errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
		return sealed, err
	}
	key, err := newKey(filepath.Join(s.Dir, nextKeyFile))
	if err != nil {
		return 0, fmt.Errorf("writing the new key for secrets: %w", err)
	}
	if sealed, err = s.sealAnew(ctx, key); err != nil {
		return 0, errors.Join(err, os.Remove(filepath.Join(s.Dir, nextKeyFile)))
	}
	return sealed, s.takeKey()
}

// sealAnew seals everything with another key, in one transaction that notes which it was.
func (s *Store) sealAnew(ctx context.Context, key []byte) (sealed int, err error) {
	next, err := newSealer(key)
	if err != nil {
		return 0, err
	}
	with, old := &Store{seal: next}, s.seal
	err = s.Write(ctx, func(tx *Tx) error {
		rows, err := tx.Connections()
		if err != nil {
			return err
		}
		for i := range rows {
			if len(rows[i].Sealed) == 0 {
				continue
			}
			if rows[i].Sealed, err = s.anew(with, rows[i].Name, rows[i].Sealed); err != nil {
				return err
			}
			if err := tx.SaveConnection(&rows[i]); err != nil {
				return err
			}
			sealed++
		}
		people, err := s.sealPeopleAnew(tx, with)
		if err != nil {
			return err
		}
		sealed += people
		text, err := tx.Setting(auditKeySetting)
		if err != nil {
			return err
		}
		if text != "" {
			old, err := hex.DecodeString(text)
			if err == nil {
				old, err = s.anew(with, auditKeySetting, old)
			}
			if err != nil {
				return fmt.Errorf("the key of the audit: %w", err)
			}
			if err := tx.SetSetting(auditKeySetting, hex.EncodeToString(old)); err != nil {
				return err
			}
			sealed++
		}
		s.seal = next // the line of the audit that comes with it finds its key so, too
		return tx.SetSetting(sealedSetting, fingerprint(key))
	})
	if err != nil {
		s.seal = old
	}
	return sealed, err
}

// anew seals with another key what is sealed with this store's.
func (s *Store) anew(with *Store, name string, sealed []byte) ([]byte, error) {
	plain, err := s.Unseal(name, sealed)
	if err != nil {
		return nil, err
	}
	return with.Seal(name, plain)
}
