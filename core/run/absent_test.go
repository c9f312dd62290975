package run

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// A path that an expression needs, and that no message has which comes to its step, is told with
// what is most like it; one that is asked for, or that a single message has, is not.
func TestPathsThatNoMessageHas(t *testing.T) {
	const document = `readyferry: flow/1
name: f
intake: {kind: webhook, path: /f}
steps:
- {id: open, kind: filter, keep: body.state == "open"}
- {id: only, kind: note, when: body.vip == true, text: "${body.patron.crad}"}
- {id: asked, kind: filter, keep: has(body.rank) && body.rank.of > 1 || body.?note.orValue("") == ""}
- {id: loop, kind: map, fields: [{to: /n, from: body.patron.cards.size()}, {to: /x, from: body.patron.nmae, default: "\"\""}]}
`
	p := read(t, document)
	messages := []string{
		`{"state": "open", "vip": false, "patron": {"card": "LC 1", "name": "maud"}}`,
		`{"state": "open", "vip": true, "patron": {"card": "LC 2", "name": "nora"}}`,
		`{"state": "open", "vip": false, "patron": {"name": "ines", "cards": [1]}}`,
		`{"state": "shut"}`,
	}
	var all []Rehearsal
	for i, m := range messages {
		e := envelope(m)
		e.ID = DeliveryID(e.ID, fmt.Sprint(i))
		all = append(all, Rehearse(p, e, Options{}))
	}
	var got []string
	for need, missing := range NoSuchPath(all) {
		got = append(got, need.Step+" "+need.Path+" "+Instead(need, missing))
	}
	slices.Sort(got)
	want := []string{
		"loop body.patron.nmae did you mean body.patron.name?",
		"only body.patron.crad did you mean body.patron.card?",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
