package engine

import (
	"testing"

	"readyferry/engine/watch"
	"readyferry/store"
)

// A member of a later release may pack what happens in another form: then it is asked for it plainly, and nothing
// is passed over.
func TestWhatCannotBeUnpackedIsAskedForPlainly(t *testing.T) {
	var p another
	all := []store.Happened{{What: store.HasCome, Flow: "holds"}}
	later := watch.Passed{Run: store.NewID(), Next: 1, All: all}.Pack()
	later.Packed[0]++
	p.hear(&later)
	if !p.plain || p.next != 0 || len(p.lies) > 0 {
		t.Fatalf("behind what cannot be read: %+v", p)
	}
	p.hear(&watch.Passed{Run: later.Run, Next: 1, All: all})
	if p.next != 1 || p.run != later.Run || len(p.lies) != 1 || len(p.lies[0].all) != 1 {
		t.Errorf("behind what is said plainly: %+v", p)
	}
}
