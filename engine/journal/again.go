package journal

import (
	"context"
	"fmt"

	"readyferry/core/run"
	"readyferry/store"
)

// Again sends a message once more from its beginning, as a transaction of its own: under the
// version that it had or the live one, changed as the decision says. newKeys lets targets
// take its deliveries for new ones; else they go out under the keys that they had, by which
// a target tells a repeat. also is done in the same commit, with the id of the new
// transaction; nil for nothing. made is that id: where the message is in another partition, and there is such a
// transaction already, it was sent before and is not sent once more.
//
// What was once per value is not asked again: that it came before is known.
func (j *Journal) Again(
	ctx context.Context,
	id, made store.ID,
	d Decision,
	newKeys bool,
	also func(tx *store.Tx, made store.ID) error,
) error {
	if part, err := j.partitionOf("transactions", id); err != nil {
		return err
	} else if part != j.Partition.This {
		done, err := j.Others.Ask(ctx, part, Asked{What: AskAgain, Decision: d, ID: id, Made: made, NewKeys: newKeys})
		if err != nil || also == nil {
			return err
		}
		return j.only(ctx, func(tx *store.Tx) error { return also(tx, done.Made) })
	}
	old, err := j.Store.Transaction(id)
	if err != nil {
		return err
	}
	if old.Parent != nil || old.FromGroup || old.OfLetter != nil {
		return fmt.Errorf("%w: a part, a group and what tells of a dead letter are not sent again by themselves; "+
			"send the whole message", ErrDecision)
	}
	d.IDs = []store.ID{id}
	patch, err := d.Check()
	if err != nil {
		return err
	}
	return j.Do(ctx, old.Flow, func(s *Session) error {
		p, version, err := s.VersionFor(&old, d.Version)
		if err != nil {
			return err
		}
		m, err := s.Store.Message(id)
		if err != nil {
			return err
		}
		content, err := s.Repaired(d, &old, &m, p, patch)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrDecision, err)
		}
		e, err := decodeEnvelope(&old, &m)
		if err != nil {
			return err
		}
		e.ID, e.Body, e.ReceivedAt = made.String(), content, s.Now()
		received, err := run.Receive(p, e)
		if err != nil {
			return fmt.Errorf("%w: the intake would refuse the message: %w", ErrDecision, err)
		}
		in, err := NewTransaction(old.Flow, version, made, e, received, "sent again by "+d.who())
		if err != nil {
			return err
		}
		root := old.Root()
		in.Tx.Origin, in.Tx.Journey = &old.ID, &root
		if !newKeys {
			keys := old.ID
			if old.KeysOf != nil {
				keys = *old.KeysOf
			}
			in.Tx.KeysOf = &keys
		}
		s.Then(func(_ *store.Tx, n *Notice) error {
			n.Events[EventTransactions] = true
			return nil
		})
		if also != nil {
			s.Then(func(tx *store.Tx, _ *Notice) error { return also(tx, made) })
		}
		_, err = s.Begin(in, p)
		return err
	})
}
