package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// sealer encrypts secrets at rest with AES-256-GCM under a key that lies
// beside the database in a file which only its owner may read.
type sealer struct{ aead cipher.AEAD }

// openSealer reads the key, or makes one for a folder that holds nothing yet. Where a
// database stands already its key must, too: with another one no secret of it could
// be read any more, and the loss would show much later.
func openSealer(file, database string) (*sealer, error) {
	key, err := os.ReadFile(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if info, err := os.Stat(database); err == nil && info.Size() > 0 {
			return nil, fmt.Errorf(
				"%s is missing beside %s: without it no secret of the connections can be read; bring it back from a "+
					"backup, or give the key by "+KeyVariable+", "+KeyFileVariable+" or "+PassphraseVariable+"; if it is lost, "+
					"put 32 random bytes there (head -c 32 /dev/urandom > %s) and give every connection "+
					"its secrets again",
				file, database, file,
			)
		}
		if key, err = newKey(file); err != nil {
			return nil, fmt.Errorf("writing the key for secrets: %w", err)
		}
	case err != nil:
		return nil, fmt.Errorf("reading the key for secrets: %w", err)
	}
	s, err := newSealer(key)
	if err != nil {
		return nil, fmt.Errorf("%s holds no key: %w", file, err)
	}
	return s, nil
}

func newSealer(key []byte) (*sealer, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &sealer{aead}, err
}

// openKey opens the key to the secrets in a folder: the one that the process was given, or
// else the one in the folder.
func openKey(dir, database string) (s *sealer, given []byte, err error) {
	if given, err = givenKey(dir, ""); err != nil {
		return nil, nil, err
	}
	if given != nil {
		s, err = newSealer(given)
		return s, given, err
	}
	s, err = openSealer(filepath.Join(dir, keyFile), database)
	return s, nil, err
}

// newKey makes a key. It is on disk before anything is sealed with it.
func newKey(file string) (key []byte, err error) {
	key = make([]byte, 32)
	if _, err := rand.Read(key); err != nil {
		return nil, err
	}
	return key, onDisk(file, key)
}

// onDisk writes a file that its owner alone may read and that was not there.
func onDisk(file string, content []byte) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(file))
	}
	return syncDir(filepath.Dir(file))
}

// syncDir lets the names in a folder be on disk.
func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// Seal encrypts; name binds the result to what it belongs to.
func (s *Store) Seal(name string, plain []byte) ([]byte, error) {
	nonce := make([]byte, s.seal.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return s.seal.aead.Seal(nonce, nonce, plain, []byte(name)), nil
}

// Unseal is the reverse of Seal.
func (s *Store) Unseal(name string, sealed []byte) ([]byte, error) {
	n := s.seal.aead.NonceSize()
	if len(sealed) < n {
		return nil, errors.New("the sealed value is too short")
	}
	plain, err := s.seal.aead.Open(nil, sealed[:n], sealed[n:], []byte(name))
	if err != nil {
		return nil, fmt.Errorf("the secrets of %s cannot be unsealed with this folder's key: %w", name, err)
	}
	return plain, nil
}

// WithSecond seals the secrets of a connection anew, with another second one: the one that
// a system gives in place of an earlier one.
func (s *Store) WithSecond(name string, sealed []byte, second string) ([]byte, error) {
	list := []string{""}
	if len(sealed) > 0 {
		plain, err := s.Unseal(name, sealed)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(plain, &list); err != nil || len(list) == 0 {
			list = []string{""}
		}
	}
	plain, err := json.Marshal([]string{list[0], second})
	if err != nil {
		return nil, err
	}
	return s.Seal(name, plain)
}
