package journal

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"readyferry/core/flow"
	"readyferry/core/run"
	"readyferry/store"
)

// own is the state of a transaction with parts, without them.
type own struct {
	State      store.State `json:"state"`
	Reason     string      `json:"reason,omitempty"`
	Place      string      `json:"place,omitempty"`
	PlaceText  string      `json:"placeText,omitempty"`
	FinishedAt *int64      `json:"finishedAt,omitempty"` // microseconds, as times stand in the file
}

// finished gives when it ended without its parts; nil while it has not.
func (o *own) finished() *time.Time {
	if o.FinishedAt == nil {
		return nil
	}
	at := time.UnixMicro(*o.FinishedAt).UTC()
	return &at
}

// whole gives a transaction with parts the state of its most troubled one.
func (w *Writing) whole() error {
	t := w.T
	var mine own
	if err := json.Unmarshal(t.Own, &mine); err != nil {
		return err
	}
	t.State, t.Reason, t.Place, t.PlaceText, t.FinishedAt = mine.State, mine.Reason, mine.Place, mine.PlaceText,
		mine.finished()
	all, err := w.Tx.Splits(t.ID)
	if err != nil {
		return err
	}
	var sum store.Split
	for _, s := range all {
		sum.Total, sum.Next = sum.Total+s.Total, sum.Next+s.Next
		sum.UnderWay, sum.Waiting, sum.Delivered = sum.UnderWay+s.UnderWay, sum.Waiting+s.Waiting, sum.Delivered+s.Delivered
		sum.TurnedAway, sum.Dead = sum.TurnedAway+s.TurnedAway, sum.Dead+s.Dead
	}
	switch {
	case mine.State == store.DeadLetter:
	case sum.Dead > 0:
		return w.troubled(store.DeadLetter)
	case mine.State == store.Waiting:
	case sum.Waiting > 0:
		return w.troubled(store.Waiting)
	case mine.State == store.UnderWay:
	case sum.UnderWay > 0 || sum.Next < sum.Total:
		t.State, t.Reason, t.FinishedAt = store.UnderWay, "", nil
		t.PlaceText = "parts of the message"
	case mine.FinishedAt != nil:
		now := w.Now()
		t.FinishedAt = &now // the last of all has ended now
		if sum.Total > 0 && sum.TurnedAway == sum.Total && mine.State == store.Delivered {
			return w.allTurnedAway(sum.Total)
		}
	}
	return nil
}

// allTurnedAway says of a whole that none of its parts came through. One that has
// delivered something besides stays delivered, and says it all the same.
func (w *Writing) allTurnedAway(parts int) error {
	p := w.Plan()
	if p == nil || p.Rules < flow.Rules2 {
		return nil
	}
	first, err := w.Tx.WorstPart(w.T.ID, store.TurnedAway)
	if err != nil {
		return err
	}
	if w.T.Reason = run.AllTurnedAway(parts, first.Reason); w.T.Tries == 0 {
		w.T.State = store.TurnedAway
	}
	return nil
}

// troubled shows the first part that is in a state.
func (w *Writing) troubled(state store.State) error {
	p, err := w.Tx.WorstPart(w.T.ID, state)
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	t := w.T
	t.State, t.FinishedAt, t.Place, t.PlaceText = state, nil, p.Place, fmt.Sprintf(
		"part %d, %s",
		p.PartIndex+1,
		p.PlaceText,
	)
	if t.Reason = p.Reason; p.Reason != "" {
		t.Reason = fmt.Sprintf("part %d: %s", p.PartIndex+1, p.Reason)
	}
	return nil
}

// tellWhole notes that a part has come to another state: its whole learns of it
// once, at the end of the commit, however many parts have moved in it.
func (w *Writing) tellWhole() {
	w.Notice.Split = true // the next in order, or one that was stopped, may begin
	splits := w.Notice.wholes[*w.T.Parent]
	if splits == nil {
		splits = map[string]bool{}
		w.Notice.wholes[*w.T.Parent] = splits
	}
	if w.T.State == store.Delivered || w.T.State == store.TurnedAway {
		splits[w.T.SplitPath] = true
	}
}

// settleWholes gives each whole the state that its parts leave it in. A whole
// that is itself a part tells its own.
func (j *Journal) settleWholes(tx *store.Tx, n *Notice) error {
	for len(n.wholes) > 0 {
		told := n.wholes
		n.wholes = map[store.ID]map[string]bool{}
		for id, splits := range told {
			if err := j.settleWholeOf(tx, n, id, splits); err != nil {
				return err
			}
		}
	}
	return nil
}

func (j *Journal) settleWholeOf(tx *store.Tx, n *Notice, id store.ID, splits map[string]bool) error {
	for path := range splits {
		s, err := tx.Split(id, path)
		if err != nil {
			return err
		}
		if s.Gathers {
			if err := AllParts(tx, n, &s, j.Now()); err != nil {
				return err
			}
		}
	}
	up, err := j.Open(tx, n, id)
	if err != nil {
		return err
	}
	was := *up.T
	if err := up.whole(); err != nil {
		return err
	}
	if up.T.State == was.State && up.T.Reason == was.Reason && up.T.Place == was.Place &&
		up.T.PlaceText == was.PlaceText {
		return nil
	}
	if err := up.save(was.State, nil); err != nil {
		return err
	}
	return up.settleOthers()
}

// AllParts lets the groups close that wait for all parts of a split, when no more
// can come. There may be many, so that they are closed behind the commit.
func AllParts(tx *store.Tx, n *Notice, s *store.Split, now time.Time) error {
	if s.Next < s.Total || s.Awaited() > 0 {
		return nil
	}
	n.Gather = true
	if err := tx.AllGathered(s); err != nil { // so that it is asked for once
		return err
	}
	return tx.CloseScope(Scope(s.Tx, s.Path), now, "all parts are here")
}

// Scope names the parts of one split among the members of groups.
func Scope(parent store.ID, split string) string { return parent.String() + " " + split }
