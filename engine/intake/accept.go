package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"readyferry/core/flow"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/journal"
	"readyferry/store"
)

// accept stores a message and gives what its caller gets. stored is called between the two.
func (t *taking) accept(ctx context.Context, stored func()) (*step.Answer, error) {
	t.envelope.ID = t.id.String()
	leave, err := t.Enter(ctx, t.envelope.Body)
	if err != nil {
		return nil, err
	}
	heard, forget := t.expect(t.id)
	defer forget()
	err = t.Do(ctx, t.in.Flow, t.take)
	leave()
	var refused *run.RefusedError
	switch {
	case errors.Is(err, journal.ErrSetAside):
		return t.setAside(err)
	case errors.As(err, &refused):
		return nil, t.undecodable(refused)
	case err != nil && ctx.Err() != nil:
		return nil, err
	case err != nil:
		// A full disk or a locked file: nothing is promised, and the caller is told to come again.
		t.Log.Error("storing a message", "flow", t.in.Flow, "error", err)
		return nil, &run.RefusedError{
			Status: 503,
			Title:  "The message was not stored",
			Detail: "nothing of it was kept; send it again later",
		}
	}
	stored()
	return t.answered(ctx, heard)
}

// adopt gives the message its body, where that stands in the file already.
func (t *taking) adopt(tx *store.Tx) error {
	if t.staged == nil {
		return nil
	}
	return tx.Adopt(t.staged)
}

// undecodable keeps a message that its intake cannot read, with its bytes and why: the
// caller is told, and a person can see what came.
func (t *taking) undecodable(refused *run.RefusedError) error {
	arrived, err := journal.NewTransaction(t.in.Flow, t.in.version, t.id, t.envelope, run.Received{}, t.source)
	if err == nil {
		now := t.Now()
		arrived.Tx.State, arrived.Tx.Unbegun, arrived.Tx.FinishedAt = store.TurnedAway, true, &now
		arrived.Tx.Reason = fmt.Sprintf("%d, %s: %s", refused.Status, refused.Title, refused.Detail)
		err = t.Write(context.WithoutCancel(t.Life.Taking()), func(tx *store.Tx, n *journal.Notice) error {
			n.Events[journal.EventTransactions] = true
			if err := t.adopt(tx); err != nil {
				return err
			}
			return tx.AddTransaction(&arrived.Tx, arrived.Message)
		})
	}
	if err != nil {
		t.Log.Error("keeping a message that cannot be read", "flow", t.in.Flow, "error", err)
		return refused
	}
	told := *refused
	told.Detail += "; what came is kept as transaction " + t.id.String()
	return &told
}

// setAside keeps a message that is not worked on any more, as a dead letter.
func (t *taking) setAside(why error) (*step.Answer, error) {
	arrived, err := journal.NewTransaction(t.in.Flow, t.in.version, t.id, t.envelope, run.Received{}, t.source)
	if err != nil {
		return nil, err
	}
	err = t.Write(context.WithoutCancel(t.Life.Taking()), func(tx *store.Tx, n *journal.Notice) error {
		if err := t.adopt(tx); err != nil {
			return err
		}
		return t.DeadOnArrival(tx, n, &arrived.Tx, arrived.Message, journal.SetAside(why))
	})
	return run.StoredAnswer(t.id.String()), err
}

// taking is a call that is taken in.
type taking struct {
	*Intakes
	in       *Intake
	id       store.ID
	envelope run.Envelope
	source   string
	called   string        // the id by which its system tells it from others; "" for none
	staged   *store.Staged // its body, where that stands in the file already
	read     *run.Received // what was read of it already; nil: nothing

	duplicate *store.ID
	answer    *step.Answer // what a step says before the first delivery; nil for none
}

// take works the message out as far as it goes before its caller is answered:
// what is inside the application is done by then.
func (t *taking) take(s *journal.Session) error {
	if err := s.Computes(t.in.Flow, t.envelope.Body); err != nil {
		return err
	}
	received, err := t.received()
	if err == nil && t.in.trial.Takes(received.Order, t.id.String()) {
		own := *t.in
		own.version, own.plan, own.trial = own.trial.Version, own.trial.Plan, nil
		t.in = &own
		received, err = run.Receive(t.in.plan, t.envelope)
	}
	if err != nil {
		return err
	}
	arrived, err := journal.NewTransaction(t.in.Flow, t.in.version, t.id, t.envelope, received, t.source)
	if err != nil {
		return err
	}
	arrived.Called(t.called)
	if t.staged != nil {
		s.Then(func(tx *store.Tx, _ *journal.Notice) error { return t.adopt(tx) })
	}
	if t.duplicate, err = s.Once(t.in.plan, arrived); t.duplicate != nil || err != nil {
		return err
	}
	last, err := s.Begin(arrived, t.in.plan)
	if err != nil {
		return err
	}
	if t.answer = last.Answer; t.answer != nil {
		arrived.Message.Answer, err = json.Marshal(t.answer)
	} // else it is that it is stored, which need not be kept
	return err
}

// received reads the message, where it was not read before.
func (t *taking) received() (run.Received, error) {
	if read := t.read; read != nil {
		t.read = nil
		return *read, nil
	}
	return run.Receive(t.in.plan, t.envelope)
}

func (t *taking) finished() bool { return t.in.plan.Document.Intake.Finished }

// answered gives what the caller gets, now that the message is on disk.
func (t *taking) answered(ctx context.Context, heard <-chan *step.Answer) (*step.Answer, error) {
	wait := t.in.plan.Document.Intake.Wait
	if t.duplicate != nil && t.finished() && t.in.plan.Rules >= flow.Rules2 {
		a, err := t.finishedBefore(ctx, *t.duplicate, wait)
		if first, bad := t.Store.Transaction(*t.duplicate); bad == nil && first.State == store.DeadLetter {
			return nil, &run.RefusedError{
				Status: 503,
				Title:  "The first message waits for a person",
				Detail: fmt.Sprintf("the same message came before as transaction %s, which is a dead letter now; "+
					"it may be mended, so ask again later", first.ID),
			}
		}
		return a, err
	}
	switch {
	case t.duplicate != nil && t.finished():
		return t.finishedBefore(ctx, *t.duplicate, wait)
	case t.duplicate != nil:
		a, err := t.Given(*t.duplicate)
		if errors.Is(err, store.ErrNotFound) { // the first one is not kept any longer
			return run.StoredAnswer(t.duplicate.String()), nil
		}
		return a, err
	case t.answer != nil:
		return t.answer, nil
	case t.finished():
		return t.waitFor(ctx, t.id, heard, wait)
	}
	return run.StoredAnswer(t.id.String()), nil
}

// finishedBefore gives a repeat the answer of the first one, also when that is
// not finished yet.
func (k *Intakes) finishedBefore(ctx context.Context, id store.ID, wait time.Duration) (*step.Answer, error) {
	heard, forget := k.expect(id)
	defer forget()
	m, err := k.Store.FirstMessage(id)
	if err != nil || len(m.Answer) > 0 {
		return k.Given(id)
	}
	if t, err := k.Store.Transaction(id); err != nil || t.State == store.DeadLetter {
		return k.Given(id) // no end is in sight
	}
	return k.waitFor(ctx, id, heard, wait)
}
