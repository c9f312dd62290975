package multipart

import (
	"bytes"
	"mime"
	std "mime/multipart"
	"strings"
	"testing"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// Source: RFC 2046, 5.1.1 and RFC 7578; the forms are written by mime/multipart of the standard
// library, and what we write is read by it.
func TestFormsOfTheStandardLibrary(t *testing.T) {
	var b bytes.Buffer
	w := std.NewWriter(&b)
	_ = w.WriteField("card", "LC 1")
	_ = w.WriteField("tag", "a")
	_ = w.WriteField("tag", "é")
	f, _ := w.CreateFormFile("photo", "maud \"o\".png")
	_, _ = f.Write([]byte{0, 0xFF, '\r', '\n'})
	_ = w.Close()
	n, err := Decode(b.Bytes(), 0)
	if err != nil {
		t.Fatal(err)
	}
	const want = `{"card":"LC 1","tag":["a","é"],"photo":{"filename":"maud \"o\".png","type":"application/octet-stream","content":"AP8NCg=="}}`
	if got := string(jsonfmt.Encode(n)); got != want {
		t.Error(got)
	}
	if _, params, _ := mime.ParseMediaType(w.FormDataContentType()); ContentType(b.Bytes()) != "multipart/form-data; boundary="+params["boundary"] {
		t.Error(ContentType(b.Bytes()))
	}
	out, err := Encode(n)
	if err != nil {
		t.Fatal(err)
	}
	again, err := Encode(n)
	if err != nil || !bytes.Equal(out, again) {
		t.Error("a second try is another document")
	}
	form, err := std.NewReader(bytes.NewReader(out), Boundary(out)).ReadForm(1 << 20)
	if err != nil || form.Value["card"][0] != "LC 1" || len(form.Value["tag"]) != 2 || form.File["photo"][0].Size != 4 {
		t.Errorf("%+v %v", form, err)
	}
	back, err := Decode(out, 0)
	if err != nil || string(jsonfmt.Encode(back)) != strings.ReplaceAll(want, `maud \"o\".png`, "maud %22o%22.png") {
		t.Errorf("%s %v", jsonfmt.Encode(back), err)
	}
}

func TestFilesThatAreWritten(t *testing.T) {
	r, err := jsonfmt.Decode([]byte(`{"f":{"filename":"a.txt","type":"text/plain","content":"x"},"g":{"base64":"AP8="},"n":7}`))
	if err != nil {
		t.Fatal(err)
	}
	out, err := Encode(r.Root)
	if err != nil {
		t.Fatal(err)
	}
	back, err := Decode(out, 0)
	if err != nil || string(jsonfmt.Encode(back)) != `{"f":{"filename":"a.txt","type":"text/plain","content":"eA=="},`+
		`"g":{"filename":"","type":"application/octet-stream","content":"AP8="},"n":"7"}` {
		t.Errorf("%s %v", jsonfmt.Encode(back), err)
	}
	if empty, err := Encode(message.NewMap()); err != nil {
		t.Error(err)
	} else if n, err := Decode(empty, 0); err != nil || len(n.Members) != 0 {
		t.Errorf("%v %v", n, err)
	}
}

func TestWhatIsRefused(t *testing.T) {
	for src, want := range map[string]string{
		"a=b": "part 1: the text does not begin with a boundary", "--x\r\n\r\nbody\r\n--x--": "part 1: it has no name",
		"--x\r\nContent-Disposition: form-data; name=\"a\"\r\n\r\nbody":                                            "ends before its last boundary",
		"--x\r\nContent-Disposition: form-data; name=\"a\"\r\nContent-Transfer-Encoding: base64\r\n\r\n!\r\n--x--": "no base64",
		"": "begin with a boundary",
	} {
		if _, err := Decode([]byte(src), 0); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", src, err, want)
		}
	}
	for src, want := range map[string]string{`[1]`: "a map of fields", `{"a":{"x":1}}`: "field a: a file has content",
		`{"a":{"content":[1]}}`: "its content is a list", `{"a":{"base64":"!"}}`: "cannot be read", `{"a":[[1]]}`: "does not fit",
		`{"a":{"content":"x","type":"a\nb"}}`: "line end"} {
		r, err := jsonfmt.Decode([]byte(src))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Encode(r.Root); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", src, err, want)
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte("--x\r\nContent-Disposition: form-data; name=\"a\"\r\n\r\nb\r\n--x--"))
	f.Fuzz(func(t *testing.T, src []byte) {
		n, err := Decode(src, 1000)
		if err != nil {
			return
		}
		if _, err := Encode(n); err != nil {
			t.Errorf("%q is read and cannot be written: %v", src, err)
		}
	})
}
