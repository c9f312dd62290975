package hl7

import (
	"fmt"
	"regexp"
	"time"
)

var timeForm = regexp.MustCompile(
	`^(\d{4})(?:(\d{2})(?:(\d{2})(?:(\d{2})(?:(\d{2})(?:(\d{2})(\.\d{1,4})?)?)?)?)?)?([+-]\d{4})?$`,
)

// ISO gives a time stamp of HL7 v2 (TS and DTM, chapter 2.A) as ISO 8601, with
// the same precision. The error says what is no such time.
func ISO(s string) (string, error) {
	bad := fmt.Errorf("%q is no time of HL7; it is written YYYYMMDDHHMMSS, as much of it as is known, and +ZZZZ", s)
	m := timeForm.FindStringSubmatch(s)
	if m == nil {
		return "", bad
	}
	full := m[1]
	for i, otherwise := range []string{"01", "01", "00", "00", "00"} {
		if m[i+2] != "" {
			otherwise = m[i+2]
		}
		full += otherwise
	}
	if _, err := time.Parse("20060102150405", full); err != nil {
		return "", bad
	}
	out := m[1]
	for i, part := range m[2:7] {
		if part == "" {
			break
		}
		out += []string{"-", "-", "T", ":", ":"}[i] + part
	}
	if m[4] != "" && m[5] == "" {
		out += ":00" // ISO 8601 has no hour alone beside a zone that all readers take
	}
	out += m[7]
	if zone := m[8]; zone != "" {
		if _, err := time.Parse("-0700", zone); err != nil {
			return "", bad
		}
		if m[4] != "" {
			out += zone[:3] + ":" + zone[3:]
		}
	}
	return out, nil
}
