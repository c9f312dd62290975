package engine

import (
	"slices"
	"strings"
	"testing"

	"readyferry/core/flow"
)

// What a flow needs that runs at a runner is given to it, and nothing else; what it cannot have there is
// said before it is live.
func TestFlowsAcross(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	connection := func(name, at string) { w.connect(name, at+"sign-in: {kind: bearer, secret: secret-of-"+name+"}\n") }
	connection("far", "at: depot\n")
	connection("near", "")
	w.publish("readyferry: flow/1\nname: deep\nintake: {kind: subflow}\nsteps: [{id: d, kind: deliver, to: far}]\n")
	w.publish("readyferry: flow/1\nname: good\nintake: {kind: subflow}\nsteps: [{id: s, kind: subflow, flow: deep}]\n")
	w.publish("readyferry: flow/1\nname: away\nintake: {kind: subflow}\nsteps: [{id: d, kind: deliver, to: near}]\n")
	w.publish("readyferry: flow/1\nname: hook\nintake: {kind: webhook, path: /hook}\nsteps: []\n")
	w.publish("readyferry: flow/1\nname: on\nintake: {kind: subflow}\nsteps: [{id: s, kind: subflow, flow: deep, at: depot}]\n")
	w.publish("readyferry: flow/1\nname: out\nintake: {kind: subflow}\n" +
		"steps: [{id: d, kind: deliver, to: {topic: t}}]\n")
	calls := func(callee, more string) string {
		return "readyferry: flow/1\nname: calls\nintake: {kind: webhook, path: /c}\nsteps: [{id: s, kind: subflow, flow: '" + callee +
			"', at: depot" + more + "}]\n"
	}
	for _, c := range []struct{ callee, more, says string }{
		{"good", "", ""},
		{"away", "", "its connection near is not at that runner"},
		{"hook", "", "it begins with webhook"},
		{"on", "", "it calls deep at depot itself"},
		{"out", "", "it uses the topic t, which is here"},
		{"${body.to}", "", "named as it is"},
		{"good", ", within: 2h", "1h at most"},
	} {
		_, findings := w.Read("calls", []byte(calls(c.callee, c.more)), nil)
		var errors []string
		for _, f := range findings {
			if f.Level == flow.Error {
				errors = append(errors, f.Message)
			}
		}
		if said := strings.Join(errors, "; "); !strings.Contains(said, c.says) || (c.says == "") != (said == "") {
			t.Errorf("%s%s: %q, and not %q", c.callee, c.more, said, c.says)
		}
	}
	w.publish(calls("good", ""))
	given, err := w.Bundle.Across("depot")
	if err != nil {
		t.Fatal(err)
	}
	if names := given.Files.Names("flows"); !slices.Equal(names, []string{"deep", "good"}) {
		t.Errorf("the flows %v", names)
	}
	far := string(given.Files["connections/far.yaml"])
	if len(given.Secrets) != 1 || given.Secrets["far"][0] != "secret-of-far" || strings.Contains(far, "at:") ||
		strings.Contains(far, "secret-of") || given.Files["connections/near.yaml"] != nil {
		t.Errorf("%v, and the connection\n%s", given.Secrets, far)
	}
	if again, err := w.Bundle.Across("depot"); again != given || err != nil {
		t.Errorf("it is gathered once more where nothing has changed: %v", err)
	}
	connection("far", "at: depot\ntitle: another\n")
	if again, err := w.Bundle.Across("depot"); again == given || err != nil {
		t.Errorf("a change is not followed: %v", err)
	}
	if none, err := w.Bundle.Across("elsewhere"); len(none.Files) != 0 || err != nil {
		t.Errorf("%v %v", none, err)
	}
}
