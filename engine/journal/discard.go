package journal

import (
	"context"
	"errors"
	"fmt"
	"time"

	"readyferry/core/flow"
	"readyferry/store"
)

// UndoFor is how long a discard can be taken back.
const UndoFor = 24 * time.Hour

// Discard gives dead letters up, all or none. It can be taken back for UndoFor.
func (j *Journal) Discard(ctx context.Context, d Decision) error { return j.DiscardAnd(ctx, d, nil) }

// DiscardAnd is Discard with more that is done in the same commit; nil for nothing more.
func (j *Journal) DiscardAnd(ctx context.Context, d Decision, also func(tx *store.Tx) error) error {
	return j.each(ctx, Asked{What: AskDiscard, Decision: d}, also,
		func(tx *store.Tx, n *Notice, l *store.Letter) error { return j.discard(tx, n, l, d) })
}

// each does something to each letter of a decision, all or none.
func (j *Journal) each(
	ctx context.Context,
	a Asked,
	also func(tx *store.Tx) error,
	do func(tx *store.Tx, n *Notice, l *store.Letter) error,
) error {
	if len(a.IDs) == 0 {
		return fmt.Errorf("%w: no dead letter is named", ErrDecision)
	}
	a.Repeated = also != nil
	ids, err := j.elsewhere(ctx, a)
	if err != nil || len(ids) == 0 {
		return errors.Join(err, j.only(ctx, also))
	}
	return j.Write(ctx, func(tx *store.Tx, n *Notice) error {
		for _, id := range ids {
			l, err := tx.Letter(id)
			if err == nil {
				err = do(tx, n, &l)
			}
			if err != nil {
				return fmt.Errorf("dead letter %s: %w", id, err)
			}
		}
		n.Events[EventDeadLetters] = true
		if also != nil {
			return also(tx)
		}
		return nil
	})
}

func (j *Journal) discard(tx *store.Tx, n *Notice, l *store.Letter, d Decision) error {
	if l.State != store.LetterOpen {
		return fmt.Errorf("%w: it is %s, so there is nothing to discard", ErrDecision, l.State)
	}
	l.State = store.LetterDiscarded
	if err := tx.SaveLetter(l, j.Now(), d.who(), "discarded", d.Why); err != nil {
		return err
	}
	if item := parked(l.Phase); item > 0 {
		if err := tx.Finish(item); err != nil {
			return err
		}
	}
	w, err := j.Open(tx, n, l.Tx)
	if err != nil {
		return err
	}
	if p := w.Plan(); p != nil && p.Rules >= flow.Rules2 {
		if err := tx.TakenAnew(l.Tx); err != nil { // the next message with its once value is no repeat
			return err
		}
	}
	return w.Settle()
}

// Restore takes discards back, all or none: the letters are open again.
func (j *Journal) Restore(ctx context.Context, d Decision) error {
	return j.each(ctx, Asked{What: AskRestore, Decision: d}, nil, func(tx *store.Tx, n *Notice, l *store.Letter) error {
		if l.State != store.LetterDiscarded {
			return fmt.Errorf("%w: it is %s, so there is no discard to take back", ErrDecision, l.State)
		}
		if parked(l.Phase) > 0 {
			return fmt.Errorf("%w: its message was taken out of its queue for good", ErrDecision)
		}
		history, err := tx.History(l.ID)
		if err != nil {
			return err
		}
		for _, e := range history {
			if e.What == "discarded" && j.Now().Sub(e.At) > UndoFor && e.N == history[len(history)-1].N {
				return fmt.Errorf("%w: a discard can be taken back for %s", ErrDecision, "24 hours")
			}
		}
		l.State = store.LetterOpen
		if err := tx.SaveLetter(l, j.Now(), d.who(), "restored", d.Why); err != nil {
			return err
		}
		w, err := j.Open(tx, n, l.Tx)
		if err != nil {
			return err
		}
		return w.Settle()
	})
}

// Note keeps a note with dead letters.
func (j *Journal) Note(ctx context.Context, d Decision) error {
	if d.Why == "" {
		return fmt.Errorf("%w: the note says nothing", ErrDecision)
	}
	return j.each(ctx, Asked{What: AskNote, Decision: d}, nil, func(tx *store.Tx, _ *Notice, l *store.Letter) error {
		return tx.SaveLetter(l, j.Now(), d.who(), "noted", d.Why)
	})
}

// Assign says who looks after dead letters; "" for nobody.
func (j *Journal) Assign(ctx context.Context, d Decision, to string) error {
	return j.each(ctx, Asked{What: AskAssign, Decision: d, To: to}, nil, func(tx *store.Tx, _ *Notice, l *store.Letter) error {
		what := "given to " + to
		if to == "" {
			what = "given to nobody"
		}
		l.Assignee = to
		return tx.SaveLetter(l, j.Now(), d.who(), "assigned", what)
	})
}

// discardedFor says why a transaction ended that a person has given up: what they said, and
// what had failed.
func (w *Writing) discardedFor(l *store.Letter) string {
	history, err := w.Tx.History(l.ID)
	if err != nil {
		return "discarded: " + l.Reason
	}
	for i := len(history) - 1; i >= 0; i-- {
		if e := history[i]; e.What == "discarded" && e.Detail != "" {
			return "discarded: " + e.Detail + " (" + l.Reason + ")"
		}
	}
	return "discarded: " + l.Reason
}

// who says who decides.
func (d Decision) who() string {
	if d.By == "" {
		return Person
	}
	return d.By
}
