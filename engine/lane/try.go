package lane

import (
	"context"
	"encoding/json"
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

// attempt is one try and what it came to.
type attempt struct {
	id      store.ID // of the delivery
	tx      store.ID
	flow    string
	rules   retry.Plan
	outcome retry.Outcome
	answer  connect.Answer
	kept    body.Body    // what is kept of the answer with the try
	heard   store.Effect // what the message's step sees of a delivered one
	failed  error        // why there is no answer
	began   time.Time
	took    time.Duration
}

// try makes one attempt and records what came of it.
func (l *lane) try(d *store.Delivery) retry.Outcome {
	a := &attempt{id: d.ID, tx: d.Tx, flow: d.Flow, began: l.Now(), outcome: retry.Again}
	clock := time.Now()
	a.answer, a.failed = l.send(d, a)
	if errors.Is(a.failed, context.Canceled) && l.Life.Over() {
		return "" // the application stops: this try begins anew after the next start
	}
	a.took = time.Since(clock)
	a.kept = body.Of(a.answer.Body[:min(len(a.answer.Body), keptAnswer)]).Packed()
	switch {
	case errors.Is(a.failed, connect.ErrCannotSend):
		a.outcome = retry.Never
	case a.failed == nil:
		a.outcome = a.rules.Classify(a.answer.Status)
	}
	var err error
	if a.heard, err = journal.Prepare(d.Path, a.effect()); err != nil {
		l.Log.Error("keeping an answer", "delivery", d.ID, "error", err)
	}
	for {
		err := l.record(a)
		if err == nil {
			return a.outcome
		}
		// A full disk or a locked file: the outcome must not be lost while the
		// process lives, so that a delivered message is not sent again.
		l.Log.Error("recording a try", "delivery", d.ID, "error", err)
		select {
		case <-l.Life.Context().Done():
			return ""
		case <-time.After(time.Second):
		}
	}
}

func (l *lane) send(d *store.Delivery, a *attempt) (connect.Answer, error) {
	r := connect.Request{ID: d.ID.String()}
	if err := errors.Join(json.Unmarshal(d.Plan, &a.rules), json.Unmarshal(d.Request, &r.Request)); err != nil {
		return connect.Answer{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	if err := l.Store.Fill(&d.Body); err != nil {
		return connect.Answer{}, fmt.Errorf("the body of the request: %w", err)
	}
	r.Body = d.Body.Bytes()
	c := l.Catalog.Connection(d.Target)
	if c == nil || (c.Kind == connect.KindSQL) != (r.Query != nil) || c.Kind == connect.KindCaller {
		return connect.Answer{}, fmt.Errorf("there is no connection named %s that can be asked this", d.Target)
	}
	return l.sender.Send(l.Life.Context(), c, r)
}

// record stores a try. Where the message goes on because of it, the walk is
// worked out first and stored with it, when a place for that is free; else the
// try is stored at once and the message goes on behind it, so that a flow which
// computes at its limits keeps no outcome waiting.
func (l *lane) record(a *attempt) error {
	ctx := context.WithoutCancel(l.Life.Context())
	if a.outcome == retry.Delivered && !l.Busy(a.flow) {
		err := l.walkOn(ctx, a)
		var refused *run.RefusedError
		if !errors.As(err, &refused) { // else its message can no longer be read, and what follows says so
			return err
		}
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

// walkOn stores a delivered try with the walk that follows from it.
func (l *lane) walkOn(ctx context.Context, a *attempt) error {
	return l.Do(ctx, a.flow, func(s *journal.Session) error {
		d, err := l.Store.Delivery(a.id)
		if err != nil {
			return err
		}
		if d.State != store.Pending {
			return nil // withdrawn while the try was under way
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
		v.Effect(d.Path, a.effect())
		_, err = v.Go()
		return err
	})
}

// effect is what a delivered message's step sees.
func (a *attempt) effect() want.Effect {
	return want.Effect{Status: a.answer.Status, Headers: a.answer.Headers, Body: a.answer.Body}
}

// keep stores a try and where its delivery stands behind it; d is nil where the
// delivery was withdrawn meanwhile, and death says why it is given up.
func (l *lane) keep(tx *store.Tx, n *journal.Notice, a *attempt) (kept *store.Delivery, death string, err error) {
	d, err := tx.Delivery(a.id)
	if err != nil || d.State != store.Pending {
		return nil, "", err
	}
	d.Tries++
	d.Total++
	if d.FirstAt == nil {
		d.FirstAt = &a.began
	}
	detail := ""
	if a.failed != nil {
		detail = a.failed.Error()
	}
	headers, err := json.Marshal(a.answer.Headers)
	if err != nil {
		return nil, "", err
	}
	if err := tx.AddTry(&store.Try{
		Delivery: a.id, N: d.Total, Round: d.Round, At: a.began, Took: a.took.Microseconds(), Outcome: string(a.outcome),
		Status: a.answer.Status, Detail: detail, Headers: headers, Body: a.kept,
	}); err != nil {
		return nil, "", err
	}
	switch a.outcome {
	case retry.Delivered:
		d.State, d.NextAt, d.NextWhy = store.Done, nil, ""
	case retry.Never:
		death = describe(d.Target, a.answer.Status, detail)
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

// planNext plans the next try, or says why there is none.
func (l *lane) planNext(d *store.Delivery, a *attempt, detail string) (death string) {
	now := l.Now()
	asked, _ := retry.RetryAfter(header(a.answer, "Retry-After"), now)
	elapsed := max(now.Sub(*d.FirstAt), a.took)
	at, ok, why := a.rules.Next(journal.Seed(d.ID, d.Round), d.Tries, elapsed, asked)
	if !ok {
		return describe(d.Target, a.answer.Status, detail) + ", " + why
	}
	next := d.FirstAt.Add(at)
	d.NextAt, d.NextWhy = &next, ""
	if asked > 0 && at >= elapsed+asked {
		d.NextWhy = "as Retry-After asks"
	}
	return ""
}

// follow does what comes of a try that is stored without a walk.
func follow(w *journal.Writing, a *attempt, d *store.Delivery, death string) error {
	switch {
	case a.outcome == retry.Delivered:
		if err := w.Hears(a.heard); err != nil {
			return err
		}
	case death != "" && d.Soft:
		given, err := journal.Prepare(d.Path, want.Effect{Status: a.answer.Status, Failed: death})
		if err != nil {
			return err
		}
		if err := w.Hears(given); err != nil {
			return err
		}
	case death != "":
		if err := w.Fails(step.Failure{Step: d.Step, Path: d.Path, Kind: "deliver", Phase: "delivery", Class: classOf(a.outcome, a.answer.Status), Reason: death}); err != nil {
			return err
		}
	}
	return w.Settle()
}

func describe(target string, status int, detail string) string {
	if status > 0 {
		return fmt.Sprintf("%s answered %d", target, status)
	}
	return detail
}

// classOf says who can mend a delivery that ended: a target that calls the
// content wrong (RFC 9110, 15.5.1, 15.5.14, 15.5.21) points at the data.
func classOf(o retry.Outcome, status int) step.Class {
	if o == retry.Never && (status == 400 || status == 413 || status == 422) {
		return step.Data
	}
	return step.Target
}

func header(a connect.Answer, name string) string {
	for _, h := range a.Headers {
		if h.Name == name {
			return h.Value
		}
	}
	return ""
}
