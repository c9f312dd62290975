package form

import (
	"encoding/json"
	"os"
	"reflect"
	"strings"
	"testing"

	"readyferry/core/message"
)

// Source: tests of Go's net/url, testdata/form.json.
func TestPublishedCases(t *testing.T) {
	b, err := os.ReadFile("testdata/form.json")
	if err != nil {
		t.Fatal(err)
	}
	var s struct {
		Cases []struct {
			Kind, Input, Output string
			OK                  bool
			Fields              map[string][]string
		}
	}
	if err := json.Unmarshal(b, &s); err != nil {
		t.Fatal(err)
	}
	ran := map[string]int{}
	for _, c := range s.Cases {
		ran[c.Kind]++
		switch c.Kind {
		case "parse":
			n, err := Decode([]byte(c.Input), 0, "")
			if (err == nil) != c.OK {
				t.Errorf("%q: %v, ok should be %v", c.Input, err, c.OK)
			}
			if err == nil && !reflect.DeepEqual(fields(n), c.Fields) {
				t.Errorf("%q: %v, want %v", c.Input, fields(n), c.Fields)
			}
		case "escape":
			out, err := Encode(message.NewMap(message.Member{Name: "k", Value: message.NewString(c.Input)}))
			if err != nil || string(out) != "k="+c.Output {
				t.Errorf("%q: %s %v, want %s", c.Input, out, err, c.Output)
			}
		case "unescape":
			n, err := Decode([]byte("k="+strings.ReplaceAll(c.Input, "&", "%26")), 0, "")
			if (err == nil) != c.OK || err == nil && n.Get("k").Text != c.Output {
				t.Errorf("%q: %v %v, want %q", c.Input, n, err, c.Output)
			}
		}
	}
	if ran["parse"] == 0 || ran["escape"] == 0 || ran["unescape"] == 0 {
		t.Errorf("ran %v", ran)
	}
}

func fields(n *message.Node) map[string][]string {
	out := map[string][]string{}
	for _, m := range n.Members {
		if m.Value.Kind != message.List {
			out[m.Name] = []string{m.Value.Text}
			continue
		}
		for _, v := range m.Value.Items {
			out[m.Name] = append(out[m.Name], v.Text)
		}
	}
	return out
}

func TestErrorsSayWhere(t *testing.T) {
	for src, want := range map[string]string{"a=1&b=%G1": "form, line 1, column 7: \"%G1\" begins no two",
		"a=1;b=2": "column 4: a semicolon", "a=%FF": "is not UTF-8"} {
		if _, err := Decode([]byte(src), 0, ""); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", src, err, want)
		}
	}
	if _, err := Decode([]byte("a=1&b=2&c=3"), 2, ""); err == nil {
		t.Error("more fields than allowed")
	}
	if _, err := Encode(message.NewMap(message.Member{Name: "a", Value: message.NewMap()})); err == nil ||
		!strings.Contains(err.Error(), "field a: a map does not fit") {
		t.Error(err)
	}
}

func FuzzDecode(f *testing.F) {
	for _, s := range []string{"a=1&a=2&b=", "%41=+&=x&&", "a=%zz", "é=%C3%A9"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, src string) {
		n, err := Decode([]byte(src), 1000, "")
		if err != nil {
			return
		}
		out, err := Encode(n)
		if err != nil {
			t.Fatal(err)
		}
		again, err := Decode(out, 0, "")
		if err != nil || !reflect.DeepEqual(fields(again), fields(n)) {
			t.Fatalf("%q: %q %v", src, out, err)
		}
	})
}
