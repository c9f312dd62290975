package perform

import (
	"errors"
	"fmt"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
	"readyferry/store/body"
)

// spawn lets the parts of a message begin: they do behind the commit.
type spawn struct{ *Performers }

// Foresee implements journal.Performer.
func (spawn) Foresee(_ *journal.Move, asked want.Asked) (journal.Outcome, error) {
	return journal.Outcome{Effect: &want.Effect{Item: fmt.Sprint(len(asked.Want.(*want.Spawn).Items))}}, nil
}

// Perform implements journal.Performer.
func (spawn) Perform(w *journal.Writing, asked want.Asked, foreseen journal.Outcome) (journal.Outcome, error) {
	parts := asked.Want.(*want.Spawn)
	s := &store.Split{
		Tx: w.T.ID, Path: asked.Path, Version: w.T.Version, MessageN: w.Move.MessageN,
		Total: len(parts.Items), InOrder: parts.InOrder, Stop: parts.Stop,
	}
	w.T.Parts += s.Total
	w.Notice.Split = true
	return foreseen, w.Tx.AddSplit(s)
}

// spawnSome begins some parts of every message that has parts to begin, so that
// a small one does not wait for a large one.
func (p *Performers) spawnSome() (more bool, next time.Time, err error) {
	open, err := p.Store.OpenSplits(32)
	if err != nil {
		return false, next, err
	}
	for i := range open {
		if p.Life.Over() {
			return false, next, nil
		}
		one := p.spawn(&open[i])
		if one != nil { // it may have been read while a commit was coming to its end
			p.Store.Settle()
			one = p.spawn(&open[i])
		}
		if one != nil {
			err = errors.Join(err, fmt.Errorf("parts of %s: %w", open[i].Tx, one)) // the others go on
		} else {
			more = true
		}
	}
	return more, next, err
}

// partBatch is how many parts one database transaction begins.
const partBatch = 50

func (p *Performers) spawn(open *store.Split) error {
	parent, err := p.Store.Transaction(open.Tx)
	if err != nil {
		return err
	}
	version, err := p.Catalog.Plan(parent.Flow, open.Version)
	if err != nil {
		return err
	}
	return p.Do(p.Life.Context(), parent.Flow, func(s *journal.Session) error {
		split, err := p.Store.Split(open.Tx, open.Path)
		if err != nil {
			return err
		}
		reached, err := p.Reach(&split, split.Version, version)
		if err != nil {
			return err
		}
		most := partBatch
		if s.Crowded() || split.InOrder {
			most = 1
		}
		for begun := 0; begun < most && split.MayBegin() && split.Next < len(reached.Parts.Items) && (begun == 0 ||
			!s.Tired()); begun++ {
			if err := p.beginPart(s, &parent, &split, reached, version); err != nil {
				return fmt.Errorf("part %d: %w", split.Next, err)
			}
		}
		return nil
	})
}

// beginPart makes the next part of a split and takes it as far as it goes.
func (p *Performers) beginPart(
	s *journal.Session,
	parent *store.Transaction,
	split *store.Split,
	reached *run.Reached,
	version *plan.Plan,
) error {
	i := split.Next
	split.Next++
	s.Then(func(tx *store.Tx, _ *journal.Notice) error {
		now, err := tx.Split(split.Tx, split.Path)
		if err != nil || now.Next != i || !now.MayBegin() {
			return staleOr(err)
		}
		now.Next++
		return tx.AdvanceSplit(&now)
	})
	root := parent.Root()
	t := store.Transaction{
		ID: store.NewID(), Journey: &root, Flow: parent.Flow, Version: split.Version, Reference: parent.Reference,
		OrderValue: parent.OrderValue,
		ReceivedAt: s.Now(), Parent: &split.Tx, SplitPath: split.Path, PartIndex: i,
	}
	content := jsonfmt.Encode(reached.Parts.Items[i])
	m := inner(t.ID, content, fmt.Sprintf("part %d of %d", i+1, split.Total))
	if err := s.Computes(t.Flow, content); errors.Is(err, journal.ErrSetAside) {
		s.Then(func(tx *store.Tx, n *journal.Notice) error {
			return s.DeadOnArrival(tx, n, &t, m, journal.SetAside(err))
		})
		return nil
	} else if err != nil {
		return err
	}
	_, err := s.New(t, m, version, run.Input{Origin: reached.Origin(i, t.ID.String(), nil)}).Go()
	return err
}

// inner is a message that comes from inside the application and has no headers.
func inner(tx store.ID, content []byte, source string) *store.Message {
	empty := []byte("[]")
	return &store.Message{
		Tx:       tx,
		Body:     body.OfMessage(content),
		Headers:  empty,
		Params:   empty,
		Query:    empty,
		Warnings: empty,
		Source:   source,
	}
}

func staleOr(err error) error {
	if err != nil {
		return err
	}
	return journal.ErrStale
}
