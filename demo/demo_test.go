package demo

import (
	"context"
	"math/rand/v2"
	"testing"
	"time"

	"readyferry/connect/systems"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/schema"
	"readyferry/engine"
	"readyferry/standin"
	"readyferry/store"

	jsonfmt "readyferry/core/format/json"
)

func load(t *testing.T) (*engine.Engine, *store.Store) {
	t.Helper()
	s, err := store.OpenUnsynced(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	set := standin.NewSet(time.Now, func() {})
	all, err := systems.All(systems.Surroundings{StandIn: set.Dial})
	if err != nil {
		t.Fatal(err)
	}
	reader, err := plan.NewReader(all.Kinds()...)
	if err != nil {
		t.Fatal(err)
	}
	e, err := engine.New(engine.Config{Store: s, Reader: reader, Systems: all})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		e.Stop()
		_ = s.Close()
		_ = set.Close()
	})
	databases := t.TempDir()
	for range 2 { // a second time nothing changes
		if err := Load(context.Background(), e, set, databases); err != nil {
			t.Fatal(err)
		}
	}
	if n := len(set.List()); n < 3 {
		t.Errorf("%d stand-ins", n)
	}
	return e, s
}

func TestTheDemoIsWithoutFaultAndShowsEveryEnd(t *testing.T) {
	e, s := load(t)
	flows, err := s.Flows()
	if err != nil || len(flows) < 2 {
		t.Fatalf("%d flows, %v", len(flows), err)
	}
	states, samples := map[string]bool{}, 0
	for _, f := range flows {
		if f.Live != 1 || f.Edits != 0 {
			t.Errorf("%s: version %d with %d edits", f.Name, f.Live, f.Edits)
		}
		r, findings, err := e.Design.RehearseSamples(f.Name, nil, nil)
		if err != nil || len(findings) != 0 {
			t.Errorf("%s: %v %v", f.Name, findings, err)
		}
		for _, x := range r {
			states[x.State] = true
			samples++
		}
	}
	if samples < 6 || !states[run.Delivered] || !states[run.TurnedAway] || !states[run.DeadLetter] {
		t.Errorf("%d samples come to %v", samples, states)
	}
}

// The trickle's messages are what the demo's schema describes, but for those
// that are wrong on purpose.
func TestTheTrickleFitsTheSchema(t *testing.T) {
	b, err := files.ReadFile("schemas/hold-request.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	root, err := jsonfmt.Decode(b)
	if err != nil {
		t.Fatal(err)
	}
	s, err := schema.Compile(root.Root, nil)
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(1, 2))
	bad := 0
	for n := range 1000 {
		m, err := jsonfmt.Decode([]byte(hold(r, 20000+n, r.IntN(100))))
		if err != nil {
			t.Fatal(err)
		}
		failures, err := s.Validate(m.Root)
		if err != nil {
			t.Fatal(err)
		}
		if len(failures) > 0 {
			bad++
			if failures[0].Pointer != "/patron/card" {
				t.Errorf("%s: %+v", jsonfmt.Encode(m.Root), failures)
			}
		}
	}
	if bad < 20 || bad > 80 {
		t.Errorf("%d of 1000 are wrong", bad)
	}
}
