package pointer

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// What is set is there, nothing else is changed, and taking it back by a patch
// gives the document of before (RFC 6902: add, then remove).
func TestSetThenGetThenRemove(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	doc := message.NewMap()
	names := []string{"a", "b/c", "d~e", "", "x y", "é", "0"}
	for i := range 3000 {
		p := Pointer{names[r.IntN(len(names))]}
		for range r.IntN(3) {
			p = append(p, names[r.IntN(len(names))])
		}
		before := string(jsonfmt.Encode(doc))
		v := message.NewNumber(fmt.Sprint(i))
		next, err := p.Set(doc, v)
		if string(jsonfmt.Encode(doc)) != before {
			t.Fatalf("%s changed the given document", p)
		}
		if err != nil {
			doc = message.NewMap() // a number was in the way
			continue
		}
		parsed, err := Parse(p.String())
		if err != nil {
			t.Fatalf("%q: %v", p, err)
		}
		if got, err := parsed.Get(next); err != nil || got != v {
			t.Fatalf("%s in %s: %v", p, jsonfmt.Encode(next), err)
		}
		if _, err := p.Get(doc); err != nil && len(p) == 1 {
			patch, err := ParsePatch(
				[]byte(
					fmt.Sprintf(
						`[{"op":"add","path":%s,"value":%d},{"op":"test","path":%[1]s,"value":%[2]d},{"op":"remove","path":%[1]s}]`,
						jsonfmt.AppendString(nil, p.String()),
						i,
					),
				),
			)
			if err != nil {
				t.Fatal(err)
			}
			back, err := patch.Apply(doc)
			if err != nil || !Equal(back, doc) {
				t.Fatalf("%s: %s is not %s, %v", p, jsonfmt.Encode(back), before, err)
			}
		}
		doc = next
	}
}
