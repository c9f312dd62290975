package jsonl

import (
	"bufio"
	"bytes"
	stdjson "encoding/json"
	"strings"
	"testing"

	"readyferry/core/format/json"
)

// Source: https://jsonlines.org, its three requirements, from memory; what encoding/json reads
// line by line is the same.
func TestLines(t *testing.T) {
	const src = "{\"a\": 0.10}\r\n\n[1,2]\n\"é\"\nnull\n12345678901234567890"
	n, _, err := Decode([]byte(src), json.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	const want = "{\"a\":0.10}\n[1,2]\n\"é\"\nnull\n12345678901234567890\n"
	if got := Encode(n); string(got) != want {
		t.Errorf("%s", got)
	}
	lines := bufio.NewScanner(strings.NewReader(want))
	for i := 0; lines.Scan(); i++ {
		var mine bytes.Buffer
		if err := stdjson.Compact(&mine, lines.Bytes()); err != nil || mine.String() != string(json.Encode(n.Items[i])) {
			t.Errorf("line %d: %s %v", i+1, json.Encode(n.Items[i]), err)
		}
	}
	if one := Encode(n.Items[0]); string(one) != "{\"a\":0.10}\n" {
		t.Errorf("%s", one)
	}
	if n, _, err := Decode(nil, json.Limits{}); err != nil || len(n.Items) != 0 || len(Encode(n)) != 0 {
		t.Error("nothing is no line")
	}
}

func TestWhatIsRefused(t *testing.T) {
	for src, want := range map[string]string{"{}\n{\"a\":}\n": "JSON Lines, line 2, column 6", "1 2\n": "line 1, column 3",
		"{\n}\n": "line 1", "1\n2\n3\n": "more than 2"} {
		if _, _, err := Decode([]byte(src), json.Limits{MaxNodes: 2}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", src, err, want)
		}
	}
}
