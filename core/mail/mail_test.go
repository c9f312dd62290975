package mail

import (
	"encoding/base64"
	"io"
	"mime"
	"mime/multipart"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	jsonfmt "readyferry/core/format/json"
)

// The examples of RFC 5322 (appendix A), RFC 2046 (5.1.1), RFC 2047 (8) and RFC 2231 (3),
// all from memory; testdata/read.txt has the mails, each with what it comes to.
func TestReadTheExamplesOfTheStandards(t *testing.T) {
	b, err := os.ReadFile(filepath.Join("testdata", "read.txt"))
	if err != nil {
		t.Fatal(err)
	}
	cases := strings.Split(string(b), "\n=====\n")
	if len(cases) < 10 {
		t.Fatal(len(cases))
	}
	for _, c := range cases {
		raw, want, found := strings.Cut(c, "\n-----\n")
		if !found {
			t.Fatal(c)
		}
		got := ""
		if m, err := Read([]byte(strings.ReplaceAll(raw, "\n", "\r\n"))); err != nil {
			got = "error: " + err.Error()
		} else {
			got = string(jsonfmt.Encode(m.Tree()))
		}
		if got != strings.TrimSpace(want) {
			t.Errorf("%s\n%s\nwant\n%s", raw, got, want)
		}
	}
}

// What is written, the standard library reads.
func TestWhatIsWrittenOthersRead(t *testing.T) {
	m := &Mail{From: []Address{{"Larkfield, Länge & Söhne", "desk@larkfield.example"}},
		To:      []Address{{"", "quill@mail.example"}, {"Ottoline \"O\" Quill", "o.quill@mail.example"}},
		Subject: "Überfällig: " + strings.Repeat("drei Bücher ", 12), ID: "1@larkfield.example",
		Date: time.Date(2026, 3, 17, 9, 41, 0, 0, time.UTC),
		Text: "Dear reader,\n.\nplease bring\r\nthem back – soon.\n", HTML: "<p>Dear reader</p>",
		Attachments: []Attachment{{"Mahnung für März.pdf", "application/pdf", []byte("%PDF-\x00\xFF")},
			{"items.csv", "text/csv; charset=utf-8", []byte("item\n1\n")}},
		Headers: []Header{{"Auto-Submitted", "auto-generated"}, {"X-Note", "drei ü"}}}
	raw, err := m.Write()
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(strings.TrimSuffix(string(raw), "\r\n"), "\r\n") {
		if len(line) > 998 || strings.ContainsAny(line, "\r\n") || strings.ContainsFunc(line,
			func(r rune) bool { return r > 126 }) {
			t.Errorf("%q", line)
		}
	}
	other, err := mail.ReadMessage(strings.NewReader(string(raw)))
	if err != nil {
		t.Fatal(err)
	}
	words := &mime.WordDecoder{}
	if s, err := words.DecodeHeader(other.Header.Get("Subject")); s != m.Subject || err != nil {
		t.Errorf("%q %v", s, err)
	}
	if list, err := other.Header.AddressList("From"); err != nil || list[0].Name != m.From[0].Name {
		t.Errorf("%v %v", list, err)
	}
	if list, err := other.Header.AddressList("To"); err != nil || len(list) != 2 || list[1].Name != m.To[1].Name {
		t.Errorf("%v %v", list, err)
	}
	if at, err := other.Header.Date(); err != nil || !at.Equal(m.Date) {
		t.Error(at, err)
	}
	_, params, _ := mime.ParseMediaType(other.Header.Get("Content-Type"))
	parts := multipart.NewReader(other.Body, params["boundary"])
	texts, err := parts.NextPart()
	if err != nil {
		t.Fatal(err)
	}
	_, params, _ = mime.ParseMediaType(texts.Header.Get("Content-Type"))
	plain, err := multipart.NewReader(texts, params["boundary"]).NextPart()
	if err != nil {
		t.Fatal(err)
	}
	if b, _ := io.ReadAll(plain); string(b) != "Dear reader,\r\n.\r\nplease bring\r\nthem back – soon.\r\n" {
		t.Errorf("%q", b)
	}
	file, err := parts.NextPart()
	if err != nil {
		t.Fatal(err)
	}
	b, _ := io.ReadAll(base64.NewDecoder(base64.StdEncoding, file))
	if string(b) != "%PDF-\x00\xFF" || file.FileName() != "Mahnung für März.pdf" {
		t.Errorf("%q %q", file.FileName(), b)
	}
	again, err := Read(raw)
	if err != nil {
		t.Fatal(err)
	}
	m.Text = strings.ReplaceAll(m.Text, "\r\n", "\n")
	m.Attachments[1].Type = "text/csv"
	if got, want := string(jsonfmt.Encode(again.Tree())), string(jsonfmt.Encode(m.Tree())); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if len(again.Headers) != 2 || again.Headers[1] != m.Headers[1] && again.Headers[0] != m.Headers[1] {
		t.Errorf("%v", again.Headers)
	}
}

// Nothing that a message says makes a head say more than it should.
func TestNoValueMakesAnotherHeader(t *testing.T) {
	good := func() *Mail {
		return &Mail{From: []Address{{"a", "a@a.example"}}, To: []Address{{"b", "b@b.example"}}, Subject: "s", Text: "t"}
	}
	for name, change := range map[string]func(m *Mail){
		"subject":       func(m *Mail) { m.Subject = "s\r\nBcc: x@x.example" },
		"name":          func(m *Mail) { m.To[0].Name = "b\nBcc: x@x.example" },
		"address":       func(m *Mail) { m.To[0].Address = "b@b.example>\r\nBcc: <x@x.example" },
		"header":        func(m *Mail) { m.Headers = []Header{{"X-A", "1\r\nBcc: x@x.example"}} },
		"header's name": func(m *Mail) { m.Headers = []Header{{"X-A: 1\r\nBcc", "x@x.example"}} },
		"file":          func(m *Mail) { m.Attachments = []Attachment{{Name: "a\r\nX: 1", Body: []byte("x")}} },
	} {
		m := good()
		change(m)
		if raw, err := m.Write(); err == nil {
			t.Errorf("%s: %q", name, raw)
		}
	}
	if _, err := good().Write(); err != nil {
		t.Error(err)
	}
}

// What is too deep, too many or too large is said, and not read.
func TestMailsAreBounded(t *testing.T) {
	const head = "From: a@a.example\r\nSubject: s\r\n"
	deep := head
	for i := range 300 {
		b := strings.Repeat("x", i%50) + "b"
		deep += "Content-Type: multipart/mixed; boundary=" + b + "\r\n\r\n--" + b + "\r\n"
	}
	many := head + "Content-Type: multipart/mixed; boundary=b\r\n\r\n" + strings.Repeat("--b\r\n\r\nx\r\n",
		1000) + "--b--\r\n"
	for name, c := range map[string]struct{ raw, want string }{
		"deep":   {deep, "deep"},
		"many":   {many, "more than 200 parts"},
		"large":  {head + "\r\n" + strings.Repeat("x", mostHeld+1), "more than 33554432 bytes"},
		"head":   {"Subject: " + strings.Repeat("x", mostHead) + "\r\n\r\nx", "no mail"},
		"none":   {"nothing of the kind", "no mail"},
		"empty":  {"", "no mail"},
		"no end": {head + "Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n\r\nx", "cannot be read"},
	} {
		if _, err := Read([]byte(c.raw)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzRead(f *testing.F) {
	b, err := os.ReadFile(filepath.Join("testdata", "read.txt"))
	if err != nil {
		f.Fatal(err)
	}
	for _, c := range strings.Split(string(b), "\n=====\n") {
		f.Add([]byte(c))
		f.Add([]byte(strings.ReplaceAll(c, "\n", "\r\n")))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := Read(raw)
		if err != nil {
			return
		}
		_ = jsonfmt.Encode(m.Tree())
		out, err := m.Write()
		if err != nil {
			return
		}
		if _, err := Read(out); err != nil {
			t.Errorf("what is written cannot be read: %v\n%q", err, out)
		}
	})
}
