package intake

import (
	"context"
	"errors"

	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// What a poll brings is taken in a little at a time, so that the one writer is never
// held for long. A few messages begin in the commit that moves the mark. Many are kept
// first, as they came, in commits of their own that count for nothing until the last
// one moves the mark; then they begin, some at a time. After a crash in between,
// either the mark has not moved and what was kept is dropped, or all of it is there.

// atOneGo is how many messages begin in the commit that moves a mark.
const atOneGo = 32

// stageBatch is how much one commit keeps: so many messages, of so many bytes.
const (
	stageBatch = 250
	stageBytes = 1 << 20
)

// takeAll takes messages and notes how far the clock has come: all of it or nothing.
func (k *Intakes) takeAll(
	f *catalog.Flow,
	n int,
	make func(i int) (journal.Arrival, error),
	come func(tx *store.Tx, c *store.Clock) error,
) error {
	if n > atOneGo {
		return k.stage(f, n, make, come)
	}
	return k.Do(k.Life.Taking(), f.Name, func(s *journal.Session) error {
		for i := range n {
			a, err := make(i)
			if err != nil {
				return err
			}
			if err := s.Take(f, a, nil, nil); err != nil {
				return err
			}
		}
		s.Then(func(tx *store.Tx, _ *journal.Notice) error {
			c, err := tx.Clock(f.Name)
			if err != nil {
				return err
			}
			c.Taken += int64(n)
			if n > 0 {
				c.Brought = n
			}
			if err := come(tx, &c); err != nil {
				return err
			}
			return tx.SaveClock(&c)
		})
		return nil
	})
}

// stage keeps many messages, moves the mark, and begins them.
func (k *Intakes) stage(
	f *catalog.Flow,
	n int,
	make func(i int) (journal.Arrival, error),
	come func(tx *store.Tx, c *store.Clock) error,
) error {
	ctx := k.Life.Taking()
	if err := k.unstage(ctx, f.Name); err != nil {
		return err
	}
	for at := 0; at < n; {
		var some []store.StagedItem
		for size := 0; at < n && len(some) < stageBatch && size < stageBytes; at++ {
			a, err := make(at)
			if err != nil {
				return err
			}
			some = append(some, store.StagedItem{Flow: f.Name, N: at, Body: a.Body, Source: a.Source})
			size += len(a.Body)
		}
		if err := k.Store.Write(ctx, func(tx *store.Tx) error { return tx.Stage(some) }); err != nil {
			return err
		}
	}
	err := k.Store.Write(ctx, func(tx *store.Tx) error {
		c, err := tx.Clock(f.Name)
		if err != nil {
			return err
		}
		if c.Staged, c.Brought = n, n; come != nil {
			err = come(tx, &c)
		}
		return errors.Join(err, tx.SaveClock(&c))
	})
	if err != nil {
		return err
	}
	return k.takeStaged(f)
}

// unstage drops messages that were kept, and for which no mark was moved.
func (k *Intakes) unstage(ctx context.Context, flow string) error {
	for more := true; more; {
		err := k.Store.Write(ctx, func(tx *store.Tx) (err error) {
			more, err = tx.Unstage(flow, stageBatch)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// takeStaged begins the messages that are kept, until none is left.
func (k *Intakes) takeStaged(f *catalog.Flow) error {
	for !k.Life.Ending() {
		if err := errors.Join(k.untilRoom(k.Life.Taking()), k.paced(k.Life.Taking(), f)); err != nil {
			return err
		}
		left, taken, bytes := 0, 0, int64(0)
		err := k.Do(k.Life.Taking(), f.Name, func(s *journal.Session) error {
			items, err := k.Store.Staged(f.Name, atOneGo)
			if err != nil || len(items) == 0 {
				return err
			}
			taken, bytes = 0, 0
			for i := range items {
				if i > 0 && (i >= mostAtOnce(f, atOneGo) || s.Tired() || s.Crowded()) {
					break
				}
				a := journal.Arrival{Headers: []byte("[]"), Body: items[i].Body, Source: items[i].Source}
				if err := s.Take(f, a, nil, nil); err != nil {
					return err
				}
				taken, bytes = taken+1, bytes+int64(len(a.Body))
			}
			first, last := items[0].N, items[taken-1].N
			s.Then(func(tx *store.Tx, _ *journal.Notice) error {
				c, err := tx.Clock(f.Name)
				if err != nil {
					return err
				}
				gone, err := tx.TakeStaged(f.Name, first, last)
				if err != nil || gone != taken {
					return staleOr(err)
				}
				c.Taken += int64(taken)
				c.Staged = max(0, c.Staged-taken)
				left = c.Staged
				return tx.SaveClock(&c)
			})
			return nil
		})
		if err != nil || left == 0 {
			return err
		}
		if now := k.Catalog.Flow(f.Name); now == nil || now.Live == nil || now.Paused {
			return nil // they begin when it goes on
		}
	}
	return nil
}
