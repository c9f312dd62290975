package intake

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"readyferry/core/run"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Before the disk is full nothing more is taken in: callers are told to come again, receivers
// stop taking, schedules, polls and loads wait. What has been taken goes on and comes to its
// end, and what is old goes, so that there is room again.

// Room is how much room there is for messages, and what becomes of those that come.
type Room struct {
	store.Room
	store.RoomLimits
	MinFree int64      // that counts now, in bytes
	Since   *time.Time // since when nothing is taken in; nil: messages are taken
	Why     string
}

// Short tells that nothing is taken in.
func (r *Room) Short() bool { return r.Since != nil }

// RoomLimits say when the disk counts as short.
type RoomLimits = store.RoomLimits

// lookAfter tells when to look again: before what is left beside the thresholds can be filled.
func (r Room) lookAfter() time.Duration {
	left := r.Free - r.MinFree
	if r.MaxJournal > 0 {
		left = min(left, r.MaxJournal-r.Journal)
	}
	wait := time.Duration(max(0, left)/(fillsAtMost/int64(time.Second/time.Microsecond))) * time.Microsecond
	return min(max(wait, lookClosest), lookFarthest)
}

// How room is watched.
const (
	// fillsAtMost is how fast the disk may be filled, by whomever, in bytes a second.
	fillsAtMost  = 10 << 30
	lookClosest  = 25 * time.Millisecond
	lookFarthest = 5 * time.Second
	// comeAgain is when callers are told to come again who find no room.
	comeAgain = 10 * time.Second
	// emptyLog is how often what is written ahead is written back while there is no room.
	emptyLog = 5 * time.Second
)

// Once the disk is short, so much more than the threshold has to be free again, and the
// journal has to be so much smaller, in parts of a hundred: else callers would be let in and
// turned away in turn.
const (
	freeAgain    = 110
	journalAgain = 95
)

// room watches how much room there is.
type room struct {
	mu      sync.Mutex
	now     Room
	limits  store.RoomLimits
	open    chan struct{} // closed while messages are taken
	emptied time.Time     // when the log was written back last
	others  map[int]Short // how the engines of other partitions find it
}

// Short tells since when an engine takes nothing in, and why.
type Short struct {
	Since *time.Time // nil: it takes messages
	Why   string
}

func newRoom() *room {
	r := &room{open: make(chan struct{})}
	close(r.open)
	return r
}

// Room tells how much room there is.
func (k *Intakes) Room() Room {
	k.room.mu.Lock()
	defer k.room.mu.Unlock()
	return k.room.now
}

// RoomOfAll tells how much room there is here, and that nothing is taken in also where that is so in another
// partition alone: what belongs there is refused.
func (k *Intakes) RoomOfAll() Room {
	k.room.mu.Lock()
	defer k.room.mu.Unlock()
	now := k.room.now
	for part := range k.Partition.Of {
		if o := k.room.others[part]; o.Since != nil && !now.Short() {
			now.Since, now.Why = o.Since, fmt.Sprintf("partition %d: %s", part, o.Why)
		}
	}
	return now
}

// SetRoomLimits says when the disk counts as short; it is looked at once.
func (k *Intakes) SetRoomLimits(ctx context.Context, l store.RoomLimits) error {
	if l.MaxJournal < 0 || l.MinFree != nil && *l.MinFree < 0 {
		return fmt.Errorf("%w: a size cannot be negative; 0 bounds nothing", journal.ErrDecision)
	}
	if err := k.Store.Write(ctx, func(tx *store.Tx) error { return tx.SetRoomLimits(l) }); err != nil {
		return err
	}
	k.room.mu.Lock()
	k.room.limits = l
	k.room.mu.Unlock()
	return k.lookAtRoom()
}

// limitsChanged looks at the room by what is set now.
func (k *Intakes) limitsChanged() error {
	limits, err := k.Store.RoomLimits()
	if err != nil {
		return err
	}
	k.room.mu.Lock()
	k.room.limits = limits
	k.room.mu.Unlock()
	return k.lookAtRoom()
}

// startRoom begins to watch.
func (k *Intakes) startRoom() error {
	if err := k.limitsChanged(); err != nil {
		return err
	}
	k.Life.Go(func() {
		for {
			select {
			case <-k.Life.Taking().Done():
				return
			case <-time.After(k.Room().lookAfter()):
			}
			if err := k.lookAtRoom(); err != nil && !k.Life.Ending() {
				k.Log.Error("looking how much room there is", "error", err)
			}
		}
	})
	return nil
}

// lookAtRoom looks whether messages can be taken, and says so where that changes.
func (k *Intakes) lookAtRoom() error {
	is, err := k.Store.Room()
	if err != nil {
		return err
	}
	r := k.room
	r.mu.Lock()
	was := r.now
	now := judge(is, r.limits, was, k.Now())
	r.now = now
	switch {
	case now.Short() && !was.Short():
		r.open = make(chan struct{})
	case !now.Short() && was.Short():
		close(r.open)
	}
	empty := now.Short() && k.Now().Sub(r.emptied) >= emptyLog
	if empty {
		r.emptied = k.Now()
	}
	r.mu.Unlock()
	if empty { // what is written ahead takes room twice
		err = k.Store.WriteBack(k.Life.Taking())
	}
	if now.Short() == was.Short() {
		return err
	}
	if now.Short() {
		k.Log.Warn("no more messages are taken in", "why", now.Why)
	} else {
		k.Log.Info("messages are taken in again", "free", now.Free, "journal", now.Journal)
	}
	k.startReceivers()
	k.clocks.Wake()
	k.Announce(journal.EventFlows)
	return err
}

// judge says whether there is room enough, with what was said before.
func judge(is store.Room, limits store.RoomLimits, was Room, at time.Time) Room {
	now := Room{Room: is, RoomLimits: limits, MinFree: usualFree(is.Disk)}
	if limits.MinFree != nil {
		now.MinFree = *limits.MinFree
	}
	free, journal := now.MinFree, limits.MaxJournal
	if was.Short() {
		free = free / 100 * freeAgain
		if journal > 0 {
			journal = max(1, journal/100*journalAgain)
		}
	}
	switch {
	case is.Free < free:
		now.Why = fmt.Sprintf("%s are free on the disk, and %s are to stay free", size(is.Free), size(now.MinFree))
	case journal > 0 && is.Journal > journal:
		now.Why = fmt.Sprintf("the journal has %s, and may have %s", size(is.Journal), size(limits.MaxJournal))
	default:
		return now
	}
	if now.Since = was.Since; now.Since == nil {
		now.Since = &at
	}
	return now
}

// usualFree is how much is to stay free on a disk of a size: a twentieth, but room enough for
// what is written ahead and then into the file at once, and no more than UsualMinFree.
func usualFree(disk int64) int64 { return min(store.UsualMinFree, max(disk/20, min(8<<20, disk/2))) }

// size writes a number of bytes as people read it.
func size(n int64) string {
	for _, u := range []struct {
		unit string
		of   float64
	}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}} {
		if float64(n) >= u.of {
			return strings.TrimSuffix(fmt.Sprintf("%.1f", float64(n)/u.of), ".0") + " " + u.unit
		}
	}
	return fmt.Sprintf("%d bytes", n)
}

// Roomy is the answer to a message that finds no room; nil where there is some.
func (k *Intakes) Roomy() error {
	if now := k.Room(); now.Short() {
		return &run.RefusedError{
			Status:     429,
			Title:      "There is no room for more messages",
			Detail:     now.Why + "; nothing was stored, send it again later",
			RetryAfter: comeAgain,
		}
	}
	return nil
}

// untilRoom waits until messages are taken.
func (k *Intakes) untilRoom(ctx context.Context) error {
	k.room.mu.Lock()
	open := k.room.open
	k.room.mu.Unlock()
	select {
	case <-open:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
