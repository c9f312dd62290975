package engine

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/store"
)

// Clocks make the messages of schedules and polls. When one is due is kept on
// disk, so that a time which has passed while nothing ran is seen afterwards, and
// one that had its message does not get another when the machine's clock jumps
// back.

// timed tells whether an intake is due by a clock.
func timed(in *flow.Intake) bool {
	return in.Kind == "schedule" || in.Kind == "poll" || in.Kind == "table"
}

// clockSpec is what a clock follows from; when it changes, the clock begins anew.
func clockSpec(in *flow.Intake) string {
	t := in.Timing
	return fmt.Sprintf("%s|%s|%s|%s", in.Kind, t.Cron, t.Zone, t.Every)
}

// syncClocks brings the clocks in line with the live flows. A flow that polls
// something else than before keeps its mark: resetting it is for a person.
func (e *Engine) syncClocks() error {
	have, err := e.store.Clocks()
	if err != nil {
		return err
	}
	clocks := map[string]store.Clock{}
	for _, c := range have {
		clocks[c.Flow] = c
	}
	var changes []func(tx *store.Tx) error
	now := e.clock()
	e.mu.RLock()
	for _, f := range e.flows {
		if f.live == nil || f.live.Due == nil || !timed(&f.live.Document.Intake) {
			continue
		}
		c, ok := clocks[f.name]
		delete(clocks, f.name)
		spec := clockSpec(&f.live.Document.Intake)
		if ok && c.Spec == spec {
			continue
		}
		c.Flow, c.Spec, c.NextAt = f.name, spec, f.live.Due.Next(now)
		if !ok && f.live.Document.Intake.Kind != "schedule" {
			c.NextAt = now // the first poll is at once
		}
		changes = append(changes, func(tx *store.Tx) error { return tx.SaveClock(&c) })
	}
	e.mu.RUnlock()
	for name := range clocks {
		if f := e.flow(name); f != nil && f.live != nil && timed(&f.live.Document.Intake) {
			continue
		}
		changes = append(changes, func(tx *store.Tx) error { return tx.DeleteClock(name) })
	}
	if len(changes) == 0 {
		return nil
	}
	err = e.store.Write(e.ctx, func(tx *store.Tx) error {
		for _, do := range changes {
			if err := do(tx); err != nil {
				return err
			}
		}
		return nil
	})
	e.wakeClocks()
	return err
}

func (e *Engine) wakeClocks() {
	select {
	case e.clocks <- struct{}{}:
	default:
	}
}

// timekeeper makes messages when they are due, until the engine stops.
func (e *Engine) timekeeper() {
	running := map[string]bool{}
	ended := make(chan string, 64)
	for {
		wait := idle
		all, err := e.store.Clocks()
		if err != nil && e.ctx.Err() == nil {
			e.log.Error("reading when flows are due", "error", err)
			wait = time.Second
		}
		now := e.clock()
		for _, c := range all {
			if running[c.Flow] || c.NextAt.IsZero() {
				continue
			}
			if c.NextAt.After(now) {
				wait = min(wait, max(c.NextAt.Sub(now), time.Millisecond))
				continue
			}
			running[c.Flow] = true
			e.work.Go(func() {
				if err := e.due(c); err != nil && e.ctx.Err() == nil {
					e.log.Error("a flow that is due", "flow", c.Flow, "error", err)
					time.Sleep(time.Second) // a full disk or a locked file: not at once again
				}
				select {
				case ended <- c.Flow:
				case <-e.ctx.Done():
				}
			})
		}
		select {
		case <-e.ctx.Done():
			return
		case name := <-ended:
			delete(running, name)
		case <-e.clocks:
		case <-time.After(wait):
		}
	}
}

// due does what a clock is there for. A failure that cannot even be kept is the
// error.
func (e *Engine) due(c store.Clock) error {
	f := e.flow(c.Flow)
	if f == nil || f.live == nil || f.live.Due == nil {
		time.Sleep(50 * time.Millisecond) // it is being taken away just now
		return nil
	}
	in := &f.live.Document.Intake
	switch {
	case f.paused:
		return e.skipTime(f)
	case in.Kind == "schedule":
		return e.scheduled(f)
	}
	poll := e.pollHTTP
	if in.Kind == "table" {
		poll = e.pollTable
	}
	err := poll(f, c)
	return e.polled(f, err)
}

// skipTime lets a time pass without a message.
func (e *Engine) skipTime(f *flowState) error {
	return e.store.Write(e.ctx, func(tx *store.Tx) error {
		c, err := tx.Clock(f.name)
		if err != nil {
			return err
		}
		c.NextAt = f.live.Due.Next(e.clock())
		return tx.SaveClock(&c)
	})
}

// polled notes how a poll went, and when the next one is due.
func (e *Engine) polled(f *flowState, failed error) error {
	if e.ctx.Err() != nil {
		return nil
	}
	err := e.store.Write(e.ctx, func(tx *store.Tx) error {
		c, err := tx.Clock(f.name)
		if errors.Is(err, ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		now := e.clock()
		c.LastAt, c.NextAt = &now, f.live.Due.Next(now)
		if c.Error = ""; failed != nil {
			c.Error = failed.Error()
			c.Fails++
		} else {
			c.Fails = 0
		}
		return tx.SaveClock(&c)
	})
	e.Events.Publish(TopicFlows)
	return err
}

// mostMissed is how many times that have passed get a message of their own.
const mostMissed = 1000

// scheduled makes the message of a schedule.
func (e *Engine) scheduled(f *flowState) error {
	after := newAftermath()
	err := e.store.Write(e.ctx, func(tx *store.Tx) error {
		*after = *newAftermath()
		c, err := tx.Clock(f.name)
		if err != nil {
			return err
		}
		now := e.clock()
		if c.NextAt.After(now) {
			return nil // another has seen to it
		}
		first := c.NextAt
		missed, last := f.live.Due.Missed(first, now, mostMissed)
		times := []time.Time{first}
		switch f.live.Document.Intake.Timing.Missed {
		case "each":
			for at := first; len(times) <= missed; {
				at = f.live.Due.Next(at)
				times = append(times, at)
			}
			missed = 0
		case "skip":
			if missed > 0 {
				times = []time.Time{last}
			}
			if late := now.Sub(times[0]); late > idle+time.Second {
				times = nil
			}
		default:
			if missed > 0 {
				times = []time.Time{last}
			}
		}
		for _, at := range times {
			if err := e.takeNew(tx, f, scheduledMessage(f, at, missed), after); err != nil {
				return err
			}
			c.Taken++
		}
		c.LastAt, c.NextAt = &now, f.live.Due.Next(now)
		return tx.SaveClock(&c)
	})
	if err == nil {
		e.after(after)
		e.Events.Publish(TopicFlows)
	}
	return err
}

// scheduledMessage is what a schedule brings: when it was due, and how many
// times before were missed.
func scheduledMessage(f *flowState, at time.Time, missed int) arrival {
	t := f.live.Document.Intake.Timing
	rule := t.Cron
	if rule == "" {
		rule = "every " + t.Every.String()
	}
	zone := t.Zone
	if zone == "" {
		zone = "UTC"
	}
	body := jsonfmt.Encode(message.NewMap(
		message.Member{Name: "scheduled", Value: message.NewString(at.Format(time.RFC3339))},
		message.Member{Name: "zone", Value: message.NewString(zone)},
		message.Member{Name: "missed", Value: message.NewNumber(fmt.Sprint(missed))},
	))
	return arrival{[]byte("[]"), body, at.Format("2006-01-02 15:04"), "schedule " + rule}
}

// takeNew begins the transaction of a message that comes from no queue.
func (e *Engine) takeNew(tx *store.Tx, f *flowState, a arrival, after *aftermath) error {
	none := func() error { return nil }
	return e.take(tx, f, a, after, func(*store.Transaction) error { return nil }, none)
}

// ClockState tells of a flow that is due by a clock.
type ClockState struct {
	NextAt *time.Time      `json:"nextAt"`
	LastAt *time.Time      `json:"lastAt"`
	Mark   json.RawMessage `json:"mark"` // null before the first poll
	Error  string          `json:"error"`
	Fails  int             `json:"fails"`
	Taken  int64           `json:"taken"`
}

// ClockOf tells when a flow is due; nil for one that is not due by a clock.
func (e *Engine) ClockOf(name string) (*ClockState, error) {
	c, err := e.store.ClockOf(name)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &ClockState{LastAt: c.LastAt, Mark: json.RawMessage("null"), Error: c.Error, Fails: c.Fails, Taken: c.Taken}
	if !c.NextAt.IsZero() {
		out.NextAt = &c.NextAt
	}
	if len(c.Mark) > 0 {
		out.Mark = c.Mark
	}
	return out, nil
}

// RunNow lets a schedule or poll be due now.
func (e *Engine) RunNow(name string) error {
	err := e.store.Write(e.ctx, func(tx *store.Tx) error {
		c, err := tx.Clock(name)
		if err != nil {
			return err
		}
		c.NextAt = e.clock()
		return tx.SaveClock(&c)
	})
	e.wakeClocks()
	return err
}

// SetMark sets the high-water mark of a poll, because a person asks for it; null
// lets it begin anew.
func (e *Engine) SetMark(name string, mark json.RawMessage) error {
	return e.store.Write(e.ctx, func(tx *store.Tx) error {
		c, err := tx.Clock(name)
		if err != nil {
			return err
		}
		if c.Mark = mark; string(mark) == "null" || len(mark) == 0 {
			c.Mark = nil
		}
		c.MarkKey = nil
		return tx.SaveClock(&c)
	})
}

// quotedName quotes the name of a table or column for SQL; flows hold only
// letters, digits and underscores there, and a dot between two names. SQLite
// takes a name in double quotes that it does not know for a text.
func quotedName(driver, name string) string {
	quote := `"`
	if driver == connect.DriverSQLite {
		quote = "`"
	}
	return quote + strings.ReplaceAll(name, ".", quote+"."+quote) + quote
}
