// Package password keeps passwords and says which are good enough.
//
// They are kept by argon2id (RFC 9106) with the least parameters that OWASP's cheat
// sheet names (19 MiB, two passes, one lane; from memory), in the usual text form, so
// that stronger ones can be set later and old ones still verify. The rules are those of
// NIST SP 800-63B, 5.1.1.2 (from memory): long enough, no rule about kinds of letters,
// every letter of Unicode taken, normalised (NFKC), and none that is among the first
// that somebody who guesses would try: the lists of leaked passwords, names and words
// that the library zxcvbn has, and the name of the person and of the application.
package password

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"math"
	"strings"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"
	"golang.org/x/text/unicode/norm"
)

// How long a password is, in letters.
const (
	Least = 12
	Most  = 128
)

// fewest is how many guesses a password must withstand, by the library's reckoning: what
// is found sooner stands on a list or is a simple change of something on one.
const fewest = 1e8

// looked is how many letters are looked at for patterns; more cannot make it worse.
const looked = 64

// ErrWrong tells that a password is not the one that is kept.
var ErrWrong = errors.New("the password is not right")

// Check says what is wrong with a new password, or nil. about are words that stand near:
// the names of the person, say.
func Check(text string, about ...string) error {
	text = norm.NFKC.String(text)
	switch n := utf8.RuneCountInString(text); {
	case n < Least:
		return fmt.Errorf("it has %d letters, and at least %d are needed; several words in a row are easily kept in mind",
			n, Least)
	case n > Most:
		return fmt.Errorf("it has %d letters, and at most %d are taken", n, Most)
	}
	if guesses(text, about) < fewest {
		return errors.New("it is among those that are tried first: known from leaks, or made of a name or a row of keys; take " +
			"several words that do not belong together")
	}
	return nil
}

// guesses reckons how many of them somebody needs who tries what people take.
func guesses(text string, about []string) float64 {
	some := []rune(text)
	if len(some) > looked {
		some = some[:looked]
	}
	return zxcvbn.PasswordStrength(string(some), append([]string{"readyferry", "ready", "ferry"}, about...)).Guesses
}

// Strength says how good a new password is: up to 1, reached at the square of what is asked for,
// and what is wrong with it, "" where Check would take it.
func Strength(text string, about ...string) (of1 float64, wrong string) {
	if err := Check(text, about...); err != nil {
		wrong = err.Error()
	}
	return min(1, math.Log(max(1, guesses(norm.NFKC.String(text), about)))/(2*math.Log(fewest))), wrong
}

// The parameters of argon2id.
const (
	passes  = 2
	memory  = 19 << 10 // KiB
	lanes   = 1
	keyLen  = 32
	saltLen = 16
)

// Hash gives what is kept of a password.
func Hash(text string) (string, error) {
	salt := make([]byte, saltLen)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	key := argon2.IDKey([]byte(norm.NFKC.String(text)), salt, passes, memory, lanes, keyLen)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memory, passes, lanes,
		b64.EncodeToString(salt),
		b64.EncodeToString(key)), nil
}

// Verify says whether a password is the one of which kept was made: nil, ErrWrong, or why
// kept cannot be read. It takes as long for "" as for any other, so that nobody learns from
// the time whether there is such a person.
func Verify(kept, text string) error {
	none := kept == ""
	if none {
		kept = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
	}
	parts := strings.Split(kept, "$")
	var version int
	var m, t uint32
	var p uint8
	if len(parts) != 6 || parts[1] != "argon2id" {
		return errors.New("the kept password is in no form that is known here")
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &m, &t, &p); err != nil ||
		version != argon2.Version || m > 1<<20 || t > 100 || t == 0 || p == 0 {
		return errors.New("the kept password has parameters that are not known here")
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return fmt.Errorf("the kept password: %w", err)
	}
	key, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || len(key) == 0 || len(key) > 1<<10 {
		return errors.New("the kept password cannot be read")
	}
	got := argon2.IDKey([]byte(norm.NFKC.String(text)), salt, t, m, p, uint32(len(key)))
	if subtle.ConstantTimeCompare(got, key) != 1 || none {
		return ErrWrong
	}
	return nil
}
