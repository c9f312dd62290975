package records

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
)

func of(text string) Source {
	return func(at int64) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text[at:])), nil }
}

// cut reads all records, each by a new reader that goes on where the last one stood.
func cut(t *testing.T, text string, c Cutting, anew bool) (out []string, end error) {
	t.Helper()
	var r Reader
	var at Place
	for {
		if r == nil || anew {
			var err error
			if r, err = Open(of(text), c, at); err != nil {
				return out, err
			}
		}
		rec, err := r.Next()
		if err != nil {
			return out, err
		}
		if rec.Behind.N != at.N+1 || rec.Behind.Offset <= at.Offset || rec.Behind.Offset > int64(len(text)) {
			t.Fatalf("behind record %d it stands at %+v", len(out)+1, rec.Behind)
		}
		at = rec.Behind
		out = append(out, string(bytes.Clone(rec.Body)))
	}
}

// The rows are those of RFC 4180, section 2, and the batch is that of HL7 2.5.1, 2.10.3;
// the others are made up.
func TestRecords(t *testing.T) {
	csv, xml := Cutting{By: CSV}, Cutting{By: XML, Element: "book"}
	for _, c := range []struct {
		name, text string
		by         Cutting
		want       []string
		broken     string
	}{
		{"lines", "\xEF\xBB\xBFa\r\n\n  b \nc", Cutting{By: Lines}, []string{"a", "  b ", "c"}, ""},
		{"no lines", "\n \n", Cutting{By: Lines}, nil, ""},
		{"a line too large", "a\n" + strings.Repeat("x", Largest+1), Cutting{By: Lines}, []string{"a"}, "more than"},
		{"rows", "h1,h2\r\naaa,\"b \r\nbb\"\r\nzzz,\"y \"\"y\"\n", csv, []string{`{"h1":"aaa","h2":"b \nbb"}`,
			`{"h1":"zzz","h2":"y \"y"}`}, ""},
		{"rows with ;", "\xEF\xBB\xBFa;b\n1,5;2\n", Cutting{By: CSV, Separator: ';'}, []string{`{"a":"1,5","b":"2"}`}, ""},
		{"a short row", "a,b\n1\n", csv, []string{`{"a":"1"}`}, ""},
		{"a long row", "a\n1\n1,2\n3\n", csv, []string{`{"a":"1"}`}, "2 fields"},
		{"an open quote", "a\n1\n\"2\n", csv, []string{`{"a":"1"}`}, "quote"},
		{"no first row", "", csv, nil, "empty"},
		{"two columns of a name", "a,a\n", csv, nil, "each column once"},
		{"a list", ` [ {"a":[1,2]} , "x", 1.50 ] `, Cutting{By: JSON}, []string{`{"a":[1,2]}`, `"x"`, `1.50`}, ""},
		{"values", "{\"a\":1}\n{\"a\":2}", Cutting{By: JSON}, []string{`{"a":1}`, `{"a":2}`}, ""},
		{"an empty list", "[]", Cutting{By: JSON}, nil, ""},
		{"nothing", "\xEF\xBB\xBF ", Cutting{By: JSON}, nil, ""},
		{"an open list", `[1, 2`, Cutting{By: JSON}, []string{"1", "2"}, "does not end"},
		{"no JSON", `[1, x]`, Cutting{By: JSON}, []string{"1"}, "invalid character"},
		{"elements", `<?xml version="1.0"?><c><book id="1">a<b/></book><x/><book/></c>`, xml,
			[]string{`<book id="1">a<b/></book>`, `<book/>`}, ""},
		{"prefixes", `<c xmlns="u" xmlns:p="v"><d xmlns:p="w&amp;"><p:book p:a="1"/></d></c>`, xml,
			[]string{`<p:book xmlns:p="w&amp;" xmlns="u" p:a="1"/>`}, ""},
		{"own prefixes", `<c xmlns="u"><book xmlns="o"/></c>`, xml, []string{`<book xmlns="o"/>`}, ""},
		{"within", `<c><book><book/></book></c>`, xml, []string{`<book><book/></book>`}, ""},
		{"an open element", `<c><book/><book>`, xml, []string{`<book/>`}, "does not end"},
		{"an open file", `<c><book/>`, xml, []string{`<book/>`}, "do not end"},
		{"crossed", `<c><book><a></b></book></c>`, xml, nil, "ends <a>"},
		{"a document type", `<!DOCTYPE c [<!ENTITY a "b">]><c><book/></c>`, xml, nil, "document type"},
		{"another encoding", `<?xml version="1.0" encoding="ISO-8859-1"?><c><book/></c>`, xml, nil, "UTF-8"},
		{"deep", strings.Repeat("<a>", 200), xml, nil, "deep"},
		{"deep within", "<book>" + strings.Repeat("<a>", 200), xml, nil, "deep"},
		{"a batch", "FHS|^~\\&\rBHS|^~\\&\rMSH|^~\\&|1\rPID|1\r\nMSH|^~\\&|2\nPID|2\nBTS|2\rFTS|1\r", Cutting{By: HL7},
			[]string{"MSH|^~\\&|1\rPID|1\r", "MSH|^~\\&|2\rPID|2\r"}, ""},
		{"messages without a batch", "MSH|1\rMSH|2", Cutting{By: HL7}, []string{"MSH|1\r", "MSH|2\r"}, ""},
		{"framed messages", "\x0BMSH|1\rPID|1\r\x1C\r\x0BMSH|2\r\x1C\r", Cutting{By: HL7}, []string{"MSH|1\rPID|1\r",
			"MSH|2\r"}, ""},
		{"no message", "PID|1\r", Cutting{By: HL7}, nil, "MSH"},
	} {
		t.Run(c.name, func(t *testing.T) {
			for _, anew := range []bool{false, true} {
				got, err := cut(t, c.text, c.by, anew)
				if fmt.Sprintf("%q", got) != fmt.Sprintf("%q", c.want) {
					t.Errorf("anew %t: %q", anew, got)
				}
				var broken *BrokenError
				switch {
				case c.broken == "" && !errors.Is(err, io.EOF):
					t.Errorf("anew %t: it ends with %v", anew, err)
				case c.broken != "" && (!errors.As(err, &broken) || !strings.Contains(err.Error(), c.broken) ||
					broken.At.N != int64(len(c.want))):
					t.Errorf("anew %t: it ends with %v", anew, err)
				}
			}
		})
	}
}

// What the source cannot give is no fault of the file.
func TestASourceThatFails(t *testing.T) {
	for _, by := range []string{Lines, CSV, JSON, XML, HL7} {
		cannot := errors.New("cannot")
		r, err := Open(func(int64) (io.ReadCloser, error) { return nil, cannot }, Cutting{By: by, Element: "x"}, Place{})
		if r != nil && err == nil || !errors.Is(err, cannot) {
			t.Errorf("%s: %v", by, err)
		}
		half := func(int64) (io.ReadCloser, error) {
			return io.NopCloser(io.MultiReader(strings.NewReader(" "), failing{os.ErrDeadlineExceeded})), nil
		}
		r, err = Open(half, Cutting{By: by, Element: "x"}, Place{})
		for err == nil {
			_, err = r.Next()
		}
		if !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s: %v", by, err)
		}
	}
}

type failing struct{ error }

func (f failing) Read([]byte) (int, error) { return 0, f.error }

func FuzzRecords(f *testing.F) {
	for i, text := range []string{"a,b\n1,\"2\n3\"\n", "<c xmlns:p=\"u\"><r p:a=\"1\">x</r></c>", "[1,{\"a\":2}]",
		"BHS|x\rMSH|1\rPID|\rBTS|1", "a\nb"} {
		f.Add(text, byte(i))
	}
	ways := []string{CSV, XML, JSON, HL7, Lines}
	f.Fuzz(func(t *testing.T, text string, way byte) {
		by := Cutting{By: ways[int(way)%len(ways)], Element: "r"}
		whole, end := cut(t, text, by, false)
		anew, endAnew := cut(t, text, by, true)
		if fmt.Sprintf("%q", whole) != fmt.Sprintf("%q", anew) || (end == io.EOF) != (endAnew == io.EOF) {
			t.Errorf("%q at once, %q one by one; %v, %v", whole, anew, end, endAnew)
		}
	})
}
