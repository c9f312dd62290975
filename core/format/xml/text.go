package xml

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"readyferry/core/format/charset"
	"readyferry/core/message"
)

var encodingName = regexp.MustCompile(`^<\?xml[^>]*?\sencoding\s*=\s*["']([A-Za-z][A-Za-z0-9._-]*)["']`)

var versionSaid = regexp.MustCompile(`^<\?xml\s+version\s*=\s*["'][^"']*["']`)

// decodeText gives a document as UTF-8, by its byte order mark or by what it
// says of itself (XML 1.0, appendix F).
func decodeText(src []byte) ([]byte, error) {
	fail := func(problem string) error {
		return &message.SyntaxError{Format: "XML", Line: 1, Column: 1, Problem: problem}
	}
	switch {
	case bytes.HasPrefix(src, []byte("\xEF\xBB\xBF")):
		src = src[3:]
	case bytes.HasPrefix(src, []byte("\xFE\xFF")), bytes.HasPrefix(src, []byte("\x00<\x00?")):
		return utf16Text(src, true)
	case bytes.HasPrefix(src, []byte("\xFF\xFE")), bytes.HasPrefix(src, []byte("<\x00?\x00")):
		return utf16Text(src, false)
	}
	if m := encodingName.FindSubmatch(src); m != nil {
		switch name := string(m[1]); {
		case strings.HasPrefix(strings.ToLower(name), "utf-16"):
			return nil, fail("the document says that it is UTF-16, but is not written so")
		case !charset.IsUTF8(name):
			text, err := charset.ToUTF8(src, name)
			if err != nil {
				return nil, fail(err.Error())
			}
			return text, nil
		}
	}
	if !utf8.Valid(src) {
		for i := 0; i < len(src); {
			r, size := utf8.DecodeRune(src[i:])
			if r == utf8.RuneError && size <= 1 {
				line, column := message.Position(src, i)
				return nil, &message.SyntaxError{
					Format: "XML",
					Line:   line,
					Column: column,
					Offset: i,
					Problem: fmt.Sprintf(
						"the byte 0x%02X is not UTF-8, and the document names no other encoding",
						src[i],
					),
				}
			}
			i += size
		}
	}
	return src, nil
}

// Names tells whether a document says itself in what it is written, by a byte order mark or
// its declaration.
func Names(src []byte) bool {
	return Encoding(src) == "UTF-16" || bytes.HasPrefix(src, []byte("\xEF\xBB\xBF")) || encodingName.Match(src)
}

// Encoding names the encoding that a document is read in.
func Encoding(src []byte) string {
	switch {
	case bytes.HasPrefix(src, []byte("\xFE\xFF")),
		bytes.HasPrefix(src, []byte("\x00<\x00?")),
		bytes.HasPrefix(src, []byte("\xFF\xFE")),
		bytes.HasPrefix(src, []byte("<\x00?\x00")):
		return "UTF-16"
	case bytes.HasPrefix(src, []byte("\xEF\xBB\xBF")):
		return "UTF-8"
	}
	if m := encodingName.FindSubmatch(src); m != nil {
		if name := strings.ToUpper(string(m[1])); !charset.IsUTF8(name) {
			return name
		}
	}
	return "UTF-8"
}

// InCharset gives a document in a character set, which its declaration names. A character
// that the set lacks stands as a reference to it (XML 1.0, 4.1).
func InCharset(src []byte, name string) ([]byte, error) {
	text, err := decodeText(src)
	if err != nil {
		return nil, err
	}
	switch at := encodingName.FindSubmatchIndex(text); {
	case at != nil:
		text = slices.Concat(text[:at[2]], []byte(name), text[at[3]:])
	case versionSaid.Match(text) && !charset.IsUTF8(name):
		end := versionSaid.FindIndex(text)[1] // before standalone, where that is said (2.8)
		text = slices.Concat(text[:end], []byte(` encoding="`+name+`"`), text[end:])
	case !charset.IsUTF8(name):
		text = slices.Concat([]byte(`<?xml version="1.0" encoding="`+name+`"?>`), text)
	}
	return charset.FromUTF8(text, name, func(r rune) string { return fmt.Sprintf("&#%d;", r) })
}

func utf16Text(src []byte, big bool) ([]byte, error) {
	if len(src)%2 != 0 {
		return nil, &message.SyntaxError{
			Format:  "XML",
			Line:    1,
			Column:  1,
			Problem: "the document is UTF-16, but has half a character at its end",
		}
	}
	units := make([]uint16, 0, len(src)/2)
	for i := 0; i < len(src); i += 2 {
		lo, hi := src[i], src[i+1]
		if big {
			lo, hi = hi, lo
		}
		units = append(units, uint16(hi)<<8|uint16(lo))
	}
	if len(units) > 0 && units[0] == 0xFEFF {
		units = units[1:]
	}
	return []byte(string(utf16.Decode(units))), nil
}

// nameStart and nameRest follow XML 1.0, 2.3, without the colon.
func nameStart(r rune) bool {
	return r == '_' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' ||
		r >= 0xC0 &&
			r <= 0xD6 || r >= 0xD8 && r <= 0xF6 || r >= 0xF8 && r <= 0x2FF || r >= 0x370 && r <= 0x37D || r >= 0x37F &&
		r <= 0x1FFF ||
		r >= 0x200C &&
			r <= 0x200D || r >= 0x2070 && r <= 0x218F || r >= 0x2C00 && r <= 0x2FEF || r >= 0x3001 && r <= 0xD7FF ||
		r >= 0xF900 && r <= 0xFDCF || r >= 0xFDF0 && r <= 0xFFFD || r >= 0x10000 && r <= 0xEFFFF
}

func nameRest(r rune) bool {
	return nameStart(r) || r == '-' || r == '.' || r >= '0' && r <= '9' || r == 0xB7 || r >= 0x300 && r <= 0x36F ||
		r >= 0x203F && r <= 0x2040
}

func validName(s string) bool {
	for i, r := range s {
		if i == 0 && !nameStart(r) || !nameRest(r) {
			return false
		}
	}
	return s != ""
}

// validText finds a character that no XML document can hold (2.2).
func invalidChar(s string) (rune, bool) {
	for _, r := range s {
		if r < 0x20 && r != '\t' && r != '\n' && r != '\r' || r == 0xFFFE || r == 0xFFFF {
			return r, true
		}
	}
	return 0, false
}
