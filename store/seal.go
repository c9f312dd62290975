package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// sealer encrypts secrets at rest with AES-256-GCM under a key that lies
// beside the database in a file which only its owner may read.
type sealer struct{ aead cipher.AEAD }

func openSealer(file string) (*sealer, error) {
	key, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, 32)
		if _, err := rand.Read(key); err != nil {
			return nil, err
		}
		if err := os.WriteFile(file, key, 0o600); err != nil {
			return nil, fmt.Errorf("writing the key for secrets: %w", err)
		}
	} else if err != nil {
		return nil, fmt.Errorf("reading the key for secrets: %w", err)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("%s holds no key: %w", file, err)
	}
	aead, err := cipher.NewGCM(block)
	return &sealer{aead}, err
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
