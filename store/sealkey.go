package store

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// Where the key to secrets comes from, if not from the file in the data folder: a variable of
// the process with the key itself, or with the name of a file that holds it, or a passphrase
// that it is made of. At most one of them is set. With NextKey behind its name each says the
// key that another is changed for.
const (
	KeyVariable            = "READYFERRY_SEAL_KEY"             // 64 hexadecimal digits
	KeyFileVariable        = "READYFERRY_SEAL_KEY_FILE"        // a file with them, or with 32 bytes
	PassphraseVariable     = "READYFERRY_SEAL_PASSPHRASE"      // at least 16 letters
	PassphraseFileVariable = "READYFERRY_SEAL_PASSPHRASE_FILE" // a file with one
	NextKey                = "_NEXT"
)

// saltFile is what a passphrase is mixed with, so that the same one makes another key elsewhere.
const saltFile = "seal.salt"

// shortestPassphrase is in letters: what one person remembers and no other guesses.
const shortestPassphrase = 16

// KeyIsGiven tells whether the key to secrets comes from outside of the data folder.
func KeyIsGiven() bool {
	for _, name := range []string{KeyVariable, KeyFileVariable, PassphraseVariable, PassphraseFileVariable} {
		if os.Getenv(name) != "" {
			return true
		}
	}
	return false
}

// givenKey gives the key that the process was given; nil where it was given none.
func givenKey(dir, next string) (key []byte, err error) {
	given := ""
	for _, name := range []string{KeyVariable, KeyFileVariable, PassphraseVariable, PassphraseFileVariable} {
		value := os.Getenv(name + next)
		if value == "" {
			continue
		}
		if given != "" {
			return nil, fmt.Errorf("%s and %s are both set; the key to secrets comes from one of them", given, name+next)
		}
		given = name + next
		if name == KeyFileVariable || name == PassphraseFileVariable {
			b, err := os.ReadFile(value)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", given, err)
			}
			value = strings.TrimRight(string(b), "\r\n")
			if len(b) == 32 && name == KeyFileVariable {
				value = hex.EncodeToString(b)
			}
		}
		if name == KeyVariable || name == KeyFileVariable {
			if key, err = hex.DecodeString(value); err != nil || len(key) != 32 {
				return nil, fmt.Errorf("%s holds no key: it has 64 hexadecimal digits, as openssl rand -hex 32 makes them", given)
			}
			continue
		}
		if key, err = fromPassphrase(dir, value); err != nil {
			return nil, fmt.Errorf("%s: %w", given, err)
		}
	}
	return key, nil
}

// fromPassphrase makes a key by argon2id with 64 MiB (RFC 9106, 4: its second choice).
func fromPassphrase(dir, text string) ([]byte, error) {
	if utf8.RuneCountInString(text) < shortestPassphrase {
		return nil, fmt.Errorf("a passphrase has at least %d letters", shortestPassphrase)
	}
	file := filepath.Join(dir, saltFile)
	salt, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		salt = make([]byte, 16)
		if _, err = rand.Read(salt); err == nil {
			err = onDisk(file, salt)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("what the passphrase is mixed with: %w", err)
	}
	return argon2.IDKey([]byte(text), salt, 3, 64<<10, 4, 32), nil
}

// checkKey says whether the key at hand is the one that this folder's secrets are sealed with.
// A folder that is opened with a given key for the first time is bound to it.
func (s *Store) checkKey(given []byte) error {
	note, err := s.sealedWith()
	if err != nil {
		return err
	}
	own := filepath.Join(s.Dir, keyFile)
	_, missing := os.Stat(own)
	switch {
	case given == nil && note != "":
		key, err := os.ReadFile(own)
		if err == nil && fingerprint(key) != note {
			err = fmt.Errorf("the secrets in %s are sealed with another key than that in %s: give it by %s, %s or %s", s.Dir,
				own,
				KeyVariable, KeyFileVariable, PassphraseVariable)
		}
		return err
	case given == nil:
		return nil
	case note == "" && missing == nil:
		return fmt.Errorf("the secrets in %s are sealed with the key in %s; readyferry rotate-key changes it for another, which it is "+
			"given by %s, %s or %s", s.Dir, own, KeyVariable+NextKey, KeyFileVariable+NextKey, PassphraseVariable+NextKey)
	case note == "":
		return s.write.Save(&setting{Key: sealedSetting, Value: fingerprint(given)}).Error
	case note != fingerprint(given):
		return fmt.Errorf("the secrets in %s are sealed with another key than the one that was given", s.Dir)
	case missing == nil:
		return os.Remove(own) // it was changed for the one that was given, and that was cut off
	}
	return nil
}
