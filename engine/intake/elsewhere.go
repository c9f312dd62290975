package intake

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// ElsewhereError tells that a message belongs to another partition of the fleet: nothing of it was
// kept here, and whoever has the call hands it over.
type ElsewhereError struct{ Partition int }

// Error implements error.
func (e *ElsewhereError) Error() string {
	return fmt.Sprintf("the message belongs to partition %d of the fleet", e.Partition)
}

// homes is where flows are worked on, as it was asked last.
type homes struct {
	mu sync.Mutex
	of map[string]catalog.Place
}

func (h *homes) forget() {
	h.mu.Lock()
	h.of = nil
	h.mu.Unlock()
}

// PlaceOf says where the messages of a flow are worked on.
func (k *Intakes) PlaceOf(flow string) catalog.Place {
	k.homes.mu.Lock()
	defer k.homes.mu.Unlock()
	place, known := k.homes.of[flow]
	if !known {
		place = k.Catalog.Place(k.Catalog.Flow(flow))
		if k.homes.of == nil {
			k.homes.of = map[string]catalog.Place{}
		}
		k.homes.of[flow] = place
	}
	return place
}

// here gives an *ElsewhereError for a call whose message belongs to another partition. Where it had to be read for
// that, it need not be read again.
func (k *Intakes) here(ctx context.Context, in *Intake, envelope run.Envelope) (read *run.Received, err error) {
	to, read, err := k.partitionOf(ctx, in, envelope)
	if err == nil && to != k.Partition.This {
		err = &ElsewhereError{to}
	}
	if err != nil || weight(envelope.Body) > readKept {
		read = nil
	}
	return read, err
}

// partitionOf gives the partition that a message belongs to, and what was read of it to see that. One that has neither
// an order nor a once value belongs where it has come to.
func (k *Intakes) partitionOf(ctx context.Context, in *Intake, envelope run.Envelope) (to int, read *run.Received, err error) {
	own := k.Partition
	switch {
	case own.Whole():
		return own.This, nil, nil
	case in.draft:
		return 0, nil, nil
	}
	switch place := k.PlaceOf(in.Flow); {
	case !place.Spread:
		return place.Partition, nil, nil
	case in.plan.Order == nil && in.plan.Once == nil:
		return own.This, nil, nil
	}
	if read, err = k.read(ctx, in, envelope); err != nil {
		return own.This, nil, err
	}
	if value := valueOf(in.plan, read); value != "" {
		return own.Holding(value), read, nil
	}
	return own.This, read, nil
}

// ForOthers tells who knows of so many refused calls, by the run that it has heard of, what was refused here, and whether
// messages are taken.
func (k *Intakes) ForOthers(run store.ID, known int64) (Refused, Short) {
	now := k.Room()
	return k.refused.beyond(run, known), Short{now.Since, now.Why}
}

// KnownOf gives which run of another partition's engine was heard last, and of how many refused calls.
func (k *Intakes) KnownOf(part int) (run store.ID, n int64) { return k.refused.known(part) }

// HearOther takes in what the engine of another partition says of itself.
func (k *Intakes) HearOther(part int, refused Refused, short Short) {
	k.refused.hear(part, refused)
	k.room.mu.Lock()
	defer k.room.mu.Unlock()
	if k.room.others == nil {
		k.room.others = map[int]Short{}
	}
	k.room.others[part] = short
}

// readKept is how much what was read of a message may take, in bytes of memory as the gate estimates them, to be kept
// until the message is taken: what takes more waits at the gate with its bytes alone, since the gate is to bound it.
const readKept = 256 << 10

// read reads a message, to see which partition it is of, as all is worked out that a message brings: behind the gate,
// and marked, so that one over which the process has died before does not end it again. Such a message is kept here, as
// a dead letter, and one that cannot be read is refused here: nothing is given for both.
func (k *Intakes) read(ctx context.Context, in *Intake, envelope run.Envelope) (read *run.Received, err error) {
	leave, err := k.Enter(ctx, envelope.Body)
	if err != nil {
		return nil, err
	}
	defer leave()
	err = k.Do(ctx, in.Flow, func(s *journal.Session) error {
		if err := s.Computes(in.Flow, envelope.Body); err != nil {
			return err
		}
		if received, err := run.Receive(in.plan, envelope); err == nil {
			read = &received
		}
		return nil
	})
	if errors.Is(err, journal.ErrSetAside) {
		return nil, nil
	}
	return read, err
}

// valueOf gives the value that decides which partition a message is of; "" where it has none.
func valueOf(p *plan.Plan, read *run.Received) string {
	switch {
	case read == nil:
		return ""
	case p.Order != nil:
		return read.Order
	}
	return read.Once
}
