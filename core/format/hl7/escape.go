package hl7

import (
	"encoding/hex"
	"strings"
)

// unescape replaces escape sequences (chapter 2.7) by what they stand for.
// Sequences for highlighting, formatting and a sender's own use stay as they
// are: they have no text of their own, and must not be lost.
func unescape(raw string, sep Separators) string {
	esc := string(sep.Escape)
	if !strings.Contains(raw, esc) {
		return raw
	}
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(raw, esc)
		b.WriteString(before)
		if !found {
			return b.String()
		}
		code, after, closed := strings.Cut(rest, esc)
		if !closed {
			b.WriteString(esc + rest)
			return b.String()
		}
		text, known := meaning(code, sep)
		if !known {
			text = esc + code + esc
		}
		b.WriteString(text)
		raw = after
	}
}

func meaning(code string, sep Separators) (string, bool) {
	switch code {
	case "F":
		return string(sep.Field), true
	case "S":
		return string(sep.Component), true
	case "T":
		return string(sep.Subcomponent), true
	case "R":
		return string(sep.Repetition), true
	case "E":
		return string(sep.Escape), true
	case ".br":
		return "\n", true
	}
	if strings.HasPrefix(code, "X") && len(code) > 1 {
		if b, err := hex.DecodeString(code[1:]); err == nil && invalidAt(b) < 0 {
			return string(b), true
		}
	}
	return "", false
}

// escape writes a text so that it is read again as it is. CR and LF, which
// would end the segment, are written as hexadecimal.
func escape(text string, sep Separators) string {
	e := string(sep.Escape)
	return strings.NewReplacer(
		e, e+"E"+e,
		string(sep.Field), e+"F"+e,
		string(sep.Component), e+"S"+e,
		string(sep.Subcomponent), e+"T"+e,
		string(sep.Repetition), e+"R"+e,
		"\r", e+"X0D"+e, "\n", e+"X0A"+e,
	).Replace(text)
}

// Escape is escape with the usual separators, for texts that are written by hand.
func Escape(text string) string { return escape(text, usual) }
