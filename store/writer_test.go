package store

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

// In a log a record costs its machines as much as a hundred rows, so writes share records: where many came just before,
// those that come one after the other are waited for, and where nobody else is expected nobody waits.
func TestWritesShareRecords(t *testing.T) { synctest.Test(t, testWritesShareRecords) }

func testWritesShareRecords(t *testing.T) {
	s := partition(t, 0, 0)
	n := 0
	// write has so many come, each so long after the one before, and gives how many records they have made and how
	// long the longest took.
	write := func(callers int, apart time.Duration) (records int64, took time.Duration) {
		t.Helper()
		before := s.position.At
		var all sync.WaitGroup
		var mu sync.Mutex
		for range callers {
			n++
			name := fmt.Sprint("a setting of a test ", n)
			began := time.Now()
			all.Go(func() {
				if err := s.Write(context.Background(), func(tx *Tx) error { return tx.SetSetting(name, "x") }); err != nil {
					t.Error(err)
				}
				mu.Lock()
				defer mu.Unlock()
				took = max(took, time.Since(began))
			})
			time.Sleep(apart)
		}
		all.Wait()
		return s.position.At - before, took
	}
	if records, took := write(1, time.Second); records != 1 || took != 0 {
		t.Errorf("one alone made %d records, and took %s", records, took)
	}
	if records, _ := write(8, 3*time.Millisecond); records != 8 {
		t.Errorf("where nobody is expected, 8 that come one after the other made %d records", records)
	}
	// Now it is a crowd: while one write takes its time, forty come.
	goOn := make(chan struct{})
	var all sync.WaitGroup
	come := func(i int, work func()) {
		all.Go(func() {
			err := s.Write(context.Background(), func(tx *Tx) error {
				work()
				return tx.SetSetting(fmt.Sprint("a setting of a crowd ", i), "x")
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
	come(0, func() { <-goOn })
	synctest.Wait()
	for i := range 40 {
		come(i+1, func() {})
	}
	synctest.Wait()
	close(goOn)
	all.Wait()
	if records, _ := write(12, 3*time.Millisecond); records > 2 {
		t.Errorf("where many came before, 12 that come one after the other made %d records", records)
	}
	for range 12 { // and is forgotten
		write(1, time.Second)
	}
	if records, took := write(1, time.Second); records != 1 || took != 0 {
		t.Errorf("one alone made %d records, and took %s", records, took)
	}
}
