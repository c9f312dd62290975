package fixed

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

var layout = []message.Column{{Name: "card", Width: 6}, {Name: "name", Width: 8}, {Name: "fee", Width: 5,
	Right: true, Fill: '0'}}

func TestRows(t *testing.T) {
	const src = "LC1   Müller  00120\r\nLC2   \r\n\r\n"
	n, end, err := Decode([]byte(src), layout, 0)
	if err != nil || end != "\r\n" {
		t.Fatal(err, end)
	}
	if got := string(jsonfmt.Encode(n)); got != `[{"card":"LC1","name":"Müller","fee":"120"},{"card":"LC2","name":"","fee":""}]` {
		t.Error(got)
	}
	out, err := Encode(n, layout, "")
	if err != nil || string(out) != "LC1   Müller  00120\r\nLC2           00000\r\n" {
		t.Errorf("%q %v", out, err)
	}
}

// What is written is read again as it was, whatever stands in it: no blanks at the end of what
// is filled with them, and no zeros before what is filled with those.
func TestRoundTrips(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 4))
	letters := []rune("abcÄß€ 0123")
	for range 2000 {
		row := message.NewMap()
		for _, c := range layout {
			var b strings.Builder
			for range r.IntN(c.Width + 1) {
				b.WriteRune(letters[r.IntN(len(letters))])
			}
			text := strings.TrimRight(b.String(), " ")
			if c.Right {
				text = strings.TrimLeft(b.String(), "0")
			}
			row = row.With(c.Name, message.NewString(text))
		}
		want := message.NewList(row, row)
		out, err := Encode(want, layout, "\n")
		if err != nil {
			t.Fatal(err)
		}
		back, _, err := Decode(out, layout, 0)
		if err != nil || string(jsonfmt.Encode(back)) != string(jsonfmt.Encode(want)) {
			t.Fatalf("%q %v: %s", out, err, jsonfmt.Encode(back))
		}
	}
}

func TestWhatIsRefused(t *testing.T) {
	for src, want := range map[string]string{strings.Repeat("x", 20): "line 1, column 20: the line is longer",
		"a\n\xff":   "line 2, column 1: the text is not UTF-8",
		"a\nb\nc\n": "more than 8"} {
		if _, _, err := Decode([]byte(src), layout, 8); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", src, err, want)
		}
	}
	for src, want := range map[string]string{`[{"card":"1234567"}]`: `row 1, column card: "1234567" has 7 characters, and 6 fit`,
		`[{"other":1}]`: `no column "other"`, `[[1]]`: "a row is a map", `[{"card":"a\nb"}]`: "line end", `[{"card":[1]}]`: "a list does not fit"} {
		r, err := jsonfmt.Decode([]byte(src))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Encode(r.Root, layout, ""); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", src, err, want)
		}
	}
	for _, columns := range [][]message.Column{nil, {{Name: "a"}}, {{Width: 1}}, {{Name: "a", Width: 1}, {Name: "a",
		Width: 1}}} {
		if _, _, err := Decode(nil, columns, 0); err == nil {
			t.Errorf("%s is a layout", fmt.Sprint(columns))
		}
	}
}
