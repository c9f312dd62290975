package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// The source of a flow, which is its clock or its receiver, is where the flow is at home, and how far it has come is
// kept there. Where a flow comes home to the first partition, since a new version of it shares things with others, how
// far its source has come is brought along: the other partition lets it go first, so that nothing is missing and nothing
// comes twice, and the first one begins with it when it has all of it.

// sources are what this partition lets go, and what it waits for. The lock is that of the intakes.
type sources struct {
	starting sync.Mutex               // held while it is found what is to run, and while that is set going
	leaving  map[string]bool          // flows whose sources come home from here
	coming   map[string]int           // flows whose sources come home to here, by the partition where they were
	ended    map[string]chan struct{} // closed when the receivers of a flow that were stopped have come to their end
	keeper   *timekeeper
}

// runs tells whether the source of a flow is in this partition, and may begin.
func (k *Intakes) runs(f *catalog.Flow) bool {
	if k.Partition.Whole() {
		return true
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.isHere(f.Name) && !k.moves(f.Name)
}

// moves tells whether the source of a flow comes home to here, or from here. The lock is held.
func (k *Intakes) moves(flow string) bool {
	_, coming := k.sources.coming[flow]
	return coming || k.sources.leaving[flow]
}

// sourcesMove finds which sources come home to here from other partitions, and which of those that came are kept there
// still. What is found last is what was read last.
func (k *Intakes) sourcesMove() (kept map[string]int, err error) {
	if k.Partition.Whole() {
		return nil, nil
	}
	k.sources.starting.Lock()
	defer k.sources.starting.Unlock()
	coming, kept := map[string]int{}, map[string]int{}
	if k.Others != nil {
		elsewhere, err := k.Store.All().ClocksElsewhere()
		if err != nil {
			return nil, err
		}
		for flow, part := range elsewhere {
			if f := k.Catalog.Flow(flow); f == nil || f.Live == nil || !k.isHere(flow) {
				continue
			}
			_, err := k.Store.Clock(flow)
			switch {
			case errors.Is(err, store.ErrNotFound):
				coming[flow] = part
			case err != nil:
				return nil, err
			default:
				kept[flow] = part
			}
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.sources.coming = coming
	return kept, nil
}

// isHere tells whether a flow is in this partition alone.
func (k *Intakes) isHere(flow string) bool {
	at := k.PlaceOf(flow)
	return !at.Spread && at.Partition == k.Partition.This
}

// bringEach is when it is tried again to bring a source home.
const bringEach = 3 * time.Second

// bringHome brings home what is to come, and has what was brought be forgotten where it was. It is tried again until
// nothing is left there.
func (k *Intakes) bringHome() (more bool, next time.Time, err error) {
	kept, err := k.sourcesMove()
	if err != nil {
		return false, next, err
	}
	k.mu.Lock()
	coming := k.sources.coming
	k.mu.Unlock()
	var errs []error
	for flow, part := range coming {
		if err := k.bring(k.Life.Taking(), flow, part); err != nil {
			errs = append(errs, fmt.Errorf("the source of %s comes home from partition %d: %w", flow, part, err))
		}
	}
	for flow, part := range kept {
		errs = append(errs, k.haveForgotten(k.Life.Taking(), flow, part))
	}
	if len(coming) > 0 {
		if _, err := k.sourcesMove(); err != nil {
			errs = append(errs, err)
		}
		k.startReceivers()
		errs = append(errs, k.syncClocks())
	}
	if len(coming)+len(kept) > 0 {
		next = k.Now().Add(bringEach)
	}
	return false, next, errors.Join(errs...)
}

// SourceKept is how far a source has come, as another partition lets it go: some of what it has seen at a time.
type SourceKept struct {
	Clock  *store.Clock // nil: there is none
	Seen   []store.PolledRow
	Behind string // of the rows that it has seen, the key of the last one here; "": there are no more
}

// seenAtOnce is how many rows that a poll has seen are brought at once.
const seenAtOnce = 5000

// bring takes over how far a source has come. The clock comes last: without it nothing was brought.
func (k *Intakes) bring(ctx context.Context, flow string, part int) error {
	for behind, first := "", true; first || behind != ""; first = false {
		var kept SourceKept
		done, err := k.Others.Ask(ctx, part, journal.Asked{What: journal.AskLeave, Flow: flow, Value: behind})
		if err == nil {
			err = json.Unmarshal(done.Said, &kept)
		}
		if err != nil {
			return err
		}
		if kept.Clock == nil {
			break
		}
		behind = kept.Behind
		if err := k.keep(ctx, kept); err != nil {
			return err
		}
	}
	return k.haveForgotten(ctx, flow, part)
}

// keep writes down what was brought. Clocks are not set going meanwhile: whoever does that has read which ones there
// are, and would put a new one in the place of this one.
func (k *Intakes) keep(ctx context.Context, kept SourceKept) error {
	k.sources.starting.Lock()
	defer k.sources.starting.Unlock()
	return k.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.SavePolled(kept.Seen); err != nil || kept.Behind != "" {
			return err
		}
		return tx.SaveClock(kept.Clock)
	})
}

// haveForgotten has another partition forget how far a source has come, which is kept here.
func (k *Intakes) haveForgotten(ctx context.Context, flow string, part int) error {
	_, err := k.Others.Ask(ctx, part, journal.Asked{What: journal.AskLeft, Flow: flow})
	return err
}

// noneLeaving forgets which sources come home from here, once what is designed says so, too.
func (k *Intakes) noneLeaving() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for flow := range k.sources.leaving {
		if !k.isHere(flow) {
			delete(k.sources.leaving, flow)
		}
	}
}

// Leave lets the source of a flow go: it takes nothing more here, and what it had taken is a message. It gives how far
// it has come, and the rows that it has seen, behind one.
func (k *Intakes) Leave(ctx context.Context, flow, behind string) (out SourceKept, err error) {
	k.mu.Lock()
	k.sources.leaving[flow] = true
	k.mu.Unlock()
	k.startReceivers() // which ends it
	// Behind whatever it has given to the writer.
	err = errors.Join(k.sourceEnded(ctx, flow), k.Store.Write(ctx, func(*store.Tx) error { return nil }))
	if err != nil {
		return out, err
	}
	c, err := k.Store.Clock(flow)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	if f := k.Catalog.Flow(flow); c.Staged > 0 && f != nil && f.Live != nil {
		if err := k.takeStaged(f); err != nil {
			return out, err
		}
		if c, err = k.Store.Clock(flow); err != nil {
			return out, err
		}
	}
	if c.Staged > 0 {
		return out, fmt.Errorf("%w: %d messages that %s has brought are yet to begin, and it is paused", journal.ErrDecision,
			c.Staged, flow)
	}
	out.Clock = &c
	if out.Seen, err = k.Store.PolledBehind(flow, behind, seenAtOnce); len(out.Seen) == seenAtOnce {
		out.Behind = out.Seen[len(out.Seen)-1].Key
	}
	return out, err
}

// sourceEnded waits until the source of a flow does nothing any more.
func (k *Intakes) sourceEnded(ctx context.Context, flow string) error {
	k.mu.Lock()
	ended := k.sources.ended[flow]
	k.mu.Unlock()
	if ended != nil {
		select {
		case <-ended:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return k.sources.keeper.ended(ctx, flow)
}

// Left forgets how far a source has come that is at home elsewhere now.
func (k *Intakes) Left(ctx context.Context, flow string) error {
	return k.Store.Write(ctx, func(tx *store.Tx) error { return tx.DeleteClock(flow) })
}

// askSource has the partition do something in which the source of a flow is; there tells that it is another one.
func (k *Intakes) askSource(flow string, a journal.Asked) (there bool, err error) {
	if at := k.PlaceOf(flow); k.Others != nil && !at.Spread && at.Partition != k.Partition.This {
		there = true
		_, err = k.Others.Ask(k.Life.Taking(), at.Partition, a)
	}
	return there, err
}
