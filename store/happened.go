package store

import (
	"time"

	"readyferry/core/retry"
)

// Event is a kind of thing that happens in the journal.
type Event uint8

// What happens.
const (
	HasCome    Event = iota // a transaction began
	HasEnded                // one came to its end
	HasDied                 // one became a dead letter
	WasTried                // a delivery was tried
	HasSettled              // a delivery came to its end: through, or given up
)

// Happened is something that happened, for those who count and those who trace. It holds no
// content of messages.
type Happened struct {
	What     Event
	Tx       ID
	Parent   *ID // the transaction that it is a part of, was called by or handed on from
	Journey  *ID // nil: the transaction is it, unless the journey has to be Sought
	Sought   bool
	Again    bool // it had been a dead letter
	Flow     string
	Step     string // id of the step, of a try and of one that died: its path
	Part     bool   // of a message, not one that came in
	State    State
	At       time.Time     // of its begin
	Took     time.Duration // until its end
	Delivery ID
	Target   string
	Outcome  string // of a try: delivered, again, never or unknown; of a delivery: delivered or dead
	Status   int
	N        int // of a try
}

// Observe has a function called with what happened in a commit, once it is on disk. It is called
// by the one who writes and must not keep him waiting. It is to be set before anything is written.
func (s *Store) Observe(do func([]Happened)) { s.observe, s.sums.observed = do, do != nil }

// note adds something that happened in a job.
func (c *sums) note(h Happened) { c.happened = append(c.happened, h) }

func (tx *Tx) noteMoved(t *Transaction, what Event) {
	if !tx.observed {
		return
	}
	h := Happened{What: what, Tx: t.ID, Flow: t.Flow, Journey: t.Journey, Part: t.Parent != nil, State: t.State,
		At: t.ReceivedAt}
	switch {
	case t.Parent != nil:
		h.Parent = t.Parent
	case t.Caller != nil:
		h.Parent = t.Caller
	case t.Origin != nil:
		h.Parent = t.Origin
	}
	if t.FinishedAt != nil {
		h.Took = t.FinishedAt.Sub(t.ReceivedAt)
	}
	if what == HasDied {
		h.Step = t.Place
	}
	tx.note(h)
}

// noteBegun notes a new transaction, which may have ended at once.
func (tx *Tx) noteBegun(t *Transaction) {
	tx.noteMoved(t, HasCome)
	tx.noteState(t, UnderWay)
}

func (tx *Tx) noteState(t *Transaction, before State) {
	switch {
	case t.State == DeadLetter:
		tx.noteMoved(t, HasDied)
	case t.FinishedAt != nil:
		tx.noteMoved(t, HasEnded)
	default:
		return
	}
	if before == DeadLetter && tx.observed {
		tx.sums.happened[len(tx.sums.happened)-1].Again = true
	}
}

// of adds whose a delivery is.
func (tx *Tx) of(h Happened) Happened {
	if u := tx.unit(h.Tx); u != nil {
		h.Journey = u.tx.Journey
	} else {
		h.Sought = true // whoever wants to know can look: it is not worth a read here
	}
	return h
}

func (tx *Tx) noteTry(d *Delivery, t *Try) {
	if tx.observed {
		tx.note(tx.of(Happened{What: WasTried, Tx: d.Tx, Flow: d.Flow, Step: d.Step, At: t.At,
			Took: time.Duration(t.Took) * time.Microsecond, Delivery: d.ID, Target: d.Target, Outcome: t.Outcome,
			Status: t.Status, N: d.Total}))
	}
}

func (tx *Tx) noteSettled(d *Delivery, now time.Time) {
	if !tx.observed || d.State != Done && d.State != Dead || d.FirstAt == nil {
		return
	}
	outcome := string(retry.Delivered)
	if d.State == Dead {
		outcome = "dead"
	}
	tx.note(tx.of(Happened{What: HasSettled, Tx: d.Tx, Flow: d.Flow, Step: d.Step, At: *d.FirstAt,
		Took: now.Sub(*d.FirstAt), Delivery: d.ID, Target: d.Target, Outcome: outcome, N: d.Total}))
}
