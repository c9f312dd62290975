package run

import (
	"strings"
	"testing"

	"readyferry/core/want"
)

// Each case names a change and what comes of it, for a message of the format ebook that the
// lender has taken with 201 and the printer would not take.
func TestWhatADraftDoesToAMessageThatWasThere(t *testing.T) {
	const head = "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f, once: body.id}\nsteps:\n"
	const was = head + `
- id: which
  kind: route
  ways:
  - {name: digital, when: 'body.format == "ebook"', steps: [{id: lend, kind: deliver, to: lender, path: /loans}]}
  - {name: paper, when: body.format == "paper", steps: [{id: slip, kind: deliver, to: printer}]}
  otherwise:
    steps: [{id: far, kind: deliver, to: {queue: interloan}}]
- {id: count, kind: once, key: body.id, for: 1h}
- {id: reply, kind: answer, status: 200, text: '${replies.?lend.?status.orValue(0)}'}
`
	change := func(pairs ...string) string { return strings.NewReplacer(pairs...).Replace(was) }
	for name, c := range map[string]struct{ is, body, want string }{
		"nothing": {was, `{"id": 1, "format": "ebook"}`, ""},
		"a title": {change("- id: which", "- id: which\n  title: x"), `{"id": 1, "format": "ebook"}`, ""},
		"another way": {change(`== "ebook"`, `in ["audio"]`), `{"id": 1, "format": "ebook"}`,
			"to the queue interloan, not to lender; the caller is answered 200, not 202; at which otherwise, not digital"},
		"a way that others take": {change(`== "ebook"`, `in ["ebook", "audio"]`), `{"id": 1, "format": "ebook"}`, ""},
		"one that takes more": {change(`== "ebook"`, `in ["ebook", "audio"]`), `{"id": 2, "format": "audio"}`,
			"to lender, not to the queue interloan; at which digital, not otherwise; what lender"},
		"another address":            {change("/loans", "/loan"), `{"id": 1, "format": "ebook"}`, "something else to lender: address"},
		"a target that was given up": {was, `{"id": 3, "format": "paper"}`, ""},
		"around one that was given up": {change("to: printer", "to: {queue: slips}"), `{"id": 3, "format": "paper"}`,
			"delivered, not a dead letter; to the queue slips, not to printer"},
		"a dead letter": {change("key: body.id", "key: body.copy"), `{"id": 1, "format": "ebook"}`,
			"a dead letter, not delivered: body.copy is missing"},
		"turned away": {change("{id: count", "{id: only, kind: filter, keep: body.id > 1}\n- {id: count"),
			`{"id": 1, "format": "ebook"}`, "turned away, not delivered"},
		"a body": {change("- id: which", "- {id: m, kind: map, fields: [{to: /format, from: body.format},"+
			" {to: /id, from: body.id}, {to: /n, from: '1'}]}\n- id: which"),
			`{"id": 1, "format": "ebook"}`, "something else to lender: body.n"},
		"an answer": {change("status: 200", "status: 201"), `{"id": 1, "format": "audio"}`, "the caller is answered 201, not 200"},
		"a question": {change("{id: count", "{id: who, kind: ask, of: members}\n- {id: count"),
			`{"id": 1, "format": "ebook"}`, "to members as well; what members answers to who is not known"},
	} {
		effects := map[string]want.Effect{
			"which.digital/lend":  answered(201, `{"loan": 7}`),
			"which.otherwise/far": {Item: "1"},
			"count":               {Said: "first"},
		}
		past := Past{Effects: effects, Died: map[string]string{"which.paper/slip": "printer answered 500"}}
		r := Retrace(readLoose(t, was), readLoose(t, c.is), envelope(c.body), Options{}, past)
		var got []string
		for _, d := range r.Differences() {
			got = append(got, d.Text())
		}
		if all := strings.Join(got, "; "); !strings.HasPrefix(all, c.want) || (c.want == "") != (all == "") {
			t.Errorf("%s: got %q, want %q", name, all, c.want)
		}
	}
}
