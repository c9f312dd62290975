package api

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"runtime"
	"strings"
	"testing"
)

// unfolding packs so many bytes that are alike.
func unfolding(t *testing.T, size int) string {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if _, err := z.Write(make([]byte, size)); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// container is an Avro object container file whose one block unfolds to so many bytes
// (Avro 1.12, "Object Container Files").
func container(t *testing.T, size int) string {
	t.Helper()
	var packed bytes.Buffer
	z, err := flate.NewWriter(&packed, flate.BestCompression)
	if err == nil {
		_, err = z.Write(make([]byte, size))
	}
	if err != nil || z.Close() != nil {
		t.Fatal(err)
	}
	long := func(n int) string {
		u, out := uint64(n)<<1, ""
		for ; u > 127; u >>= 7 {
			out += string([]byte{byte(u) | 128})
		}
		return out + string([]byte{byte(u)})
	}
	text := func(s string) string { return long(len(s)) + s }
	mark := strings.Repeat("m", 16)
	return "Obj\x01" + long(2) + text("avro.schema") + text(`"null"`) + text("avro.codec") + text("deflate") +
		long(0) + mark +
		long(size) + long(packed.Len()) + packed.String() + mark
}

// laughs is a document whose entities multiply (CWE-776), for XML, XSD and WSDL alike.
var laughs = `<?xml version="1.0"?><!DOCTYPE r [<!ENTITY a "ha">` + func() (out string) {
	for c := 'b'; c < 'q'; c++ {
		out += fmt.Sprintf(`<!ENTITY %c "%s">`, c, strings.Repeat(fmt.Sprintf("&%c;", c-1), 10))
	}
	return out
}() + `]><r xmlns="http://www.w3.org/2001/XMLSchema">&p;</r>`

// aliases is YAML whose aliases multiply.
var aliases = "a: &a [x,x,x,x,x,x,x,x,x]\n" + func() (out string) {
	for c := 'b'; c < 'l'; c++ {
		out += fmt.Sprintf("%c: &%c [%s]\n", c, c, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*%c,", c-1), 9), ","))
	}
	return out
}()

// What is small outside and large inside, or deep without end, is turned away at every door, with a
// clear answer, within a bounded part of the memory; and the application goes on.
func TestBombsAtEveryDoor(t *testing.T) {
	w := start(t)
	for _, format := range []string{"json", "xml", "avro", "multipart", "jsonl", "csv", "form", "hl7"} {
		w.ok("PUT", "/api/v1/flows/"+format, `{"readyferry":"flow/1","name":"`+format+`","intake":{"kind":"webhook","path":"/`+format+`",
			"format":"`+format+`","answer":"finished","limit":33554432},"steps":[]}`)
		w.ok("POST", "/api/v1/flows/"+format+"/publish", `{}`)
	}
	deep := strings.Repeat("[", 200_000) + strings.Repeat("]", 200_000)
	element := strings.Repeat("<a>", 200_000) + strings.Repeat("</a>", 200_000)
	parts := "--x\r\nContent-Disposition: form-data; name=\"a\"\r\n\r\n1\r\n"
	quoted := func(s string) string {
		b, err := json.Marshal(s)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	for name, c := range map[string]struct {
		path, body string
		headers    []string
	}{
		"JSON without end":       {"POST /in/json", deep, nil},
		"JSON of many values":    {"POST /in/json", "[" + strings.Repeat("0,", 3_000_000) + "0]", nil},
		"lines without end":      {"POST /in/jsonl", strings.Repeat("1\n", 3_000_000), nil},
		"entities that multiply": {"POST /in/xml", laughs, nil},
		"entities from outside": {"POST /in/xml",
			`<!DOCTYPE r [<!ENTITY x SYSTEM "file:///etc/hostname">]><r>&x;</r>`, nil},
		"elements without end":       {"POST /in/xml", element, nil},
		"attributes without end":     {"POST /in/xml", "<a" + strings.Repeat(` b="1"`, 100_000) + "/>", nil},
		"cells without end":          {"POST /in/csv", strings.Repeat(strings.Repeat("a,", 3000)+"\n", 1000), nil},
		"fields without end":         {"POST /in/form", strings.Repeat("a=1&", 5_000_000), nil},
		"an HL7 message without end": {"POST /in/hl7", "MSH|^~\\&|" + strings.Repeat("^&~|", 2_000_000), nil},
		"a body that unfolds":        {"POST /in/json", unfolding(t, 512<<20), []string{"Content-Encoding: gzip"}},
		"a body that unfolds twice": {"POST /in/json", unfolding(t, 1<<20),
			[]string{"Content-Encoding: gzip, gzip"}},
		"a container that unfolds": {"POST /in/avro", container(t, 512<<20), nil},
		"parts without end": {"POST /in/multipart", strings.Repeat(parts, 560_000) + "--x--",
			[]string{"Content-Type: multipart/form-data; boundary=x"}},
		"a flow whose aliases multiply": {"PUT /api/v1/flows/y", aliases, []string{"Content-Type: application/yaml"}},
		"a flow without end":            {"PUT /api/v1/flows/y", deep, nil},
		"a connection whose aliases multiply": {"PUT /api/v1/connections/y", aliases,
			[]string{"Content-Type: application/yaml"}},
		"a contract whose entities multiply": {"POST /api/v1/contracts", `{"text":` + quoted(laughs) + `}`, nil},
		"a contract whose aliases multiply": {"POST /api/v1/contracts", `{"text":` +
			quoted("openapi: 3.1.0\n"+aliases) + `}`, nil},
		"an expression that unfolds": {"POST /api/v1/eval", `{"expression":"size(gunzip(base64.decode(body)))","body":` +
			quoted(quoted(base64.StdEncoding.EncodeToString([]byte(unfolding(t, 512<<20))))) + `}`, nil},
		"an expression without end": {"POST /api/v1/eval", `{"expression":` + quoted(strings.Repeat("(",
			50_000)+"1"+strings.Repeat(")", 50_000)) + `}`, nil},
		"an expression that grows": {"POST /api/v1/eval",
			`{"expression":"lists.range(100000).map(x, lists.range(100000))"}`, nil},
		"a query in XPath that grows": {"POST /api/v1/eval",
			`{"expression":"xpath(body, \"//*//*//*//*//*//*//*\")","format":"xml","body":` +
				quoted(strings.Repeat("<a>", 90)+strings.Repeat("<b/>", 5000)+strings.Repeat("</a>", 90)) + `}`, nil},
		"a calendar without end": {"POST /api/v1/calendar-previews", `{"text":` +
			quoted("BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART:19700101T000000Z\r\n"+
				"DURATION:PT1S\r\nRRULE:FREQ=SECONDLY\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n") + `}`, nil},
		"a bundle without end": {"POST /api/v1/import", `{"files":` + deep + `}`, nil},
		"a bundle of paths":    {"POST /api/v1/import", `{"files":{"flows/../../../x/flow.yaml":"eA=="}}`, nil},
	} {
		method, path, _ := strings.Cut(c.path, " ")
		headers := c.headers
		if headers == nil {
			headers = []string{"Content-Type: application/json"}
		}
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		got := w.call(method, path, c.body, headers...)
		runtime.ReadMemStats(&after)
		if got.status < 400 || got.status >= 500 {
			t.Errorf("%s: %d %.300s", name, got.status, got.body)
		}
		if grown := (after.TotalAlloc - before.TotalAlloc) >> 20; grown > 1500 {
			t.Errorf("%s: took %d MB", name, grown)
		} else {
			t.Logf("%s: %d, %d MB, %.100s", name, got.status, grown, got.body)
		}
		if w.plain("GET", "/healthz") != http.StatusOK {
			t.Fatalf("%s: it does not go on", name)
		}
	}
}
