// Package charset reads and writes text in other character sets than UTF-8: those of the IANA
// registry, by any of their names (https://www.iana.org/assignments/character-sets). Inside of
// the application all text is UTF-8; this is the door.
//
// Reading never fails over a single byte where the set gives every byte a meaning, as the ISO
// 8859 family does. Writing never replaces a character: one that the set lacks is an error
// that names it.
package charset

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/ianaindex"
)

// IsUTF8 tells whether a name means what is read without being asked for: UTF-8, ASCII, or no
// name at all.
func IsUTF8(name string) bool {
	switch strings.ToLower(name) {
	case "", "utf-8", "utf8", "us-ascii", "ascii", "unicode utf-8":
		return true
	}
	return false
}

// others are names that senders use and the registry has not.
var others = map[string]encoding.Encoding{
	"latin-1": charmap.ISO8859_1, "cp1252": charmap.Windows1252, "cp-1252": charmap.Windows1252,
	"windows1252": charmap.Windows1252, "win-1252": charmap.Windows1252, "ansi": charmap.Windows1252,
}

// Find gives a character set by its name.
func Find(name string) (encoding.Encoding, error) {
	if e := others[strings.ToLower(name)]; e != nil {
		return e, nil
	}
	e, err := ianaindex.IANA.Encoding(name)
	if err != nil || e == nil {
		return nil, fmt.Errorf("the character set %q is not known; UTF-8, ISO-8859-1, Windows-1252 and UTF-16 are, "+
			"and others by their IANA names", name)
	}
	return e, nil
}

// Check says what is wrong with a name.
func Check(name string) error {
	if IsUTF8(name) {
		return nil
	}
	_, err := Find(name)
	return err
}

// ToUTF8 gives a text of a character set as UTF-8.
func ToUTF8(src []byte, name string) ([]byte, error) {
	if IsUTF8(name) {
		return src, nil
	}
	e, err := Find(name)
	if err != nil {
		return nil, err
	}
	out, err := e.NewDecoder().Bytes(src)
	if err != nil {
		return nil, fmt.Errorf("the text is not %s: %w", name, err)
	}
	return out, nil
}

// FromUTF8 writes a text of UTF-8 in a character set. instead, where it is given, says what
// stands for a character that the set lacks; without it that is an error.
func FromUTF8(text []byte, name string, instead func(r rune) string) ([]byte, error) {
	if IsUTF8(name) {
		return text, nil
	}
	e, err := Find(name)
	if err != nil {
		return nil, err
	}
	if out, err := e.NewEncoder().Bytes(text); err == nil {
		return out, nil
	}
	var out []byte
	for at := 0; at < len(text); {
		r, size := utf8.DecodeRune(text[at:])
		one, err := e.NewEncoder().Bytes(text[at : at+size])
		switch {
		case err == nil:
			out = append(out, one...)
		case instead != nil:
			out = append(out, instead(r)...)
		default:
			return nil, fmt.Errorf("%s has no %q", name, r)
		}
		at += size
	}
	return out, nil
}
