package message

import (
	"fmt"
	"strings"
	"testing"
)

func shape(n *Node) string {
	switch {
	case n == nil:
		return "none"
	case n.Kind == Map:
		var parts []string
		for _, m := range n.Members {
			parts = append(parts, m.Name+":"+shape(m.Value))
		}
		return "{" + strings.Join(parts, " ") + "}"
	case n.Kind == List:
		var parts []string
		for _, i := range n.Items {
			parts = append(parts, shape(i))
		}
		return "[" + strings.Join(parts, " ") + "]"
	case n.Kind == Null:
		return "null"
	}
	return n.Text
}

// Small maps are searched in a row and large ones by hash; both must behave the same.
func TestMapsOfEverySize(t *testing.T) {
	for size := 1; size < 3*indexFrom; size++ {
		var members []Member
		for i := range size {
			members = append(members, Member{fmt.Sprint("m", i), NewNumber(fmt.Sprint(i))})
		}
		members = append(members, Member{"m0", NewString("last")})
		n := &Node{Kind: Map, Members: members}
		if d := n.Seal(); len(d) != 1 || d[0] != "m0" || len(n.Members) != size {
			t.Fatalf("size %d: duplicates %v, %d members", size, d, len(n.Members))
		}
		if n.Get("m0").Text != "last" || n.Members[0].Name != "m0" || n.Get("zz") != nil {
			t.Fatalf("size %d: %s", size, shape(n))
		}
		with := n.With("new", NewBool(true)).With("m0", NewNull())
		if with.Get("new").Text != "true" || with.Get("m0").Kind != Null || n.Get("new") != nil ||
			n.Get("m0").Text != "last" {
			t.Fatalf("size %d: With changed the original, or not the copy", size)
		}
		less := with.Without("m0")
		if less.Get("m0") != nil || len(less.Members) != size || with.Get("m0") == nil {
			t.Fatalf("size %d: Without", size)
		}
	}
}

func TestPositionsCountCharacters(t *testing.T) {
	src := []byte("ab\né\r\n€x")
	for offset, want := range map[int]string{0: "1:1", 2: "1:3", 3: "2:1", 5: "2:2", 7: "3:1", 10: "3:2", 11: "3:3",
		99: "3:3"} {
		line, column := Position(src, offset)
		if got := fmt.Sprintf("%d:%d", line, column); got != want {
			t.Errorf("offset %d: %s, want %s", offset, got, want)
		}
	}
}

// RFC 9110, 5.3: fields of one name are one list, joined with commas.
func TestHeadersAndParameters(t *testing.T) {
	pairs := []Header{{"X-A", "1"}, {"b", "2"}, {"x-a", "3"}, {"b", "4"}, {"b", "5"}}
	if got := shape(HeaderMap(pairs)); got != "{x-a:1, 3 b:2, 4, 5}" {
		t.Error(got)
	}
	if got := shape(ListMap(pairs)); got != "{X-A:1 b:[2 4 5] x-a:3}" {
		t.Error(got)
	}
	var none *Node
	if none.Get("x") != nil || none.Names() != nil || NewString("s").Get("x") != nil {
		t.Error("a member of nothing")
	}
}
