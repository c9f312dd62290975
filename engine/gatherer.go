package engine

import (
	"errors"
	"sync"
	"time"

	"readyferry/store"
)

// gatherer closes groups when their time has come, lets their members go, and
// gives up gaps, until the engine stops.
func (e *Engine) gatherer() {
	for {
		more, err := e.gatherSome()
		if err != nil && e.ctx.Err() == nil {
			e.log.Error("closing groups", "error", err)
		}
		wait := idle
		if err == nil && !more {
			if at, err := e.store.NextGather(); err == nil && at != nil {
				wait = max(min(idle, at.Sub(e.clock())), time.Millisecond)
			}
		}
		if more && err == nil {
			wait = 0
		}
		select {
		case <-e.ctx.Done():
			return
		case <-e.gather:
		case <-time.After(wait):
		}
	}
}

func (e *Engine) wakeGatherer() {
	select {
	case e.gather <- struct{}{}:
	default:
	}
}

func (e *Engine) gatherSome() (more bool, err error) {
	due, err := e.store.DueGroups(e.clock(), 50)
	if err != nil {
		return false, err
	}
	leaving, err := e.store.LeavingGroups(20)
	if err != nil {
		return false, err
	}
	late, err := e.store.DueHeld(e.clock(), 20)
	if err != nil {
		return false, err
	}
	over, err := e.store.DueLimits(e.clock(), 20)
	if err != nil {
		return false, err
	}
	// They are asked for together, so that they share a commit; each stands alone.
	var all sync.WaitGroup
	errs := make(chan error, len(due)+len(leaving)+len(late)+len(over))
	do := func(work func(tx *store.Tx, after *aftermath) error) {
		all.Go(func() {
			after := newAftermath()
			err := e.store.Write(e.ctx, func(tx *store.Tx) error {
				*after = *newAftermath()
				return work(tx, after)
			})
			if err == nil {
				e.after(after)
			}
			errs <- err
		})
	}
	for _, g := range due {
		do(func(tx *store.Tx, after *aftermath) error {
			now, err := tx.Group(g.ID)
			if err != nil || now.CloseAt == nil || now.CloseAt.After(e.clock()) {
				return err // another member has come meanwhile
			}
			return e.closeGroup(tx, g.ID, now.CloseWhy, after)
		})
	}
	for _, g := range leaving {
		do(func(tx *store.Tx, after *aftermath) error { return e.leave(tx, g.ID, after) })
	}
	for _, h := range late {
		do(func(tx *store.Tx, after *aftermath) error { return e.gapOver(tx, h.N, after) })
	}
	for _, l := range over {
		do(func(tx *store.Tx, after *aftermath) error { return e.timeOver(tx, &l, after) })
	}
	all.Wait()
	close(errs)
	for one := range errs {
		err = errors.Join(err, one)
	}
	return cap(errs) > 0, err
}
