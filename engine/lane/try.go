package lane

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime/debug"
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
	receipt connect.Receipt
	answer  []byte
	kept    body.Body    // what is kept of the answer with the try
	heard   store.Effect // what the message's step sees of a delivered one
	failed  error        // why there is no receipt
	began   time.Time
	took    time.Duration
	next    *time.Time // when it is tried again
	handed  *want.Request
}

// try makes one attempt and records what came of it. answered is called in between, once
// the target is free again; next is when it is tried again, nil for never.
func (l *lane) try(r *journal.Ready, answered func(retry.Outcome)) (next *time.Time) {
	d, err := l.Store.Delivery(r.ID)
	if err != nil {
		answered("")
		l.Log.Error("reading a delivery", "delivery", r.ID, "error", err)
		soon := l.Now().Add(time.Second)
		return &soon
	}
	began := l.Now()
	if d.State != store.Pending || d.NextAt == nil || d.NextAt.After(began) {
		answered("")
		return d.NextAt // it was withdrawn, or put off
	}
	a := &attempt{id: d.ID, tx: d.Tx, flow: d.Flow, began: began}
	if d.Total == 0 { // else it may be another one by now
		a.rules, a.handed = r.Rules, r.Request
	}
	a.outcome(l, &d)
	answered(a.receipt.Outcome)
	if a.receipt.Outcome == "" {
		l.cutOff(a)
		return nil
	}
	l.keepAll(a, &d)
	return a.next
}

// cutOff notes that the application stopped before a try had come to its end: whether it has
// come there, only its target knows. It counts as none of the plan, and the next one has the
// same key.
func (l *lane) cutOff(a *attempt) {
	a.receipt.Outcome, a.failed = store.Unknown, errors.New("the application stopped before it had come to its end")
	err := l.Write(context.WithoutCancel(l.Life.Context()), func(tx *store.Tx, _ *journal.Notice) error {
		d, err := tx.Delivery(a.id)
		if err != nil {
			return err
		}
		d.Total++
		return errors.Join(a.store(tx, d.Total, d.Round), tx.SaveDelivery(&d, l.Now()))
	})
	if err != nil {
		l.Log.Error("noting a try that was cut off", "delivery", a.id, "error", err)
	}
}

// outcome makes the attempt; it has none where the application stops.
func (a *attempt) outcome(l *lane, d *store.Delivery) {
	clock := time.Now()
	l.within(d, a)
	if errors.Is(a.failed, context.Canceled) && l.Life.Over() {
		a.receipt, a.took = connect.Receipt{}, time.Since(clock)
		return
	}
	a.took = time.Since(clock)
	l.feel(d.Target, a)
	switch {
	case errors.Is(a.failed, connect.ErrCannotSend):
		a.receipt = connect.Receipt{Outcome: retry.Never}
	case a.failed != nil:
		a.receipt = connect.Receipt{Outcome: retry.Again} // the outcome is not known
	}
}

// keepAll records what came of an attempt.
func (l *lane) keepAll(a *attempt, d *store.Delivery) {
	a.kept = body.Of(a.answer[:min(len(a.answer), keptAnswer)]).Packed()
	a.heard = store.Effect{Path: d.Path, Body: a.kept}
	a.heard.OfTry = len(a.answer) <= keptAnswer // else the try has only some of it
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

// feel tells how the connection is by what a try came to. What is at fault in the
// message says nothing of it, and that it answers at all says that it works.
func (l *lane) feel(target string, a *attempt) {
	pulses, now := &l.links.Pulses, l.Now()
	switch {
	case errors.Is(a.failed, connect.ErrCannotSend):
	case a.failed != nil:
		pulses.Failed(target, connect.Outward, a.failed.Error(), false, now)
	case a.receipt.Outcome == retry.Delivered:
		pulses.Through(target, connect.Outward, 1, now)
	case a.class() == step.Data:
		pulses.Works(target, connect.Outward, now)
	default:
		pulses.Failed(target, connect.Outward, describe(target, &a.receipt, a.detail()), true, now)
	}
}

// overrun is how much longer than its time limit a try may take until it counts as
// ended without an answer, whatever its system still does.
const overrun = 5 * time.Second

// within makes the try, and gives up on a system that does not end with the try's
// time: its slot is needed, and the application must be able to stop.
func (l *lane) within(d *store.Delivery, a *attempt) {
	limit := time.Minute
	if c := l.Catalog.Connection(d.Target); c != nil {
		limit = c.TimeLimit
	}
	type came struct {
		receipt connect.Receipt
		answer  []byte
		rules   retry.Plan
		err     error
	}
	done := make(chan came, 1)
	own, handed := *a, *d // a try that does not end keeps nothing that others look at
	l.Lanes.hands.do(func() {
		var c came
		defer func() {
			if r := recover(); r != nil {
				l.Log.Error("a try panicked", "delivery", d.ID, "panic", r, "stack", string(debug.Stack()))
				done <- came{rules: own.rules, err: fmt.Errorf("%w: the application failed over it: %v", connect.ErrCannotSend, r)}
			}
		}()
		if c.receipt, c.err = l.send(&handed, &own); c.err == nil {
			c.answer, c.err = c.receipt.Body()
		}
		c.rules = own.rules
		done <- c
	})
	timer := time.NewTimer(limit + overrun)
	defer timer.Stop()
	select {
	case c := <-done:
		a.receipt, a.answer, a.rules, a.failed = c.receipt, c.answer, c.rules, c.err
	case <-timer.C:
		_ = json.Unmarshal(d.Plan, &a.rules)
		a.failed = fmt.Errorf("%s did not end the try within %s", d.Target, limit)
	case <-l.Life.Context().Done():
		select { // what has just come in is not thrown away
		case c := <-done:
			a.receipt, a.answer, a.rules, a.failed = c.receipt, c.answer, c.rules, c.err
		case <-time.After(overrun / 5):
			a.failed = context.Canceled
		}
	}
}

// send hands the request to the link of its connection.
func (l *lane) send(d *store.Delivery, a *attempt) (connect.Receipt, error) {
	c := l.Catalog.Connection(d.Target)
	if c == nil {
		return connect.Receipt{}, fmt.Errorf("there is no connection named %s that can be asked this", d.Target)
	}
	link, err := l.links.Link(l.Life.Context(), c)
	if err != nil {
		return connect.Receipt{}, err
	}
	streamer, streams := link.(connect.Streamer)
	r, err := l.request(d, a, streams && streamer.Streams())
	if err != nil {
		return connect.Receipt{}, err
	}
	asks := r.Query != nil || r.Ask
	if sender, ok := link.(connect.Sender); ok && !asks {
		return sender.Send(l.Life.Context(), r)
	}
	if asker, ok := link.(connect.Asker); ok && asks {
		return asker.Ask(l.Life.Context(), r)
	}
	return connect.Receipt{}, fmt.Errorf("there is no connection named %s that can be asked this", d.Target)
}

// request gives what a try hands over.
func (l *lane) request(d *store.Delivery, a *attempt, streams bool) (connect.Request, error) {
	r := connect.Request{ID: d.ID.String()}
	if a.handed != nil {
		r.Request, r.Rules = *a.handed, a.rules
		return r, nil
	}
	if err := errors.Join(json.Unmarshal(d.Plan, &a.rules), json.Unmarshal(d.Request, &r.Request)); err != nil {
		return r, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	if streams && !d.Body.Filled() && d.Body.Size() > journal.Large {
		r.Rules, r.Size = a.rules, d.Body.Size()
		r.Content = func() (io.ReadCloser, error) { return l.Store.OpenBodyOf(d.Tx, &d.Body) }
		return r, nil
	}
	if err := l.Store.FillOf(d.Tx, &d.Body); err != nil {
		return r, fmt.Errorf("the body of the request: %w", err)
	}
	r.Body, r.Rules = d.Body.Bytes(), a.rules
	return r, nil
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
	if a.heard.Result == nil { // of one behind which nothing comes, the try says it all
		ofTry := a.heard.OfTry
		var err error
		if a.heard, err = journal.Prepare(a.heard.Path, a.effect()); err != nil {
			return err
		}
		a.heard.OfTry = ofTry
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
		return nil, "", errors.Join(a.store(tx, d.Total, d.Round), tx.SaveDelivery(&d, l.Now()))
	}
	d.Tries++
	d.Total++
	if d.FirstAt == nil {
		d.FirstAt = &a.began
	}
	detail := a.detail()
	if err := a.store(tx, d.Total, d.Round); err != nil {
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
func (a *attempt) store(tx *store.Tx, n, round int) error {
	headers := want.EncodeHeaders(a.receipt.Headers)
	return tx.AddTry(&store.Try{
		Delivery: a.id, N: n, Round: round, At: a.began, Took: a.took.Microseconds(),
		Outcome: string(a.receipt.Outcome),
		Status:  a.receipt.Status(), Detail: a.detail(), Headers: headers, Body: a.kept,
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
	next := d.FirstAt.Add(at + time.Microsecond - 1).
		Truncate(time.Microsecond)
		// as it stands in the file, never earlier
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
