package charset

import (
	"fmt"
	"testing"
)

// Source: the code charts of ISO/IEC 8859-1 and 8859-15, Windows-1252 and KOI8-R at unicode.org
// (Public/MAPPINGS), from memory.
func TestCharacterSets(t *testing.T) {
	for _, c := range []struct{ name, bytes, text string }{
		{"ISO-8859-1", "caf\xe9 \xa4", "café ¤"}, {"latin1", "\xfc", "ü"}, {"ISO-8859-15", "\xa4", "€"},
		{"windows-1252", "\x80 \x93x\x94 \x96", "€ “x” –"}, {"CP1252", "\x85", "…"}, {"KOI8-R", "\xc1\xc2", "аб"},
		{"utf-16be", "\x00A\x20\xac", "A€"}, {"utf-8", "é", "é"}, {"", "é", "é"}, {"us-ascii", "a", "a"},
	} {
		got, err := ToUTF8([]byte(c.bytes), c.name)
		if err != nil || string(got) != c.text {
			t.Errorf("%s: %q %v, want %q", c.name, got, err, c.text)
		}
		back, err := FromUTF8([]byte(c.text), c.name, nil)
		if err != nil || string(back) != c.bytes {
			t.Errorf("%s: %q %v, want %q", c.name, back, err, c.bytes)
		}
		if err := Check(c.name); err != nil {
			t.Error(err)
		}
	}
}

func TestWhatASetLacks(t *testing.T) {
	if _, err := FromUTF8([]byte("x €"), "iso-8859-1", nil); err == nil || err.Error() != `iso-8859-1 has no '€'` {
		t.Error(err)
	}
	got, err := FromUTF8([]byte("é €!"), "iso-8859-1", func(r rune) string { return fmt.Sprintf("&#%d;", r) })
	if err != nil || string(got) != "\xe9 &#8364;!" {
		t.Errorf("%q %v", got, err)
	}
	for _, name := range []string{"klingon", "x-unknown"} {
		if Check(name) == nil {
			t.Error(name)
		}
		if _, err := ToUTF8([]byte("x"), name); err == nil {
			t.Error(name)
		}
	}
}
