package avro

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/hamba/avro/v2"
	"github.com/hamba/avro/v2/ocf"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

func schema(t *testing.T, text string, framing Framing) *Schema {
	t.Helper()
	s, err := Parse(map[string][]byte{"s.avsc": []byte(text)}, "s.avsc", framing, 7)
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

func decode(t *testing.T, s *Schema, hexed string) (string, error) {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(hexed, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	n, _, err := s.Decode(b, 100, 1000)
	if err != nil {
		return "", err
	}
	return string(jsonfmt.Encode(n)), nil
}

// The examples of the Apache Avro 1.12.0 specification, chapter "Data Serialization and
// Deserialization", and of its logical types from the same rules.
func TestSpecification(t *testing.T) {
	for _, c := range []struct{ schema, hex, json string }{
		{`"long"`, "00", "0"}, {`"long"`, "01", "-1"}, {`"long"`, "02", "1"}, {`"long"`, "03", "-2"}, {`"long"`, "04", "2"},
		{`"long"`, "7f", "-64"}, {`"long"`, "80 01", "64"}, // the table of zig-zag codes
		{`"string"`, "06 66 6f 6f", `"foo"`},
		{`{"type":"record","name":"test","fields":[{"name":"a","type":"long"},{"name":"b","type":"string"}]}`,
			"36 06 66 6f 6f", `{"a":27,"b":"foo"}`},
		{`{"type":"array","items":"long"}`, "04 06 36 00", "[3,27]"},
		{`["null","string"]`, "00", "null"}, {`["null","string"]`, "02 02 61", `"a"`},
		{`{"type":"enum","name":"Foo","symbols":["A","B","C","D"]}`, "06", `"D"`},
		{`"boolean"`, "01", "true"}, {`"float"`, "00 00 c0 3f", "1.5"}, {`"double"`, "00 00 00 00 00 00 f8 3f", "1.5"},
		{`{"type":"map","values":"int"}`, "02 02 61 02 00", `{"a":1}`},
		{`{"type":"bytes","logicalType":"decimal","precision":6,"scale":2}`, "04 04 e2", "12.50"},
		{`{"type":"bytes","logicalType":"decimal","precision":6,"scale":2}`, "02 fb", "-0.05"},
		{`{"type":"fixed","name":"F","size":3,"logicalType":"decimal","precision":6,"scale":1}`, "ff ff f6", "-1.0"},
		{`{"type":"int","logicalType":"date"}`, "00", `"1970-01-01"`}, {`{"type":"int","logicalType":"date"}`, "01", `"1969-12-31"`},
		{`{"type":"int","logicalType":"time-millis"}`, "02", `"00:00:00.001"`},
		{`{"type":"long","logicalType":"timestamp-millis"}`, "02", `"1970-01-01T00:00:00.001Z"`},
		{`{"type":"long","logicalType":"timestamp-micros"}`, "01", `"1969-12-31T23:59:59.999999Z"`},
		{`{"type":"long","logicalType":"local-timestamp-millis"}`, "02", `"1970-01-01T00:00:00.001"`},
		{`{"type":"string","logicalType":"uuid"}`, "02 78", `"x"`},
	} {
		s := schema(t, c.schema, Plain)
		got, err := decode(t, s, c.hex)
		if err != nil || got != c.json {
			t.Errorf("%s of %s: %s, %v; want %s", c.hex, c.schema, got, err, c.json)
			continue
		}
		out, err := s.Encode(node(t, c.json))
		if back := hex.EncodeToString(out); err != nil || back != strings.ReplaceAll(c.hex, " ", "") {
			t.Errorf("%s of %s: %s, %v; want %s", c.json, c.schema, back, err, c.hex)
		}
	}
}

const loan = `{"type":"record","name":"Loan","namespace":"lark","fields":[
	{"name":"card","type":"string","doc":"the card"}, {"name":"copies","type":{"type":"array","items":{"type":"record","name":"Copy",
	"fields":[{"name":"item","type":"long"},{"name":"kind","type":{"type":"enum","name":"Kind","symbols":["BOOK","DISC"]},
	"default":"BOOK"}]}}}, {"name":"note","type":["null","string"],"default":null},
	{"name":"due","type":{"type":"int","logicalType":"date"}}, {"name":"fee","type":{"type":"bytes","logicalType":"decimal",
	"precision":8,"scale":2},"default":"\u0000"}, {"name":"more","type":["null","Loan"]}, {"name":"cover","type":["bytes","null"]}]}`

// What is missing takes its default or null; what does not fit is named by its path.
func TestWhatTheSchemaTakes(t *testing.T) {
	s := schema(t, loan, Plain)
	out, err := s.Encode(node(t, `{"card":"LC1","copies":[{"item":12345678901234567}],"due":"2026-05-04"}`))
	if err != nil {
		t.Fatal(err)
	}
	n, _, err := s.Decode(out, 100, 100)
	if got := string(jsonfmt.Encode(n)); err != nil ||
		got != `{"card":"LC1","copies":[{"item":12345678901234567,"kind":"BOOK"}],"note":null,"due":"2026-05-04","fee":0.00,"more":null,"cover":null}` {
		t.Errorf("%s, %v", got, err)
	}
	for body, want := range map[string]string{
		`[]`:                     "avro, the document: a list was given, and the schema has the record Loan",
		`{"card":"x"}`:           "avro, the document: the field copies is missing",
		`{"card":1,"copies":[]}`: "avro, /card: a number was given, and the schema has string",
		`{"card":"x","copies":[{"item":1,"kind":"CD"}]}`:            `avro, /copies/0/kind: the enum Kind has no symbol "CD"; it has BOOK, DISC`,
		`{"card":"x","copies":[{"item":1.5}]}`:                      "avro, /copies/0/item: 1.5 is no whole number of 64 bits",
		`{"card":"x","copies":[],"due":"soon"}`:                     `avro, /due: "soon" is no date; it looks like 2006-01-02`,
		`{"card":"x","copies":[],"due":1,"fee":1.005}`:              "avro, /fee: 1.005 has more than 2 digits behind the point",
		`{"card":"x","copies":[],"due":1,"titel":1}`:                "avro, the document: the record Loan has no field titel; it has card, copies",
		`{"card":"x","copies":[],"due":1,"note":[1]}`:               "avro, /note: a list was given, and the schema has null or string",
		`{"card":"x","copies":[],"due":99999999999}`:                "avro, /due: 99999999999 is no int of 32 bits",
		`{"card":"x","copies":[],"due":1,"more":{"card":"y"}}`:      "avro, /more: a map was given, and the schema has null or the record Loan",
		`{"card":"x","copies":[],"due":1,"cover":"no base64 here"}`: "avro, /cover: a string was given, and the schema has bytes or null",
	} {
		if _, err := s.Encode(node(t, body)); err == nil || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%s: %v, want %s", body, err, want)
		}
	}
}

// Wrong bytes are told with their place, and never taken for more than they are.
func TestWrongBytes(t *testing.T) {
	s := schema(t, loan, Plain)
	for hexed, want := range map[string]string{
		"":                        "byte 0: /card: the message ends in a string",
		"06 66":                   "byte 1: /card: the message ends in a string",
		"02 ff":                   "byte 1: /card: a string is no UTF-8",
		"00 02 02 0e":             "byte 4: /copies/0/kind: the enum Kind has 2 symbols, and this names the one with number 7",
		"00 00 06":                "byte 3: /note: the union has 2 branches, and this names the one with number 3",
		"00 00 00 00 00 00 02 00": "byte 7: 1 bytes are left behind the datum: it was written by another schema",
	} {
		if _, err := decode(t, s, hexed); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", hexed, err, want)
		}
	}
	nulls := schema(t, `{"type":"array","items":"null"}`, Plain) // a count of a few bytes
	if _, err := decode(t, nulls, "fe ff ff ff ff ff ff ff 7f 00"); err == nil ||
		!strings.Contains(err.Error(), "more values") {
		t.Errorf("many nulls: %v", err)
	}
	deep := schema(t, `{"type":"record","name":"A","fields":[{"name":"a","type":["null","A"]}]}`, Plain)
	if _, err := decode(t, deep, strings.Repeat("02", 300)+"00"); err == nil ||
		!strings.Contains(err.Error(), "deeper") {
		t.Errorf("deep: %v", err)
	}
	own := schema(t, `{"type":"record","name":"A","fields":[{"name":"a","type":"A"}]}`, Plain)
	if _, err := decode(t, own, "00"); err == nil {
		t.Error("a record that holds itself is read")
	}
}

func TestFramings(t *testing.T) {
	body := node(t, `[1,2]`)
	for framing, begins := range map[Framing]string{Plain: "0402", Numbered: "0000000007", Single: "c301", Container: "4f626a01"} {
		s := schema(t, `{"type":"array","items":"long"}`, framing)
		given := body
		if framing == Container {
			given = message.NewList(body, body)
		}
		out, err := s.Encode(given)
		if err != nil || !strings.HasPrefix(hex.EncodeToString(out), begins) {
			t.Errorf("%s: %x, %v", framing, out, err)
		}
		n, by, err := s.Decode(out, 10, 100)
		if err != nil || string(jsonfmt.Encode(n)) != string(jsonfmt.Encode(given)) {
			t.Fatalf("%s: %s, %v", framing, jsonfmt.Encode(n), err)
		}
		if again, err := by.Encode(n); err != nil || string(again) != string(out) {
			t.Errorf("%s is written otherwise: %x, %v", framing, again, err)
		}
	}
	s := schema(t, `"long"`, Single)
	if _, err := decode(t, s, "c301 0102030405060708 02"); err == nil ||
		!strings.Contains(err.Error(), "fingerprint 0102030405060708") {
		t.Errorf("another schema: %v", err)
	}
	// The fingerprint of "null" is in the specification's own table of test cases, 7195948357588979594
	// in Java's signed longs (share/test/data/schema-tests.txt of its source).
	if got := fingerprint(schema(t, `"null"`, Plain).of); got != "\x8a\x8f\x25\xcc\xe7\x24\xdd\x63" {
		t.Errorf("%x", got)
	}
}

// A container file that the library wrote, with each codec, is read; the library reads ours.
func TestContainersOfAnotherWriter(t *testing.T) {
	type copyOf struct {
		Item int64  `avro:"item"`
		Kind string `avro:"kind"`
	}
	text := `{"type":"record","name":"Copy","fields":[{"name":"item","type":"long"},{"name":"kind","type":"string"}]}`
	for _, codec := range []ocf.CodecName{ocf.Null, ocf.Deflate, ocf.Snappy, ocf.ZStandard} {
		var file strings.Builder
		e, err := ocf.NewEncoder(text, &file, ocf.WithCodec(codec), ocf.WithBlockLength(2))
		if err != nil {
			t.Fatal(err)
		}
		for i := range int64(5) {
			if err := e.Encode(copyOf{i, "BOOK"}); err != nil {
				t.Fatal(err)
			}
		}
		if err := e.Close(); err != nil {
			t.Fatal(err)
		}
		n, by, err := (*Schema)(nil).Decode([]byte(file.String()), 10, 100)
		if err != nil || len(n.Items) != 5 || string(jsonfmt.Encode(n.Items[4])) != `{"item":4,"kind":"BOOK"}` {
			t.Fatalf("%s: %s, %v", codec, jsonfmt.Encode(n), err)
		}
		out, err := by.Encode(n)
		if err != nil {
			t.Fatal(err)
		}
		d, err := ocf.NewDecoder(strings.NewReader(string(out)))
		if err != nil {
			t.Fatal(err)
		}
		var got []copyOf
		for d.HasNext() {
			var c copyOf
			if err := d.Decode(&c); err != nil {
				t.Fatal(err)
			}
			got = append(got, c)
		}
		if fmt.Sprint(got) != "[{0 BOOK} {1 BOOK} {2 BOOK} {3 BOOK} {4 BOOK}]" {
			t.Errorf("%s: the library reads %v", codec, got)
		}
	}
}

// Random documents of a wide schema: what we write the library reads as the same, what the library
// writes we read, and reading back gives what was written.
func TestRoundTripsAgreeWithAnotherReader(t *testing.T) {
	text := `{"type":"record","name":"R","fields":[{"name":"s","type":"string"},{"name":"i","type":"int"},{"name":"l","type":"long"},
		{"name":"b","type":"boolean"},{"name":"d","type":"double"},{"name":"a","type":{"type":"array","items":["null","string","long"]}},
		{"name":"m","type":{"type":"map","values":{"type":"record","name":"In","fields":[{"name":"x","type":"long"}]}}},
		{"name":"e","type":{"type":"enum","name":"E","symbols":["A","B"]}},{"name":"u","type":["null","In"]}]}`
	s := schema(t, text, Plain)
	other := avro.MustParse(text)
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		doc := map[string]any{
			"s": strings.Repeat("ä", r.IntN(200)),
			"i": int32(r.Uint32()),
			"l": int64(r.Uint64()),
			"b": r.IntN(2) == 0,
			"d": r.NormFloat64(),
			"e": []string{"A", "B"}[r.IntN(2)],
			"u": nil,
		}
		list, dict := []any{}, map[string]any{}
		for range r.IntN(5) {
			list = append(list, []any{nil, "x", int64(r.IntN(1000))}[r.IntN(3)])
			dict[fmt.Sprint("k", r.IntN(9))] = map[string]any{"x": int64(r.Uint64())}
		}
		doc["a"], doc["m"] = list, dict
		if r.IntN(2) == 0 {
			doc["u"] = map[string]any{"x": int64(3)}
		}
		asJSON, _ := json.Marshal(doc)
		ours, err := s.Encode(node(t, string(asJSON)))
		if err != nil {
			t.Fatalf("seed %d: %s: %v", seed, asJSON, err)
		}
		var read map[string]any
		if err := avro.Unmarshal(other, ours, &read); err != nil {
			t.Fatalf("seed %d: the library cannot read what we wrote: %v", seed, err)
		}
		for i, v := range read["a"].([]any) { // the library tags what is in a union
			if tagged, is := v.(map[string]any); is {
				for _, v := range tagged {
					read["a"].([]any)[i] = v
				}
			}
		}
		if tagged, is := read["u"].(map[string]any); is && tagged["In"] != nil {
			read["u"] = tagged["In"]
		}
		if again, _ := json.Marshal(read); string(again) != string(asJSON) {
			t.Fatalf("seed %d: the library reads %s, and it was %s", seed, again, asJSON)
		}
		n, _, err := s.Decode(ours, 100, 10000)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		if back, err := s.Encode(n); err != nil || string(back) != string(ours) {
			t.Fatalf("seed %d: written again it is %x, and was %x (%v)", seed, back, ours, err)
		}
	}
}

// No bytes make a reader panic or hold more than they may.
func FuzzDecode(f *testing.F) {
	s, err := Parse(map[string][]byte{"s.avsc": []byte(loan)}, "s.avsc", Plain, 0)
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte("Obj\x01\x04\x16avro.schema\x0c\"null\"\x14avro.codec\x08null\x00"))
	f.Add([]byte{2, 'x', 2, 2, 0, 0, 0, 0, 2, 0, 2})
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
