package format

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"readyferry/core/format/charset"
	"readyferry/core/format/hl7"
	"readyferry/core/format/xml"
	"readyferry/core/message"
)

// inUTF8 gives what a decoder reads. A document that says itself in what it is written, as XML
// and HL7 do, is believed before anybody else; fields of a form are in a character set behind
// their percent signs, and bytes are bytes.
func inUTF8(name string, src []byte, l message.Layout) ([]byte, error) {
	switch {
	case name == Binary, name == Form, name == Multipart:
		return src, nil
	case name == XML && xml.Names(src), name == HL7 && hl7.Names(src):
		return src, nil
	case strings.HasPrefix(strings.ToLower(l.Charset), "utf-16"):
		return fromUTF16(src, strings.EqualFold(l.Charset, "utf-16be")), nil
	case charset.IsUTF8(l.Charset) && name == CSV && l.Lenient && !utf8.Valid(src):
		return mostlyUTF8(src)
	}
	text, err := charset.ToUTF8(src, l.Charset)
	if err != nil && name != Text && utf8.Valid(src) {
		return src, nil // a name that nobody knows, of what is plain
	}
	return text, err
}

// fromUTF16 reads UTF-16 by its byte order mark, else as its name says.
func fromUTF16(src []byte, big bool) []byte {
	big = big || bytes.HasPrefix(src, []byte("\xFE\xFF"))
	units := make([]uint16, 0, len(src)/2)
	for i := 0; i+1 < len(src); i += 2 {
		lo, hi := src[i], src[i+1]
		if big {
			lo, hi = hi, lo
		}
		units = append(units, uint16(hi)<<8|uint16(lo))
	}
	return bytes.TrimPrefix([]byte(string(utf16.Decode(units))), []byte("\uFEFF"))
}

// mostlyUTF8 reads UTF-8 in which some bytes are not, as programs leave it that mix files of
// two sorts: those bytes are Windows-1252 (common practice).
func mostlyUTF8(src []byte) ([]byte, error) {
	out := make([]byte, 0, len(src)+len(src)/8)
	for at := 0; at < len(src); {
		r, size := utf8.DecodeRune(src[at:])
		if r != utf8.RuneError || size > 1 {
			out = append(out, src[at:at+size]...)
			at += size
			continue
		}
		one, err := charset.ToUTF8(src[at:at+1], "windows-1252")
		if err != nil {
			return nil, err
		}
		out = append(out, one...)
		at++
	}
	return out, nil
}

// InCharset gives what a message of a format leaves with in another character set than it
// has: from is that of its bytes. XML says anything by a reference, and says itself in what it
// is written; HL7 goes by its MSH-18. The error names a character that the set lacks.
func InCharset(name string, raw []byte, from, to string) ([]byte, error) {
	if name == Binary || name == Form || name == Multipart || name == HL7 && hl7.Names(raw) || strings.EqualFold(from,
		to) {
		return raw, nil
	}
	if err := charset.Check(to); err != nil {
		return nil, err
	}
	if name == XML {
		return xml.InCharset(raw, to)
	}
	text, err := inUTF8(name, raw, message.Layout{Charset: from})
	if err != nil {
		return nil, err
	}
	if !utf8.Valid(text) {
		return nil, fmt.Errorf("its bytes are no text of %s", from)
	}
	return charset.FromUTF8(text, to, nil)
}
