package want

import (
	"encoding/json"
	"reflect"
	"testing"

	"readyferry/core/message"
)

// What is written by hand reads as what the general encoder writes.
func TestWrittenByHandAsByTheEncoder(t *testing.T) {
	odd := "a\"b\\c\n\t\x00\u2028<é>😀"
	lists := [][]message.Header{nil, {}, {{Name: "A", Value: ""}}, {{Name: odd, Value: odd}, {Name: "b", Value: "c"}}}
	for _, list := range lists {
		var theirs []message.Header
		b, err := json.Marshal(list)
		if err != nil || json.Unmarshal(b, &theirs) != nil {
			t.Fatal(err)
		}
		for _, written := range [][]byte{EncodeHeaders(list), b} { // by this release, and by earlier ones
			if mine, err := DecodeHeaders(written); err != nil || !reflect.DeepEqual(mine, theirs) {
				t.Errorf("%s reads as %q, %v, and for the encoder as %q", written, mine, err, theirs)
			}
		}
		var answer, same Effect
		if b, err = json.Marshal(Effect{Status: 204, Headers: list}); err != nil || json.Unmarshal(b, &answer) != nil ||
			json.Unmarshal(EncodeAnswer(204, list), &same) != nil {
			t.Fatal(err)
		}
		if len(same.Headers) != len(answer.Headers) || !same.Same(&answer) {
			t.Errorf("%+v, and the encoder %+v", same, answer)
		}
		for _, r := range []Request{
			{}, {Method: "POST", Path: "/" + odd, Headers: list, Format: "json"}, {Headers: list, Ask: true},
			{Headers: list, Settings: []byte(`{"a":1}`)}, {Headers: list, Query: &Query{SQL: "SELECT 1"}},
		} {
			var mine, theirs Request
			b, err := json.Marshal(&r)
			if err != nil || json.Unmarshal(b, &theirs) != nil {
				t.Fatal(err)
			}
			if b, err = r.Encode(); err != nil || json.Unmarshal(b, &mine) != nil {
				t.Fatalf("%s %v", b, err)
			}
			if !reflect.DeepEqual(mine, theirs) {
				t.Errorf("%+v, and the encoder %+v", mine, theirs)
			}
		}
	}
}
