package hl7

import (
	"bytes"
	"fmt"
	"strings"

	"readyferry/core/format/charset"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
)

// charsets are those of HL7 table 0211 in which the letters of a header are those of ASCII;
// in UTF-8 is what names none of them (HL7 v2.5.1, 2.15.9.18).
var charsets = map[string]encoding.Encoding{
	"8859/1": charmap.ISO8859_1, "8859/2": charmap.ISO8859_2, "8859/3": charmap.ISO8859_3, "8859/4": charmap.ISO8859_4,
	"8859/5": charmap.ISO8859_5, "8859/6": charmap.ISO8859_6, "8859/7": charmap.ISO8859_7, "8859/8": charmap.ISO8859_8,
	"8859/9": charmap.ISO8859_9, "8859/15": charmap.ISO8859_15, "GB 18030-2000": simplifiedchinese.GB18030,
	"BIG-5": traditionalchinese.Big5,
}

// charsetOf gives the name and encoding that the first message of a text names in MSH-18;
// nil: it is UTF-8.
func charsetOf(src []byte) (string, encoding.Encoding) {
	at := bytes.Index(src, []byte("MSH"))
	if at < 0 || at > 0 && !bytes.ContainsAny(src[at-1:at], "\r\n\xBF") { // behind another segment, or a byte order mark
		return "", nil
	}
	head := src[at:]
	if end := bytes.IndexAny(head, "\r\n"); end >= 0 {
		head = head[:end]
	}
	if len(head) < 5 {
		return "", nil
	}
	fields := bytes.SplitN(head, head[3:4], 19)
	if len(fields) < 18 {
		return "", nil
	}
	first := fields[17]
	if len(fields[1]) > 1 { // the first of several is that of the message
		first, _, _ = bytes.Cut(first, fields[1][1:2])
	}
	name := strings.ToUpper(string(first))
	of := charsets[name]
	if of == nil && !charset.IsUTF8(name) { // senders write other names than those of the table, too
		of, _ = charset.Find(name)
	}
	return name, of
}

// Charset gives the name that MSH-18 has for the character set of a message; "" where it has
// none.
func Charset(src []byte) string {
	name, _ := charsetOf(src)
	return name
}

// Names tells whether a message says itself in what character set it is.
func Names(src []byte) bool {
	return Charset(src) != ""
}

// Text gives a message in UTF-8, whatever its MSH-18 names.
func Text(src []byte) []byte {
	if _, of := charsetOf(src); of != nil {
		if out, err := of.NewDecoder().Bytes(src); err == nil {
			return out
		}
	}
	return src
}

// Bytes gives a text in the character set that its MSH-18 names. The error names a
// character that this does not have.
func Bytes(text string) ([]byte, error) {
	name, of := charsetOf([]byte(text))
	if of == nil {
		return []byte(text), nil
	}
	out, err := of.NewEncoder().Bytes([]byte(text))
	if err != nil {
		for _, r := range text {
			if _, err := of.NewEncoder().String(string(r)); err != nil {
				return nil, fmt.Errorf("HL7: MSH-18 says %s, which has no %q", name, r)
			}
		}
		return nil, fmt.Errorf("HL7: MSH-18 says %s, in which the message cannot be written", name)
	}
	return out, nil
}
