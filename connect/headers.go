package connect

import (
	"strings"
	"unicode/utf8"
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
