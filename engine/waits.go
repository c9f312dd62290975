package engine

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// stepOnce tells a message that came before from one that did not.
func (w *walking) stepOnce(want *step.Want) (*step.Effect, error) {
	now := w.e.clock()
	sum := sha256.Sum256([]byte(run.GroupPath(want.Path) + "\x00" + want.Once.Key))
	first, fresh, err := w.tx.Once(&store.OnceKey{Flow: w.t.Flow, Key: sum[:], Tx: w.t.ID, Until: now.Add(want.Once.For)}, now)
	switch {
	case err != nil:
		return nil, err
	case fresh || first == w.t.ID: // it was here before under another version
		return &step.Effect{Said: "first"}, nil
	}
	return &step.Effect{Refused: "duplicate of " + first.String()}, nil
}

// waitsAt notes that a transaction waits at a step for a time. One that is idle
// lets the reader of its queue take another message meanwhile.
func (w *walking) waitsAt(path string, at time.Time, table, text string, idle bool) error {
	w.t.Gathered++
	w.t.OwnWaits++
	w.t.Idle = idle
	w.t.GatherPlace, w.t.GatherText = path, text
	w.after.gather = true
	return w.tx.Limit(&store.TimeLimit{Tx: w.t.ID, Path: path, At: at, Watched: table, Waits: true})
}

// waitsNot notes that a transaction waits there no more.
func (w *walking) waitsNot(l *store.TimeLimit) error {
	if l.Waits {
		w.t.Gathered, w.t.OwnWaits = max(0, w.t.Gathered-1), max(0, w.t.OwnWaits-1)
	}
	return w.tx.LimitOver(l)
}

// hold lets a message wait; without effect and failure it does.
func (w *walking) hold(want *step.Want) (*step.Effect, *step.Failure, error) {
	h, now := want.Hold, w.e.clock()
	until := h.End(now)
	if h.Fits == nil {
		if !until.After(now) {
			return &step.Effect{Over: true, Said: run.HeldSaid(now, until)}, nil, nil
		}
		return nil, nil, w.waitsAt(want.Path, until, "", "held until "+until.Format("2006-01-02 15:04:05")+" UTC", true)
	}
	fits, looked, err := h.Fits(w.p.Tables(w.tx.LookIn()))
	if f := step.HoldFailure(err); f != nil {
		return nil, f, nil
	}
	if err != nil {
		return nil, nil, err
	}
	if fits {
		return &step.Effect{Said: "the row is there", Looked: []step.Looked{looked}}, nil, nil
	}
	return nil, nil, w.waitsAt(want.Path, until, h.Table, "held for a row of "+h.Table, true)
}

// moments are times as they are stored.
type moments []time.Time

func (m moments) MarshalJSON() ([]byte, error) {
	ms := make([]int64, len(m))
	for i, t := range m {
		ms[i] = t.UnixMilli()
	}
	return json.Marshal(ms)
}

func readMoments(b []byte) ([]time.Time, error) {
	var ms []int64
	if len(b) > 0 {
		if err := json.Unmarshal(b, &ms); err != nil {
			return nil, err
		}
	}
	out := make([]time.Time, len(ms))
	for i, t := range ms {
		out[i] = time.UnixMilli(t).UTC()
	}
	return out, nil
}

// pace lets a message go on at its step's pace, or wait for room.
func (w *walking) pace(want *step.Want) (*step.Effect, *step.Failure, error) {
	p, now := want.Paced.Pace, w.e.clock()
	row, err := w.tx.Pace(w.t.Flow, run.GroupPath(want.Path), want.Paced.Key)
	if err != nil {
		return nil, nil, err
	}
	plan, err := readMoments(row.Plan)
	if err != nil {
		return nil, nil, err
	}
	at := p.Slot(plan, now)
	wait := at.Sub(now)
	if p.Within > 0 && wait > p.Within {
		return nil, want.Paced.TooMany(wait), nil
	}
	if row.Plan, err = json.Marshal(moments(p.Went(plan, at))); err != nil {
		return nil, nil, err
	}
	row.Until = at.Add(p.Per)
	if wait > 0 {
		if err := w.waitsAt(want.Path, at, "", paceText(want.Paced), true); err != nil {
			return nil, nil, err
		}
		return nil, nil, w.tx.SavePace(&row)
	}
	return &step.Effect{Said: run.PaceSaid(0)}, nil, w.went(&row, want.Paced, now)
}

func paceText(p *step.Paced) string {
	return fmt.Sprintf("goes on at %d per %s", p.Pace.Most, run.Span(p.Pace.Per))
}

// went notes that a message has gone on.
func (w *walking) went(row *store.Pace, p *step.Paced, now time.Time) error {
	times, err := readMoments(row.Went)
	if err != nil {
		return err
	}
	if row.Went, err = json.Marshal(moments(p.Pace.Went(times, now))); err != nil {
		return err
	}
	if until := now.Add(p.Pace.Per); until.After(row.Until) {
		row.Until = until
	}
	return w.tx.SavePace(row)
}

// paceOver lets a message go on whose turn has come. What really went counts:
// after a time in which nothing could go, those that are due go one by one.
func (w *walking) paceOver(l *store.TimeLimit, want *step.Want) error {
	now := w.e.clock()
	row, err := w.tx.Pace(w.t.Flow, run.GroupPath(want.Path), want.Paced.Key)
	if err != nil {
		return err
	}
	times, err := readMoments(row.Went)
	if err != nil {
		return err
	}
	if at := want.Paced.Pace.Slot(times, now); at.After(now) {
		return w.tx.MoveLimit(l, at)
	}
	if err := w.went(&row, want.Paced, now); err != nil {
		return err
	}
	return w.goesOn(l, step.Effect{Said: run.PaceSaid(now.Sub(w.t.ReceivedAt)), Over: true})
}

// goesOn ends a wait.
func (w *walking) goesOn(l *store.TimeLimit, effect step.Effect) error {
	if err := w.waitsNot(l); err != nil {
		return err
	}
	if err := w.record(l.Path, effect); err != nil {
		return err
	}
	_, err := w.advance(nil)
	return err
}

// timeOver ends the wait of a transaction at a step, if it still waits there.
func (e *Engine) timeOver(tx *store.Tx, l *store.TimeLimit, after *aftermath) error {
	w, want, err := e.waiting(tx, l, after)
	if err != nil || want == nil {
		return err
	}
	switch want.Kind {
	case step.WantPace:
		return w.paceOver(l, want)
	case step.WantReply, step.WantFlow:
		return w.noReply(l, want)
	case step.WantHold:
		if want.Hold.Fits == nil {
			return w.goesOn(l, step.Effect{Over: true, Said: run.HeldSaid(w.t.ReceivedAt, e.clock())})
		}
		reason := step.LateReason(run.StepAt(w.p, run.GroupPath(want.Path)))
		if reason == "" {
			return w.goesOn(l, step.Effect{Over: true})
		}
		return w.inVain(l, want, step.Failure{Phase: "until", Class: step.Data, Reason: reason})
	}
	return w.goesOn(l, step.Effect{Over: true})
}

// waiting reads what a wait is for; want is nil when it is needless now.
func (e *Engine) waiting(tx *store.Tx, l *store.TimeLimit, after *aftermath) (*walking, *step.Want, error) {
	w, err := e.load(tx, l.Tx, after)
	if err != nil {
		return nil, nil, err
	}
	wants := run.Walk(w.p, w.input).Wants
	i := slices.IndexFunc(wants, func(want step.Want) bool { return want.Path == l.Path })
	if i >= 0 {
		return w, &wants[i], nil
	}
	if err := w.waitsNot(l); err != nil || !l.Waits {
		return nil, nil, err
	}
	rows, err := tx.Deliveries(l.Tx)
	if err != nil {
		return nil, nil, err
	}
	return nil, nil, w.settle(nil, pointersTo(rows))
}

// inVain ends a wait for what has not come.
func (w *walking) inVain(l *store.TimeLimit, want *step.Want, f step.Failure) error {
	if want.Soft {
		return w.goesOn(l, step.Effect{Failed: f.Reason})
	}
	if err := w.waitsNot(l); err != nil {
		return err
	}
	f.Step, f.Path = want.Step, want.Path
	if s := run.StepAt(w.p, run.GroupPath(want.Path)); s != nil {
		f.Kind = s.Kind
	}
	old, err := w.tx.LettersOf(w.t.ID)
	if err != nil {
		return err
	}
	if err := w.die(old, f); err != nil {
		return err
	}
	rows, err := w.tx.Deliveries(w.t.ID)
	if err != nil {
		return err
	}
	return w.settle(nil, pointersTo(rows))
}

// watcher looks anew for rows that messages are held for, when a table changes.
func (e *Engine) watcher() {
	if tables, err := e.store.Watched(); err != nil {
		e.log.Error("looking for messages that are held", "error", err)
	} else {
		for _, t := range tables { // it may have changed when the process ended
			e.recheck(t)
		}
	}
	for {
		select {
		case <-e.ctx.Done():
			return
		case t := <-e.changedTables:
			e.recheck(t)
		}
	}
}

// recheckBatch is how many held messages one database transaction looks at.
const recheckBatch = 50

func (e *Engine) recheck(table string) {
	var last store.TimeLimit
	for e.ctx.Err() == nil {
		some, err := e.store.Watching(table, last, recheckBatch)
		if err != nil {
			e.log.Error("looking for messages that are held", "table", table, "error", err)
			return
		}
		if len(some) == 0 {
			return
		}
		last = some[len(some)-1]
		after := newAftermath()
		err = e.store.Write(e.ctx, func(tx *store.Tx) error {
			*after = *newAftermath()
			for i := range some {
				if err := e.fits(tx, &some[i], after); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			if e.ctx.Err() == nil {
				e.log.Error("looking for rows that messages are held for", "table", table, "error", err)
			}
			return
		}
		e.after(after)
	}
}

// fits lets a held message go on when its row is there.
func (e *Engine) fits(tx *store.Tx, l *store.TimeLimit, after *aftermath) error {
	w, want, err := e.waiting(tx, l, after)
	if err != nil || want == nil || want.Hold == nil || want.Hold.Fits == nil {
		return err
	}
	fits, looked, err := want.Hold.Fits(w.p.Tables(tx.LookIn()))
	if f := step.HoldFailure(err); f != nil {
		return nil // the table is not as it must be; its time limit will tell
	}
	if err != nil || !fits {
		return err
	}
	return w.goesOn(l, step.Effect{Said: "the row is there", Looked: []step.Looked{looked}})
}
