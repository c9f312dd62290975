package store_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"readyferry/store"
	"readyferry/store/mirror"
)

// A copy that is made while a journal is written, and follows its log from there, holds the same: also where
// there are references too short for the index of their threes.
func TestACopyFollowsLikeTheFirst(t *testing.T) {
	ctx := context.Background()
	var log mirror.Log
	first, second := t.TempDir(), t.TempDir()
	s, err := mirror.Open(first, &log)
	if err != nil {
		t.Fatal(err)
	}
	if !s.Words() {
		t.Skip("this build has no index of words; it is made with the tag sqlite_fts5")
	}
	index := func(reference string) {
		t.Helper()
		row := store.Transaction{
			ID:         store.NewID(),
			Flow:       "holds",
			State:      store.Delivered,
			Reference:  reference,
			ReceivedAt: time.Now().UTC(),
		}
		if err := s.Write(ctx, func(tx *store.Tx) error { return tx.AddTransaction(&row, &store.Message{Tx: row.ID, Source: "test"}) }); err != nil {
			t.Fatal(err)
		}
		doc := store.SearchDoc{Seq: row.Message, Reference: reference, Body: "lent"}
		if err := s.Write(ctx, func(tx *store.Tx) error { return tx.Index([]store.SearchDoc{doc}, row.Message, nil, nil) }); err != nil {
			t.Fatal(err)
		}
	}
	for range 3 {
		index("7")
	}
	var copied bytes.Buffer
	if _, err := store.WriteCopy(ctx, first, &copied); err != nil {
		t.Fatal(err)
	}
	for _, reference := range []string{"SLIP 7", "8", "SLIP 9"} {
		index(reference)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if err := store.TakeCopy(second, &copied); err != nil {
		t.Fatal(err)
	}
	c, err := store.OpenCopy(ctx, second)
	if err != nil {
		t.Fatal(err)
	}
	for _, record := range log.From(c.At) {
		if err := c.Apply(ctx, c.At+1, record); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(c.Commit(ctx), c.Close()); err != nil {
		t.Fatal(err)
	}
	if err := mirror.Differ(first, second); err != nil {
		t.Error(err)
	}
}

// A file that begins as a copy has larger pages than one of an instance alone, whose commits wait for the disk; what
// is taken over from such an instance keeps its own.
func TestPagesOfCopies(t *testing.T) {
	ctx := context.Background()
	alone, begins, taken := t.TempDir(), t.TempDir(), t.TempDir()
	s, err := store.Open(alone)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(s.Close(), store.Adopt(ctx, alone, "log")); err != nil {
		t.Fatal(err)
	}
	var copied bytes.Buffer
	if _, err := store.WriteCopy(ctx, alone, &copied); err != nil {
		t.Fatal(err)
	}
	if err := store.TakeCopy(taken, &copied); err != nil {
		t.Fatal(err)
	}
	for dir, want := range map[string]uint16{begins: 4096, taken: 1024} {
		c, err := store.OpenCopy(ctx, dir)
		if err != nil {
			t.Fatal(err)
		}
		if err := c.Close(); err != nil {
			t.Fatal(err)
		}
		head, err := os.ReadFile(filepath.Join(dir, "readyferry.db"))
		if err != nil {
			t.Fatal(err)
		}
		if page := binary.BigEndian.Uint16(head[16:]); page != want { // SQLite: Database File Format, 1.3
			t.Errorf("pages of %d bytes, not of %d", page, want)
		}
	}
}
