package store

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"
)

// Whatever is done to the lines of the audit by whoever can write to the file: it shows.
func TestTheAuditShowsWhatIsDoneToIt(t *testing.T) {
	dir := t.TempDir()
	s, err := OpenUnsynced(dir)
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	for i := range 12 {
		l := AuditLine{At: at.Add(time.Duration(i) * time.Hour), Who: "maud", Kind: "person", What: "publish",
			Thing: "flow:holds"}
		if err := s.Write(t.Context(), func(tx *Tx) error { return tx.Audit(s, &l) }); err != nil {
			t.Fatal(err)
		}
	}
	holds := func(want string) {
		t.Helper()
		_, faults, err := s.VerifyAudit(20)
		if err != nil {
			t.Fatal(err)
		}
		said := ""
		for _, f := range faults {
			said += f.What + "; "
		}
		if want == "" && said != "" || !strings.Contains(said, want) {
			t.Errorf("it says %q, not %q", said, want)
		}
	}
	holds("")
	undo := func(do, back string) {
		t.Helper()
		if err := s.write.Exec(do).Error; err != nil {
			t.Fatal(do, err)
		}
		_, faults, err := s.VerifyAudit(20)
		if err != nil || len(faults) == 0 {
			t.Errorf("%s: nothing shows (%v)", do, err)
		}
		if err := s.write.Exec(back).Error; err != nil {
			t.Fatal(back, err)
		}
		holds("")
	}
	for _, column := range []string{"who", "kind", "source", "what", "thing", "area", "result", "before", "after"} {
		if err := s.write.Exec("CREATE TABLE kept AS SELECT " + column +
			" AS v FROM audit_lines WHERE n = 5").Error; err != nil {
			t.Fatal(err)
		}
		undo("UPDATE audit_lines SET "+column+" = 'x' WHERE n = 5",
			"UPDATE audit_lines SET "+column+" = (SELECT v FROM kept) WHERE n = 5")
		if err := s.write.Exec("DROP TABLE kept").Error; err != nil {
			t.Fatal(err)
		}
	}
	undo("UPDATE audit_lines SET at = at + 1 WHERE n = 5", "UPDATE audit_lines SET at = at - 1 WHERE n = 5")
	for _, where := range []string{"n = 1", "n = 5", "n IN (5, 6)", "n = 12", "n > 0"} {
		undo("CREATE TABLE kept AS SELECT * FROM audit_lines; DELETE FROM audit_lines WHERE "+where,
			"DELETE FROM audit_lines; INSERT INTO audit_lines SELECT * FROM kept; DROP TABLE kept")
	}
	undo("UPDATE audit_lines SET n = 100 WHERE n = 5", "UPDATE audit_lines SET n = 5 WHERE n = 100")
	undo("INSERT INTO audit_lines SELECT 13, at, who, kind, source, what, thing, area, result, before, after, mark FROM audit_lines WHERE n = 5",
		"DELETE FROM audit_lines WHERE n = 13")
	if err := s.Write(t.Context(), func(tx *Tx) error { return tx.LetAuditGo(at.Add(4 * time.Hour)) }); err != nil {
		t.Fatal(err)
	}
	lines, err := s.AuditLines(AuditQuery{Limit: 100})
	if err != nil || len(lines) != 8 || lines[0].N != 12 {
		t.Errorf("%d lines stay: %v", len(lines), err)
	}
	holds("")
	undo("CREATE TABLE kept AS SELECT * FROM audit_lines; DELETE FROM audit_lines WHERE n = 5",
		"INSERT INTO audit_lines SELECT * FROM kept WHERE n = 5; DROP TABLE kept")
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if s, err = OpenUnsynced(dir); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	l := AuditLine{At: at, What: "again"}
	if err := s.Write(t.Context(), func(tx *Tx) error { return tx.Audit(s, &l) }); err != nil || l.N != 13 {
		t.Errorf("behind a restart: %d %v", l.N, err)
	}
	holds("")
}

// The line of a deed stands with its first write, or not at all.
func TestADeedIsWrittenWithWhatIsDone(t *testing.T) {
	s, err := OpenUnsynced(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	d := NewDeed(AuditLine{At: time.Now(), Who: "maud", What: "putFlow"}, nil, map[string]string{"title": "x"})
	ctx := WithDeed(context.Background(), d)
	no := errors.New("no")
	if err := s.Write(ctx, func(*Tx) error { return no }); !errors.Is(err, no) {
		t.Fatal(err)
	}
	if lines, err := s.AuditLines(AuditQuery{Limit: 9}); err != nil || len(lines) != 0 || d.Written {
		t.Fatalf("what failed has a line: %v %v", lines, err)
	}
	for range 2 {
		if err := s.Write(ctx, func(tx *Tx) error { return tx.SetSetting("a", "b") }); err != nil {
			t.Fatal(err)
		}
	}
	lines, err := s.AuditLines(AuditQuery{Limit: 9, Who: "au", What: "put"})
	if err != nil || len(lines) != 1 || !d.Written || string(lines[0].After) != `{"title":"x"}` {
		t.Fatalf("%v %v", lines, err)
	}
	if lines, err = s.AuditLines(AuditQuery{Limit: 9, Who: "%"}); err != nil || len(lines) != 0 {
		t.Errorf("%% is a letter: %v %v", lines, err)
	}
}
