package engine

import (
	"fmt"
	"strings"
	"testing"
	"testing/synctest"

	"readyferry/engine/watch"
	"readyferry/store"
)

// tree writes the places of a journey, each as far in as it is deep.
func tree(j *watch.Journey) string {
	var out strings.Builder
	for _, p := range j.Places {
		what := p.Queue
		if p.Tx != nil {
			what = p.Tx.Flow
		}
		fmt.Fprintf(&out, "%s%s by %s\n", strings.Repeat(" ", p.Depth), what, p.By)
	}
	return out.String()
}

// One message goes through a queue, a topic with two readers, a split, a group, a subflow, and
// the steps of a dead letter: wherever one looks, it is one journey.
func TestAJourneyIsOneWhereverOneLooks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", fast)
		w.publish(
			"readyferry: flow/1\nname: finder\nintake: {kind: subflow}\nsteps:\n  - {id: note, kind: note, text: found}\n",
		)
		w.publish(`readyferry: flow/1
name: reader
intake: {kind: topic, topic: titles, subscription: reader}
on-dead-letter:
  steps:
    - {id: tell, kind: note, text: it died}
steps:
  - {id: shape, kind: set, vars: {n: body.n}}
  - {id: send, kind: deliver, to: out, path: /x}
`)
		w.publish(`readyferry: flow/1
name: asks
intake: {kind: queue, queue: asks}
steps:
  - id: each
    kind: split
    each: body.titles
    steps:
      - {id: look, kind: subflow, flow: finder}
      - {id: item, kind: map, fields: [{to: /it, from: '"a title"'}, {to: /n, from: part.n, when: has(part.n)}]}
      - {id: say, kind: deliver, to: {topic: titles}}
`)
		w.publish(`readyferry: flow/1
name: desk
intake: {kind: webhook, path: /desk, reference: body.ref}
steps:
  - {id: to-asks, kind: deliver, to: {queue: asks}}
`)
		first := w.accepted("/desk", `{"ref":"HR-1","titles":[{"n":1},{"m":2}]}`,
			"traceparent: 00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")
		w.until("one has died and told of it", func() bool {
			n, _ := w.store.CountOpenLetters()
			all, _ := w.store.Transactions(store.Filter{Limit: 100})
			return n == 1 && len(all) == 7 && w.unended(t) == 0
		})
		j, err := w.Journey(first)
		if err != nil {
			t.Fatal(err)
		}
		want := `desk by intake
 asks by queue
  asks by part
   finder by call
   reader by topic
  asks by part
   finder by call
   reader by topic
    reader by letter
`
		if got := tree(j); got != want {
			t.Errorf("the journey is\n%snot\n%s", got, want)
		}
		if j.State != store.DeadLetter || j.Reference != "HR-1" ||
			j.Root.String() != "4bf92f35-77b3-4da6-a3ce-929d0e0e4736" {
			t.Errorf("%s %s %s", j.State, j.Reference, j.Root)
		}
		for _, p := range j.Places {
			other, err := w.Journey(p.Tx.ID)
			if err != nil || tree(other) != want {
				t.Errorf("seen from %s by %s it is %v\n%s", p.Tx.Flow, p.By, err, tree(other))
			}
		}
		// The one that came through is beside the one that did not: the value that did it is named.
		letters, err := w.store.OpenLetters("", "reader", nil, 2)
		if err != nil || len(letters) != 1 {
			t.Fatalf("%+v %v", letters, err)
		}
		like, err := w.Like(letters[0].Tx)
		if err != nil {
			t.Fatal(err)
		}
		p, err := w.Beside(letters[0].Tx, like.ID)
		if err != nil || p == nil || p.Step != "shape" {
			t.Fatalf("%+v %v", p, err)
		}
		// The trace goes on to the target, and a second message of the same trace belongs to it.
		second := w.accepted("/desk", `{"ref":"HR-2","titles":[]}`,
			"traceparent: 00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b8-01")
		w.becomes(second, store.Delivered)
		if again, err := w.Journey(second); err != nil || again.Root != j.Root {
			t.Errorf("%+v %v", again.Root, err)
		}
	})
}
