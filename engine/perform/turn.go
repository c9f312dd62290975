package perform

import (
	"context"
	"errors"
	"fmt"

	"readyferry/core/flow"
	"readyferry/core/group"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// turn lets a message go on when its number is next, or wait until it is.
type turn struct{ *Performers }

// Foresee implements journal.Performer.
func (p turn) Foresee(v *journal.Move, asked want.Asked) (journal.Outcome, error) {
	o, _, err := p.decide(p.Store.View, &v.Tx, asked, v.Passes(asked.Path))
	return o, err
}

// decide says what a turn comes to, and which number is next behind it.
func (turn) decide(
	v store.View,
	tx *store.Transaction,
	asked want.Asked,
	again bool,
) (o journal.Outcome, s store.Sequence, err error) {
	t, path := asked.Want.(*want.Turn), run.GroupPath(asked.Path)
	if s, err = v.Sequence(tx.Flow, path, t.Key, t.Order.First); err != nil {
		return o, s, err
	}
	order := run.TurnOrder(asked.Path, t.Key)
	switch now := t.Order.Turn(t.Number, s.Next); {
	case now == group.Later && !again && !t.Order.PassLate:
		o.Effect = &want.Effect{Refused: run.TurnPassed(t.Key, t.Number, s.Next)}
	case now == group.Later:
		o.Effect = &want.Effect{Order: order, Said: fmt.Sprintf("%d, late", t.Number)}
	case now == group.Wait && !again:
		n, err := v.CountHeld(tx.Flow, path, t.Key)
		if err != nil {
			return o, s, err
		}
		if n >= int64(t.Order.Limit) {
			o.Failure = run.FullLine(t.Key, int(n))
		}
	default:
		s.Next = t.Number + 1
		o.Effect, o.Data = &want.Effect{Order: order, Said: fmt.Sprint(t.Number)}, true
	}
	return o, s, nil
}

// Perform implements journal.Performer.
func (p turn) Perform(w *journal.Writing, asked want.Asked, _ journal.Outcome) (journal.Outcome, error) {
	t, path := asked.Want.(*want.Turn), run.GroupPath(asked.Path)
	o, s, err := p.decide(w.Tx.View, w.T, asked, w.Move.Passes(asked.Path))
	if err != nil || o.Failure != nil || o.Effect != nil && o.Data == nil {
		return o, err
	}
	s.UsedAt = w.Now()
	if err := w.Tx.SaveSequence(&s); err != nil {
		return o, err
	}
	w.Notice.Events[journal.EventQueues] = true
	if o.Effect != nil {
		w.Notice.Lines = append(w.Notice.Lines, journal.LineKey{Flow: w.T.Flow, Path: path, Key: t.Key})
		return o, nil
	}
	w.T.Gathered++
	w.T.Idle = true
	w.T.GatherPlace, w.T.GatherText = asked.Path, fmt.Sprintf("number %d of %s", s.Next, t.Key)
	w.Notice.Gather = true
	return o, w.Tx.Hold(
		&store.Held{
			Flow:   w.T.Flow,
			Path:   path,
			Key:    t.Key,
			Number: t.Number,
			Tx:     w.T.ID,
			At:     asked.Path,
			Until:  w.Now().Add(t.Order.Wait),
		},
	)
}

// releaseBatch is how many messages one database transaction lets go on; others
// follow in the next one.
const releaseBatch = 50

// release lets those of a key go on whose turn it is now, in the order of their
// numbers. With skip the number that is missing is given up first.
func (p *Performers) release(k journal.LineKey, skip bool) {
	if err := p.releaseLine(p.Life.Context(), k, skip); err != nil && !p.Life.Over() {
		p.Log.Error("letting messages go on", "flow", k.Flow, "key", k.Key, "error", err) // their deadline will
	}
}

func (p *Performers) releaseLine(ctx context.Context, k journal.LineKey, skip bool) error {
	return p.Do(ctx, k.Flow, func(s *journal.Session) error {
		waiting, err := p.Store.HeldOf(k.Flow, k.Path, k.Key, releaseBatch)
		if err != nil {
			return err
		}
		if len(waiting) == 0 {
			if skip {
				return journal.ErrNotFound
			}
			return nil
		}
		seq, err := p.Store.Sequence(k.Flow, k.Path, k.Key, waiting[0].Number)
		if err != nil {
			return err
		}
		gap := int64(-1)
		if skip && waiting[0].Number > seq.Next {
			from := seq.Next
			gap, seq.Next = from, waiting[0].Number
			s.Then(func(tx *store.Tx, _ *journal.Notice) error { return nextIs(tx, k, from, waiting[0].Number) })
		}
		if waiting[0].Number > seq.Next {
			return nil
		}
		for i := range waiting {
			h := &waiting[i]
			if h.Number > seq.Next || i > 0 && (s.Tired() || s.Crowded()) {
				break
			}
			if err := p.itsTurn(s, k, h, run.BehindSaid(h.Number, gap)); err != nil {
				return fmt.Errorf("number %d of %s: %w", h.Number, k.Key, err)
			}
			if h.Number == seq.Next {
				seq.Next++
			}
			gap = -1
		}
		s.Then(func(_ *store.Tx, n *journal.Notice) error {
			n.Events[journal.EventQueues] = true
			n.Lines = append(n.Lines, k)
			return nil
		})
		return nil
	})
}

// nextIs moves a key to another number, if it stands where it stood.
func nextIs(tx *store.Tx, k journal.LineKey, from, to int64) error {
	s, err := tx.Sequence(k.Flow, k.Path, k.Key, from)
	if err != nil || s.Next != from {
		return staleOr(err)
	}
	s.Next = to
	return tx.SaveSequence(&s)
}

// itsTurn takes a message on that has waited for its turn.
func (p *Performers) itsTurn(s *journal.Session, k journal.LineKey, h *store.Held, said string) error {
	s.Then(func(tx *store.Tx, _ *journal.Notice) error {
		first, err := tx.FirstHeld(k.Flow, k.Path, k.Key)
		if errors.Is(err, store.ErrNotFound) || err == nil && first.N != h.N {
			return journal.ErrStale
		}
		if err != nil {
			return err
		}
		seq, err := tx.Sequence(k.Flow, k.Path, k.Key, h.Number)
		if err != nil || h.Number > seq.Next {
			return staleOr(err)
		}
		if h.Number == seq.Next {
			seq.Next++
			if err := tx.SaveSequence(&seq); err != nil {
				return err
			}
		}
		return tx.Unhold(h.N)
	})
	v, err := s.Read(h.Tx)
	if err != nil {
		return err
	}
	v.Then(func(w *journal.Writing) error {
		w.T.Gathered = max(0, w.T.Gathered-1)
		return nil
	})
	v.Effect(h.At, want.Effect{Order: run.TurnOrder(h.At, h.Key), Said: said})
	_, err = v.Go()
	return err
}

// gapOver gives up the number for which a message has waited as long as it may.
func (p *Performers) gapOver(ctx context.Context, h store.Held) error {
	t, err := p.Store.Transaction(h.Tx)
	if err != nil {
		return err
	}
	version, err := p.Catalog.Plan(t.Flow, t.Version)
	if err != nil && !errors.Is(err, catalog.ErrUnreadable) {
		return err
	}
	at := &step.Compiled{Step: &flow.Step{ID: run.GroupPath(h.Path)}}
	order, failure := &group.Order{Dead: true}, journal.Unreadable(fmt.Errorf("%w", err))
	if err == nil {
		at = run.StepAt(version, h.Path)
		order = step.OrderOf(at)
	}
	if order == nil || !order.Dead {
		err := p.releaseLine(ctx, journal.LineKey{Flow: h.Flow, Path: h.Path, Key: h.Key}, true)
		if errors.Is(err, journal.ErrNotFound) {
			return nil // it has gone on meanwhile
		}
		return err
	}
	return p.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		now, err := tx.Held(h.N)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil || now.Until.After(p.Now()) {
			return err
		}
		s, err := tx.Sequence(h.Flow, h.Path, h.Key, h.Number)
		if err != nil {
			return err
		}
		if err := tx.Unhold(h.N); err != nil {
			return err
		}
		w, err := p.Open(tx, n, h.Tx)
		if err != nil {
			return err
		}
		w.T.Gathered = max(0, w.T.Gathered-1)
		n.Events[journal.EventQueues] = true
		if version != nil {
			failure = step.Failure{Kind: "resequence", Phase: "wait", Class: step.Data,
				Reason: run.GapReason(h.Number, s.Next, order.Wait)}
		}
		failure.Step, failure.Path = at.ID, h.At
		if err := w.Fails(failure); err != nil {
			return err
		}
		return w.Settle()
	})
}

// SkipGap lets a key go on without the number that it waits for, because a
// person asks for it.
func (p *Performers) SkipGap(ctx context.Context, k journal.LineKey) error {
	if there, err := p.SkippedElsewhere(ctx, k); there || err != nil {
		return err
	}
	return p.releaseLine(ctx, k, true)
}
