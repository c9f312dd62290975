package fleet

import (
	"bytes"
	"testing"
	"time"
)

// A member reads its own replica of the log, which says what the others say; one that has none asks them, and
// follows like the rest.
func TestAReplicaIsReadWhereItIs(t *testing.T) {
	names := []string{"a", "b", "c", "d"} // three of them keep the log
	w := newTrial(t, names...)
	for _, name := range names {
		w.start(name)
	}
	for _, name := range names {
		w.puts(name, "of-"+name, name)
	}
	none := 0
	for _, name := range names {
		r, err := w.now[name].node.link.reader(0)
		if err != nil {
			t.Fatal(err)
		}
		defer r.close()
		r.far = time.Now().Add(time.Hour) // so that the others need not be asked, however slow this machine is
		var theirs, ours page
		eventually(t, "the others say what is in the log", func() bool {
			theirs, err = r.ask(t.Context(), 0)
			return err == nil && len(theirs.entries) > len(names)
		})
		asked := r.asked
		eventually(t, name+" has all of it", func() bool {
			ours, err = r.read(t.Context(), 0)
			return err == nil && len(ours.entries) >= len(theirs.entries)
		})
		for i, e := range theirs.entries {
			o := ours.entries[i]
			if o.at != e.at || o.head.Get(headKind) != e.head.Get(headKind) || o.head.Get(headID) != e.head.Get(headID) ||
				!bytes.Equal(o.data, e.data) {
				t.Errorf("%s has at %d %d bytes of %v, the others at %d %d bytes of %v", name, o.at, len(o.data), o.head, e.at,
					len(e.data), e.head)
			}
		}
		end := ours.entries[len(ours.entries)-1].at
		if beyond, err := r.read(t.Context(), end+1000); err != nil || len(beyond.entries) > 0 {
			t.Errorf("%s: %d behind the end, %v", name, len(beyond.entries), err)
		}
		if !r.replica {
			none++
		} else if r.asked != asked {
			t.Errorf("%s has a replica and asked the others", name)
		}
		asked, r.far = r.asked, time.Now().Add(-farEach)
		_, err = r.read(t.Context(), end+1000)
		if err != nil || r.asked != asked+1 {
			t.Errorf("%s: the others were asked %d times, %v", name, r.asked-asked, err)
		}
	}
	if none != 1 {
		t.Errorf("%d members keep no replica", none)
	}
	w.alike(names...)
}
