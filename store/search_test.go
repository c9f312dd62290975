package store

import (
	"testing"
	"time"

	"readyferry/core/find"
)

// What is found by words, tags, numbers, times and parts of a reference; and that nothing a
// person types is more than a text to the index.
func TestFinding(t *testing.T) {
	s := open(t, t.TempDir())
	if !s.Words() {
		t.Skip("this build has no index of words; it is made with the tag sqlite_fts5")
	}
	now := time.Now().UTC().Truncate(time.Microsecond)
	var docs []SearchDoc
	write(t, s, func(tx *Tx) error {
		for i := range 60 {
			row := &Transaction{ID: NewID(), Flow: []string{"holds", "returns"}[i%2], State: Delivered, ReceivedAt: now,
				Reference: "HR 20" + string(rune('a'+i%26)), Tries: i % 5}
			end := now.Add(time.Duration(i) * time.Second)
			row.FinishedAt = &end
			if err := tx.AddTransaction(row, &Message{Tx: row.ID, Source: "test"}); err != nil {
				return err
			}
			body := "an ordinary message"
			if i == 7 {
				body = "lent as DL-7, Überfällig"
			}
			docs = append(docs, SearchDoc{Seq: row.Message, Reference: find.Folded(row.Reference), Body: body,
				Tags: []string{"flow " + row.Flow, "target shelf-printer", NumberTag("tries", float64(row.Tries)),
					NumberTag("took", float64(end.Sub(now).Microseconds()))}})
		}
		return nil
	})
	write(t, s, func(tx *Tx) error { return tx.Index(docs, docs[len(docs)-1].Seq, nil, nil) })
	for text, want := range map[string]int{
		"":                              60,
		"flow:holds":                    30,
		"-flow:holds":                   30,
		"uberfallig":                    1,
		"DL-7":                          1,
		`"lent as"`:                     1,
		"reference:hr20a":               3,
		`reference:"HR 20A"`:            3,
		"reference:20":                  60,
		"target:shelf-printer":          60,
		"target:shelf":                  0,
		"tries:>2":                      24,
		"tries:3 flow:holds":            6,
		"took:<5s":                      5,
		"took:>50s":                     9,
		"state:waiting":                 0,
		"-state:waiting":                60,
		"from:1h":                       60,
		"to:1h":                         0,
		`"a" OR "b`:                     -1,
		`") OR (`:                       -1,
		`ordinary NEAR( * ^`:            0,
		`tags:xall`:                     -1,
		"ordinary -uberfallig took:<3s": 3,
	} {
		terms, err := find.Read(text)
		if want == -1 {
			if err == nil {
				if _, err := s.FindBy(Found{Terms: terms, Now: now, In: time.UTC, Filter: Filter{Limit: 100}}); err != nil {
					t.Errorf("%q breaks the index: %v", text, err)
				}
			}
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		f := Found{Terms: terms, Now: time.Now(), In: time.UTC, Filter: Filter{Limit: 100}}
		rows, err := s.FindBy(f)
		if err != nil || len(rows) != want {
			t.Errorf("%q finds %d, not %d: %v", text, len(rows), want, err)
		}
		if n, more, err := s.CountFound(f); err != nil || more || int(n) != want {
			t.Errorf("%q counts %d %v, %v", text, n, more, err)
		}
		for i := 1; i < len(rows); i++ {
			if rows[i].Message >= rows[i-1].Message {
				t.Errorf("%q: not the newest first", text)
			}
		}
		// Page by page it comes to the same.
		seen := 0
		for f.Limit = 7; ; {
			page, err := s.FindBy(f)
			if err != nil {
				t.Fatal(err)
			}
			if seen += len(page); len(page) < 7 {
				break
			}
			f.After = &page[len(page)-1].ID
		}
		if seen != want {
			t.Errorf("%q page by page finds %d", text, seen)
		}
	}
}

// A transaction is looked at once more when it has come to its end, however that falls in with
// the index, and never while it waits.
func TestTheIndexFollowsEnds(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	if !s.Words() {
		t.Skip("this build has no index of words; it is made with the tag sqlite_fts5")
	}
	var ids []ID
	var seqs []int64
	for range 3 {
		id := add(t, s, "holds", Waiting, "R")
		row, err := s.Transaction(id)
		if err != nil {
			t.Fatal(err)
		}
		ids, seqs = append(ids, id), append(seqs, row.Message)
	}
	end := func(id ID) {
		t.Helper()
		write(t, s, func(tx *Tx) error {
			row, err := tx.Transaction(id)
			if err != nil {
				return err
			}
			before, now := row.State, time.Now().UTC()
			row.State, row.FinishedAt = Delivered, &now
			return tx.SaveTransaction(&row, before)
		})
	}
	later := func(want ...ID) {
		t.Helper()
		rows, err := s.SearchedLater(10)
		if err != nil || len(rows) != len(want) {
			t.Fatalf("%d are looked at again, not %d: %v", len(rows), len(want), err)
		}
		for i := range rows {
			if rows[i].ID != want[i] {
				t.Errorf("%s is looked at again, not %s", rows[i].ID, want[i])
			}
		}
	}
	index := func(to int64, open, done []ID) {
		t.Helper()
		write(t, s, func(tx *Tx) error { return tx.Index([]SearchDoc{{Seq: to}}, to, open, done) })
	}
	// The first is indexed while it waits. The second ends between being read and being indexed.
	index(seqs[0], ids[:1], nil)
	later()
	end(ids[1])
	later()
	index(seqs[1], ids[1:2], nil)
	later(ids[1])
	end(ids[0])
	later(ids[0], ids[1])
	index(0, nil, ids[:2])
	later()
	// Up to where it goes is known after a start, too. The third is not in it yet.
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir)
	end(ids[2])
	later()
	end(ids[0]) // it changes once more, as one that is repaired does
	later(ids[0])
}

// What is indexed twice at once, or anew, is found once, by what was said of it last; and what comes before its
// turn is left for it.
func TestATransactionIsFoundOnce(t *testing.T) {
	s := open(t, t.TempDir())
	if !s.Words() {
		t.Skip("this build has no index of words; it is made with the tag sqlite_fts5")
	}
	var seqs []int64
	for _, reference := range []string{"first", "second"} {
		row, err := s.Transaction(add(t, s, "holds", Delivered, reference))
		if err != nil {
			t.Fatal(err)
		}
		seqs = append(seqs, row.Message)
	}
	index := func(to int64, docs ...SearchDoc) {
		t.Helper()
		write(t, s, func(tx *Tx) error { return tx.Index(docs, to, nil, nil) })
	}
	finds := func(word string, want int) {
		t.Helper()
		terms, err := find.Read(word)
		if err != nil {
			t.Fatal(err)
		}
		rows, err := s.FindBy(Found{Terms: terms, In: time.UTC, Filter: Filter{Limit: 9}})
		if err != nil || len(rows) != want {
			t.Errorf("%q finds %d, %v; want %d", word, len(rows), err, want)
		}
	}
	doc := func(n int, body string) SearchDoc { return SearchDoc{Seq: seqs[n], Reference: "slip", Body: body} }
	index(seqs[0], doc(0, "lent"), doc(0, "returned"), doc(1, "early"))
	finds("lent", 0)
	finds("returned", 1)
	finds("early", 0)
	index(seqs[1], doc(1, "in turn"), doc(0, "lost"))
	finds("returned", 0)
	finds("lost", 1)
	finds("turn", 1)
	finds("reference:slip", 2)
}
