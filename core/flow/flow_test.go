package flow

import (
	"fmt"
	"strings"
	"testing"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

func TestYAMLAndJSONAreOneTree(t *testing.T) {
	for src, want := range map[string]string{
		"a: 1\nb: [x, 'y', \"z\\n\"]\n":                               `{"a":1,"b":["x","y","z\n"]}`,
		`{"a": 1.50, "b": {"c": null}}`:                               `{"a":1.50,"b":{"c":null}}`,
		"a: 0x10\nb: 1_000\nc: .5\nd: 12345678901234567890\ne: 1e3\n": `{"a":16,"b":1000,"c":0.5,"d":12345678901234567890,"e":1e3}`,
		"a: yes\nb: true\nc: ~\nd:\n":                                 `{"a":"yes","b":true,"c":null,"d":null}`,
		"a: |\n  one\n  two\nb: >-\n  x\n  y\n":                       `{"a":"one\ntwo\n","b":"x y"}`,
		"a: &r {first: 5s}\nb: *r\n":                                  `{"a":{"first":"5s"},"b":{"first":"5s"}}`,
		"# a remark\na: '#no' # yes\n":                                `{"a":"#no"}`,
		"\"a b\": 1\n3: x\n":                                          `{"a b":1,"3":"x"}`,
		"{\n\t\"a\\/b\": \"\\ud83d\\ude00\",\n\t\"n\": 1E2}":          `{"a/b":"😀","n":1E2}`,
		"- {a: 1}\n- []\n":                                            `[{"a":1},[]]`,
	} {
		s, bad := Parse([]byte(src))
		if bad != nil {
			t.Errorf("%q: %v", src, bad)
			continue
		}
		if got := string(jsonfmt.Encode(s.Root)); got != want {
			t.Errorf("%q: %s, want %s", src, got, want)
		}
	}
}

func TestWhatIsNotRead(t *testing.T) {
	for src, want := range map[string]string{
		"a: 1\n---\nb: 2\n":            "3 syntax: the file holds a second document",
		"a: !!binary x\n":              "1 syntax: tags such as !!binary are not used here",
		"a: *nobody\n":                 "1 syntax: there is no anchor &nobody above",
		"a: {<<: {b: 1}}\n":            "1 syntax: merge keys (<<) are not part of YAML 1.2",
		"a: .inf\n":                    "1 syntax: .inf is no number",
		"a: [1, 2\nb: 3\n":             "syntax: this is no valid YAML",
		strings.Repeat("#", MaxSize+1): "syntax: the document has 1048577 bytes",
		"a: &x [1,1,1,1,1,1,1,1,1,1]\nb: &y [*x,*x,*x,*x,*x,*x,*x,*x,*x,*x]\nc: &z " +
			"[*y,*y,*y,*y,*y,*y,*y,*y,*y,*y]\nd: &w [*z,*z,*z,*z,*z,*z,*z,*z,*z,*z]\n" +
			"e: [*w,*w,*w,*w,*w,*w,*w,*w,*w,*w]\n": "syntax: the document has more than 50000 values",
	} {
		_, bad := Parse([]byte(src))
		got := "nothing"
		if bad != nil {
			got = fmt.Sprintf("%d %s: %s", bad.Line, bad.Code, bad.Message)
		}
		if !strings.Contains(got, want) {
			t.Errorf("%.60q: %s, want %s", src, got, want)
		}
	}
}

func TestPlaces(t *testing.T) {
	s, bad := Parse(
		[]byte("name: f\nsteps:\n- id: a\n  keep: 'body.x'\n  text: |\n    one\n    two\n- {id: b, when: body.y}\n"),
	)
	if bad != nil {
		t.Fatal(bad)
	}
	for _, c := range []struct {
		what string
		got  Place
		want Place
	}{
		{"a value", s.Value("/name"), Place{1, 7}},
		{"a key", s.Key("/steps"), Place{2, 1}},
		{"a map", s.Value("/steps/0"), Place{3, 3}},
		{"a quoted text", s.Value("/steps/0/keep"), Place{4, 10}},
		{"inside a quoted text", s.Within("/steps/0/keep", 1, 6), Place{4, 15}},
		{"inside a block", s.Within("/steps/0/text", 2, 2), Place{7, 6}},
		{"a flow map", s.Value("/steps/1/when"), Place{8, 17}},
		{"what is not there", s.Value("/steps/1/nothing/at/all"), Place{8, 4}},
	} {
		if c.got != c.want {
			t.Errorf("%s: %v, want %v", c.what, c.got, c.want)
		}
	}
}

func TestPlacesInJSON(t *testing.T) {
	s, bad := Parse([]byte("{\n\t\"na\\\"me\": \"f\",\n  \"steps\": [{\"id\" : 1}, [ true ]]\n}"))
	if bad != nil {
		t.Fatal(bad)
	}
	for what, c := range map[string]struct{ got, want Place }{
		"a value":  {s.Value(`/na"me`), Place{2, 13}},
		"a key":    {s.Key(`/na"me`), Place{2, 2}},
		"a list":   {s.Value("/steps"), Place{3, 12}},
		"an id":    {s.Key("/steps/0/id"), Place{3, 14}},
		"a number": {s.Value("/steps/0/id"), Place{3, 21}},
		"inside":   {s.Value("/steps/1/0"), Place{3, 27}},
	} {
		if c.got != c.want {
			t.Errorf("%s: %v, want %v", what, c.got, c.want)
		}
	}
	if _, bad := Parse([]byte(`{"a":1,"a":2}`)); bad == nil || bad.Message != `the key "a" stands twice in one map` {
		t.Errorf("%v", bad)
	}
}

func TestDurations(t *testing.T) {
	for text, want := range map[string]string{"5s": "5s", "1m30s": "1m30s", "24h": "24h0m0s", "250ms": "250ms",
		"": "error", "5": "error", "0s": "error", "-1s": "error", "soon": "error"} {
		d, err := Duration(text)
		got := d.String()
		if err != nil {
			got = "error"
		}
		if got != want {
			t.Errorf("%q: %s, want %s", text, got, want)
		}
	}
}

// Whatever a text holds, what is written as YAML reads as it was.
func TestTextsAreWrittenAsTheyAre(t *testing.T) {
	for _, text := range []string{
		"a\rb\r", "MSH|^~\\&|us\rMSA|AA|1\r", "a\r\nb", "a\nb\n", "\tx", "a\x00b", "\x7f", "é \u2028 x", "\ufeffx", `"'`,
		"- a", "a: b", "#x", " x ", "\n", "a\n  b\n c", "", "\nabc", " x\ny", "a\n\n", "\ta\nb",
		"a\n\tb", "a \nb", "~", "null", "1.50", "true", "2026-03-17", "a: |\n b", "%x", "@x", "a\tb", "…",
	} {
		src, err := Write(message.NewMap(message.Member{Name: "steps", Value: message.NewList(message.NewMap(
			message.Member{Name: "text", Value: message.NewString(text)}, message.Member{Name: "z",
				Value: message.NewNumber("1")}))}))
		if err != nil {
			t.Fatal(err)
		}
		s, bad := Parse(src)
		if bad != nil {
			t.Errorf("%q is written %q: %v", text, src, bad)
			continue
		}
		if got := s.Root.Get("steps").Items[0].Get("text").Text; got != text {
			t.Errorf("%q comes back as %q, written %q", text, got, src)
		}
	}
}
