package expr

import (
	"encoding/json"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"readyferry/core/message"
)

// awkward gives strings made of what tends to break out of where it stands.
func awkward(r *rand.Rand) string {
	pieces := []string{
		"a",
		"/",
		"..",
		".",
		"?",
		"#",
		"%2F",
		"%",
		"&",
		"=",
		"+",
		" ",
		"\"",
		"\\",
		"{",
		"}",
		"${x}",
		"\n",
		"\r",
		"\x00",
		"é",
		"😀",
		"<",
		"'",
		"\u2028",
		";",
		":",
		"\xff",
	}
	var b strings.Builder
	for range 1 + r.IntN(6) {
		b.WriteString(pieces[r.IntN(len(pieces))])
	}
	return b.String()
}

// A value stays inside its hole, wherever the template stands.
func TestHolesCannotBeLeft(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	e := env(t)
	compile := func(source string, place Place) *Template {
		tpl, err := e.CompileTemplate(source, place)
		if err != nil {
			t.Fatal(err)
		}
		return tpl
	}
	path, header := compile("/a/${body.v}/z?q=${body.v}&r=1", URLPath), compile("x ${body.v}", HeaderValue)
	text := compile(`{"a": "<${body.v}>", "b": ${body.v}, "c": 1}`, JSONText)
	for range 5000 {
		v := awkward(r)
		s := &Scope{Body: message.NewMap(message.Member{Name: "v", Value: message.NewString(v)})}
		if got, err := path.Eval(s); err == nil {
			u, err := url.Parse("http://h" + got)
			if err != nil {
				t.Fatalf("%q: %v", v, err)
			}
			segments := strings.Split(u.EscapedPath(), "/")
			inside, err := url.PathUnescape(segments[2])
			if len(segments) != 4 || err != nil || inside != v || u.Query().Get("q") != v ||
				u.Query().Get("r") != "1" ||
				u.Fragment != "" {
				t.Fatalf("%q became %q", v, got)
			}
			if inside == "." || inside == ".." || inside == "" {
				t.Fatalf("%q is a segment", inside)
			}
		} else if v != "." && v != ".." {
			t.Fatalf("%q is refused: %v", v, err)
		}
		if got, err := header.Eval(s); err == nil {
			if strings.ContainsAny(got, "\r\n\x00") || got != "x "+v {
				t.Fatalf("%q became the header %q", v, got)
			}
		} else if !strings.ContainsAny(v, "\r\n\x00") {
			t.Fatalf("%q is refused: %v", v, err)
		}
		got, err := text.Eval(s)
		if err != nil {
			t.Fatal(err)
		}
		var doc map[string]any
		if err := json.Unmarshal([]byte(got), &doc); err != nil || len(doc) != 3 {
			t.Fatalf("%q became %q: %v", v, got, err)
		}
		if utf8.ValidString(v) && (doc["a"] != "<"+v+">" || doc["b"] != v) {
			t.Fatalf("%q became %v", v, doc)
		}
	}
}
