package json

import (
	stdjson "encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"readyferry/core/message"
)

func random(r *rand.Rand, depth int) *message.Node {
	switch k := r.IntN(8); {
	case k < 2 && depth > 0:
		n := message.NewList()
		for range r.IntN(5) {
			n.Items = append(n.Items, random(r, depth-1))
		}
		return n
	case k < 4 && depth > 0:
		n := &message.Node{Kind: message.Map}
		for i := range r.IntN(20) {
			n.Members = append(n.Members, message.Member{Name: fmt.Sprint(text(r), i), Value: random(r, depth-1)})
		}
		n.Seal()
		return n
	case k == 4:
		return message.NewNull()
	case k == 5:
		return message.NewBool(r.IntN(2) == 0)
	case k == 6:
		return message.NewNumber(fmt.Sprintf("%d.%02de%d", r.IntN(1000)-500, r.IntN(100), r.IntN(20)-10))
	}
	return message.NewString(text(r))
}

func text(r *rand.Rand) string {
	runes := []rune("aB \"\\/\b\f\n\r\t\x00\x1f\x7fé€😀\u2028\uFFFD")
	out := make([]rune, r.IntN(8))
	for i := range out {
		out[i] = runes[r.IntN(len(runes))]
	}
	return string(out)
}

// What is written reads back as the same, compact or for people, and a
// general-purpose reader agrees (encoding/json of Go's standard library).
func TestWhatIsWrittenReadsBack(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	for range 2000 {
		n := random(r, 4)
		compact := Encode(n)
		for _, src := range [][]byte{compact, EncodeIndent(n)} {
			back, err := Decode(src)
			if err != nil {
				t.Fatalf("%s: %v", src, err)
			}
			if string(Encode(back.Root)) != string(compact) {
				t.Fatalf("%s came back as %s", compact, Encode(back.Root))
			}
			var ours, theirs any
			if err := stdjson.Unmarshal(src, &theirs); err != nil {
				t.Fatalf("%s: %v", src, err)
			}
			if err := stdjson.Unmarshal(compact, &ours); err != nil || !reflect.DeepEqual(ours, theirs) {
				t.Fatalf("%s is read otherwise", src)
			}
		}
	}
}

// Every beginning of a document is refused, with a place inside it.
func TestNoBeginningIsADocument(t *testing.T) {
	const doc = `{"a": [1.5e3, "x\u00e9\n", true, null], "b": {"c": -0.1}}`
	for i := range doc {
		_, err := Decode([]byte(doc[:i]))
		bad, ok := err.(*message.SyntaxError)
		if !ok || bad.Offset > i || bad.Line != 1 || bad.Column > i+1 {
			t.Errorf("%q: %v", doc[:i], err)
		}
	}
}
