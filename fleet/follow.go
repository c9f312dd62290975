package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"readyferry/store"
)

func jsPurgeTo(n uint64) jetstream.StreamPurgeOpt { return jetstream.WithPurgeSequence(n) }

// follower keeps a copy at the end of the log.
type follower struct {
	*Node
	c      *store.Copy
	j      *journal
	r      *reader
	began  time.Time
	sees   time.Time // since when it sees a majority; zero: it does not
	none   time.Time // since when nobody leads; zero: somebody does
	parts  []byte    // of a record in parts
	at     int64     // the place from which this member leads
	behind bool      // the log does not have what the copy needs next
	made   bool      // the stream is there
}

// run follows until this member is to lead (takes), the copy cannot follow (behind), or the member ends.
func (f *follower) run() (takes bool, err error) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		more, err := f.some()
		switch {
		case errors.Is(err, errNoLog):
		case err != nil || f.behind:
			return false, err
		case more:
			continue
		}
		if takes, err := f.maybeTakes(); takes || err != nil {
			return takes, err
		}
		select {
		case <-f.ctx.Done():
			return false, nil
		case <-f.woken:
		case <-tick.C:
		}
	}
}

// some applies what the log has behind the copy, in one transaction of its file; more tells that there is
// more at once. A copy is brought on a few times a second: the more records are applied at a time, the
// less each costs.
func (f *follower) some() (more bool, err error) {
	p, err := f.r.read(f.ctx, f.c.At)
	if err != nil {
		return false, err
	}
	if p.gap {
		f.behind = true
		return false, nil
	}
	for i := range p.entries {
		if err := f.apply(&p.entries[i]); err != nil || f.behind {
			return false, err
		}
	}
	if err := f.c.Commit(f.ctx); err != nil {
		return false, err
	}
	f.place(f.c.Position)
	return p.more, nil
}

// apply does what an entry says. What a member that has lost its lead has left half, another one's
// takes ends.
func (f *follower) apply(e *entry) error {
	switch kind := e.head.Get(headKind); kind {
	case kindTakes:
		f.parts = nil
		var t takes
		if err := json.Unmarshal(e.data, &t); err != nil {
			return fmt.Errorf("the log at %d: %w", e.at, err)
		}
		switch {
		case f.c.Log == t.Log:
		case f.c.Log == "" && f.c.At == 0 && t.Empty:
			if err := f.c.Of(f.ctx, t.Log); err != nil {
				return fmt.Errorf("%w: %w", errElsewhere, err)
			}
		case f.c.Log == "" && f.c.At == 0:
			f.behind = true // it begins with a file that was adopted
			return nil
		default:
			return errElsewhere
		}
		return f.c.Skip(f.ctx, e.at)
	case kindCommit:
		if part := e.head.Get(headPart); part != "" {
			return f.inParts(e, part)
		}
		return f.c.Apply(f.ctx, e.at, e.data)
	default:
		return fmt.Errorf("the log at %d is of a kind that this release does not know: %q", e.at, kind)
	}
}

// inParts gathers a record in parts: the last one has the record done.
func (f *follower) inParts(e *entry, part string) error {
	number, of, _ := strings.Cut(part, "/")
	n, err := strconv.Atoi(number)
	if err != nil {
		return fmt.Errorf("the log at %d is part %q", e.at, part)
	}
	if n == 1 {
		f.parts = nil
	}
	f.parts = append(f.parts, e.data...)
	if number != of {
		return f.c.Skip(f.ctx, e.at)
	}
	record := f.parts
	f.parts = nil
	return f.c.Apply(f.ctx, e.at, record)
}

// patience is how long a member waits for one that leads; each waits a little longer than the one that
// is further in the log, or before it in the file, so that two seldom try at once.
const patience = 500 * time.Millisecond

// maybeTakes has this member take over where nobody leads.
func (f *follower) maybeTakes() (bool, error) {
	if f.leader() != nil {
		f.none = time.Time{}
		return false, nil
	}
	if f.none.IsZero() {
		f.none = time.Now()
	}
	form, err := f.c.Schema(f.ctx)
	if err != nil {
		return false, err
	}
	if form > store.Schema() {
		f.set(
			StateFollows,
			fmt.Sprintf("it follows and cannot lead: the journal has the form %q of a later release than this one",
				form),
		)
		return false, nil
	}
	rank, may := f.rank(form)
	if !may || time.Since(f.none) < patience*time.Duration(1+rank) {
		return false, nil
	}
	err = f.takeOver()
	f.Log.Debug("taking over", "member", f.File.This, "partition", f.part, "at", f.at, "error", err)
	switch {
	case errors.Is(err, errNoLog), errors.Is(err, ErrFenced), errors.Is(err, ErrCutOff):
		f.none = time.Now()
		return false, nil
	case err != nil || f.at == 0:
		return false, err
	}
	return true, nil
}

// rank says how many others that are there come before this member, and whether it may lead at all: it
// sees a majority, is not drained while others are not, and knows of nobody that must begin.
//
// While the journal has an earlier form than this release writes, members whose release writes that form
// come before it: what is written is what the oldest member knows, until none of them is there.
func (f *follower) rank(form string) (rank int, may bool) {
	loads, drained := f.loads(), f.isDrained()
	f.mu.Lock()
	defer f.mu.Unlock()
	there := f.there()
	if len(there) < f.File.majority() {
		f.sees = time.Time{}
		return 0, false
	}
	if f.sees.IsZero() {
		f.sees = time.Now()
	}
	if time.Since(f.sees) < settled {
		return 0, false // it was cut off just now, and the one that leads may be heard any moment
	}
	for _, h := range there {
		if h.Name == f.File.This {
			continue
		}
		if h.Log != "" && f.c.Log == "" || h.State == StateTakes || h.State == StateHands {
			return 0, false // it has a journal, and this member has none; or it is about to, or still leads
		}
		if drained && !h.Drained {
			return 0, false
		}
		if form != "" && form < store.Schema() && h.Schema < store.Schema() && h.Schema >= form && !h.Drained {
			return 0, false
		}
		if f.before(h, loads) {
			rank++
		}
	}
	if f.c.Log == "" && len(there) < len(f.File.Members) && time.Since(f.began) < beginAfter {
		return 0, false // one that is not there yet may have the journal
	}
	return rank, true
}

// near is how many records a copy may be behind another one and count as just as far: they are brought there
// in less time than a member waits for another.
const near = 2000

// before tells whether another member takes over before this one: it leads fewer partitions and is as far, or it is
// further, or it stands before it in the file.
func (f *follower) before(h *heard, loads map[string]int) bool {
	ours, theirs := loads[f.File.This], loads[h.Name]
	switch {
	case len(f.first.parts) > 1 && ours != theirs && max(h.At, f.c.At)-min(h.At, f.c.At) < near:
		return theirs < ours
	case h.At != f.c.At && (len(f.first.parts) == 1 || max(h.At, f.c.At)-min(h.At, f.c.At) >= near):
		return h.At > f.c.At
	}
	return f.order(h.Name) < f.order(f.File.This)
}

// settled is how long a majority must have been seen.
const settled = 4 * beatEach

// beginAfter is how long a fleet that has no journal waits for all of its members.
const beginAfter = 15 * time.Second

// order gives the place of a member in the file; each partition begins with another one.
func (f *follower) order(name string) int {
	n := len(f.File.Members)
	at := slices.IndexFunc(f.File.Members, func(m Member) bool { return m.Name == name })
	return (at - f.part%n + n) % n
}

// takeOver writes into the log that this member leads, and brings the copy there.
func (f *follower) takeOver() error {
	f.set(StateTakes, "")
	taken := false
	defer func() {
		if !taken {
			f.set(StateFollows, "")
		}
	}()
	ctx, stop := context.WithTimeout(f.ctx, giveUp)
	defer stop()
	if !f.made && f.c.At == 0 { // else there was a log, and another one does not go on with it
		if err := f.j.make(ctx); err != nil {
			return fmt.Errorf("%w: %w", errNoLog, err)
		}
		f.made = true
	}
	last, err := f.toTheEnd(ctx)
	if err != nil || f.behind {
		return err
	}
	t := takes{Member: f.File.This, Log: f.c.Log}
	if t.Log == "" {
		if last > 0 {
			return errElsewhere
		}
		t.Log, t.Empty = newLogID(), true
	}
	b, err := json.Marshal(t)
	if err != nil {
		return err
	}
	at, err := f.j.appendAll(ctx, last, kindTakes, b)
	if err != nil {
		return err
	}
	if t.Empty {
		if err := f.c.Of(ctx, t.Log); err != nil {
			return err
		}
	}
	f.parts = nil
	if err := errors.Join(f.c.Skip(ctx, at), f.c.Commit(ctx)); err != nil {
		return err
	}
	f.place(f.c.Position)
	f.at, taken = at, true
	return nil
}

// toTheEnd brings the copy to the end of the log, as whoever decides there has it, and gives that.
func (f *follower) toTheEnd(ctx context.Context) (last int64, err error) {
	if _, last, err = f.j.end(ctx); err != nil {
		return 0, err
	}
	if f.c.At > last {
		return 0, fmt.Errorf(
			"the copy has record %d, and the log ends at %d: a majority has lost its disks; take one journal out with "+
				"readyferry fleet release, and begin another fleet with it",
			f.c.At,
			last,
		)
	}
	for f.c.At < last {
		more, err := f.some()
		if err != nil || f.behind {
			return last, err
		}
		if !more && f.c.At < last {
			select {
			case <-ctx.Done():
				return last, errNoLog
			case <-time.After(between):
			}
		}
	}
	return last, nil
}
