package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"time"
)

// maxBatch is the largest number of writes that share one commit.
const maxBatch = 1024

// Where a batch had so many writes, the next one is committed when others have had so many
// turns without bringing one, after so long, or when it has enough.
const (
	gatherFrom  = 4
	gatherTurns = 300
	gatherFor   = 3 * time.Millisecond
	// gatherMost is how many are enough: who waits for more of them lets the other processors
	// wait, too, while this batch is committed.
	gatherMost = 64
	// A record in a log costs its machines together as much as a hundred rows, and takes longer than a
	// commit of one file: there it is waited for others as long as one comes within a gap, and the
	// processors are left to them meanwhile.
	recordGap = time.Millisecond
	recordFor = 25 * time.Millisecond
	// Where a dozen are expected, callers are many and come again one after the other: it is waited twice as long
	// for the next, so that more share a record, and where two dozen are, for longer while most of them are still to
	// come. Where they are fewer that would be waiting for nobody.
	recordCrowd = 12
	crowdGap    = 2 * time.Millisecond
	manyCrowd   = 24
	manyGap     = 6 * time.Millisecond
	// writeFrom is how many writes have their rows written at once while a batch is gathered.
	writeFrom = 16
)

type job struct {
	work func(*Tx) error
	done chan error
}

// Write runs work in a database transaction and returns when it is on disk.
// When work fails, nothing of it stays. Work must not wait for anything: all
// other writers wait for it.
func (s *Store) Write(ctx context.Context, work func(*Tx) error) error {
	work, deed := s.audited(ctx, work)
	if err := s.written(ctx, work); err != nil {
		return err
	}
	if deed != nil {
		deed.Written = true
	}
	return nil
}

func (s *Store) written(ctx context.Context, work func(*Tx) error) error {
	j := job{work, make(chan error, 1)}
	select {
	case s.jobs <- j:
	case <-s.closed:
		return ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-j.done: // once taken it is not given up: the caller must know
		return err
	case <-s.closed:
		select {
		case err := <-j.done:
			return err
		case <-time.After(5 * time.Second):
			return ErrClosed
		}
	}
}

func (s *Store) writer() {
	defer s.done.Done()
	crowd := 0 // that is expected
	for {
		select {
		case j := <-s.jobs:
			crowd = s.expects(s.commit(j, crowd), crowd)
		case <-s.closed:
			return
		}
	}
}

// expects says how many writes are expected in the next batch: as many as were in this one. Of a log it forgets more
// slowly that there were more, a quarter each time: a batch that found few of them is no sign that they are gone, since
// those whom the one before has answered are on their way back.
func (s *Store) expects(came, crowd int) int {
	if s.rec == nil {
		return came
	}
	return max(came, crowd*3/4)
}

// batch is what is committed together.
type batch struct {
	jobs    []job
	results []error // of those that have been run
	all     *work
	sums    *sums
	unread  int // writes whose rows are not in the file yet
}

// commit runs a write, and those that come meanwhile, in one database transaction, when so many are expected, and tells
// how many they were. Where many come it lets others run for a while, as long as they bring
// more: a commit costs about the same for one as for a hundred. What a write makes is kept
// apart until it has succeeded, so that a failing one takes nothing with it.
func (s *Store) commit(first job, crowd int) int {
	b := &batch{jobs: []job{first}, all: newWork(), sums: newSums(s.observe != nil)}
	s.units.ending.Lock()
	defer s.units.ending.Unlock()
	err := s.transact(func() error {
		if err := s.there(); err != nil {
			return err
		}
		until := s.gathersUntil(crowd)
		for more := true; more; more = s.gather(b, crowd, until) {
			if err := s.work(b); err != nil {
				return err
			}
		}
		if err := b.all.write(s.ready); err != nil {
			return err
		}
		return b.sums.write(s.ready)
	})
	if err == nil {
		s.units.publish(b.all.units)
		if len(b.sums.happened) > 0 {
			s.observe(b.sums.happened)
		}
	}
	for i, j := range b.jobs {
		switch {
		case err != nil:
			j.done <- fmt.Errorf("the store could not commit: %w", err)
		default:
			j.done <- b.results[i]
		}
	}
	return len(b.jobs)
}

// work runs the writes of a batch that have not been run. Where there are many, their rows go
// into the file while others still bring more, so that both use the processors together.
func (s *Store) work(b *batch) error {
	for _, j := range b.jobs[len(b.results):] {
		failed, bad := s.do(j, b.all, b.sums)
		b.results = append(b.results, failed)
		if bad != nil {
			return bad
		}
		b.unread++
	}
	if b.unread < writeFrom {
		return nil
	}
	b.unread = 0
	return b.all.write(s.ready)
}

// gathersUntil says until when a batch may wait for further writes, when so many are expected.
func (s *Store) gathersUntil(crowd int) (until time.Time) {
	switch {
	case crowd < gatherFrom:
		return until
	case s.rec != nil:
		return time.Now().Add(recordFor)
	}
	return time.Now().Add(gatherFor)
}

// gapFor is how long it is waited for the next write where so many have come of those that are expected.
func gapFor(came, crowd int) time.Duration {
	switch {
	case crowd < recordCrowd:
		return recordGap
	case crowd >= manyCrowd && came < crowd*4/5:
		return manyGap
	}
	return crowdGap
}

// gather adds the writes that have come meanwhile, and tells whether there are some, when so many are expected.
func (s *Store) gather(b *batch, crowd int, until time.Time) bool {
	had := len(b.jobs)
	for turns := 0; ; turns++ {
		s.takeAll(b)
		if len(b.jobs) > had {
			return true
		}
		if len(b.jobs) >= gatherMost || !time.Now().Before(until) {
			return false
		}
		if s.rec != nil {
			if !s.takeWithin(b, min(gapFor(had, crowd), time.Until(until))) {
				return false
			}
			continue
		}
		if turns >= gatherTurns {
			return false
		}
		runtime.Gosched()
	}
}

// takeAll takes the writes that are there.
func (s *Store) takeAll(b *batch) {
	for len(b.jobs) < maxBatch {
		select {
		case j := <-s.jobs:
			b.jobs = append(b.jobs, j)
		default:
			return
		}
	}
}

// takeWithin takes the next write, where it comes in time.
func (s *Store) takeWithin(b *batch, most time.Duration) bool {
	late := time.NewTimer(most)
	defer late.Stop()
	select {
	case j := <-s.jobs:
		b.jobs = append(b.jobs, j)
		return true
	case <-late.C:
		return false
	}
}

// logged hands the log what a commit is about to change. Where the log does not take it the store
// takes no further writes: nobody knows whether it has.
func (s *Store) logged() error {
	if s.rec == nil {
		return nil
	}
	err := s.append()
	if err != nil {
		err = fmt.Errorf("%w: %w", ErrClosed, err)
		s.lost = err
	}
	return err
}

// transact runs work between BEGIN and COMMIT.
func (s *Store) transact(work func() error) error {
	if err := s.limitLog(); err != nil {
		return err
	}
	if s.lost != nil {
		return s.lost
	}
	if err := s.ready.exec("BEGIN IMMEDIATE", nil); err != nil {
		return err
	}
	if s.rec != nil {
		s.rec.begin()
	}
	err := work()
	if err == nil {
		err = s.logged()
	}
	if err == nil {
		err = s.ready.exec("COMMIT", nil)
	}
	if err != nil {
		_ = s.ready.exec("ROLLBACK", nil) // it may be over already
	}
	return err
}

// do runs one job; bad ends the whole batch.
func (s *Store) do(j job, all *work, counts *sums) (failed, bad error) {
	tx := &Tx{View: s.View, sums: s.sums.cleared(), job: s.spare, batch: all, prepared: s.ready, numbers: &s.numbers}
	tx.View.db, tx.View.tx = s.write, tx
	s.spare.reset()
	failed = run(j.work, tx)
	if tx.saved && failed != nil {
		if bad = s.ready.exec("ROLLBACK TO job", nil); bad != nil {
			return failed, bad
		}
	}
	if tx.saved {
		bad = s.ready.exec("RELEASE job", nil)
	}
	if failed == nil && bad == nil {
		all.join(tx.job)
		counts.join(tx.sums)
	}
	return failed, bad
}

// numbers are the last ones given to rows that are numbered in the order of their making.
type numbers struct{ messages, deliveries, items int64 }

func (n *numbers) message() int64 {
	n.messages++
	return n.messages
}

func (n *numbers) delivery() int64 {
	n.deliveries++
	return n.deliveries
}

func (n *numbers) item() int64 {
	n.items++
	return n.items
}

func run(work func(*Tx) error, tx *Tx) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("a write failed: %v", r)
		}
	}()
	return work(tx)
}

// Tx is a database transaction under way. It is used only inside the function
// that Write runs.
type Tx struct {
	View
	*sums
	job      *work // what this write has made and is not in the file yet
	batch    *work // and those before it in the same commit
	saved    bool  // there is a savepoint of this write
	prepared *prepared
	numbers  *numbers
}

// ErrGone is what a write gets when the database is no longer where it was opened:
// what is written then would be lost with the process.
var ErrGone = errors.New("the data folder is gone, or another one stands in its place")

// there looks whether the file that is open is the one that stands in the folder.
func (s *Store) there() error {
	now, err := os.Stat(s.file)
	if errors.Is(err, os.ErrNotExist) || err == nil && !os.SameFile(now, s.opened) {
		return fmt.Errorf("%w: %s", ErrGone, s.Dir)
	}
	return err
}
