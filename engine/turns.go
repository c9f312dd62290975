package engine

import (
	"context"
	"errors"
	"fmt"

	"readyferry/core/group"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// turn lets a message go on, or wait until its number is next. Without effect
// and failure it waits.
func (w *walking) turn(want *step.Want) (effect *step.Effect, failure *step.Failure, err error) {
	t, path, now := want.Turn, run.GroupPath(want.Path), w.e.clock()
	s, err := w.tx.Sequence(w.t.Flow, path, t.Key, t.Order.First)
	if err != nil {
		return nil, nil, err
	}
	order := run.TurnOrder(want.Path, t.Key)
	again := w.pass[want.Path]
	switch turn := t.Order.Turn(t.Number, s.Next); {
	case turn == group.Later && !again && !t.Order.PassLate:
		return &step.Effect{Refused: run.TurnPassed(t.Key, t.Number, s.Next)}, nil, nil
	case turn == group.Later:
		return &step.Effect{Order: order, Said: fmt.Sprintf("%d, late", t.Number)}, nil, nil
	case turn == group.Wait && !again:
		n, err := w.tx.CountHeld(w.t.Flow, path, t.Key)
		if err != nil {
			return nil, nil, err
		}
		if n >= int64(t.Order.Limit) {
			return nil, run.FullLine(t.Key, int(n)), nil
		}
		s.UsedAt = now
		if err := w.tx.SaveSequence(&s); err != nil {
			return nil, nil, err
		}
		w.t.Gathered++
		w.t.Idle = true
		w.t.GatherPlace, w.t.GatherText = want.Path, fmt.Sprintf("number %d of %s", s.Next, t.Key)
		w.after.gather, w.after.events[TopicQueues] = true, true
		return nil, nil, w.tx.Hold(&store.Held{Flow: w.t.Flow, Path: path, Key: t.Key, Number: t.Number, Tx: w.t.ID, At: want.Path, Until: now.Add(t.Order.Wait)})
	}
	s.Next, s.UsedAt = t.Number+1, now
	if err := w.tx.SaveSequence(&s); err != nil {
		return nil, nil, err
	}
	w.next = append(w.next, func() error { return w.e.release(w.tx, w.t.Flow, path, t.Key, -1, w.after) })
	return &step.Effect{Order: order, Said: fmt.Sprint(t.Number)}, nil, nil
}

// releaseBatch is how many messages one database transaction lets go on; others
// follow in the next one.
const releaseBatch = 200

// lineKey names the messages of one key that wait for their turn.
type lineKey struct{ flow, path, key string }

// release lets those of a key go on whose turn it is now. gap is the number
// that was given up for the first of them, or -1.
func (e *Engine) release(tx *store.Tx, flow, path, key string, gap int64, after *aftermath) error {
	for range releaseBatch {
		h, err := tx.FirstHeld(flow, path, key)
		if errors.Is(err, ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		s, err := tx.Sequence(flow, path, key, h.Number)
		if err != nil || h.Number > s.Next {
			return err
		}
		if h.Number == s.Next {
			s.Next++
			if err := tx.SaveSequence(&s); err != nil {
				return err
			}
		}
		if err := e.goOn(tx, &h, run.BehindSaid(h.Number, gap), after); err != nil {
			return fmt.Errorf("number %d of %s: %w", h.Number, key, err)
		}
		gap = -1
	}
	after.lines = append(after.lines, lineKey{flow, path, key})
	return nil
}

// releaseMore goes on with releasing.
func (e *Engine) releaseMore(k lineKey) {
	after := newAftermath()
	err := e.store.Write(e.ctx, func(tx *store.Tx) error {
		*after = *newAftermath()
		return e.release(tx, k.flow, k.path, k.key, -1, after)
	})
	if err != nil {
		e.log.Error("letting messages go on", "flow", k.flow, "key", k.key, "error", err) // their deadline will
		return
	}
	e.after(after)
}

// goOn takes a message on that has waited for its turn.
func (e *Engine) goOn(tx *store.Tx, h *store.Held, said string, after *aftermath) error {
	if err := tx.Unhold(h.N); err != nil {
		return err
	}
	w, err := e.load(tx, h.Tx, after)
	if err != nil {
		return err
	}
	w.t.Gathered = max(0, w.t.Gathered-1)
	if err := w.record(h.At, step.Effect{Order: run.TurnOrder(h.At, h.Key), Said: said}); err != nil {
		return err
	}
	after.events[TopicQueues] = true
	_, err = w.advance(nil)
	return err
}

// gapOver gives up the number for which a message has waited as long as it may.
func (e *Engine) gapOver(tx *store.Tx, n int64, after *aftermath) error {
	h, err := tx.Held(n)
	if errors.Is(err, ErrNotFound) {
		return nil // it has gone on meanwhile
	}
	if err != nil || h.Until.After(e.clock()) {
		return err
	}
	t, err := tx.Transaction(h.Tx)
	if err != nil {
		return err
	}
	p, err := e.plan(t.Flow, t.Version)
	if err != nil {
		return err
	}
	order := step.OrderOf(run.StepAt(p, h.Path))
	if order == nil || !order.Dead {
		return e.skipGap(tx, h.Flow, h.Path, h.Key, after)
	}
	s, err := tx.Sequence(h.Flow, h.Path, h.Key, h.Number)
	if err != nil {
		return err
	}
	if err := tx.Unhold(h.N); err != nil {
		return err
	}
	w, err := e.load(tx, h.Tx, after)
	if err != nil {
		return err
	}
	w.t.Gathered = max(0, w.t.Gathered-1)
	old, err := tx.LettersOf(h.Tx)
	if err != nil {
		return err
	}
	f := step.Failure{Step: run.StepAt(p, h.Path).ID, Path: h.At, Kind: "resequence", Phase: "wait", Class: step.Data, Reason: run.GapReason(h.Number, s.Next, order.Wait)}
	if err := w.die(old, f); err != nil {
		return err
	}
	rows, err := tx.Deliveries(h.Tx)
	if err != nil {
		return err
	}
	after.events[TopicQueues] = true
	return w.settle(nil, pointersTo(rows))
}

// skipGap lets a key go on with the lowest number that waits.
func (e *Engine) skipGap(tx *store.Tx, flow, path, key string, after *aftermath) error {
	h, err := tx.FirstHeld(flow, path, key)
	if err != nil {
		return err
	}
	s, err := tx.Sequence(flow, path, key, h.Number)
	if err != nil {
		return err
	}
	gap := s.Next
	if h.Number > s.Next {
		s.Next = h.Number
		if err := tx.SaveSequence(&s); err != nil {
			return err
		}
	}
	return e.release(tx, flow, path, key, gap, after)
}

// SkipGap lets a key go on without the number that it waits for, because a
// person asks for it.
func (e *Engine) SkipGap(ctx context.Context, flow, path, key string) error {
	after := newAftermath()
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		*after = *newAftermath()
		return e.skipGap(tx, flow, path, key, after)
	})
	if err == nil {
		e.after(after)
	}
	return err
}
