package perform

import (
	"context"
	"errors"
	"time"

	"readyferry/core/flow"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// retention lets go what has ended and need not be kept any longer. It works in small
// writes and pauses for as long as each took, so that nobody waits for it.
type retention struct {
	*Performers
	seen map[seenKey]store.ID // up to where all has been looked at, since the last look from the start
	anew time.Time            // when that was
}

type seenKey struct {
	flow  string
	state store.State
}

// How retention goes about it.
const (
	retainEvery = time.Minute
	lookAnew    = time.Hour // what ended long after it came is found by looking from the start
	pruneAtOnce = 100       // transactions of one write
	sweepAtOnce = 64        // contents, or pieces of them
	bytesAtOnce = 1 << 20   // given back by one write
	rowsAtOnce  = 500
)

func (p *Performers) pruner() {
	r := &retention{Performers: p, seen: map[seenKey]store.ID{}}
	tick := time.NewTicker(retainEvery)
	defer tick.Stop()
	for {
		select {
		case <-p.Life.Context().Done():
			return
		case <-tick.C:
			if err := r.pass(p.Life.Context()); err != nil && !p.Life.Over() {
				p.Log.Error("removing what is not kept any longer", "error", err)
			}
		}
	}
}

// pass goes once over everything.
func (r *retention) pass(ctx context.Context) error {
	if r.Now().Sub(r.anew) >= lookAnew {
		clear(r.seen)
		r.anew = r.Now()
	}
	all, err := r.Store.Flows()
	if err != nil {
		return err
	}
	var errs []error
	for i := range all {
		if f := r.Catalog.Flow(all[i].Name); f != nil && f.Live != nil {
			errs = append(errs, r.flow(ctx, f, all[i].KeepsAll))
		}
	}
	if r.Partition.First() { // the others take over what it keeps
		errs = append(errs, r.tables(ctx))
	}
	errs = append(errs,
		r.some(ctx, func(tx *store.Tx) (bool, error) { return tx.SweepBodies(sweepAtOnce) }),
		r.some(ctx, func(tx *store.Tx) (bool, error) { return tx.PruneCounts(rowsAtOnce) }), r.giveBack(ctx))
	return errors.Join(errs...)
}

// flow lets go what is old of a flow, and then the oldest while there is too much.
func (r *retention) flow(ctx context.Context, f *catalog.Flow, all bool) error {
	d := f.Live.Document
	within := d.Keep.Within(all)
	if within != flow.Forever {
		if d.Intake.Once != "" {
			within = max(within, d.Intake.OnceFor) // a repeat gets the answer of the first one
		}
		before := r.Now().Add(-within)
		for _, state := range []store.State{store.Delivered, store.TurnedAway} {
			if err := r.older(ctx, f.Name, state, before); err != nil {
				return err
			}
		}
		err := r.some(ctx, func(tx *store.Tx) (bool, error) { return tx.PruneLoads(f.Name, before, rowsAtOnce) })
		if err != nil {
			return err
		}
	}
	if d.Keep.Bytes > 0 {
		return r.above(ctx, f.Name, r.mostOf(f, d.Keep.Bytes))
	}
	return nil
}

// mostOf gives how many bytes of a flow this partition may keep: of one that is spread the others have their shares.
func (r *retention) mostOf(f *catalog.Flow, bytes int64) int64 {
	if r.Partition.Whole() || !r.Catalog.Place(f).Spread {
		return bytes
	}
	return bytes / int64(r.Partition.Of)
}

// older removes what ended before a moment.
func (r *retention) older(ctx context.Context, name string, state store.State, before time.Time) error {
	key := seenKey{name, state}
	for {
		ended, err := r.Store.EndedOf(name, state, r.seen[key], pruneAtOnce)
		if err != nil || len(ended) == 0 {
			return err
		}
		last, going := r.seen[key], make([]store.ID, 0, len(ended))
		for _, e := range ended {
			if !e.ReceivedAt.Before(before) { // those behind it came later still
				break
			}
			if last = e.ID; e.FinishedAt.Before(before) {
				going = append(going, e.ID)
			}
		}
		if err := r.prune(ctx, going); err != nil {
			return err
		}
		if r.seen[key] = last; last != ended[len(ended)-1].ID {
			return nil
		}
	}
}

// above removes the oldest of a flow while its messages are more than so many bytes.
func (r *retention) above(ctx context.Context, name string, most int64) error {
	var behind store.ID
	for {
		is, err := r.Store.BytesOf(name)
		if err != nil || is <= most {
			return err
		}
		ended, err := r.Store.OldestEnded(name, behind, pruneAtOnce/4)
		if err != nil || len(ended) == 0 {
			return err
		}
		var going []store.ID
		for over := is - most; len(ended) > 0 && over > 0; ended = ended[1:] {
			behind, over = ended[0].ID, over-ended[0].Bytes
			going = append(going, behind)
		}
		if err := r.prune(ctx, going); err != nil {
			return err
		}
	}
}

// prune removes transactions, some at a time; one with many parts takes several writes.
func (r *retention) prune(ctx context.Context, ids []store.ID) error {
	for len(ids) > 0 {
		err := r.paced(ctx, func(tx *store.Tx) (err error) {
			rest := ids
			for budget, done := pruneAtOnce, true; len(rest) > 0 && budget > 0; {
				if budget, done, err = tx.Prune(rest[0], budget); err != nil {
					return err
				}
				if !done {
					break
				}
				rest = rest[1:]
			}
			ids = rest
			return nil
		})
		if err != nil {
			return err
		}
		r.Announce(journal.EventTransactions)
	}
	return nil
}

// tables lets go what only old versions of tables had.
func (r *retention) tables(ctx context.Context) error {
	tables, err := r.Store.Tables()
	if err != nil {
		return err
	}
	for i := range tables {
		keep, err := r.Store.KeepOf(&tables[i])
		if err != nil {
			return err
		}
		within := keep.Within(tables[i].KeepsAll)
		if within == flow.Forever || tables[i].Loading > 0 {
			continue
		}
		before := r.Now().Add(-within)
		err = r.some(ctx, func(tx *store.Tx) (bool, error) { return tx.PruneTable(tables[i].Name, before, rowsAtOnce) })
		if err != nil {
			return err
		}
	}
	return nil
}

// giveBack shortens the file while much of it holds nothing.
func (r *retention) giveBack(ctx context.Context) error {
	for given := false; ; given = true {
		began := r.Now()
		more, err := r.Store.GiveBack(ctx, bytesAtOnce)
		if err != nil {
			return err
		}
		if !more && given {
			return r.Store.WriteBack(ctx)
		} else if !more {
			return nil
		}
		if err := r.rest(ctx, r.Now().Sub(began)); err != nil {
			return err
		}
	}
}

// some works in writes until there is no more to do.
func (r *retention) some(ctx context.Context, work func(tx *store.Tx) (more bool, err error)) error {
	for more := true; more; {
		err := r.paced(ctx, func(tx *store.Tx) (err error) {
			more, err = work(tx)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// paced writes, and rests for as long as it took.
func (r *retention) paced(ctx context.Context, work func(tx *store.Tx) error) error {
	began := r.Now()
	if err := r.Store.Write(ctx, work); err != nil {
		return err
	}
	return r.rest(ctx, r.Now().Sub(began))
}

func (r *retention) rest(ctx context.Context, took time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(max(took, time.Millisecond)):
		return nil
	}
}
