package lane

import (
	"context"
	"fmt"
	"time"

	"readyferry/connect"
	"readyferry/core/step"
	"readyferry/core/system"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Standing is how a lane stands at a moment.
type Standing struct {
	InFlight int
	Failures int       // "again" outcomes in a row
	ProbeAt  time.Time // while the breaker is open: when the next probe may go; else zero
	Held     *store.Hold
	Calendar string    // that holds it now, or ""
	Until    time.Time // when that is over
	// Runner is the one by which it is reached, where that is away; AwaySince is since when, zero
	// where it was not there since the start.
	Runner    string
	AwaySince time.Time
}

// stand notes how the lane stands, for those who look on. Only the lane's goroutine calls it.
func (l *lane) stand() {
	at, _ := l.gate.Open()
	l.stands.Store(&Standing{InFlight: len(l.running), Failures: l.gate.Failures(), ProbeAt: at})
}

// Standing tells how the lane of a target stands.
func (l *Lanes) Standing(target string) (out Standing) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if one := l.lanes[target]; one != nil {
		if s := one.stands.Load(); s != nil {
			out = *s
		}
	}
	if h, held := l.held[target]; held {
		out.Held = &h
	}
	for _, of := range l.others {
		out.with(of[target])
	}
	out.Calendar, out.Until = l.calendarHolds(target, l.Now())
	out.Runner, out.AwaySince = l.runnerAway(target)
	return out
}

// with adds how the lane of another partition stands.
func (s *Standing) with(o Standing) {
	s.InFlight, s.Failures = s.InFlight+o.InFlight, max(s.Failures, o.Failures)
	if o.ProbeAt.After(s.ProbeAt) {
		s.ProbeAt = o.ProbeAt
	}
}

// Hear takes in how the lanes of another partition stand, by target.
func (l *Lanes) Hear(partition int, all map[string]Standing) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.others == nil {
		l.others = map[int]map[string]Standing{}
	}
	l.others[partition] = all
}

// runnerAway gives the runner by which a target is reached, where that is away; "" where it is
// there, or none is needed.
func (l *Lanes) runnerAway(target string) (runner string, since time.Time) {
	conn := l.Catalog.Connection(target)
	if conn == nil || conn.At == "" || l.Away == nil {
		return "", since
	}
	since, away := l.Away(conn.At)
	if !away {
		return "", since
	}
	return conn.At, since
}

// RunnerChanged lets what waits for a runner go on, or notes that it waits.
func (l *Lanes) RunnerChanged(runner string) {
	now := l.Now()
	for _, c := range append(l.Catalog.Connections(), l.Catalog.Connection(system.AtRunner(runner))) {
		if c.At != runner {
			continue
		}
		if _, away := l.Away(runner); away {
			l.links.Pulses.Failed(c.Name, connect.Outward, "the runner "+runner+" is away", false, now)
		} else {
			l.links.Pulses.Unsure(c.Name, connect.Outward, "the runner "+runner+" is there", now)
		}
		l.wake(c.Name)
	}
	l.Announce(journal.EventTransactions, journal.EventConnections)
}

// IsHeld tells whether a person or a calendar holds a target now.
func (l *Lanes) IsHeld(target string) bool {
	_, held := l.heldUntil(target, l.Now())
	return held
}

// heldUntil tells whether nothing goes to a target for now, and until when; zero where a person
// holds it.
func (l *Lanes) heldUntil(target string, now time.Time) (until time.Time, held bool) {
	l.mu.Lock()
	_, held = l.held[target]
	l.mu.Unlock()
	if held {
		return time.Time{}, true
	}
	if runner, _ := l.runnerAway(target); runner != "" {
		return time.Time{}, true // its coming wakes the lane
	}
	name, until := l.calendarHolds(target, now)
	return until, name != ""
}

// calendarHolds gives the calendar by which a connection is held at a moment, and until when.
func (l *Lanes) calendarHolds(target string, now time.Time) (name string, until time.Time) {
	conn := l.Catalog.Connection(target)
	if conn == nil || conn.HeldDuring == "" {
		return "", until
	}
	c := l.Catalog.Calendar(conn.HeldDuring)
	if c == nil || !c.Covers(now) {
		return "", until
	}
	if until = c.NextEnd(now); until.IsZero() { // it covers all time
		until = now.Add(24 * time.Hour)
	}
	return conn.HeldDuring, until
}

// Hold keeps all deliveries to a target waiting, for maintenance, until Release. Tries under
// way come to their end; it holds over restarts.
func (l *Lanes) Hold(ctx context.Context, h store.Hold) error {
	if l.Catalog.Connection(h.Target) == nil {
		return journal.ErrNotFound
	}
	h.Since = l.Now()
	err := l.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		n.Events[journal.EventTransactions] = true
		return tx.SaveHold(&h)
	})
	if err == nil {
		l.mu.Lock()
		l.held[h.Target] = h
		l.mu.Unlock()
	}
	return err
}

// Release lets deliveries to a target go again.
func (l *Lanes) Release(ctx context.Context, target string) error {
	err := l.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		n.Events[journal.EventTransactions] = true
		return tx.DropHold(target)
	})
	if err == nil {
		l.mu.Lock()
		delete(l.held, target)
		l.mu.Unlock()
		l.wake(target)
	}
	return err
}

// atOnce is how many deliveries one commit moves.
const atOnce = 100

// SkipWait closes the breaker of a target and lets everything that waits for another try be
// tried now. It tells how many.
func (l *Lanes) SkipWait(ctx context.Context, target string) (moved int, err error) {
	if l.Catalog.Connection(target) == nil {
		return 0, journal.ErrNotFound
	}
	if moved, err = l.EverywhereDo(ctx, journal.Asked{What: journal.AskSkipWait, Target: target}); err != nil {
		return moved, err
	}
	l.of(target, func(one *lane) { one.closes.Store(true) })
	var after int64
	for {
		rows, err := l.Store.Pending(target, after, atOnce)
		if err != nil || len(rows) == 0 {
			l.wake(target)
			return moved, err
		}
		after = rows[len(rows)-1].Seq
		err = l.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
			now := l.Now()
			n.Targets[target], n.Events[journal.EventTransactions] = true, true
			for _, r := range rows {
				d, err := tx.Delivery(r.ID)
				if err != nil {
					return err
				}
				if d.State != store.Pending || d.NextAt == nil || !d.NextAt.After(now) {
					continue
				}
				moved++
				d.NextAt, d.NextWhy = &now, journal.AskedFor
				if err := tx.SaveDelivery(&d, now); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return moved, err
		}
	}
}

// GiveUp makes dead letters of all that waits for a target, where they can be repaired and
// sent again later. It tells how many.
func (l *Lanes) GiveUp(ctx context.Context, target, by, why string) (given int, err error) {
	reason := fmt.Sprintf("taken out of the line for %s by %s", target, by)
	if why != "" {
		reason += ": " + why
	}
	given, err = l.EverywhereDo(ctx, journal.Asked{What: journal.AskGiveUp, Target: target, Decision: journal.Decision{By: by,
		Why: why}})
	if err != nil {
		return given, err
	}
	for {
		rows, err := l.Store.Pending(target, 0, atOnce)
		if err != nil || len(rows) == 0 {
			return given, err
		}
		n, err := l.giveUp(ctx, rows, reason)
		if given += n; err != nil || n == 0 {
			return given, err
		}
	}
}

func (l *Lanes) giveUp(ctx context.Context, rows []store.Delivery, reason string) (given int, err error) {
	err = l.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		given = 0
		for _, r := range rows {
			d, err := tx.Delivery(r.ID)
			if err != nil {
				return err
			}
			if d.State != store.Pending {
				continue
			}
			given++
			d.State, d.NextAt, d.NextWhy = store.Dead, nil, ""
			n.Targets[d.Target] = true
			if err := tx.SaveDelivery(&d, l.Now()); err != nil {
				return err
			}
			if err := l.letterOf(tx, n, &d, reason); err != nil {
				return err
			}
		}
		return nil
	})
	return given, err
}

// letterOf makes the dead letter of a delivery that was given up by a person.
func (l *Lanes) letterOf(tx *store.Tx, n *journal.Notice, d *store.Delivery, reason string) error {
	w, err := l.Open(tx, n, d.Tx)
	if err != nil {
		return err
	}
	if d.Soft {
		given, err := journal.Prepare(d.Path, want.Effect{Failed: reason})
		if err == nil {
			err = w.Hears(given)
		}
		if err != nil {
			return err
		}
		return w.Settle()
	}
	if err := w.Fails(step.Failure{Step: d.Step, Path: d.Path, Kind: "deliver", Phase: "delivery", Class: step.Target,
		Reason: reason}); err != nil {
		return err
	}
	return w.Settle()
}
