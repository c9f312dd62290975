package hl7

import (
	"encoding/hex"
	"slices"
	"strings"
)

// Escape sequences are of two sorts (chapter 2.7). Some stand for a text: \F\ for the field
// separator, \X0A\ for a byte, \.br\ for a line end. The others have none: \H\ and \N\ light a
// text up, \.sp\ and its like lay it out, \Cxxyy\ and \Mxxyyzz\ change the character set, \Zxx\
// is a sender's own. In a text of the tree these stand as they are written, and they must
// leave as they came.
//
// A text that says the same by chance, such as the folder C:\H\, must not become one. So
// what is written again as a sequence is what stood in the message that was read as one, and
// not also as a text: Escapes tells, and the layout of a message carries it through all steps.

// Escapes gives the sequences of a message that are written again as they were. "" in it
// stands for nothing.
func Escapes(m *Message) []string {
	if m == nil {
		return nil
	}
	var found, texts []string
	note := func(list *[]string, code string) {
		if !slices.Contains(*list, code) {
			*list = append(*list, code)
		}
	}
	var look func(m *Message)
	look = func(m *Message) {
		for _, s := range m.Segments {
			if strings.IndexByte(s.Raw, s.sep.Escape) < 0 {
				continue
			}
			for _, field := range s.Fields() {
				sequences(field, s.sep, func(code string) { note(&found, code) })
				if strings.Contains(field, string([]byte{s.sep.Escape, 'E', s.sep.Escape})) {
					lookalikes(field, s.sep, func(code string) { note(&texts, code) })
				}
			}
		}
		for _, p := range m.parts {
			look(p)
		}
	}
	look(m)
	return slices.DeleteFunc(found, func(code string) bool { return slices.Contains(texts, code) })
}

// sequences finds those that have no text of their own, or .br, whose text may be written in
// another way.
func sequences(raw string, sep Separators, found func(code string)) {
	esc := string(sep.Escape)
	for {
		_, rest, begun := strings.Cut(raw, esc)
		if !begun {
			return
		}
		code, after, closed := strings.Cut(rest, esc)
		if !closed {
			return
		}
		if formatting(code) {
			found(code)
		}
		raw = after
	}
}

// lookalikes finds texts that say the same as a sequence.
func lookalikes(raw string, sep Separators, found func(code string)) {
	for _, part := range strings.FieldsFunc(raw, func(r rune) bool {
		return r == rune(sep.Component) || r == rune(sep.Repetition) || r == rune(sep.Subcomponent)
	}) {
		text := unescape(strings.ReplaceAll(part, string([]byte{sep.Escape, 'E', sep.Escape}), "\x00"), sep)
		if strings.IndexByte(text, 0) < 0 {
			continue
		}
		for from := 0; ; {
			at := strings.IndexByte(text[from:], 0)
			if at < 0 {
				break
			}
			from += at + 1
			rest := text[from:]
			if end := strings.IndexAny(rest, "\x00"+string(sep.Escape)); end >= 0 && formatting(rest[:end]) {
				found(rest[:end])
			}
		}
	}
}

// formatting tells whether a sequence has no text of its own.
func formatting(code string) bool {
	switch {
	case code == "H" || code == "N":
		return true
	case strings.HasPrefix(code, "."):
		return len(code) > 2 && code[1] >= 'a' && code[1] <= 'z'
	case strings.HasPrefix(code, "Z"):
		return len(code) > 1
	case strings.HasPrefix(code, "C") && len(code) == 5, strings.HasPrefix(code, "M") && (len(code) == 5 ||
		len(code) == 7):
		_, err := hex.DecodeString(code[1:])
		return err == nil
	}
	return false
}

// unescape replaces escape sequences by what they stand for. Those without a text of their
// own stay as they are.
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

// escaping writes texts with a message's separators.
type escaping struct {
	Separators
	keep []string // sequences that stand in texts and are written as such
}

// escape writes a text so that it is read again as it is. CR and LF, which would end
// the segment, are hexadecimal; LF is \.br\ where the message that was read has that.
func (e escaping) escape(text string) string {
	esc := string(e.Escape)
	if !strings.ContainsAny(text, "\r\n"+esc+string([]byte{e.Field, e.Component, e.Subcomponent, e.Repetition})) {
		return text
	}
	lineEnd, pairs := "X0A", []string{}
	for _, code := range e.keep {
		if code == ".br" {
			lineEnd = code
		} else {
			pairs = append(pairs, esc+code+esc, esc+code+esc)
		}
	}
	return strings.NewReplacer(append(pairs,
		esc, esc+"E"+esc,
		string(e.Field), esc+"F"+esc,
		string(e.Component), esc+"S"+esc,
		string(e.Subcomponent), esc+"T"+esc,
		string(e.Repetition), esc+"R"+esc,
		"\r", esc+"X0D"+esc, "\n", esc+lineEnd+esc,
	)...).Replace(text)
}

// Escape is escape with the usual separators, for texts that are written by hand.
func Escape(text string) string { return escaping{Separators: usual}.escape(text) }
