package intake

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/engine/journal"
)

// ElsewhereError tells that a message belongs to another partition of the fleet: nothing of it was
// kept here, and whoever has the call hands it over.
type ElsewhereError struct{ Partition int }

// Error implements error.
func (e *ElsewhereError) Error() string {
	return fmt.Sprintf("the message belongs to partition %d of the fleet", e.Partition)
}

// homes is which flows are worked on in the first partition alone, as it was asked last.
type homes struct {
	mu  sync.Mutex
	why map[string]string
}

func (h *homes) forget() {
	h.mu.Lock()
	h.why = nil
	h.mu.Unlock()
}

// AtHome says in words why all messages of a flow are worked on in the first partition; "" where they are
// spread.
func (k *Intakes) AtHome(flow string) string {
	k.homes.mu.Lock()
	defer k.homes.mu.Unlock()
	why, known := k.homes.why[flow]
	if !known {
		why = k.Catalog.AtHome(k.Catalog.Flow(flow))
		if k.homes.why == nil {
			k.homes.why = map[string]string{}
		}
		k.homes.why[flow] = why
	}
	return why
}

// here gives an *ElsewhereError for a call whose message belongs to another partition. A message that
// has neither an order nor a once value belongs where it has come to.
func (k *Intakes) here(ctx context.Context, in *Intake, c Call, headers []message.Header) error {
	own := k.Partition
	if own.Whole() {
		return nil
	}
	to := own.This
	switch {
	case in.draft || k.AtHome(in.Flow) != "":
		to = 0
	case in.plan.Order != nil || in.plan.Once != nil:
		value, err := k.decides(ctx, in, c, headers)
		if err != nil {
			return err
		}
		if value != "" {
			to = own.Holding(value)
		}
	}
	if to == own.This {
		return nil
	}
	return &ElsewhereError{to}
}

// decides gives the value that decides which partition a message is of, worked out as all is that a message
// brings: behind the gate, and marked, so that one over which the process has died before does not end it again.
// Such a message is kept here, as a dead letter.
func (k *Intakes) decides(ctx context.Context, in *Intake, c Call, headers []message.Header) (value string, err error) {
	leave, err := k.Enter(ctx, c.Body)
	if err != nil {
		return "", err
	}
	defer leave()
	err = k.Do(ctx, in.Flow, func(s *journal.Session) error {
		if err := s.Computes(in.Flow, c.Body); err != nil {
			return err
		}
		value = k.valueOf(in.plan, c, headers, in.Params)
		return nil
	})
	if errors.Is(err, journal.ErrSetAside) {
		return "", nil
	}
	return value, err
}

// valueOf gives the value that decides which partition a message is of; "" where it has none, or cannot be
// read: then its caller is told here.
func (k *Intakes) valueOf(p *plan.Plan, c Call, headers, params []message.Header) string {
	received, err := run.Receive(p, run.Envelope{ReceivedAt: k.Now(), Headers: headers, Params: params, Query: c.Query, Body: c.Body,
		Apart: c.Stream != nil})
	switch {
	case err != nil:
		return ""
	case p.Order != nil:
		return received.Order
	}
	return received.Once
}
