package format

import (
	"math/rand/v2"
	"testing"

	"readyferry/core/format/avro"
	"readyferry/core/format/json"
	"readyferry/core/format/protobuf"
	"readyferry/core/message"
)

// texts makes texts of the characters that formats escape, and of others.
func texts(r *rand.Rand, of string, most int) string {
	runes := []rune(of)
	out := make([]rune, 1+r.IntN(most))
	for i := range out {
		out[i] = runes[r.IntN(len(runes))]
	}
	return string(out)
}

// leaves lists the texts of a tree.
func leaves(n *message.Node, out []*message.Node) []*message.Node {
	if n.Kind == message.String {
		return append(out, n)
	}
	for _, item := range n.Items {
		out = leaves(item, out)
	}
	for _, m := range n.Members {
		out = leaves(m.Value, out)
	}
	return out
}

// Random texts that are put in place of others, in a document of every format, come back as they
// were put, and every other value as it was.
func TestEditsComeBackInEveryFormat(t *testing.T) {
	const odd = "aB é€😀|^~\\&<>\"'=%+;,.:{}[]#-_/*$\u00A0"
	loan, err := avro.Parse(
		map[string][]byte{"l.avsc": []byte(`{"type":"record","name":"L","fields":[{"name":"a","type":"string"},
		{"name":"l","type":{"type":"array","items":"string"}},{"name":"m","type":{"type":"map","values":"string"}},
		{"name":"n","type":["null","long","string"]}]}`)},
		"l.avsc",
		avro.Plain,
		0,
	)
	if err != nil {
		t.Fatal(err)
	}
	slip, err := protobuf.Parse(
		map[string][]byte{"s.proto": []byte(`syntax = "proto3"; message S { string a = 1; repeated string l = 2; ` +
			`map<string, string> m = 3; S s = 4; }`)},
		"s.proto",
		"",
	)
	if err != nil {
		t.Fatal(err)
	}
	columns := []message.Column{{Name: "a", Width: 12}, {Name: "b", Width: 12, Right: true}}
	for name, c := range map[string]struct {
		tree, of string
		most     int
		layout   message.Layout
	}{
		JSON:      {`{"a":"x","l":["y",{"b":"z"}],"n":1.50}`, odd + "\n\r\t\x00\x1f", 40, message.Layout{}},
		Lines:     {`[{"a":"x"},["y"],"z"]`, odd + "\n\r\t\x00", 40, message.Layout{}},
		XML:       {`{"r":{"@a":"x","b":"y","c":["z","w"],"d":{"@e":"f","#text":"g"}}}`, odd + "\n\t", 40, message.Layout{}},
		CSV:       {`[["a","b"],["c","d"]]`, odd + "\n\r\t", 40, message.Layout{}},
		Form:      {`{"a":"x","b":["y","z"]}`, odd + "\n\r\t", 40, message.Layout{}},
		Fixed:     {`[{"a":"x","b":"y"},{"a":"z","b":"w"}]`, "aBé€|^&<>\"=", 12, message.Layout{Columns: columns}},
		HL7:       {"", odd, 40, message.Layout{}},
		Multipart: {`{"a":"x","b":"y"}`, odd + "\t", 40, message.Layout{}},
		Avro:      {`{"a":"x","l":["y","z"],"m":{"k":"v"},"n":"w"}`, odd + "\n\x00", 40, message.Layout{Schema: loan}},
		Protobuf:  {`{"a":"x","l":["y","z"],"m":{"k":"v"},"s":{"a":"w","l":["q"],"m":{}}}`, odd + "\n\x00", 40, message.Layout{Schema: slip}},
	} {
		if name == HL7 {
			d, err := Decode(HL7, []byte(hl7Text), message.Layout{}, Limits{})
			if err != nil {
				t.Fatal(err)
			}
			c.tree = string(json.Encode(d.Root))
		}
		for seed := range uint64(200) {
			r := rand.New(rand.NewPCG(seed, 7))
			tree, err := json.Decode([]byte(c.tree))
			if err != nil {
				t.Fatal(err)
			}
			for range 1 + r.IntN(3) {
				all := leaves(tree.Root, nil)
				if name == HL7 {
					all = leaves(tree.Root.Get("PID"), leaves(tree.Root.Get("OBX"), nil))
				}
				one := all[r.IntN(len(all))]
				one.Text = texts(r, c.of, c.most)
				if name == XML { // blanks at the ends are layout there
					one.Text = "i" + one.Text + "i"
				}
			}
			want := string(json.Encode(tree.Root))
			out, err := Encode(name, tree.Root, c.layout)
			if err != nil {
				t.Fatalf("%s, seed %d: %s: %v", name, seed, want, err)
			}
			d, err := Decode(name, out, c.layout, Limits{})
			if err != nil {
				t.Fatalf("%s, seed %d: %q: %v", name, seed, out, err)
			}
			if got := string(json.Encode(d.Root)); got != want {
				t.Fatalf("%s, seed %d: %s\nwant %s\nby way of %q", name, seed, got, want, out)
			}
		}
	}
}
