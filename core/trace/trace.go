// Package trace reads and writes W3C Trace Context (the Recommendation of 23 November 2021,
// section 3.2): the header traceparent, by which what happens in several systems is known to
// belong together.
package trace

import (
	"encoding/hex"
	"strings"
)

// Header is the name of the header.
const Header = "traceparent"

// ID names a trace: all that came of one request, in all systems.
type ID [16]byte

// Read reads a traceparent. Versions to come are read as far as this one goes (4.3 of the
// Recommendation); what is not valid is as if it were not there.
func Read(header string) (id ID, span [8]byte, ok bool) {
	const size = len("00-00000000000000000000000000000000-0000000000000000-00")
	header = strings.TrimSpace(header)
	if len(header) < size || len(header) > size && (header[:2] == "00" || header[size] != '-') {
		return id, span, false
	}
	version, okVersion := lower(header[:2], 1)
	trace, okTrace := lower(header[3:35], 16)
	parent, okParent := lower(header[36:52], 8)
	flags, okFlags := lower(header[53:55], 1)
	if header[2] != '-' || header[35] != '-' || header[52] != '-' || !okVersion || !okTrace || !okParent || !okFlags {
		return id, span, false
	}
	if version[0] == 0xff || version[0] == 0 && flags[0] > maxFlags {
		return id, span, false
	}
	copy(id[:], trace)
	copy(span[:], parent)
	return id, span, id != ID{} && span != [8]byte{}
}

// maxFlags are the flags that version 00 has: sampled, and random.
const maxFlags = 0x03

// lower reads lower case hexadecimal digits.
func lower(s string, size int) ([]byte, bool) {
	b, err := hex.DecodeString(s)
	return b, err == nil && len(b) == size && s == strings.ToLower(s)
}

// Write gives the traceparent of a call that belongs to a trace and is itself known as span.
func Write(id ID, span [8]byte) string {
	return "00-" + hex.EncodeToString(id[:]) + "-" + hex.EncodeToString(span[:]) + "-01"
}
