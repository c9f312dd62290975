package format

import (
	"strings"
	"testing"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// Every format is read in the character set that is said, and written in it; a document that
// says itself what it is in is believed first.
func TestCharacterSetsOfFormats(t *testing.T) {
	for _, c := range []struct{ format, charset, src, tree string }{
		{JSON, "iso-8859-1", "{\"a\":\"caf\xe9\"}", `{"a":"café"}`},
		{JSON, "", `{"a":"café"}`, `{"a":"café"}`},
		{JSON, "klingon", `{"a":"b"}`, `{"a":"b"}`},
		{CSV, "windows-1252", "a;\x80\r\n", `[["a;€"]]`},
		{Form, "latin1", "a=caf%E9&b=%E9", `{"a":"café","b":"é"}`},
		{Text, "windows-1252", "\x93x\x94", `"“x”"`},
		{Text, "utf-16", "\xff\xfea\x00", `"a"`},
		{HL7, "iso-8859-1", "MSH|^~\\&|\xe9", `{"MSH":{"1":"|","2":"^~\\&","3":"é"}}`},
		{HL7, "windows-1252", "MSH|^~\\&|\xa4|||||||||||||||8859/15", `{"MSH":{"1":"|","2":"^~\\&","3":"€","18":"8859/15"}}`},
		{HL7, "", "MSH|^~\\&|\x80|||||||||||||||WINDOWS-1252", `{"MSH":{"1":"|","2":"^~\\&","3":"€","18":"WINDOWS-1252"}}`},
		{XML, "iso-8859-1", "<a>\xe9</a>", `{"a":"é"}`},
		{XML, "iso-8859-1", "<?xml version='1.0' encoding='windows-1252'?><a>\x80</a>", `{"a":"€"}`},
	} {
		l := message.Layout{Charset: c.charset}
		d, err := Decode(c.format, []byte(c.src), l, Limits{})
		if err != nil || string(jsonfmt.Encode(d.Root)) != c.tree {
			t.Errorf("%s in %s: %v %v", c.format, c.charset, d.Root, err)
			continue
		}
		if c.charset == "" || c.charset == "klingon" || c.format == Form || c.format == HL7 || c.format == XML {
			continue
		}
		utf8, err := InCharset(c.format, []byte(c.src), c.charset, "utf-8")
		if err != nil {
			t.Error(err)
			continue
		}
		if strings.HasPrefix(c.charset, "utf-16") {
			continue
		}
		back, err := InCharset(c.format, utf8, "", c.charset)
		if err != nil || string(back) != c.src {
			t.Errorf("%s in %s: %q %v", c.format, c.charset, back, err)
		}
	}
	// CSV of two sorts in one file.
	d, err := Decode(CSV, []byte("caf\xe9,café\n"), message.Layout{Lenient: true}, Limits{})
	if err != nil || string(jsonfmt.Encode(d.Root)) != `[["café","café"]]` {
		t.Error(d.Root, err)
	}
	for _, c := range []struct{ format, src, to, want string }{
		{XML, `<a>é €</a>`, "iso-8859-1", "<?xml version=\"1.0\" encoding=\"iso-8859-1\"?><a>\xe9 &#8364;</a>"},
		{XML, `<?xml version="1.0" standalone="yes"?><a>é</a>`, "latin1",
			`<?xml version="1.0" encoding="latin1" standalone="yes"?><a>` + "\xe9</a>"},
		{XML, `<?xml version="1.0" encoding="UTF-8"?><a>é</a>`, "ISO-8859-1",
			`<?xml version="1.0" encoding="ISO-8859-1"?><a>` + "\xe9</a>"},
		{HL7, "MSH|^~\\&|é|||||||||||||||UNICODE UTF-8", "latin1", "MSH|^~\\&|é|||||||||||||||UNICODE UTF-8"},
		{Form, "a=%C3%A9", "latin1", "a=%C3%A9"}, {Binary, "\xff", "latin1", "\xff"},
	} {
		got, err := InCharset(c.format, []byte(c.src), "", c.to)
		if err != nil || string(got) != c.want {
			t.Errorf("%s as %s: %q %v, want %q", c.src, c.to, got, err, c.want)
		}
	}
	if _, err := InCharset(CSV, []byte("€"), "", "iso-8859-1"); err == nil || !strings.Contains(err.Error(),
		"has no '€'") {
		t.Error(err)
	}
	if _, err := InCharset(CSV, []byte("x"), "", "klingon"); err == nil {
		t.Error("a set that nobody knows")
	}
}

func TestALineEndStaysAsItWas(t *testing.T) {
	for _, c := range []struct{ was, now, want string }{
		{"MSH|a\rPID|1\r", "MSH|b\nPID|1\n", "MSH|b\rPID|1\r"}, {"a\rb", "a\r\nb\nc", "a\rb\rc"},
		{"a\r\nb\r\n", "a\nc\n", "a\r\nc\r\n"}, {"a\nb", "a\nc", "a\nc"}, {"a\nb\r\n", "a\nc\n", "a\nc\n"}, {"ab", "a\nb",
			"a\nb"},
		{"a\r\nb", "a\r\nb", "a\r\nb"},
	} {
		if got := string(Edited([]byte(c.was), []byte(c.now))); got != c.want {
			t.Errorf("%q edited as %q: %q, want %q", c.was, c.now, got, c.want)
		}
	}
}
