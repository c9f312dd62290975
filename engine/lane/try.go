package lane

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime/debug"
	"time"

	"readyferry/connect"
	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/core/trace"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
	"readyferry/store/body"
)

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
		return errors.Join(a.store(tx, &d), tx.SaveDelivery(&d, l.Now()))
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
	if !errors.Is(a.failed, connect.ErrCannotSend) {
		good := a.failed == nil && a.receipt.Outcome == retry.Delivered
		l.links.Pulses.Tried(d.Target, good, a.took, l.Now())
	}
	switch {
	case errors.Is(a.failed, connect.ErrCannotSend):
		a.receipt = connect.Receipt{Outcome: retry.Never}
	case a.failed != nil:
		a.receipt = connect.Receipt{Outcome: retry.Again} // the outcome is not known
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
		a.rules, _ = retry.Decode(d.Plan)
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
		tagged(&r, d)
		return r, nil
	}
	var err error
	a.rules, err = retry.Decode(d.Plan)
	if err = errors.Join(err, json.Unmarshal(d.Request, &r.Request)); err != nil {
		return r, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	tagged(&r, d)
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

// tagged tells a system by which key it knows a repeat, and which trace the request belongs
// to: the span is the delivery, so that its tries are one.
func tagged(r *connect.Request, d *store.Delivery) {
	if r.Key != "" {
		r.ID = r.Key
	}
	id, span := trace.ID(d.Tx), [8]byte(d.ID[8:])
	if r.Trace != "" {
		_, _ = hex.Decode(id[:], []byte(r.Trace)) // the journal has written it
	}
	r.TraceParent = trace.Write(id, span)
}
