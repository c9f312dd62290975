package plan

import (
	"strings"
	"testing"

	"readyferry/core/step"
)

// Which flows have messages that go their way by themselves is our own rule: each kind of step that keeps something
// of a message for others, or waits for others, makes messages meet.
func TestWhatMeets(t *testing.T) {
	r, err := NewReader()
	if err != nil {
		t.Fatal(err)
	}
	webhook := `"intake":{"kind":"webhook","path":"/a"`
	for _, c := range []struct{ document, why string }{
		{webhook + `},"steps":[{"id":"d","kind":"deliver","to":"out","path":"/"}]`, ""},
		{webhook + `,"order":"body.v"},"steps":[]`, ""},
		{webhook + `,"once":"body.id"},"steps":[]`, ""},
		{webhook + `,"order":"body.v","once":"body.v + string(body.n)"},"steps":[]`, ""},
		{webhook + `,"order":"body.v","once":"body.id"},"steps":[]`, "its once value does not say of which order value a message is"},
		{webhook + `},"limits":{"per-second":5},"steps":[]`, "what it takes in is bounded"},
		{`"intake":{"kind":"queue","queue":"q"},"steps":[]`, "its intake is of kind queue"},
		{webhook + `},"steps":[{"id":"d","kind":"deliver","to":{"queue":"q"}}]`, "it uses the queue q"},
		{webhook + `},"steps":[{"id":"d","kind":"deliver","to":{"topic":"t"}}]`, "it uses the topic t"},
		{webhook + `},"steps":[{"id":"s","kind":"subflow","flow":"b"}]`, "it calls the flow b"},
		{webhook + `},"steps":[{"id":"o","kind":"once","key":"body.id","for":"1h"}]`, "it has a step of kind once"},
		{webhook + `},"steps":[{"id":"r","kind":"route","ways":[{"name":"w","when":"true","steps":[{"id":"p","kind":"pace","most":5,"per":"1s"}]}]}]`,
			"it has a step of kind pace"},
		{webhook + `},"steps":[],"on-dead-letter":{"steps":[{"id":"o","kind":"once","key":"params.id","for":"1h"}]}`, "it has a step of kind once"},
	} {
		p, findings := r.Read([]byte(`{"readyferry":"flow/1","name":"a",`+c.document+`}`), nil)
		if p == nil {
			t.Errorf("%s: %v", c.document, findings)
			continue
		}
		if why := p.Meets(); why != c.why {
			t.Errorf("%s: %q, not %q", c.document, why, c.why)
		}
	}
}

// Every kind of step is looked at: one that is new has to be said to meet others or not.
func TestEveryKindMeetsOrDoesNot(t *testing.T) {
	alone := strings.Fields("validate set map write convert filter route split scatter lookup code ask deliver answer note")
	all := map[string]bool{}
	for _, k := range append(alone, meeting...) {
		all[k] = true
	}
	for _, kind := range step.Kinds() {
		k := kind.Name
		if !all[k] {
			t.Errorf("nobody has said whether messages meet in a step of kind %s", k)
		}
	}
}
