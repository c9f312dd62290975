package perform

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
)

// limit notes when the time of a scatter is over; nothing waits for it alone.
type limit struct{ *Performers }

// Foresee implements journal.Performer.
func (limit) Foresee(*journal.Move, want.Asked) (journal.Outcome, error) {
	return journal.Outcome{}, nil
}

// Perform implements journal.Performer.
func (limit) Perform(w *journal.Writing, asked want.Asked, foreseen journal.Outcome) (journal.Outcome, error) {
	w.Notice.Gather = true
	return foreseen, w.Tx.Limit(
		&store.TimeLimit{Tx: w.T.ID, Path: asked.Path, At: w.Now().Add(asked.Want.(*want.Limit).Within)},
	)
}

// hold lets a message wait for a time, or until a row fits. Whether it fits is
// worked out outside of the writer; a row that comes in between is seen behind
// the commit.
type hold struct{ *Performers }

// Foresee implements journal.Performer.
func (hold) Foresee(v *journal.Move, asked want.Asked) (journal.Outcome, error) {
	h := asked.Want.(*want.Hold)
	if h.Fits == nil {
		if until := h.End(v.Session.At); !until.After(v.Session.At) {
			return journal.Outcome{Effect: &want.Effect{Over: true, Said: run.HeldSaid(v.Session.At, until)}}, nil
		}
		return journal.Outcome{}, nil
	}
	fits, looked, err := h.Fits(v.LookIn())
	var f *step.Failure
	switch {
	case errors.As(err, &f):
		return journal.Outcome{Failure: f}, nil
	case err != nil:
		return journal.Outcome{}, err
	case fits:
		return journal.Outcome{Effect: &want.Effect{Said: "the row is there", Looked: []want.Looked{looked}}}, nil
	}
	return journal.Outcome{}, nil
}

// Perform implements journal.Performer.
func (hold) Perform(w *journal.Writing, asked want.Asked, foreseen journal.Outcome) (journal.Outcome, error) {
	if foreseen.Effect != nil || foreseen.Failure != nil {
		return foreseen, nil
	}
	h := asked.Want.(*want.Hold)
	until := h.End(w.Now())
	text := "held until " + until.UTC().Format("2006-01-02 15:04:05") + " UTC"
	if h.Fits != nil {
		text = "held for a row of " + h.Table
	}
	return foreseen, w.WaitsAt(asked.Path, until, h.Table, text, true)
}

// pace lets a message go on at its step's pace, or wait for room.
type pace struct{ *Performers }

// Foresee implements journal.Performer.
func (p pace) Foresee(v *journal.Move, asked want.Asked) (journal.Outcome, error) {
	_, o, _, err := p.decide(p.Store.View, &v.Tx, asked)
	return o, err
}

// decide says whether a message goes on now, and notes in the pace when it does.
func (p pace) decide(
	v store.View,
	tx *store.Transaction,
	asked want.Asked,
) (row store.Pace, o journal.Outcome, at time.Time, err error) {
	w, now := asked.Want.(*want.Pace), p.Now()
	if row, err = v.Pace(tx.Flow, run.GroupPath(asked.Path), w.Key); err != nil {
		return row, o, at, err
	}
	plan, err := readMoments(row.Plan)
	if err != nil {
		return row, o, at, err
	}
	at = w.Pace.Slot(plan, now)
	wait := at.Sub(now)
	if w.Pace.Within > 0 && wait > w.Pace.Within {
		o.Failure = step.TooMany(w, wait)
		return row, o, at, nil
	}
	if row.Plan, err = json.Marshal(moments(w.Pace.Went(plan, at))); err != nil {
		return row, o, at, err
	}
	row.Until = at.Add(w.Pace.Per)
	if wait <= 0 {
		o.Effect = &want.Effect{Said: run.PaceSaid(0)}
	}
	return row, o, at, nil
}

// Perform implements journal.Performer.
func (p pace) Perform(w *journal.Writing, asked want.Asked, foreseen journal.Outcome) (journal.Outcome, error) {
	row, o, at, err := p.decide(w.Tx.View, w.T, asked)
	if err != nil {
		return o, err
	}
	if o.Failure != nil {
		if foreseen.Failure != nil {
			return foreseen, nil // the wait that its words tell is another by now
		}
		return o, nil
	}
	asks := asked.Want.(*want.Pace)
	if o.Effect != nil {
		return o, went(w, &row, asks)
	}
	if err := w.WaitsAt(asked.Path, at, "", fmt.Sprintf("goes on at %d per %s", asks.Pace.Most, run.Span(asks.Pace.Per)),
		true); err != nil {
		return o, err
	}
	return o, w.Tx.SavePace(&row)
}

// went notes that a message has gone on.
func went(w *journal.Writing, row *store.Pace, p *want.Pace) error {
	now := w.Now()
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
	return w.Tx.SavePace(row)
}

// moments are times as they are stored.
type moments []time.Time

// MarshalJSON implements json.Marshaler.
func (m moments) MarshalJSON() ([]byte, error) {
	us := make([]int64, len(m))
	for i, t := range m {
		us[i] = t.UnixMicro()
	}
	return json.Marshal(us)
}

func readMoments(b []byte) ([]time.Time, error) {
	var us []int64
	if len(b) > 0 {
		if err := json.Unmarshal(b, &us); err != nil {
			return nil, err
		}
	}
	out := make([]time.Time, len(us))
	for i, t := range us {
		out[i] = time.UnixMicro(t).UTC()
	}
	return out, nil
}

// timeOver ends the wait of a transaction at a step, if it still waits there.
func (p *Performers) timeOver(ctx context.Context, l *store.TimeLimit) error {
	t, err := p.Store.Transaction(l.Tx)
	if err != nil {
		return err
	}
	return p.Do(ctx, t.Flow, func(s *journal.Session) error {
		now, err := p.Store.TimeLimit(l.Tx, l.Path)
		if errors.Is(err, store.ErrNotFound) || err == nil && now.At.After(s.At) {
			return nil // it was ended, or moved
		}
		if err != nil {
			return err
		}
		v, err := s.Read(l.Tx)
		if f := journal.CannotGoOn(err); f != nil {
			return p.unreadable(s, &now, *f)
		}
		if err != nil {
			return err
		}
		return p.ends(s, v, &now)
	})
}

// unreadable ends the wait of a transaction whose version can no longer be read, as a
// dead letter: what is due behind it must not wait for it.
func (p *Performers) unreadable(s *journal.Session, l *store.TimeLimit, failure step.Failure) error {
	s.Then(func(tx *store.Tx, n *journal.Notice) error {
		w, err := p.Open(tx, n, l.Tx)
		if err != nil {
			return err
		}
		if err := w.WaitsNot(l); err != nil {
			return err
		}
		failure.Path, failure.Step = l.Path, run.GroupPath(l.Path)
		if err := w.Fails(failure); err != nil {
			return err
		}
		return w.Settle()
	})
	return nil
}

// ends says what the end of a wait comes to: by what is waited for.
func (p *Performers) ends(s *journal.Session, v *journal.Move, l *store.TimeLimit) error {
	asked := v.WantAt(l.Path)
	switch {
	case asked == nil && l.Waits: // it is needless now
		return v.Settles(func(w *journal.Writing) error { return w.WaitsNot(l) })
	case asked == nil:
		s.Then(func(tx *store.Tx, _ *journal.Notice) error { return tx.LimitOver(l) })
		return nil
	}
	over := map[string]func(*journal.Session, *journal.Move, *store.TimeLimit, *want.Asked) error{
		want.KindPace: p.paceOver, want.KindQuestion: p.noReply, want.KindCall: p.noAnswer, want.KindHold: p.holdOver,
	}[asked.Kind()]
	if over != nil {
		return over(s, v, l, asked)
	}
	return goesOn(v, l, want.Effect{Over: true})
}

// goesOn ends a wait, and walks on.
func goesOn(v *journal.Move, l *store.TimeLimit, effect want.Effect) error {
	v.Over(l, effect)
	_, err := v.Go()
	return err
}

// holdOver ends a hold: for a row that has not come, as the step says.
func (p *Performers) holdOver(s *journal.Session, v *journal.Move, l *store.TimeLimit, asked *want.Asked) error {
	h := asked.Want.(*want.Hold)
	if h.Fits != nil && h.Late == "dead letter" {
		return inVain(v, l, asked, step.Failure{Phase: "until", Class: step.Data, Reason: h.Lateness})
	}
	said := ""
	if h.Fits == nil {
		said = run.HeldSaid(v.Tx.ReceivedAt, s.At)
	}
	return goesOn(v, l, want.Effect{Over: true, Said: said})
}

// paceOver lets a message go on whose turn has come. What really went counts:
// after a time in which nothing could go, those that are due go one by one.
func (p *Performers) paceOver(s *journal.Session, v *journal.Move, l *store.TimeLimit, asked *want.Asked) error {
	w := asked.Want.(*want.Pace)
	path := run.GroupPath(asked.Path)
	free := func(view store.View) (time.Time, store.Pace, error) {
		row, err := view.Pace(v.Tx.Flow, path, w.Key)
		if err != nil {
			return time.Time{}, row, err
		}
		times, err := readMoments(row.Went)
		return w.Pace.Slot(times, s.At), row, err
	}
	at, _, err := free(p.Store.View)
	if err != nil {
		return err
	}
	if at.After(s.At) {
		s.Then(func(tx *store.Tx, _ *journal.Notice) error { return tx.MoveLimit(l, at) })
		return nil
	}
	v.Then(func(w2 *journal.Writing) error {
		at, row, err := free(w2.Tx.View)
		if err != nil || at.After(s.At) {
			return staleOr(err)
		}
		return went(w2, &row, w)
	})
	return goesOn(v, l, want.Effect{Said: run.PaceSaid(s.At.Sub(v.Tx.ReceivedAt)), Over: true})
}

// noReply ends the wait for a reply by a queue that has not come.
func (p *Performers) noReply(_ *journal.Session, v *journal.Move, l *store.TimeLimit, asked *want.Asked) error {
	q, ok := asked.Want.(*want.Question)
	if !ok {
		return fmt.Errorf("%s at %s is no question", asked.Want.Kind(), asked.Path)
	}
	correlation := run.DeliveryID(v.Tx.ID.String(), asked.Path)
	v.Then(func(w *journal.Writing) error { return w.Tx.DropAsk(correlation) })
	reason := fmt.Sprintf("no reply came in %s within %s", q.ReplyTo, q.Within)
	return inVain(v, l, asked, step.Failure{Phase: "within", Class: step.Target, Reason: reason})
}

// noAnswer ends the wait for a flow that was called.
func (p *Performers) noAnswer(_ *journal.Session, v *journal.Move, l *store.TimeLimit, asked *want.Asked) error {
	c, ok := asked.Want.(*want.Call)
	if !ok {
		return fmt.Errorf("%s at %s is no call", asked.Want.Kind(), asked.Path)
	}
	reason := fmt.Sprintf("the flow %s did not answer within %s", c.Flow, c.Within)
	return inVain(v, l, asked, step.Failure{Phase: "within", Class: step.Target, Reason: reason})
}

// inVain ends a wait for what has not come.
func inVain(v *journal.Move, l *store.TimeLimit, asked *want.Asked, f step.Failure) error {
	if asked.Soft {
		return goesOn(v, l, want.Effect{Failed: f.Reason})
	}
	f.Step, f.Path, f.Kind = asked.Step, asked.Path, asked.StepKind
	return v.Settles(func(w *journal.Writing) error {
		if stands, err := w.Tx.HasLimit(l.Tx, l.Path); err != nil || !stands {
			return staleOr(err)
		}
		if err := w.WaitsNot(l); err != nil {
			return err
		}
		return w.Fails(f)
	})
}

// watcher looks anew for rows that messages are held for, when a table changes
// and when a message begins to wait.
func (p *Performers) watcher() {
	if tables, err := p.Store.Watched(); err != nil {
		p.Log.Error("looking for messages that are held", "error", err)
	} else {
		for _, t := range tables { // it may have changed when the process ended
			p.recheck(t)
		}
	}
	for {
		select {
		case <-p.Life.Context().Done():
			return
		case t := <-p.changedTables:
			p.recheck(t)
		case l := <-p.beganToHold:
			p.fits(&l)
		}
	}
}

// recheckBatch is how many held messages are looked for at once.
const recheckBatch = 50

func (p *Performers) recheck(table string) {
	var last store.TimeLimit
	for !p.Life.Over() {
		some, err := p.Store.Watching(table, last, recheckBatch)
		if err != nil {
			p.Log.Error("looking for messages that are held", "table", table, "error", err)
			return
		}
		if len(some) == 0 {
			return
		}
		last = some[len(some)-1]
		var all sync.WaitGroup
		for i := range some { // together, so that they share commits
			all.Go(func() { p.fits(&some[i]) })
		}
		all.Wait()
	}
}

// fits lets a held message go on when its row is there.
func (p *Performers) fits(l *store.TimeLimit) {
	t, err := p.Store.Transaction(l.Tx)
	if err == nil {
		err = p.Do(p.Life.Context(), t.Flow, func(s *journal.Session) error {
			v, err := s.Read(l.Tx)
			if err != nil {
				return err
			}
			asked := v.WantAt(l.Path)
			if asked == nil {
				return nil
			}
			h, ok := asked.Want.(*want.Hold)
			if !ok || h.Fits == nil {
				return nil
			}
			fits, looked, err := h.Fits(v.LookIn())
			var f *step.Failure
			if errors.As(err, &f) {
				return nil // the table is not as it must be; its time limit will tell
			}
			if err != nil || !fits {
				return err
			}
			stands, err := p.Store.HasLimit(l.Tx, l.Path)
			if err != nil || !stands {
				return err
			}
			return goesOn(v, l, want.Effect{Said: "the row is there", Looked: []want.Looked{looked}})
		})
	}
	if err != nil && !p.Life.Over() {
		p.Log.Error(
			"looking for the row that a message is held for",
			"table",
			l.Watched,
			"transaction",
			l.Tx,
			"error",
			err,
		)
	}
}
