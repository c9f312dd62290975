package format

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"

	"readyferry/core/format/json"
	"readyferry/core/message"
)

const hl7Text = "MSH|^~\\&|LAB|N|||20260317||ORU^R01|1|P|2.5\rPID|1||7^^^N~8\rOBX|1||GLU\rNTE|1||x\rOBX|2||NA\r"

// What is read and written again without a change is the same to the byte, but
// for what the package comments say is nothing.
func TestEveryFormatComesBack(t *testing.T) {
	for name, src := range map[string]string{
		JSON: `{"a":0.10,"b":[1,null,true,"é"]}`, XML: "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<a b=\"1\">x <c/> y</a>",
		CSV: "a,b\r\n\"x\r\ny\",\"\"\"z\"\r\n", HL7: hl7Text, Form: "a=1&a=2&b=%26", Text: "any\r\ntext", Binary: "\x00\xff",
	} {
		d, err := Decode(name, []byte(src), message.Layout{}, Limits{})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		out, err := Encode(name, d.Root, d.Layout)
		if err != nil || string(out) != src {
			t.Errorf("%s: %q %v, want %q", name, out, err, src)
		}
		// And through the JSON of its tree, as decode and encode do it.
		tree, err := json.Decode(json.Encode(d.Root))
		if err != nil {
			t.Fatal(err)
		}
		out, err = Encode(name, tree.Root, d.Layout)
		if name == XML {
			src = strings.Replace(src, "x <c/> y", "x  y<c/>", 1) // mixed text comes first, as the rules say
		}
		if err != nil || string(out) != src {
			t.Errorf("%s through JSON: %q %v, want %q", name, out, err, src)
		}
	}
}

func TestLimitsAreErrorsWithAPlace(t *testing.T) {
	deep := strings.Repeat("[", 20) + strings.Repeat("]", 20)
	for _, c := range []struct{ name, src, want string }{
		{JSON, deep, "JSON, line 1, column 11: the document is nested deeper than 9 levels"}, {JSON,
			"[1,2,3,4,5,6,7,8,9,10,11,12]", "has more than 10 values"},
		{XML, strings.Repeat("<a>", 20) + strings.Repeat("</a>", 20), "nested deeper than 9 levels"}, {XML, "<a>" +
			strings.Repeat("<b/>", 20) + "</a>", "more than 10 values"},
		{CSV, "1,2,3\n4,5,6\n7,8,9\n", "more than 10 values"}, {HL7, hl7Text, "more than 10 values"}, {Form,
			"a=1&b=1&c=1&d=1&e=1&f=1&g=1&h=1&i=1&j=1&k=1", "more than 10 fields"},
	} {
		_, err := Decode(c.name, []byte(c.src), message.Layout{}, Limits{Depth: 9, Nodes: 10})
		var bad *message.SyntaxError
		if !errors.As(err, &bad) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %s", c.name, err, c.want)
		}
	}
	if _, err := Decode("yaml", nil, message.Layout{}, Limits{}); err == nil ||
		!strings.Contains(err.Error(), "there are json, xml, csv") {
		t.Error(err)
	}
}

func TestTexts(t *testing.T) {
	for charset, src := range map[string]string{"": "é", "ISO-8859-1": "\xe9", "utf-16le": "\xe9\x00",
		"utf-16be": "\x00\xe9", "utf-16": "\xfe\xff\x00\xe9"} {
		d, err := Decode(Text, []byte(src), message.Layout{Charset: charset}, Limits{})
		if err != nil || d.Root.Text != "é" {
			t.Errorf("%s: %+v %v", charset, d.Root, err)
		}
	}
	if _, err := Decode(Text, []byte("ab\xe9"), message.Layout{}, Limits{}); err == nil ||
		!strings.Contains(err.Error(), "text, line 1, column 3: the byte 0xE9 is not UTF-8") {
		t.Error(err)
	}
	if _, err := Decode(Text, []byte("x"), message.Layout{Charset: "ebcdic"}, Limits{}); err == nil {
		t.Error("an unknown charset is read")
	}
}

// plain makes a random document of the kind that XML holds without loss: maps
// with names that XML allows, texts that are not empty, lists of two or more
// that are no lists themselves.
func plain(r *rand.Rand, depth int) *message.Node {
	if depth == 0 || r.IntN(3) == 0 {
		return message.NewString(pick(r, "x", " y ", "<&>\"'", "é€", "1\n2", "]]>", "a\rb"))
	}
	n := message.NewMap()
	for range 1 + r.IntN(4) {
		v := plain(r, depth-1)
		if r.IntN(4) == 0 {
			v = message.NewList(v, plain(r, depth-1))
		}
		n = n.With(pick(r, "a", "b", "long-name", "_c", "é"), v)
	}
	return n
}

func pick(r *rand.Rand, from ...string) string { return from[r.IntN(len(from))] }

// JSON → XML → JSON.
func TestJSONThroughXML(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 2000 {
		n := message.NewMap(message.Member{Name: "doc", Value: plain(r, 4)})
		out, err := Encode(XML, n, message.Layout{})
		if err != nil {
			t.Fatal(err)
		}
		d, err := Decode(XML, out, message.Layout{}, Limits{})
		if err != nil || string(json.Encode(d.Root)) != string(json.Encode(n)) {
			t.Fatalf("%s\n%s\n%s %v", json.Encode(n), out, json.Encode(d.Root), err)
		}
	}
}

// CSV → JSON → CSV, with and without a header.
func TestCSVThroughJSON(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for i := range 2000 {
		header := i%2 == 0
		width := 1 + r.IntN(4)
		rows := message.NewList()
		for y := range 1 + r.IntN(5) {
			row := message.NewList()
			for x := range width {
				v := pick(r, "", "a", "x,y", `"q"`, "l\r\nm", " s", "é", "0.10")
				if header && y == 0 {
					v = "n" + string(rune('a'+x))
				}
				row.Items = append(row.Items, message.NewString(v))
			}
			rows.Items = append(rows.Items, row)
		}
		src, err := Encode(CSV, rows, message.Layout{})
		if err != nil {
			t.Fatal(err)
		}
		d, err := Decode(CSV, src, message.Layout{Header: header}, Limits{})
		if err != nil {
			t.Fatalf("%q: %v", src, err)
		}
		tree, err := json.Decode(json.Encode(d.Root))
		if err != nil {
			t.Fatal(err)
		}
		out, err := Encode(CSV, tree.Root, message.Layout{})
		if err != nil ||
			string(out) != string(src) &&
				!(header && len(rows.Items) == 1) { // a header alone has no rows to tell of it
			t.Fatalf("%q\n%q %v", src, out, err)
		}
	}
}
