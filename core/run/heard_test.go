package run

import (
	"strings"
	"testing"

	"readyferry/core/message"
)

func TestWhatIsMissingInAConditionTakesTheOtherwise(t *testing.T) {
	const steps = `steps:
  - {id: r, kind: route, ways: [{name: a, when: 'body.kind == "x"', steps: [{id: n, kind: note, text: was a}]}],
     otherwise: {steps: [{id: o, kind: note, text: was otherwise}]}}
  - {id: w, kind: note, when: 'body.?far.near == optional.of("x")', text: skipped}
  - {id: k, kind: filter, keep: 'hl7(body, "ZZZ-1") == "x" || true'}
`
	for missing, want := range map[string]string{"error": DeadLetter, "otherwise": Delivered} {
		p := read(t, "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f, format: json, missing: "+missing+"}\n"+
			strings.Replace(steps, `hl7(body, "ZZZ-1") == "x" || true`, "body.nothing || true", 1))
		got := Rehearse(p, Envelope{ID: "1", Body: []byte(`{"other":1}`)}, Options{})
		notes := ""
		for _, n := range got.Notes {
			notes += n.Text + "\n"
		}
		if got.State != want || missing == "otherwise" && (!strings.Contains(notes,
			"r: body.kind == \"x\" counts as false, since") ||
			!strings.Contains(notes, "was otherwise")) {
			t.Errorf("%s: %s %v\n%s", missing, got.State, got.Reason, notes)
		}
	}
}

func TestAnElementWithAttributesIsNoText(t *testing.T) {
	p := read(t, `readyferry: flow/1
name: f
intake: {kind: webhook, path: /f, format: xml}
steps:
  - {id: r, kind: route, ways: [{name: a, when: 'body.o.id == "7"', steps: []}], otherwise: {steps: []}}
  - {id: t, kind: filter, keep: 'text(body.o.id) == "7"'}
`)
	for body, want := range map[string]string{
		`<o><id>7</id></o>`:       "",
		`<o><id s="x">7</id></o>`: "/steps/0/ways/0/when body.o.id is an element with attributes, which no text equals write text(body.o.id)",
	} {
		got := Rehearse(p, Envelope{ID: "1", Body: []byte(body), Headers: []message.Header{}}, Options{})
		found := ""
		for _, f := range got.Findings {
			found += f.Pointer + " " + f.Message + " " + f.Repair
		}
		if got.State != Delivered || found != want {
			t.Errorf("%s: %s %q, want %q", body, got.State, found, want)
		}
	}
}
