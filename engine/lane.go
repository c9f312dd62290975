package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"readyferry/connect"
	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/store"
)

// keptAnswer is how much of an answer is kept with its try, in bytes.
const keptAnswer = 64 << 10

// A lane sends the deliveries of one target. Each target has its own, so a
// slow one slows only itself.
type lane struct {
	e      *Engine
	target string
	wake   chan struct{}

	// Only the lane's own goroutine touches these.
	running map[store.ID]bool
	ended   chan ended
	again   int       // "again" outcomes in a row
	probeAt time.Time // while the breaker is open: when the next probe may go
	slotAt  time.Time // when the next try may begin under the limit per second
}

type ended struct {
	id      store.ID
	outcome retry.Outcome
}

func (e *Engine) wakeLane(target string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.ctx.Err() != nil {
		return
	}
	l := e.lanes[target]
	if l == nil {
		l = &lane{e: e, target: target, wake: make(chan struct{}, 1), running: map[store.ID]bool{}, ended: make(chan ended, 64)}
		e.lanes[target] = l
		e.work.Go(l.run)
	}
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// idle is how long a lane sleeps at most; it guards against a clock that jumps.
const idle = 15 * time.Second

func (l *lane) run() {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-l.e.ctx.Done():
			for len(l.running) > 0 {
				delete(l.running, (<-l.ended).id)
			}
			return
		case r := <-l.ended:
			delete(l.running, r.id)
			l.judge(r.outcome)
		case <-l.wake:
		case <-timer.C:
		}
		wait, err := l.launch()
		if err != nil && l.e.ctx.Err() == nil {
			l.e.log.Error("looking for due deliveries", "target", l.target, "error", err)
			wait = time.Second
		}
		timer.Reset(min(wait, idle))
	}
}

// judge keeps the breaker: after Trip "again" outcomes in a row it opens, and
// one delivered or refused try closes it.
func (l *lane) judge(o retry.Outcome) {
	if o == retry.Again {
		l.again++
	} else if o != "" {
		l.again = 0
	}
	if c := l.e.connection(l.target); c != nil && c.Trip > 0 && l.again >= c.Trip {
		l.probeAt = l.e.clock().Add(c.Probe)
	} else {
		l.probeAt = time.Time{}
	}
}

// launch starts what is due, within the connection's limits, and says how long
// there is nothing to do.
func (l *lane) launch() (time.Duration, error) {
	limit, perSecond := 8, 0.0
	if c := l.e.connection(l.target); c != nil {
		limit, perSecond = c.InFlight, c.PerSecond
	}
	now := l.e.clock()
	if !l.probeAt.IsZero() {
		if now.Before(l.probeAt) {
			return l.probeAt.Sub(now), nil
		}
		limit = 1
	}
	free := limit - len(l.running)
	if free <= 0 {
		return idle, nil // the end of a try wakes the lane
	}
	if perSecond > 0 && now.Before(l.slotAt) {
		return l.slotAt.Sub(now), nil
	}
	due, err := l.e.store.Due(l.target, now, free+len(l.running))
	if err != nil {
		return 0, err
	}
	for i := range due {
		if free == 0 || l.running[due[i].ID] {
			continue
		}
		free--
		l.running[due[i].ID] = true
		d := due[i]
		l.e.work.Go(func() {
			l.ended <- ended{d.ID, l.e.try(&d)}
		})
		if perSecond > 0 {
			gap := time.Duration(float64(time.Second) / perSecond)
			if l.slotAt.Before(now) {
				l.slotAt = now
			}
			if l.slotAt = l.slotAt.Add(gap); l.slotAt.After(now) {
				return l.slotAt.Sub(now), nil
			}
		}
	}
	if free == 0 {
		return idle, nil
	}
	return l.untilNext(now)
}

func (l *lane) untilNext(now time.Time) (time.Duration, error) {
	if len(l.running) > 0 { // those under way are due still; their end wakes the lane
		due, err := l.e.store.After(l.target, now)
		if err != nil || due == nil {
			return idle, err
		}
		return max(due.Sub(now), time.Millisecond), nil
	}
	at, ok, err := l.e.store.NextDue(l.target)
	if err != nil || !ok {
		return idle, err
	}
	return max(at.Sub(now), time.Millisecond), nil
}

// try makes one attempt and records what came of it.
func (e *Engine) try(d *store.Delivery) retry.Outcome {
	var rules retry.Plan
	req := connect.Request{ID: d.ID.String()}
	err := errors.Join(json.Unmarshal(d.Plan, &rules), json.Unmarshal(d.Request, &req.Request))
	began, clock := e.clock(), time.Now()
	var answer connect.Answer
	if err != nil {
		err = fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	} else if c := e.connection(d.Target); c == nil || (c.Kind == connect.KindSQL) != (req.Query != nil) || c.Kind == connect.KindCaller {
		err = fmt.Errorf("there is no connection named %s that can be asked this", d.Target)
	} else {
		answer, err = e.sender.Send(e.ctx, c, req)
	}
	if err != nil && errors.Is(err, context.Canceled) && e.ctx.Err() != nil {
		return "" // the application stops: this try begins anew after the next start
	}
	took := time.Since(clock)
	outcome := retry.Again
	switch {
	case errors.Is(err, connect.ErrCannotSend):
		outcome = retry.Never
	case err == nil:
		outcome = rules.Classify(answer.Status)
	}
	for {
		after := newAftermath()
		writeErr := e.store.Write(context.WithoutCancel(e.ctx), func(tx *store.Tx) error {
			*after = *newAftermath()
			return e.record(tx, d.ID, rules, outcome, answer, err, began, took, after)
		})
		if writeErr == nil {
			e.after(after)
			return outcome
		}
		// A full disk or a locked file: the outcome must not be lost while the
		// process lives, so that a delivered message is not sent again.
		e.log.Error("recording a try", "delivery", d.ID, "error", writeErr)
		select {
		case <-e.ctx.Done():
			return ""
		case <-time.After(time.Second):
		}
	}
}

// record stores a try and what follows from it.
func (e *Engine) record(tx *store.Tx, id store.ID, rules retry.Plan, outcome retry.Outcome, answer connect.Answer, failed error, began time.Time, took time.Duration, after *aftermath) error {
	d, err := tx.Delivery(id)
	if err != nil {
		return err
	}
	if d.State != store.Pending {
		return nil // withdrawn while the try was under way
	}
	d.Tries++
	d.Total++
	if d.FirstAt == nil {
		d.FirstAt = &began
	}
	detail := ""
	if failed != nil {
		detail = failed.Error()
	}
	headers, err := json.Marshal(answer.Headers)
	if err != nil {
		return err
	}
	if err := tx.AddTry(&store.Try{
		Delivery: id, N: d.Total, Round: d.Round, At: began, Took: took.Microseconds(), Outcome: string(outcome),
		Status: answer.Status, Detail: detail, Headers: headers, Body: answer.Body[:min(len(answer.Body), keptAnswer)],
	}); err != nil {
		return err
	}
	w, err := e.load(tx, d.Tx, after)
	if err != nil {
		return err
	}
	now := e.clock()
	death := ""
	switch outcome {
	case retry.Delivered:
		d.State, d.NextAt, d.NextWhy = store.Done, nil, ""
	case retry.Never:
		death = describe(d.Target, answer.Status, detail)
	default:
		asked, _ := retry.RetryAfter(header(answer, "Retry-After"), now)
		elapsed := max(now.Sub(*d.FirstAt), took)
		at, ok, why := rules.Next(Seed(d.ID, d.Round), d.Tries, elapsed, asked)
		if !ok {
			death = describe(d.Target, answer.Status, detail) + ", " + why
			break
		}
		next := d.FirstAt.Add(at)
		d.NextAt, d.NextWhy = &next, ""
		if asked > 0 && at >= elapsed+asked {
			d.NextWhy = "as Retry-After asks"
		}
	}
	if death != "" {
		d.State, d.NextAt, d.NextWhy = store.Dead, nil, ""
	}
	if err := tx.SaveDelivery(&d, now); err != nil {
		return err
	}
	if d.OrderValue != "" {
		after.targets[d.Target] = true // the next of the same order value may go
	}
	if outcome == retry.Delivered {
		if err := w.record(d.Path, step.Effect{Status: answer.Status, Headers: answer.Headers, Body: answer.Body}); err != nil {
			return err
		}
		_, err := w.advance(nil)
		return err
	}
	if death != "" && d.Soft {
		if err := w.record(d.Path, step.Effect{Status: answer.Status, Failed: death}); err != nil {
			return err
		}
		_, err := w.advance(nil)
		return err
	}
	if death != "" {
		old, err := tx.LettersOf(d.Tx)
		if err != nil {
			return err
		}
		if err := w.die(old, step.Failure{Step: d.Step, Path: d.Path, Kind: "deliver", Phase: "delivery", Class: classOf(outcome, answer.Status), Reason: death}); err != nil {
			return err
		}
	}
	rows, err := tx.Deliveries(d.Tx)
	if err != nil {
		return err
	}
	return w.settle(nil, pointersTo(rows))
}

// Seed gives the seed of a delivery's schedule: each round of tries has its
// own spread, the same on every replay.
func Seed(id store.ID, round int) []byte { return append(id[:], byte(round)) }

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

// TryNow moves the next try of a waiting delivery to now.
func (e *Engine) TryNow(ctx context.Context, id store.ID) error {
	after := newAftermath()
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		d, err := tx.Delivery(id)
		if err != nil {
			return err
		}
		if d.State != store.Pending {
			return fmt.Errorf("%w: the delivery does not wait for a try", ErrConflict)
		}
		now := e.clock()
		d.NextAt, d.NextWhy = &now, "asked for by a person"
		after.targets[d.Target] = true
		after.events[TopicTransactions] = true
		return tx.SaveDelivery(&d, now)
	})
	if err == nil {
		e.after(after)
	}
	return err
}
