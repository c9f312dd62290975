package fleet

import (
	"testing"
	"time"

	"readyferry/store"
)

// What is written is what the oldest member knows: while one of an earlier release is there that writes
// the journal in the form that it has, a later one does not take over, and would bring it to another.
func TestTheOldestMemberDecidesWhatIsWritten(t *testing.T) {
	f := &File{Form: fileForm, This: "b", Replicas: 3, Members: []Member{{Name: "a"}, {Name: "b"}, {Name: "c"}}}
	for _, c := range []struct {
		form  string // of the journal
		a     string // which form a's release writes
		drain bool   // a is drained
		may   bool
	}{
		{store.Schema(), store.Schema(), false, true},
		{"0001 first", "0001 first", false, false},
		{"0001 first", "0001 first", true, true},
		{"0001 first", store.Schema(), false, true},
		{"0002", "0001 first", false, true}, // a could not lead it either
		{"", "0001 first", false, true},
	} {
		n := &Node{Config: Config{File: f}, beats: map[string]*heard{}}
		n.first, n.parts = n, []*Node{n}
		for name, schema := range map[string]string{"a": c.a, "b": store.Schema()} {
			n.beats[name] = &heard{
				beat{Name: name, Schema: schema, State: StateFollows, Drained: c.drain && name == "a"},
				time.Now(),
			}
		}
		fl := &follower{Node: n, c: &store.Copy{}, began: time.Now().Add(-time.Hour), sees: time.Now().Add(-time.Hour)}
		if _, may := fl.rank(c.form); may != c.may {
			t.Errorf("%+v: it may lead: %v", c, may)
		}
	}
}
