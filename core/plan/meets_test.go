package plan

import (
	"slices"
	"strings"
	"testing"

	"readyferry/core/step"
)

// Which flows have messages that go their way by themselves is our own rule: each kind of step that keeps something
// of a message for others, or waits for others, makes messages meet; so does what several flows have.
func TestWhatMeets(t *testing.T) {
	r, err := NewReader()
	if err != nil {
		t.Fatal(err)
	}
	webhook := `"intake":{"kind":"webhook","path":"/a"`
	for _, c := range []struct{ document, meets, shares string }{
		{webhook + `},"steps":[{"id":"d","kind":"deliver","to":"out","path":"/"}]`, "", ""},
		{webhook + `,"order":"body.v"},"steps":[]`, "", ""},
		{webhook + `,"once":"body.id"},"steps":[]`, "", ""},
		{webhook + `,"order":"body.v","once":"body.v + string(body.n)"},"steps":[]`, "", ""},
		{webhook + `,"order":"body.v","once":"body.id"},"steps":[]`, "its once value does not say of which order value a message is", ""},
		{webhook + `},"steps":[{"id":"h","kind":"hold","for":"1h"}]`, "", ""},
		{webhook + `},"steps":[{"id":"h","kind":"hold","until":"body.at"}]`, "", ""},
		{`"intake":{"kind":"load"},"steps":[]`, "", ""},
		{webhook + `},"steps":[{"id":"h","kind":"hold","until":{"in":"t","key":"body.k"}}]`, "", "it waits for a row of a table"},
		{webhook + `},"steps":[{"id":"p","kind":"pair","in":"t","row":{"a":"body.a","b":"body.b"}}]`, "",
			"it has a step of kind pair"},
		{webhook + `},"limits":{"per-second":5},"steps":[]`, "", "what it takes in is bounded"},
		{`"intake":{"kind":"queue","queue":"q"},"steps":[]`, "its intake is of kind queue", "its intake is of kind queue"},
		{`"intake":{"kind":"schedule","every":"1h"},"steps":[]`, "its intake is of kind schedule", ""},
		{webhook + `},"steps":[{"id":"d","kind":"deliver","to":{"queue":"q"}}]`, "", "it uses the queue q"},
		{webhook + `},"steps":[{"id":"d","kind":"deliver","to":{"topic":"t"}}]`, "", "it uses the topic t"},
		{webhook + `},"steps":[{"id":"s","kind":"subflow","flow":"b"}]`, "", "it calls the flow b"},
		{webhook + `},"steps":[{"id":"o","kind":"once","key":"body.id","for":"1h"}]`, "it has a step of kind once", ""},
		{webhook + `},"steps":[{"id":"o","kind":"once","key":"body.id","for":"1h"},{"id":"d","kind":"deliver","to":{"queue":"q"}}]`,
			"it has a step of kind once", "it uses the queue q"},
		{webhook + `},"steps":[{"id":"g","kind":"aggregate","key":"body.k","close":{"count":2}}]`, "it has a step of kind aggregate", ""},
		{webhook + `},"steps":[{"id":"r","kind":"route","ways":[{"name":"w","when":"true","steps":[{"id":"p","kind":"pace","most":5,"per":"1s"}]}]}]`,
			"it has a step of kind pace", ""},
		{webhook + `},"steps":[],"on-dead-letter":{"steps":[{"id":"o","kind":"once","key":"params.id","for":"1h"}]}`,
			"it has a step of kind once", ""},
	} {
		p, findings := r.Read([]byte(`{"readyferry":"flow/1","name":"a",`+c.document+`}`), nil)
		if p == nil {
			t.Errorf("%s: %v", c.document, findings)
			continue
		}
		if meets, shares := p.Meets(), p.Shares(); meets != c.meets || shares != c.shares {
			t.Errorf("%s: %q and %q, not %q and %q", c.document, meets, shares, c.meets, c.shares)
		}
	}
}

// Every kind of step is looked at: one that is new has to be said to meet others or not.
func TestEveryKindMeetsOrDoesNot(t *testing.T) {
	alone := strings.Fields("validate set map write convert filter route split scatter lookup code ask deliver answer note hold")
	all := map[string]bool{}
	for _, k := range slices.Concat(alone, meeting, sharing) {
		all[k] = true
	}
	for _, kind := range step.Kinds() {
		k := kind.Name
		if !all[k] {
			t.Errorf("nobody has said whether messages meet in a step of kind %s", k)
		}
	}
}
