package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/timing"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/engine/waker"
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

// keepsClock tells whether an intake notes how far it has come, or why it fails.
func keepsClock(k *Intakes, in *flow.Intake) bool {
	if _, reads := catalog.SourceOf(in); reads || timed(in) {
		return true
	}
	return k.Catalog.Systems().Find(in.Kind) != nil
}

// clockSpec is what a clock follows from; when it changes, the clock begins anew.
func clockSpec(in *flow.Intake) string {
	t := in.Timing
	return fmt.Sprintf("%s|%s|%s|%s", in.Kind, t.Cron, t.Zone, t.Every)
}

// due gives when a flow is due: within the hours of its calendar, where it names one.
func (k *Intakes) due(f *catalog.Flow) *timing.Schedule {
	if c := k.Catalog.Calendar(f.Live.Document.Intake.Timing.During); c != nil {
		return f.Live.Due.During(c)
	}
	return f.Live.Due
}

// syncClocks brings the clocks in line with the live flows. A flow that polls
// something else than before keeps its mark: resetting it is for a person.
func (k *Intakes) syncClocks() error {
	k.sources.starting.Lock()
	defer k.sources.starting.Unlock()
	have, err := k.Store.Clocks()
	if err != nil {
		return err
	}
	clocks := map[string]store.Clock{}
	for _, c := range have {
		clocks[c.Flow] = c
	}
	var changes []func(tx *store.Tx) error
	now := k.Now()
	k.Catalog.Each(func(f *catalog.Flow) {
		if f.Live == nil || f.Live.Due == nil || !timed(&f.Live.Document.Intake) || !k.runs(f) {
			return
		}
		c, ok := clocks[f.Name]
		delete(clocks, f.Name)
		spec := clockSpec(&f.Live.Document.Intake)
		if c := k.Catalog.Calendar(f.Live.Document.Intake.Timing.During); c != nil {
			spec += "|" + c.Stamp()
		}
		if ok && c.Spec == spec {
			return
		}
		c.Flow, c.Spec, c.NextAt = f.Name, spec, k.due(f).Next(now)
		hours := k.Catalog.Calendar(f.Live.Document.Intake.Timing.During)
		if !ok && f.Live.Document.Intake.Kind != "schedule" && (hours == nil || hours.Covers(now)) {
			c.NextAt = now // the first poll is at once
		}
		changes = append(changes, func(tx *store.Tx) error { return tx.SaveClock(&c) })
	})
	for name := range clocks {
		f := k.Catalog.Flow(name)
		if f != nil && f.Live == nil && f.Version > 0 {
			continue // its version cannot be read just now; how far it has come must not be lost with it
		}
		if f != nil && f.Live != nil && keepsClock(k, &f.Live.Document.Intake) {
			continue
		}
		changes = append(changes, func(tx *store.Tx) error { return tx.DeleteClock(name) })
	}
	if len(changes) == 0 {
		return nil
	}
	err = k.Store.Write(k.Life.Taking(), func(tx *store.Tx) error {
		for _, do := range changes {
			if err := do(tx); err != nil {
				return err
			}
		}
		return nil
	})
	k.clocks.Wake()
	return err
}

// timekeeper makes messages when they are due. Of the clocks, as many as there are flows, it
// reads all at each look.
type timekeeper struct {
	*Intakes
	mu      sync.Mutex
	running map[string]bool // flows whose message is being made
	over    chan struct{}   // closed, and another one, when one of them was made
}

// ended waits until no message of a flow is being made.
func (k *timekeeper) ended(ctx context.Context, flow string) error {
	for {
		k.mu.Lock()
		running, over := k.running[flow], k.over
		k.mu.Unlock()
		if !running {
			return nil
		}
		select {
		case <-over:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// look begins what is due, and says when the next one is.
func (k *timekeeper) look() (more bool, next time.Time, err error) {
	all, err := k.Store.Clocks()
	now := k.Now()
	for _, c := range all {
		f := k.Catalog.Flow(c.Flow)
		if c.NextAt.IsZero() || k.isRunning(c.Flow) || f != nil && !k.runs(f) {
			continue
		}
		due := k.Due
		if c.NextAt.After(now) {
			if next.IsZero() || c.NextAt.Before(next) {
				next = c.NextAt
			}
			if c.Staged == 0 || f == nil || f.Live == nil || f.Paused {
				continue
			}
			due = k.begins // what an answer had brought when the process ended
		}
		k.begin(c, due)
	}
	return false, next, err
}

func (k *timekeeper) isRunning(flow string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.running[flow]
}

// begin does what is due beside the others. That the source may run is asked once more after it is said to: who has it
// leave forbids first, and then waits for what runs.
func (k *timekeeper) begin(c store.Clock, due func(c store.Clock) error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.running[c.Flow] = true
	k.Life.Go(func() {
		if f := k.Catalog.Flow(c.Flow); f != nil && !k.runs(f) {
			due = func(store.Clock) error { return nil }
		}
		if err := due(c); err != nil && !k.Life.Ending() {
			k.Log.Error("a flow that is due", "flow", c.Flow, "error", err)
			k.troubled(c.Flow, err)
			time.Sleep(time.Second) // a full disk or a locked file: not at once again
		}
		k.mu.Lock()
		delete(k.running, c.Flow)
		close(k.over)
		k.over = make(chan struct{})
		k.mu.Unlock()
		k.clocks.Wake()
	})
}

// Due does what a clock is there for, without asking whether its time has come
// where it polls. A failure that cannot even be kept is the error.
func (k *Intakes) Due(c store.Clock) error {
	f := k.Catalog.Flow(c.Flow)
	if f == nil || f.Live == nil || f.Live.Due == nil {
		time.Sleep(50 * time.Millisecond) // it is being taken away just now
		return nil
	}
	if err := k.untilRoom(k.Life.Taking()); err != nil {
		return err
	}
	in := &f.Live.Document.Intake
	switch {
	case f.Paused:
		return k.skipTime(f)
	case in.Kind == "schedule":
		return k.scheduled(f)
	}
	if c.Staged > 0 { // of the answer before
		if err := k.takeStaged(f); err != nil {
			return k.polled(f, c.NextAt, err)
		}
	}
	poll := k.pollHTTP
	if in.Kind == "table" {
		poll = k.pollTable
	}
	err := poll(f, c)
	return k.polled(f, c.NextAt, err)
}

// begins lets the messages begin that are kept of an answer.
func (k *Intakes) begins(c store.Clock) error {
	if f := k.Catalog.Flow(c.Flow); f != nil && f.Live != nil {
		return k.takeStaged(f)
	}
	return nil
}

// skipTime lets a time pass without a message.
func (k *Intakes) skipTime(f *catalog.Flow) error {
	return k.Store.Write(k.Life.Taking(), func(tx *store.Tx) error {
		c, err := tx.Clock(f.Name)
		if err != nil {
			return err
		}
		c.NextAt = k.due(f).Next(k.Now())
		return tx.SaveClock(&c)
	})
}

// polled notes how a poll went that was due at was, and when the next one is due. Where that says something else now,
// it stays: somebody has asked for another one since, or a new version of the flow has another rule, and neither is to
// be forgotten because this one was late.
func (k *Intakes) polled(f *catalog.Flow, was time.Time, failed error) error {
	if k.Life.Ending() {
		return nil
	}
	err := k.Store.Write(k.Life.Taking(), func(tx *store.Tx) error {
		c, err := tx.Clock(f.Name)
		if errors.Is(err, journal.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		now := k.Now()
		if c.LastAt = &now; c.NextAt.Equal(was) {
			c.NextAt = k.due(f).Next(now)
		}
		c.Failed(failed, now)
		return tx.SaveClock(&c)
	})
	k.Announce(journal.EventFlows)
	return err
}

// mostMissed is how many times that have passed get a message of their own.
const mostMissed = 1000

// scheduled makes the message of a schedule.
func (k *Intakes) scheduled(f *catalog.Flow) error {
	err := k.Do(k.Life.Taking(), f.Name, func(s *journal.Session) error {
		c, err := k.Store.Clock(f.Name)
		if err != nil || c.NextAt.After(s.At) {
			return err // another has seen to it
		}
		was := c.NextAt
		times, missed := dueTimes(f, k.due(f), c.NextAt, s.At)
		for _, at := range times {
			if err := s.Take(f, scheduledMessage(f, at, missed), nil, nil); err != nil {
				return err
			}
			c.Taken++
		}
		c.LastAt, c.NextAt = &s.At, k.due(f).Next(s.At)
		c.Failed(nil, s.At)
		s.Then(func(tx *store.Tx, _ *journal.Notice) error {
			now, err := tx.Clock(f.Name)
			if err != nil || !now.NextAt.Equal(was) {
				return staleOr(err)
			}
			return tx.SaveClock(&c)
		})
		return nil
	})
	if err == nil {
		k.Announce(journal.EventFlows)
	}
	return err
}

// dueTimes gives the times of a schedule that bring a message now, and how many
// the message stands for that were missed before.
func dueTimes(f *catalog.Flow, due *timing.Schedule, first, now time.Time) (times []time.Time, missed int) {
	missed, last := due.Missed(first, now, mostMissed)
	times = []time.Time{first}
	if f.Live.Document.Intake.Timing.Missed == "each" {
		for at := first; len(times) <= missed; {
			at = due.Next(at)
			times = append(times, at)
		}
		return times, 0
	}
	if missed > 0 {
		times = []time.Time{last}
	}
	if late := now.Sub(times[0]); f.Live.Document.Intake.Timing.Missed == "skip" && late > waker.Longest+time.Second {
		times = nil
	}
	return times, missed
}

// scheduledMessage is what a schedule brings: when it was due, and how many
// times before were missed.
func scheduledMessage(f *catalog.Flow, at time.Time, missed int) journal.Arrival {
	t := f.Live.Document.Intake.Timing
	at = at.In(f.Live.Due.Zone()) // from the file it comes in UTC
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
	return journal.Arrival{
		Headers:   []byte("[]"),
		Body:      body,
		Reference: at.Format("2006-01-02 15:04"),
		Source:    "schedule " + rule,
	}
}

// RunNow lets a schedule or poll be due now. One that is being done just now may have read already what is asked for,
// so it is done once more behind that one, which sees it by another time: the next microsecond, as times are kept, where
// the clock has not moved on.
func (k *Intakes) RunNow(name string) error {
	if there, err := k.askSource(name, journal.Asked{What: journal.AskRunNow, Flow: name}); there {
		return err
	}
	err := k.Store.Write(k.Life.Taking(), func(tx *store.Tx) error {
		c, err := tx.Clock(name)
		if err != nil {
			return err
		}
		now := k.Now().Truncate(time.Microsecond)
		if now.Equal(c.NextAt) {
			now = now.Add(time.Microsecond)
		}
		c.NextAt = now
		return tx.SaveClock(&c)
	})
	k.clocks.Wake()
	return err
}

// SetMark sets the high-water mark of a poll, because a person asks for it; null
// lets it begin anew.
func (k *Intakes) SetMark(name string, mark json.RawMessage) error {
	if there, err := k.askSource(name, journal.Asked{What: journal.AskSetMark, Flow: name, Given: mark}); there {
		return err
	}
	err := k.Store.Write(k.Life.Taking(), func(tx *store.Tx) error {
		c, err := tx.Clock(name)
		if err != nil {
			return err
		}
		if c.Mark = mark; string(mark) == "null" || len(mark) == 0 {
			c.Mark = nil
		}
		c.MarkKey, c.Marks = nil, nil
		return tx.SaveClock(&c)
	})
	f := k.Catalog.Flow(name)
	if err != nil || f == nil || f.Live == nil || f.Live.Document.Intake.Changed != "" {
		return err
	}
	for more := true; more; { // what was seen behind the mark is new again
		err := k.Store.Write(k.Life.Taking(), func(tx *store.Tx) (err error) {
			more, err = tx.ForgetSeen(name, k.Now().Add(time.Hour), stageBatch)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}
