package store

import (
	"bytes"
	"context"
	"errors"
	"testing"
	"time"
)

// What is designed in one journal is taken over by another, as often as it changes, and what is no more goes there, too.
func TestTheDesignIsTakenOver(t *testing.T) {
	ctx := context.Background()
	first, other := partition(t, 0, 0), partition(t, 1, 2)
	d := NewDesign(first.Dir)
	take := func(wanted bool) {
		t.Helper()
		changed, err := other.TakeDesign(ctx, d)
		if err != nil || changed != wanted {
			t.Fatalf("something was taken over: %v, %v", changed, err)
		}
	}
	write := func(do func(tx *Tx) error) {
		t.Helper()
		if err := first.Write(ctx, do); err != nil {
			t.Fatal(err)
		}
	}
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	take(false)
	write(func(tx *Tx) error {
		if err := tx.SaveFlow(&Flow{Name: "slips", Title: "Slips", Draft: "a draft that stays", Live: 1, Planned: 2, UpdatedAt: at}); err != nil {
			return err
		}
		if err := tx.AddVersion(&Version{Flow: "slips", N: 1, Document: "one", PublishedAt: at}); err != nil {
			return err
		}
		return tx.SaveConnection(
			&Connection{Name: "desk", Kind: "http", Document: []byte(`{}`), Sealed: []byte("sealed"), UpdatedAt: at},
		)
	})
	take(true)
	take(false)
	f, err := other.Flow("slips")
	if err != nil || f.Live != 1 || f.Title != "Slips" || f.Draft != "" || f.Planned != 0 {
		t.Errorf("the flow: %+v, %v", f, err)
	}
	if v, err := other.Version("slips", 1); err != nil || v.Document != "one" || !v.PublishedAt.Equal(at) {
		t.Errorf("its version: %+v, %v", v, err)
	}
	if c, err := other.Connection("desk"); err != nil || string(c.Sealed) != "sealed" {
		t.Errorf("the connection: %+v, %v", c, err)
	}
	write(func(tx *Tx) error { // an edit of a draft concerns nobody else
		f, err := tx.Flow("slips")
		if err != nil {
			return err
		}
		f.Draft, f.Revision, f.Edits = "another draft", 7, 3
		return tx.SaveFlow(&f)
	})
	take(false)
	write(func(tx *Tx) error {
		f, err := tx.Flow("slips")
		if err != nil {
			return err
		}
		f.Paused = true
		return tx.SaveFlow(&f)
	})
	take(true)
	if f, err := other.Flow("slips"); err != nil || !f.Paused {
		t.Errorf("it is paused there: %+v, %v", f, err)
	}
	write(func(tx *Tx) error { return tx.sql().Where("name = 'desk'").Delete(&Connection{}).Error })
	take(true)
	if list, err := other.Connections(); err != nil || len(list) != 0 {
		t.Errorf("a connection that is no more: %v, %v", list, err)
	}
	if list, err := other.Transactions(Filter{Limit: 10}); err != nil || len(list) != 2 {
		t.Errorf("its own messages: %d, %v", len(list), err)
	}
	// Another member, which has seen nothing yet, finds nothing to be done.
	if err := d.Close(); err != nil {
		t.Error(err)
	}
	d = NewDesign(first.Dir)
	take(false)
	// The journal is taken away, and another one comes in its place, as when a copy is made anew.
	if err := errors.Join(first.Close(), Discard(first.Dir)); err != nil {
		t.Fatal(err)
	}
	take(false)
	next := partition(t, 0, 0)
	if err := next.Write(ctx, func(tx *Tx) error {
		return tx.SaveConnection(&Connection{Name: "shelf", Kind: "http", Document: []byte(`{}`), UpdatedAt: at})
	}); err != nil {
		t.Fatal(err)
	}
	var copied bytes.Buffer
	if _, err := WriteCopy(ctx, next.Dir, &copied); err != nil {
		t.Fatal(err)
	}
	if err := TakeCopy(first.Dir, &copied); err != nil {
		t.Fatal(err)
	}
	take(true)
	if _, err := other.Connection("shelf"); err != nil {
		t.Error(err)
	}
	if err := d.Close(); err != nil {
		t.Error(err)
	}
}
