package journal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"readyferry/store"
)

// Others are the engines that work on the other partitions of a fleet's messages. What people decide
// about a message is decided in the first partition, and done where the message is.
type Others interface {
	// Ask has the engine of a partition do something. The error wraps ErrDecision, ErrNotFound or ErrConflict
	// where that one's did.
	Ask(ctx context.Context, partition int, a Asked) (Done, error)
}

// The things that another partition is asked to do.
const (
	AskResend   = "resend"
	AskDiscard  = "discard"
	AskRestore  = "restore"
	AskNote     = "note"
	AskAssign   = "assign"
	AskAgain    = "again"     // to send a message once more from its beginning
	AskTry      = "try"       // to try a delivery now
	AskSkipWait = "skip-wait" // to let what waits for a target be tried now
	AskGiveUp   = "give-up"   // to make dead letters of all that waits for a target
	AskErase    = "erase"     // to begin to take a value out of what is kept
	AskErasing  = "erasing"   // how that goes
	AskNoMore   = "no-more"   // to stop it
	AskStanding = "standing"  // how its connections and lanes are
	AskPassed   = "passed"    // what has happened behind a place
	AskClose    = "close"     // to close a group now
	AskSkipGap  = "skip-gap"  // to give up the number that a line waits for
	AskLeave    = "leave"     // to let the source of a flow go, and tell how far it has come
	AskLeft     = "left"      // to forget that
	AskRunNow   = "run-now"   // to let a clock be due
	AskSetMark  = "set-mark"  // to set how far a source has come
	AskLoad     = "load"      // to take records of a load
	AskDesign   = "design"    // to take over what is designed up to a place in the log of the first partition
)

// Asked is what another partition is asked to do.
type Asked struct {
	What string
	Decision
	To      string   // who is to look after letters
	ID      store.ID // of a message, a delivery or a group; of what has happened: the run of its engine that was heard last
	Made    store.ID // the id of what is sent again
	NewKeys bool     // of that
	Target  string
	Flow    string // of what is erased
	Value   string // that is erased; of rows that a source has seen, the last one that is known
	Preview bool
	Line    LineKey         // of which a number is given up
	Behind  int64           // what is known already: a place in the log, in what has happened, or how many calls were refused
	Given   json.RawMessage `json:",omitempty"` // what is handed over
	Packed  bool            // what has happened is wanted packed; one of an earlier release does not know that
	// Repeated tells that it may have been asked before: letters that are already as they were to be are left.
	Repeated bool
}

// Done is what came of it.
type Done struct {
	Made store.ID        // the new transaction
	N    int             // how many
	Said json.RawMessage `json:",omitempty"` // what was asked for
}

// partitionOf gives the partition that has a row, by its id.
func (j *Journal) partitionOf(table string, id store.ID) (int, error) {
	return j.partitionBy(func(v store.View) (int, error) { return v.PartitionOf(table, id) })
}

// partitionBy gives the partition that a look into all of them finds.
func (j *Journal) partitionBy(find func(v store.View) (int, error)) (int, error) {
	if j.Others == nil {
		return j.Partition.This, nil
	}
	part, err := find(j.Store.All())
	if errors.Is(err, ErrNotFound) { // it is this one that says so
		return j.Partition.This, nil
	}
	return part, err
}

// spread tells which letters of a decision are in which other partition; the rest is own.
func (j *Journal) spread(d Decision) (own []store.ID, others map[int][]store.ID, err error) {
	others = map[int][]store.ID{}
	for _, id := range d.IDs {
		part, err := j.partitionOf("letters", id)
		if err != nil {
			return nil, nil, fmt.Errorf("dead letter %s: %w", id, err)
		}
		if part == j.Partition.This {
			own = append(own, id)
		} else {
			others[part] = append(others[part], id)
		}
	}
	return own, others, nil
}

// elsewhere has the other partitions do what is decided about letters that are there, and gives what is left
// to be done here. Each does its part for all of its letters or for none.
func (j *Journal) elsewhere(ctx context.Context, a Asked) (left []store.ID, err error) {
	own, others, err := j.spread(a.Decision)
	if err != nil {
		return nil, err
	}
	for part, ids := range others {
		one := a
		one.IDs = ids
		if _, err := j.Others.Ask(ctx, part, one); err != nil {
			return nil, err
		}
	}
	return own, nil
}

// Elsewhere tells whether another partition has a row.
func (j *Journal) Elsewhere(table string, id store.ID) (bool, error) {
	part, err := j.partitionOf(table, id)
	return part != j.Partition.This, err
}

// ElsewhereDo has another partition do something about a row that it has; there tells that it did.
func (j *Journal) ElsewhereDo(ctx context.Context, table string, id store.ID, a Asked) (there bool, err error) {
	part, err := j.partitionOf(table, id)
	return j.doneBy(ctx, part, err, a)
}

// SkippedElsewhere has another partition give up the number that a line waits for; there tells that it did.
func (j *Journal) SkippedElsewhere(ctx context.Context, k LineKey) (there bool, err error) {
	part, err := j.partitionBy(func(v store.View) (int, error) { return v.PartitionOfLine(k.Flow, k.Path, k.Key) })
	return j.doneBy(ctx, part, err, Asked{What: AskSkipGap, Line: k})
}

func (j *Journal) doneBy(ctx context.Context, part int, err error, a Asked) (there bool, _ error) {
	if err != nil || part == j.Partition.This {
		return false, err
	}
	_, err = j.Others.Ask(ctx, part, a)
	return true, err
}

// EverywhereDo has all other partitions do something, and gives how many things they have done it to.
func (j *Journal) EverywhereDo(ctx context.Context, a Asked) (n int, err error) {
	err = j.AskAll(ctx, a, func(d Done) error { n += d.N; return nil })
	return n, err
}

// AskAll asks all other partitions, and hands on what each says. The error tells of those that did not answer, or
// refused.
func (j *Journal) AskAll(ctx context.Context, a Asked, heard func(Done) error) error {
	if j.Others == nil {
		return nil
	}
	var errs []error
	for part := range j.Partition.Of {
		if part == j.Partition.This {
			continue
		}
		done, err := j.Others.Ask(ctx, part, a)
		if err == nil {
			err = heard(done)
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// DoAsked does what the first partition asks for.
func (j *Journal) DoAsked(ctx context.Context, a Asked) (out Done, err error) {
	d := a.Decision
	if a.Repeated {
		if d.IDs, err = j.notYet(a); err != nil || len(d.IDs) == 0 && a.What != AskAgain {
			return out, err
		}
	}
	switch a.What {
	case AskResend:
		_, err = j.Resend(ctx, d)
	case AskDiscard:
		err = j.Discard(ctx, d)
	case AskRestore:
		err = j.Restore(ctx, d)
	case AskNote:
		err = j.Note(ctx, d)
	case AskAssign:
		err = j.Assign(ctx, d, a.To)
	case AskAgain:
		out.Made = a.Made
		if _, err = j.Store.Transaction(a.Made); errors.Is(err, ErrNotFound) {
			err = j.Again(ctx, a.ID, a.Made, d, a.NewKeys, nil)
		}
	default:
		err = fmt.Errorf("%w: %q is nothing that can be asked for", ErrDecision, a.What)
	}
	return out, err
}

// notYet gives the letters to which nothing has been done yet.
func (j *Journal) notYet(a Asked) (left []store.ID, err error) {
	for _, id := range a.IDs {
		l, err := j.Store.Letter(id)
		if err != nil {
			return nil, fmt.Errorf("dead letter %s: %w", id, err)
		}
		if l.State == store.LetterOpen {
			left = append(left, id)
		}
	}
	return left, nil
}
