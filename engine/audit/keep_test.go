package audit

import (
	"testing"
	"time"

	"readyferry/core/access"
	"readyferry/store"
)

// Lines are let go after so long, the rest still hangs together, and a line says that it was done.
func TestLinesAreKeptForSoLong(t *testing.T) {
	s, err := store.OpenUnsynced(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	now := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	a := New(s, func() time.Time { return now })
	who := &access.Who{Kind: access.Machine, Name: "root"}
	for range 10 {
		ctx, d := a.Begin(t.Context(), who, "something", access.Thing{})
		if err := a.End(ctx, d, Done); err != nil {
			t.Fatal(err)
		}
		now = now.Add(24 * time.Hour)
	}
	for range 2 { // the second one has nothing to do
		if err := a.Keep(t.Context(), who, 5*24*time.Hour); err != nil {
			t.Fatal(err)
		}
	}
	lines, err := a.Lines(Query{Limit: 100})
	if err != nil || len(lines) != 6 || lines[0].What != "lines of the audit are let go" ||
		lines[0].Thing != "before:2026-01-06" {
		t.Errorf("%+v %v", lines, err)
	}
	if n, faults, err := a.Verify(10); err != nil || n != 6 || len(faults) > 0 {
		t.Errorf("%d lines, %v %v", n, faults, err)
	}
}
