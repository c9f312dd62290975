package connect

import (
	"strings"
	"unicode/utf8"

	"readyferry/core/message"
)

// HeaderText gives a text that can stand in a header, whatever an outside system sent: what
// is no UTF-8 and what would end a line is replaced.
func HeaderText(s string) string {
	if !utf8.ValidString(s) {
		s = strings.ToValidUTF8(s, "\uFFFD")
	}
	return strings.Map(func(r rune) rune {
		if r == '\r' || r == '\n' || r == 0 {
			return ' '
		}
		return r
	}, s)
}

// mostWords is how much of what a system says is shown to people, in bytes.
const mostWords = 250

// ShortText gives the beginning of what an outside system said, as HeaderText has it.
func ShortText(s string) string {
	s = HeaderText(strings.TrimSpace(s))
	if len(s) > mostWords {
		s = strings.ToValidUTF8(s[:mostWords], "") + "…"
	}
	return s
}

// SettingText gives one of the settings of an intake or delivery as its text: "" where it is
// not there, or is a map.
func SettingText(in Settings, name string) string {
	if n := in.Get(name); n != nil && n.Kind != message.Map {
		return n.Text
	}
	return ""
}
