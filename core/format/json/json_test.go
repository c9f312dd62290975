package json

import (
	"encoding/hex"
	stdjson "encoding/json"
	"os"
	"strings"
	"testing"
	"unicode/utf8"

	"readyferry/core/message"
)

type suiteCase struct {
	Name, Expect, Input string
	InputHex            string `json:"input_hex"`
	Damaged             bool
}

func suite(t testing.TB, file string) []suiteCase {
	b, err := os.ReadFile("testdata/" + file)
	if err != nil {
		t.Fatal(err)
	}
	var f struct{ Cases []suiteCase }
	if err := stdjson.Unmarshal(b, &f); err != nil {
		t.Fatal(err)
	}
	return f.Cases
}

// Source: the published parsing suite in testdata (see SOURCE.md there).
func TestParsingSuite(t *testing.T) {
	n := 0
	for _, c := range append(suite(t, "parsing.json"), suite(t, "bytes.json")...) {
		if c.Damaged {
			continue
		}
		n++
		src := []byte(c.Input)
		if c.InputHex != "" {
			src, _ = hex.DecodeString(c.InputHex)
		}
		r, err := Decode(src)
		switch {
		case strings.HasPrefix(c.Expect, "accept") && err != nil:
			t.Errorf("%s: refused: %v", c.Name, err)
		case strings.HasPrefix(c.Expect, "reject") && err == nil:
			t.Errorf("%s: accepted", c.Name)
		case err == nil:
			out := Encode(r.Root)
			if !utf8.Valid(out) {
				t.Errorf("%s: hands on bytes that are not UTF-8", c.Name)
			}
			if _, err := Decode(out); err != nil {
				t.Errorf("%s: its own output is refused: %v", c.Name, err)
			}
		}
	}
	if n < 150 {
		t.Fatalf("only %d cases ran", n)
	}
}

// Source: the transform part of the same suite: numbers keep their digits.
func TestNumbersKeepTheirDigits(t *testing.T) {
	for _, c := range suite(t, "transform.json") {
		r, err := Decode([]byte(c.Input))
		if err != nil {
			continue
		}
		if strings.HasPrefix(c.Name, "number_") && string(Encode(r.Root)) != strings.Join(strings.Fields(c.Input), "") {
			t.Errorf("%s: %q became %q", c.Name, c.Input, Encode(r.Root))
		}
	}
	const exact = `[12345678901234567890,0.10,1E400,-0,1.000000000000000000000001]`
	r, err := Decode([]byte(exact))
	if err != nil || string(Encode(r.Root)) != exact {
		t.Errorf("%s, %v", Encode(r.Root), err)
	}
}

func TestErrorsSayWhere(t *testing.T) {
	for _, c := range []struct{ src, want string }{
		{"", "JSON, line 1, column 1: a value is expected, but the document ends here"},
		{"{\n  \"a\": 1,\n}", "JSON, line 3, column 1: a member name in double quotes is expected, not '}'"},
		{"{\"é\" 1}", "JSON, line 1, column 6: a colon is expected after the name \"é\", not '1'"},
		{"[1 2]", "JSON, line 1, column 4: a comma or ] is expected, not '2'"},
		{"[01]", "JSON, line 1, column 3: a number does not begin with 0 unless it is followed by a point"},
		{"{} x", "JSON, line 1, column 4: nothing may follow the value, but 'x' does"},
		{`"\x"`, `JSON, line 1, column 2: \x is no escape; JSON knows \" \\ \/ \b \f \n \r \t and \u`},
		{strings.Repeat("[", 600), "JSON, line 1, column 514: the document is nested deeper than 512 levels"},
	} {
		if _, err := Decode([]byte(c.src)); err == nil || err.Error() != c.want {
			t.Errorf("%.20q: %v, want %s", c.src, err, c.want)
		}
	}
}

func TestDuplicatesAreToldAndTheLastCounts(t *testing.T) {
	long := make([]string, 0, 20)
	for _, c := range "abcdefghijklmnop" {
		long = append(long, `"`+string(c)+`":1`)
	}
	for _, src := range []string{`{"a":1,"b":2,"a":3}`, `{` + strings.Join(long, ",") + `,"a":3}`} {
		r, err := Decode([]byte(src))
		if err != nil || len(r.Duplicates) != 1 || r.Duplicates[0] != "a" || r.Root.Get("a").Text != "3" {
			t.Errorf("%s: %v %v", src, r.Duplicates, err)
		}
	}
}

func FuzzDecode(f *testing.F) {
	for _, c := range suite(f, "parsing.json") {
		f.Add([]byte(c.Input))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		r, err := Decode(src)
		if err != nil {
			if _, ok := err.(*message.SyntaxError); !ok {
				t.Fatalf("not a positioned error: %v", err)
			}
			return
		}
		out := Encode(r.Root)
		if !stdjson.Valid(out) {
			t.Fatalf("wrote %q", out)
		}
		again, err := Decode(out)
		if err != nil || string(Encode(again.Root)) != string(out) {
			t.Fatalf("%q does not come back: %v", out, err)
		}
	})
}
