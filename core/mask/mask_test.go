package mask

import (
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

func tree(t *testing.T, text string) *message.Node {
	t.Helper()
	r, err := jsonfmt.Decode([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return r.Root
}

const patron = `{"patron":{"name":"Maud Lindqvist","card":"1234 5678","age":42,"notes":["shy","likes \"ferries\""]},` +
	`"lines":[{"isbn":"978","who":"Otto"},{"isbn":"979","who":"Ines"}],"ok":true}`

func TestWhatIsMaskedIsHiddenAndComesBack(t *testing.T) {
	paths := Parse([]string{"/patron", "/lines/*/who", "/none/here", "bad"})
	n := tree(t, patron)
	if got := strings.Join(Values(n, paths), "|"); got != `Maud Lindqvist|1234 5678|42|shy|likes "ferries"|Otto|Ines` {
		t.Errorf("the values are %s", got)
	}
	hidden := Hide(n, paths)
	if got := string(jsonfmt.Encode(hidden)); got != `{"patron":{"name":"•••","card":"•••","age":"•••","notes":["•••","•••"]},`+
		`"lines":[{"isbn":"978","who":"•••"},{"isbn":"979","who":"•••"}],"ok":true}` {
		t.Errorf("hidden it is %s", got)
	}
	if got := string(jsonfmt.Encode(Restore(hidden, n, paths))); got != patron {
		t.Errorf("restored it is %s", got)
	}
	edited := tree(t, `{"patron":{"name":"•••","card":"999","age":"•••"},"lines":[{"isbn":"•••","who":"•••"}]}`)
	if got := string(jsonfmt.Encode(Restore(edited, n, paths))); got !=
		`{"patron":{"name":"Maud Lindqvist","card":"999","age":42},"lines":[{"isbn":"•••","who":"Otto"}]}` {
		t.Errorf("an edit becomes %s", got)
	}
	if string(jsonfmt.Encode(n)) != patron {
		t.Error("the original was changed")
	}
}

func TestMadeUpValuesAreOfLikeShape(t *testing.T) {
	made := MakeUp(tree(t, patron), Parse([]string{"/patron/name", "/patron/card", "/patron/age"}))
	get := func(name string) string { return made.Get("patron").Get(name).Text }
	shape := func(s string) string {
		return strings.Map(func(r rune) rune {
			switch {
			case r >= '0' && r <= '9':
				return '9'
			case r >= 'A' && r <= 'Z':
				return 'A'
			case r >= 'a' && r <= 'z':
				return 'a'
			}
			return r
		}, s)
	}
	if shape(get("name")) != "Aaaa Aaaaaaaaa" || shape(get("card")) != "9999 9999" || len(get("age")) != 2 ||
		get("name") == "Maud Lindqvist" || get("card") == "1234 5678" {
		t.Errorf("%q %q %q", get("name"), get("card"), get("age"))
	}
	if made.Get("lines").Items[0].Get("who").Text != "Otto" {
		t.Error("what is not masked is made up")
	}
}

func TestPointersThatTouchWhatIsMasked(t *testing.T) {
	paths := Parse([]string{"/patron/name", "/lines/*/who"})
	for pointer, want := range map[string]bool{"": true, "/patron": true, "/patron/name": true,
		"/patron/name/first": true, "/lines": true,
		"/lines/3/who": true, "/lines/-/who": true, "/lines/3": true, "/lines/3/isbn": false, "/patron/card": false,
		"/ok": false} {
		if got := Touches(paths, pointer); got != want {
			t.Errorf("%q: %v", pointer, got)
		}
	}
}

// Whatever the value, and however often a text that holds it was put into JSON: it is not there
// any more.
func TestAVeilHidesWhateverTheFormatsMakeOfAValue(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	letters := []rune(`abcXYZ 019"\<>&'/+äßλ日%` + "\n\t")
	for range 3000 {
		value := make([]rune, 4+r.IntN(12))
		for i := range value {
			value[i] = letters[r.IntN(len(letters))]
		}
		v := string(value)
		if strings.TrimSpace(v) == "" {
			continue
		}
		veil := NewVeil([]string{v, "x"}, nil)
		text := "before " + v + " after"
		for depth := range 4 {
			if got := veil.Hide(text); strings.Contains(got, v) || !strings.Contains(got, Shown) {
				t.Fatalf("%q in JSON %d times: %s", v, depth, got)
			}
			b, err := json.Marshal(map[string]string{"text": text})
			if err != nil {
				t.Fatal(err)
			}
			text = string(b)
		}
	}
	veil := NewVeil([]string{"42", "M", "Maud"}, Parse([]string{"/patron/age"}))
	for text, want := range map[string]string{
		`{"age":42,"n":42}`:        `{"age":null,"n":42}`,
		`{"body":"{\"age\": 42}"}`: `{"body":"{\"age\": null}"}`,
		`{"sex":"M","at":"MARL"}`:  `{"sex":"•••","at":"MARL"}`,
		`PID|1|M|MAUD^X`:           `PID|1|•••|•••^X`,
		`<sex>M</sex>`:             `<sex>•••</sex>`,
	} {
		if got := veil.Hide(text); got != want {
			t.Errorf("%s becomes %s, not %s", text, got, want)
		}
	}
}
