package fleet

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/nats-io/nats.go"

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

// What was handed to a member is given up when that is silent, and at once when it is heard of as another process: it may
// have been started anew in less time than silence takes to be noticed.
func TestWhatWasHandedToAProcessEndsWithIt(t *testing.T) {
	f := &File{Form: fileForm, This: "b", Replicas: 3, Members: []Member{{Name: "a"}, {Name: "b"}, {Name: "c"}}}
	n := &Node{Config: Config{File: f}, ctx: t.Context(), beats: map[string]*heard{}, spans: map[string]*span{},
		changed: make(chan struct{})}
	began := time.Date(2026, 3, 17, 9, 0, 0, 0, time.UTC)
	beats := func(began time.Time) {
		t.Helper()
		text, err := json.Marshal(beat{Name: "a", State: StateLeads, Began: began})
		if err != nil {
			t.Fatal(err)
		}
		n.hears(&nats.Msg{Data: text})
	}
	beats(began)
	span := n.spanOf("a")
	beats(began)
	if span.Err() != nil || n.spanOf("a") != span {
		t.Error("it ends though the member is heard")
	}
	beats(began.Add(2 * time.Second))
	if span.Err() == nil || n.spanOf("a").Err() != nil {
		t.Error("it does not end with its process, or the next one does, too")
	}
	span = n.spanOf("a")
	n.beats["a"].when = time.Now().Add(-silentFor - time.Second)
	if n.endSpans(); span.Err() == nil {
		t.Error("it does not end with silence")
	}
}
