package lane

import (
	"io"
	"log/slog"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/systems"
	"readyferry/core/plan"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Where no try may begin any more, because the application stops, a lane does not go through
// all that waits: that may be a million.
func TestALaneThatMayNotBeginLeavesWhatWaits(t *testing.T) {
	s, err := store.OpenUnsynced(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	all, err := systems.All(systems.Surroundings{})
	if err != nil {
		t.Fatal(err)
	}
	reader, err := plan.NewReader(all.Kinds()...)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	known, err := catalog.New(s, reader, all, nil, log)
	if err != nil {
		t.Fatal(err)
	}
	j := journal.New(journal.Config{Store: s, Catalog: known, Now: time.Now, Log: log, Life: journal.NewLife()})
	l := &lane{Lanes: New(j, connect.NewLinks(all)), target: "t", running: map[store.ID]bool{}, known: map[store.ID]*line{}, lines: map[string]*line{},
		hands: newHands(func(func()) bool { return false }, nil)}
	for range 100 {
		l.add(l.lineOf("f"), journal.Ready{ID: store.NewID(), Flow: "f"})
	}
	if next, err := l.launch(); err != nil || !next.IsZero() || len(l.lineOf("f").ready) != 99 || len(l.running) != 0 {
		t.Errorf("it waits until %s, has %d ready and %d running, %v", next, len(l.lineOf("f").ready), len(l.running), err)
	}
}
