package lane

import (
	"context"
	"errors"
	"fmt"
	"time"

	"readyferry/connect"
	"readyferry/core/retry"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
	"readyferry/store/body"
)

// keptAnswer is how much of an answer is kept with its try, in bytes.
const keptAnswer = 64 << 10

// keepAll records what came of an attempt.
func (l *lane) keepAll(a *attempt, d *store.Delivery) {
	a.kept = body.Of(a.answer[:min(len(a.answer), keptAnswer)]).Packed()
	a.heard = store.Effect{
		Path:   d.Path,
		Result: want.EncodeAnswer(a.receipt.Status(), a.receipt.Headers),
		Body:   a.kept,
		OfTry:  len(a.answer) <= keptAnswer,
	}
	if !a.heard.OfTry { // the try has only some of it
		a.heard.Body = body.Of(a.answer).Packed()
	}
	for {
		err := l.record(a)
		if err == nil {
			return
		}
		// A full disk or a locked file: the outcome must not be lost while the
		// process lives, so that a delivered message is not sent again.
		l.Log.Error("recording a try", "delivery", d.ID, "error", err)
		select {
		case <-l.Life.Context().Done():
			return
		case <-time.After(time.Second):
		}
	}
}

// record stores a try. Where the message goes on because of it, the walk is
// worked out first and stored with it, when a place for that is free; else the
// try is stored at once and the message goes on behind it, so that a flow which
// computes at its limits keeps no outcome waiting.
func (l *lane) record(a *attempt) error {
	ctx := context.WithoutCancel(l.Life.Context())
	if a.receipt.Outcome == retry.Delivered && a.heard.OfTry && l.Ends(a.tx) {
		if err := l.end(ctx, a); !errors.Is(err, journal.ErrStale) {
			return err
		}
	}
	if a.receipt.Outcome == retry.Delivered && (l.Quick(a.tx) || !l.Busy(a.flow)) {
		err := l.walkOn(ctx, a)
		var refused *run.RefusedError
		if !errors.As(err, &refused) && journal.CannotGoOn(err) == nil {
			return err
		} // else its message or version can no longer be read, and what follows says so
	}
	return l.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		d, death, err := l.keep(tx, n, a)
		if err != nil || d == nil {
			return err
		}
		w, err := l.Open(tx, n, d.Tx)
		if err != nil {
			return err
		}
		return follow(w, a, d, death)
	})
}

// end stores a delivered try behind which nothing comes.
func (l *lane) end(ctx context.Context, a *attempt) error {
	return l.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		d, _, err := l.keep(tx, n, a)
		if err != nil || d == nil {
			return err
		}
		w, err := l.Open(tx, n, d.Tx)
		if err == nil {
			err = w.HearsLast(a.heard)
		}
		if err != nil {
			return err
		}
		return w.Settle()
	})
}

// walkOn stores a delivered try with the walk that follows from it.
func (l *lane) walkOn(ctx context.Context, a *attempt) error {
	return l.Do(ctx, a.flow, func(s *journal.Session) error {
		d, err := l.Store.Delivery(a.id)
		if err != nil {
			return err
		}
		if d.State != store.Pending { // withdrawn while the try was under way
			s.Then(func(tx *store.Tx, n *journal.Notice) error {
				_, _, err := l.keep(tx, n, a)
				return err
			})
			return nil
		}
		v, err := s.Read(a.tx)
		if err != nil {
			return err
		}
		v.Then(func(w *journal.Writing) error {
			kept, _, err := l.keep(w.Tx, w.Notice, a)
			if err == nil && kept == nil {
				return journal.ErrStale
			}
			return err
		})
		v.Prepared(a.heard, a.effect())
		_, err = v.Go()
		return err
	})
}

// effect is what a delivered message's step sees.
func (a *attempt) effect() want.Effect {
	return want.Effect{Status: a.receipt.Status(), Headers: a.receipt.Headers, Body: a.answer}
}

// keep stores a try and where its delivery stands behind it; d is nil where the
// delivery was withdrawn meanwhile, and death says why it is given up.
func (l *lane) keep(tx *store.Tx, n *journal.Notice, a *attempt) (kept *store.Delivery, death string, err error) {
	d, err := tx.Delivery(a.id)
	if err != nil {
		return nil, "", err
	}
	if d.State != store.Pending { // withdrawn while the try was under way: what it came to is kept all the same
		d.Total++
		return nil, "", errors.Join(a.store(tx, &d), tx.SaveDelivery(&d, l.Now()))
	}
	d.Tries++
	d.Total++
	if d.FirstAt == nil {
		d.FirstAt = &a.began
	}
	detail := a.detail()
	if err := a.store(tx, &d); err != nil {
		return nil, "", err
	}
	switch a.receipt.Outcome {
	case retry.Delivered:
		d.State, d.NextAt, d.NextWhy = store.Done, nil, ""
	case retry.Never:
		death = describe(d.Target, &a.receipt, detail)
	default:
		death = l.planNext(&d, a, detail)
	}
	if death != "" {
		d.State, d.NextAt, d.NextWhy = store.Dead, nil, ""
	}
	if d.OrderValue != "" {
		n.Targets[d.Target] = true // the next of the same order value may go
	}
	return &d, death, tx.SaveDelivery(&d, l.Now())
}

// detail says in words what came, where no status does.
func (a *attempt) detail() string {
	switch {
	case a.failed != nil:
		return a.failed.Error()
	case a.receipt.Words != "":
		return a.receipt.Words
	case a.receipt.Status() == 0:
		return a.receipt.Code
	}
	return ""
}

// store keeps the try.
func (a *attempt) store(tx *store.Tx, d *store.Delivery) error {
	headers := want.EncodeHeaders(a.receipt.Headers)
	return tx.AddTry(d, &store.Try{
		At: a.began, Took: a.took.Microseconds(), Outcome: string(a.receipt.Outcome), Status: a.receipt.Status(),
		Detail: a.detail(), Headers: headers, Body: a.kept,
	})
}

// planNext plans the next try, or says why there is none.
func (l *lane) planNext(d *store.Delivery, a *attempt, detail string) (death string) {
	now := l.Now()
	asked := a.receipt.After
	elapsed := max(now.Sub(*d.FirstAt), a.took)
	at, ok, why := a.rules.Next(journal.Seed(d.ID, d.Round), d.Tries, elapsed, asked)
	if !ok {
		return describe(d.Target, &a.receipt, detail) + ", " + why
	}
	next := d.FirstAt.Add(at + time.Microsecond - 1).Truncate(time.Microsecond) // as it stands in the file, never earlier
	d.NextAt, d.NextWhy, a.next = &next, "", &next
	if asked > 0 && at >= elapsed+asked {
		d.NextWhy = "as Retry-After asks"
	}
	return ""
}

// follow does what comes of a try that is stored without a walk.
func follow(w *journal.Writing, a *attempt, d *store.Delivery, death string) error {
	switch {
	case a.receipt.Outcome == retry.Delivered:
		if err := w.Hears(a.heard); err != nil {
			return err
		}
	case death != "" && d.Soft:
		given, err := journal.Prepare(d.Path, want.Effect{Status: a.receipt.Status(), Failed: death})
		if err != nil {
			return err
		}
		if err := w.Hears(given); err != nil {
			return err
		}
	case death != "":
		if err := w.Fails(step.Failure{Step: d.Step, Path: d.Path, Kind: "deliver", Phase: "delivery",
			Class: a.class(), Reason: death}); err != nil {
			return err
		}
	}
	return w.Settle()
}

// describe says in words why a try was not delivered.
func describe(target string, r *connect.Receipt, detail string) string {
	switch {
	case r.Words != "":
		return target + ": " + r.Words
	case r.Status() > 0:
		return fmt.Sprintf("%s answered %d", target, r.Status())
	case r.Code != "":
		return target + ": " + r.Code
	}
	return detail
}

// class says who can mend a delivery that ended: a target that calls the content
// wrong (RFC 9110, 15.5.1, 15.5.14, 15.5.21) points at the data, as does a database
// whose rules the values break.
func (a *attempt) class() step.Class {
	status := a.receipt.Status()
	if a.receipt.Outcome == retry.Never && (status == 400 || status == 413 || status == 422) ||
		errors.Is(a.failed, connect.ErrBadData) {
		return step.Data
	}
	return step.Target
}
