package intake

import (
	"errors"
	"time"

	"readyferry/core/timing"
	"readyferry/engine/journal"
	"readyferry/store"
)

// firstLoad says when a load begins by itself for the first time; nil: when a person begins
// it.
func (k *Intakes) firstLoad(n *NewLoad) (*time.Time, error) {
	switch {
	case n.Cron != "" && n.Format != "query":
		return nil, errors.New("a file is loaded once; only a query begins again and again")
	case n.Cron != "" && !n.At.IsZero():
		return nil, errors.New("say either when it begins, or how often")
	case n.Cron != "":
		s, err := timing.Cron(n.Cron, n.Zone)
		if err != nil {
			return nil, err
		}
		next := s.Next(k.Now())
		if next.IsZero() {
			return nil, errors.New("it is never due within five years")
		}
		return &next, nil
	case !n.At.IsZero():
		return &n.At, nil
	}
	return nil, nil
}

// nextLoad says when a load begins the next time; nil: never.
func nextLoad(l *store.Load, now time.Time) *time.Time {
	if l.Cron == "" {
		return nil
	}
	s, err := timing.Cron(l.Cron, l.Zone)
	if err != nil {
		return nil
	}
	next := s.Next(now)
	if next.IsZero() {
		return nil
	}
	return &next
}

// dueAtOnce is how many loads are begun at one look.
const dueAtOnce = 20

// beginDue begins loads that are due, and says when the next one is. A time that passed while
// nothing ran is made up for once.
func (k *Intakes) beginDue() (more bool, next time.Time, err error) {
	list, err := k.Store.DueLoads(dueAtOnce)
	if err != nil {
		return false, next, err
	}
	now := k.Now()
	for i := range list {
		if list[i].NextAt.After(now) {
			if next.IsZero() || list[i].NextAt.Before(next) {
				next = *list[i].NextAt
			}
			continue
		}
		err := k.Store.Write(k.Life.Taking(), func(tx *store.Tx) error {
			l, err := tx.Load(list[i].ID)
			if err != nil || l.NextAt == nil || l.State != store.LoadScheduled && l.State != store.LoadFailed {
				return err
			}
			l.State, l.Error, l.FinishedAt, l.NextAt = store.LoadRunning, "", nil, nextLoad(&l, now)
			return tx.SaveLoad(&l)
		})
		if err != nil {
			return false, next, err
		}
		k.Announce(journal.EventLoads)
		k.goOnLoading(list[i].ID)
		more = true // there may be others
	}
	return more, next, nil
}
