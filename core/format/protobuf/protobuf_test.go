package protobuf

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/types/dynamicpb"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

func schema(t *testing.T, text, typ string) *Schema {
	t.Helper()
	s, err := Parse(
		map[string][]byte{"schemas/s.proto": []byte(text), "schemas/kinds.proto": []byte(kinds)},
		"schemas/s.proto",
		typ,
	)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func node(t *testing.T, text string) *message.Node {
	t.Helper()
	r, err := jsonfmt.Decode([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return r.Root
}

// The examples of the encoding chapter of the Protocol Buffers documentation
// (protobuf.dev/programming-guides/encoding).
func TestEncodingChapter(t *testing.T) {
	for _, c := range []struct{ fields, hex, json string }{
		{"int32 a = 1;", "08 96 01", `{"a":150}`},
		{"string b = 2;", "12 07 74 65 73 74 69 6e 67", `{"b":"testing"}`},
		{"Test1 c = 3; message Test1 { int32 a = 1; }", "1a 03 08 96 01", `{"c":{"a":150}}`},
		{"string d = 4; repeated int32 e = 6 [packed = false];", "22 05 68 65 6c 6c 6f 30 01 30 02 30 03", `{"d":"hello","e":[1,2,3]}`},
		{"repeated int32 f = 6;", "32 06 03 8e 02 9e a7 05", `{"f":[3,270,86942]}`},
		{"sint32 z = 1;", "08 03", `{"z":-2}`},
		{"int64 n = 1;", "08 fe ff ff ff ff ff ff ff ff 01", `{"n":-2}`},
		{"map<string, int32> m = 7;", "3a 05 0a 01 61 10 01", `{"m":{"a":1}}`},
	} {
		s := schema(t, `syntax = "proto3"; message M { `+c.fields+` }`, "")
		src, _ := hex.DecodeString(strings.ReplaceAll(c.hex, " ", ""))
		n, _, err := s.Decode(src, 100, 100)
		if got := string(jsonfmt.Encode(n)); err != nil || got != c.json {
			t.Errorf("%s: %s, %v; want %s", c.hex, got, err, c.json)
			continue
		}
		if out, err := s.Encode(n); err != nil || string(out) != string(src) {
			t.Errorf("%s: %x, %v; want %s", c.json, out, err, c.hex)
		}
	}
}

const kinds = `syntax = "proto3"; package lark; enum Kind { UNKNOWN = 0; BOOK = 1; DISC = 2; }`

const loan = `syntax = "proto3";
package lark;
import "kinds.proto";
import "google/protobuf/timestamp.proto";
import "google/protobuf/duration.proto";
import "google/protobuf/wrappers.proto";
import "google/protobuf/struct.proto";
message Loan {
  string card = 1;
  repeated Copy copies = 2;
  optional string note = 3;
  google.protobuf.Timestamp due = 4;
  google.protobuf.Duration time_left = 5;
  google.protobuf.Int64Value fee = 6;
  oneof place { string branch = 7; int32 shelf = 8; }
  map<int32, string> pages = 9;
  bytes cover = 10;
  google.protobuf.Struct more = 11;
  double weight = 12;
  message Copy { uint64 item = 1; Kind kind = 2; Loan of = 3; }
}
message Other { int32 x = 1; }`

func TestWhatATypeTakes(t *testing.T) {
	s := schema(t, loan, "Loan")
	body := `{"card":"LC1","copies":[{"item":18446744073709551615,"kind":"BOOK"}],"due":"2026-05-04T09:00:00Z","time_left":"90s","fee":250,` +
		`"shelf":4,"pages":{"7":"x"},"cover":"AQI=","more":{"a":[1,null]},"weight":"NaN"}`
	out, err := s.Encode(node(t, body))
	if err != nil {
		t.Fatal(err)
	}
	n, _, err := s.Decode(out, 100, 100)
	if got := string(jsonfmt.Encode(n)); err != nil || got != body {
		t.Errorf("%s, %v", got, err)
	}
	if n, _, err := s.Decode(nil, 100, 100); err != nil ||
		string(jsonfmt.Encode(n)) != `{"card":"","copies":[],"pages":{},"cover":"","weight":0}` {
		t.Errorf("nothing: %s, %v", jsonfmt.Encode(n), err)
	}
	for body, want := range map[string]string{
		`[]`:                                "protobuf, the document: a list was given, and the schema has the message Loan",
		`{"card":1}`:                        "protobuf, /card: a number was given, and the schema has string",
		`{"copies":[{"kind":"CD"}]}`:        `protobuf, /copies/0/kind: the enum Kind has no value "CD"; it has UNKNOWN, BOOK, DISC`,
		`{"copies":[{"item":-1}]}`:          "protobuf, /copies/0/item: -1 is no uint64",
		`{"branch":"x","shelf":1}`:          "protobuf, the document: of place there is one at a time, and shelf is there beside branch",
		`{"due":"soon"}`:                    `protobuf, /due: "soon" is no Timestamp`,
		`{"pages":{"x":"y"}}`:               "protobuf, /pages/x: x is no int32",
		`{"titel":1}`:                       "protobuf, the document: the message Loan has no field titel; it has card, copies",
		`{"copies":[{"of":{"cover":"%"}}]}`: "protobuf, /copies/0/of/cover: a string was given, and the schema has bytes",
	} {
		if _, err := s.Encode(node(t, body)); err == nil || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%s: %v, want %s", body, err, want)
		}
	}
	for hexed, want := range map[string]string{"0a05": "it is no message lark.Loan", "0a01ff": "it is no message lark.Loan"} {
		src, _ := hex.DecodeString(hexed)
		if _, _, err := s.Decode(src, 100, 100); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", hexed, err)
		}
	}
	// What the file does not know stays: field 99 of a newer one.
	src, _ := hex.DecodeString("0a0178980605")
	n, _, err = s.Decode(src, 100, 100)
	if err != nil || n.Get("@unknown") == nil {
		t.Fatalf("%s, %v", jsonfmt.Encode(n), err)
	}
	if out, err := s.Encode(n); err != nil || string(out) != string(src) {
		t.Errorf("%x, %v", out, err)
	}
}

func TestSchemasAreFound(t *testing.T) {
	for typ, want := range map[string]string{
		"": "several message types; name one under type: lark.Loan, lark.Other", "Nothing": `no message type "Nothing"`,
	} {
		if _, err := Parse(map[string][]byte{"a.proto": []byte(strings.ReplaceAll(loan, `import "kinds.proto";`, kindsHere))}, "a.proto",
			typ); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", typ, err)
		}
	}
	for _, typ := range []string{"Loan", "lark.Loan", "Loan.Copy", "lark.Loan.Copy", "Other"} {
		if s := schema(t, loan, typ); !strings.HasSuffix(string(s.of.FullName()), typ[strings.LastIndex(typ, ".")+1:]) {
			t.Errorf("%s gives %s", typ, s.of.FullName())
		}
	}
	for src, want := range map[string]string{
		`syntax = "proto3"; message M { int32 a = 1 }`:                                   "s.proto",
		`syntax = "proto3"; import "gone.proto"; message M {}`:                           "the flow has no file gone.proto",
		`syntax = "proto3"; message M { Gone a = 1; }`:                                   "Gone",
		`syntax = "proto3"; package p; enum E { A = 0; }`:                                "has no message types",
		`syntax = "proto3"; import "../../etc/passwd"; message M {}`:                     "passwd",
		`syntax = "proto2"; message M { required int32 a = 1; extensions 100 to 200; } `: "",
	} {
		_, err := Parse(map[string][]byte{"s.proto": []byte(src)}, "s.proto", "")
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v", src, err)
		}
	}
	old := schema(t, `syntax = "proto2"; message M { required int32 a = 1; optional int32 b = 2 [default = 4]; }`, "")
	if _, err := old.Encode(node(t, `{"b":1}`)); err == nil ||
		!strings.Contains(err.Error(), "the field a is missing") {
		t.Error(err)
	}
	if _, _, err := old.Decode([]byte{0x10, 1}, 10, 10); err == nil ||
		!strings.Contains(err.Error(), "required field") {
		t.Error(err)
	}
}

const kindsHere = "enum Kind { UNKNOWN = 0; BOOK = 1; DISC = 2; }"

// A message of few bytes that would make many values is refused before it makes them.
func TestManyValuesAreNotMade(t *testing.T) {
	s := schema(t, loan, "Loan")
	numbers := schema(t, `syntax = "proto3"; message M { repeated int32 n = 1; repeated double d = 2; }`, "")
	for name, c := range map[string]struct {
		s   *Schema
		src string
	}{
		"empty messages": {s, strings.Repeat("\x12\x00", 1001)},
		"a packed list":  {numbers, "\x0a\xe9\x07" + strings.Repeat("\x01", 1001)},
		"packed doubles": {numbers, "\x12\xc8\x3e" + strings.Repeat("\x00", 8008)},
	} {
		if _, _, err := c.s.Decode([]byte(c.src), 100, 1000); err == nil || !strings.Contains(err.Error(), "more values") {
			t.Errorf("%s: %v", name, err)
		}
		if _, _, err := c.s.Decode([]byte(c.src), 100, 5000); err != nil {
			t.Errorf("%s within its bound: %v", name, err)
		}
	}
}

// Random messages: the JSON mapping of the reference implementation reads the same out of the
// bytes that we write, and what it writes we read.
func TestRoundTripsAgreeWithTheJSONMapping(t *testing.T) {
	s := schema(t, loan, "Loan")
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 2))
		doc := map[string]any{
			"card":   strings.Repeat("ü", r.IntN(200)),
			"weight": r.NormFloat64(),
			"due":    "2026-05-04T09:00:00.125Z",
			"pages": map[string]any{
				fmt.Sprint(int32(r.Uint32())): "x",
			},
			"more": map[string]any{"k": []any{1.5, nil, "t"}},
		}
		var copies []any
		for range r.IntN(4) {
			copies = append(
				copies,
				map[string]any{"item": uint64(r.IntN(1 << 40)), "kind": []string{"BOOK", "DISC"}[r.IntN(2)]},
			)
		}
		if copies != nil {
			doc["copies"] = copies
		}
		if r.IntN(2) == 0 {
			doc["branch"] = "MARL"
		}
		asJSON, _ := json.Marshal(doc)
		ours, err := s.Encode(node(t, string(asJSON)))
		if err != nil {
			t.Fatalf("seed %d: %s: %v", seed, asJSON, err)
		}
		m := dynamicpb.NewMessage(s.of)
		if err := proto.Unmarshal(ours, m); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		theirs, err := protojson.MarshalOptions{UseProtoNames: true}.Marshal(m)
		if err != nil {
			t.Fatal(err)
		}
		again := dynamicpb.NewMessage(s.of)
		if err := protojson.Unmarshal(asJSON, again); err != nil || !proto.Equal(m, again) {
			t.Fatalf("seed %d: the JSON mapping reads %s otherwise: %s (%v)", seed, asJSON, theirs, err)
		}
		n, _, err := s.Decode(ours, 100, 10000)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		var a, b map[string]any
		_ = json.Unmarshal(jsonfmt.Encode(n), &a)
		_ = json.Unmarshal(asJSON, &b)
		for k, v := range b {
			if !reflect.DeepEqual(a[k], v) {
				t.Fatalf("seed %d: %s is read as %v, and was %v", seed, k, a[k], v)
			}
		}
		if back, err := s.Encode(n); err != nil || string(back) != string(ours) {
			t.Fatalf("seed %d: written again it is %x, and was %x (%v)", seed, back, ours, err)
		}
	}
}

// No bytes make a reader panic; what is read can be written.
func FuzzDecode(f *testing.F) {
	s, err := Parse(
		map[string][]byte{"a.proto": []byte(strings.ReplaceAll(loan, `import "kinds.proto";`, kindsHere))},
		"a.proto",
		"Loan",
	)
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte("\x0a\x01x\x12\x02\x08\x01"))
	f.Fuzz(func(t *testing.T, b []byte) {
		n, by, err := s.Decode(b, 50, 1000)
		if err != nil {
			return
		}
		if _, err := by.Encode(n); err != nil {
			t.Errorf("what was read cannot be written: %v", err)
		}
	})
}
