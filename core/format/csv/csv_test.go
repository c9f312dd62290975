package csv

import (
	stdcsv "encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"

	"readyferry/core/message"
)

func suite(t *testing.T, name string, into any) {
	t.Helper()
	b, err := os.ReadFile("testdata/" + name + ".json")
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(b, into); err != nil {
		t.Fatal(err)
	}
}

func records(n *message.Node) [][]string {
	out := [][]string{}
	for _, row := range n.Items {
		fields := []string{}
		for _, f := range row.Items {
			fields = append(fields, f.Text)
		}
		out = append(out, fields)
	}
	return out
}

// lf does what encoding/csv does to line ends inside quotes, to compare with it.
func lf(rows [][]string) [][]string {
	for _, r := range rows {
		for i := range r {
			r[i] = strings.ReplaceAll(r[i], "\r\n", "\n")
		}
	}
	return rows
}

// Source: tests of Go's encoding/csv, testdata/go-reader.json. Cases that ask
// for comments, lazy quotes or trimming are about options that are not offered.
func TestReadsAsGoDoes(t *testing.T) {
	var s struct {
		Cases []struct {
			Name, Input string
			InputHex    string `json:"input_hex"`
			Options     map[string]any
			Records     [][]string
			Error       string
		}
	}
	suite(t, "go-reader", &s)
	ran := 0
	for _, c := range s.Cases {
		o := Options{}
		skip := false
		for k, v := range c.Options {
			switch k {
			case "delimiter":
				o.Delimiter = []rune(v.(string))[0]
			case "fields_per_record":
				skip = skip || c.Error == "wrong number of fields"
			default:
				skip = true
			}
		}
		if skip {
			continue
		}
		ran++
		src := []byte(c.Input)
		if b, err := hex.DecodeString(c.InputHex); err == nil && c.InputHex != "" {
			src = b
		}
		r, err := Decode(src, o)
		switch {
		case c.Error != "":
			if err == nil {
				t.Errorf("%s: accepted, want %s", c.Name, c.Error)
			}
		case err != nil:
			t.Errorf("%s: %v", c.Name, err)
		default:
			if got := lf(records(r.Root)); len(got)+len(c.Records) > 0 && !reflect.DeepEqual(got, lf(c.Records)) {
				t.Errorf("%s: %q, want %q", c.Name, got, c.Records)
			}
		}
	}
	if ran < 20 {
		t.Errorf("only %d cases ran", ran)
	}
}

// Source: RFC 4180 section 2 (from memory) and npm csv-spectrum.
func TestReadsAsTheStandardSays(t *testing.T) {
	var rfc struct {
		Cases []struct {
			Section, Name, CSV string
			Rows               [][]string
		}
	}
	suite(t, "rfc4180", &rfc)
	for _, c := range rfc.Cases {
		r, err := Decode([]byte(c.CSV), Options{})
		if err != nil || !reflect.DeepEqual(records(r.Root), c.Rows) {
			t.Errorf("%s %s: %v %v", c.Section, c.Name, r.Root, err)
		}
	}
	var spectrum struct {
		Cases []struct {
			Name    string
			CSVHex  string `json:"csv_hex"`
			Records []map[string]string
		}
	}
	suite(t, "spectrum", &spectrum)
	for _, c := range spectrum.Cases {
		src, err := hex.DecodeString(c.CSVHex)
		if err != nil {
			t.Fatal(err)
		}
		r, err := Decode(src, Options{Header: true})
		if err != nil {
			t.Errorf("%s: %v", c.Name, err)
			continue
		}
		var got []map[string]string
		for _, row := range r.Root.Items {
			m := map[string]string{}
			for _, f := range row.Members {
				m[f.Name] = f.Value.Text
			}
			got = append(got, m)
		}
		if !reflect.DeepEqual(got, c.Records) {
			t.Errorf("%s: %q, want %q", c.Name, got, c.Records)
		}
	}
}

// Source: tests of Go's encoding/csv, testdata/go-writer.json, with each text's
// own line end. Go turns LF into CRLF inside quotes when it writes CRLF; here
// a field stays what it is.
func TestWritesAsGoDoes(t *testing.T) {
	var s struct {
		Cases []struct {
			CRLF              bool
			Delimiter, Output string
			Records           [][]string
			Error             string
		}
	}
	suite(t, "go-writer", &s)
	for i, c := range s.Cases {
		l := Layout{LineEnd: "\n"}
		if c.CRLF {
			l.LineEnd = "\r\n"
			c.Output = strings.ReplaceAll(c.Output, "abc\r\ndef", "abc\ndef")
		}
		if c.Delimiter != "" {
			l.Delimiter = []rune(c.Delimiter)[0]
		}
		rows := message.NewList()
		for _, r := range c.Records {
			row := message.NewList()
			for _, f := range r {
				row.Items = append(row.Items, message.NewString(f))
			}
			rows.Items = append(rows.Items, row)
		}
		got, err := Encode(rows, l)
		if (err != nil) != (c.Error != "") || err == nil && string(got) != c.Output {
			t.Errorf("case %d: %q %v, want %q %s", i, got, err, c.Output, c.Error)
		}
	}
}

func TestWhatTheStandardLeavesOpen(t *testing.T) {
	for _, c := range []struct {
		src  string
		o    Options
		want string
	}{
		{"\uFEFFa,b\r\n", Options{}, `[["a" "b"]]`},
		{"a;'x;''y'\n", Options{Delimiter: ';', Quote: '\''}, `[["a" "x;'y"]]`},
		{"\"a\r\nb\nc\",d\r\n", Options{}, `[["a\r\nb\nc" "d"]]`},
		{"", Options{}, `[]`},
		{"\n\r\n", Options{}, `[]`},
		{`""`, Options{}, `[[""]]`},
	} {
		r, err := Decode([]byte(c.src), c.o)
		if err != nil || shape(r.Root) != c.want {
			t.Errorf("%q: %s %v, want %s", c.src, shape(r.Root), err, c.want)
		}
	}
}

func shape(n *message.Node) string {
	if n == nil {
		return "nothing"
	}
	rows := records(n)
	var b strings.Builder
	b.WriteString("[")
	for i, r := range rows {
		if i > 0 {
			b.WriteString(" ")
		}
		q := make([]string, len(r))
		for j, f := range r {
			s, _ := json.Marshal(f)
			q[j] = string(s)
		}
		b.WriteString("[" + strings.Join(q, " ") + "]")
	}
	return b.String() + "]"
}

func TestErrorsSayWhere(t *testing.T) {
	for _, c := range []struct {
		src  string
		o    Options
		want string
	}{
		{"a,b\nc,d\"e\n", Options{}, `CSV, line 2, column 4: a " stands inside a field`},
		{"a,\"b\nc", Options{}, `CSV, line 1, column 3: the quoted field that begins here is not closed`},
		{"\"a\"b\n", Options{}, `CSV, line 1, column 4: a delimiter or the end of the line is expected`},
		{"n,n\n1,2\n", Options{Header: true}, `CSV, line 1, column 3: the header names "n" twice`},
		{"n,m\n1,2\n1,2,3\n", Options{Header: true},
			`CSV, line 3, column 5: the row has 3 fields, but the header names only 2`},
		{"a\xff\n", Options{}, `CSV, line 1, column 2: the text is not UTF-8`},
		{"a,b\nc,d\n", Options{MaxNodes: 4}, `CSV, line 2, column 3: the text has more than 4 values`},
		{"a", Options{Delimiter: '"'}, `must differ`},
		{"a", Options{Delimiter: '\n'}, `can be neither`},
	} {
		_, err := Decode([]byte(c.src), c.o)
		var bad *message.SyntaxError
		if err == nil || !strings.Contains(err.Error(), c.want) ||
			strings.HasPrefix(c.want, "CSV") && !errors.As(err, &bad) {
			t.Errorf("%q: %v, want %s", c.src, err, c.want)
		}
	}
	for want, n := range map[string]*message.Node{
		"CSV, row 1, column 2: a map does not fit": message.NewList(message.NewList(message.NewString("a"),
			message.NewMap())),
		"CSV is a list of rows, not a string": message.NewString("x"),
		"some rows are maps and this one is a list": message.NewList(message.NewMap(message.Member{Name: "a",
			Value: message.NewNull()}), message.NewList()),
	} {
		if _, err := Encode(n, Layout{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
}

func FuzzDecode(f *testing.F) {
	for _, s := range []string{"a,b\r\n\"c\"\"d\",e", "\"a\r\nb\"\n", "\r\r\n\"", "\uFEFF\"\",\n"} {
		f.Add(s, false)
		f.Add(s, true)
	}
	f.Fuzz(func(t *testing.T, src string, named bool) {
		r, err := Decode([]byte(src), Options{Header: named})
		if err != nil {
			return
		}
		// What is read is written so that it is read the same.
		out, err := Encode(r.Root, Layout{})
		if err != nil {
			t.Fatalf("%q: %v", src, err)
		}
		again, err := Decode(out, Options{Header: named})
		if err != nil || !named && shape(again.Root) != shape(r.Root) || len(again.Root.Items) != len(r.Root.Items) {
			t.Fatalf("%q: %q %v", src, out, err)
		}
	})
}

// Source: encoding/csv of the standard library with LazyQuotes, which reads rows without
// blanks of its own in the same way. A field that is never closed is an error here: it would
// swallow the rest of the file.
func TestLenientQuotesAsTheStandardLibrary(t *testing.T) {
	for _, src := range []string{"a,b\"c,d\n", "\"say \"hi\" now\",x\n", "5\" pipe,\"6\"\" pipe\"\n", "\"open,x\"\n",
		"a\"\n", "\"a\"\"\n\",b\n"} {
		r := stdcsv.NewReader(strings.NewReader(src))
		r.LazyQuotes, r.FieldsPerRecord = true, -1
		want, err := r.ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		got, err := Decode([]byte(src), Options{Lenient: true})
		if err != nil {
			t.Errorf("%q: %v", src, err)
			continue
		}
		rows := [][]string{}
		for _, row := range got.Root.Items {
			var fields []string
			for _, f := range row.Items {
				fields = append(fields, f.Text)
			}
			rows = append(rows, fields)
		}
		if fmt.Sprintf("%q", rows) != fmt.Sprintf("%q", want) {
			t.Errorf("%q: %q, want %q", src, rows, want)
		}
	}
	if _, err := Decode([]byte("\"a\"b,c\nd,e\n"), Options{Lenient: true}); err == nil ||
		!strings.Contains(err.Error(), "not closed") {
		t.Error(err)
	}
	for src, want := range map[string]string{"a,b\"c\n": "quotes: lenient", "\"a\"b\n": "quotes: lenient",
		"a\xe9\n": "encoding: windows-1252"} {
		if _, err := Decode([]byte(src), Options{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v does not name %s", src, err, want)
		}
	}
}
