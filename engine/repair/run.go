package repair

import (
	"context"
	"time"

	"readyferry/engine/journal"
	"readyferry/store"
)

// asksEach is how often a connection is asked whether it answers again, where a repair waits
// for that.
const asksEach = 15 * time.Second

// Start lets what an earlier run of the application had begun go on.
func (r *Repairs) Start() error {
	r.Life.Go(func() {
		for {
			next, err := r.turn()
			if err != nil && !ended(err) {
				r.Log.Error("looking for repairs", "error", err)
				next = r.Now().Add(asksEach)
			}
			var due <-chan time.Time
			if !next.IsZero() {
				due = time.After(next.Sub(r.Now()))
			}
			select {
			case <-r.Life.Closing():
				return
			case <-due:
			case <-r.wake:
			}
		}
	})
	return nil
}

// turn begins what may begin, and tells when to look again; zero where nothing is planned.
func (r *Repairs) turn() (next time.Time, err error) {
	rows, err := r.Store.Repairs(nil, true, nil, 1000)
	if err != nil {
		return next, err
	}
	for i := range rows {
		row := &rows[i]
		r.mu.Lock()
		runs := r.running[row.ID] != nil
		r.mu.Unlock()
		if runs {
			continue
		}
		if at := r.waitsUntil(row); !at.IsZero() {
			if next.IsZero() || at.Before(next) {
				next = at
			}
			continue
		}
		if err := r.set(row); err != nil {
			return next, err
		}
	}
	return next, nil
}

// waitsUntil tells when a planned repair may begin, or is to be looked at again; zero where
// it may begin now.
func (r *Repairs) waitsUntil(row *store.Repair) time.Time {
	switch {
	case row.State != store.RepairPlanned:
	case row.BeginAt != nil && row.BeginAt.After(r.Now()):
		return *row.BeginAt
	case row.When != "" && !r.answers(r.context(), row.When):
		return r.Now().Add(asksEach)
	}
	return time.Time{}
}

// set lets a repair go on its way.
func (r *Repairs) set(row *store.Repair) error {
	if row.State == store.RepairPlanned {
		err := r.Write(r.context(), func(tx *store.Tx, _ *journal.Notice) error { return tx.BeginRepair(row.ID) })
		if err != nil {
			return err
		}
		row.State = store.RepairRunning
	}
	ctx, stop := context.WithCancel(r.context())
	r.mu.Lock()
	r.running[row.ID] = stop
	r.mu.Unlock()
	r.Life.Go(func() {
		defer func() {
			stop()
			r.mu.Lock()
			delete(r.running, row.ID)
			r.mu.Unlock()
			r.rouse() // it may be planned for another night
		}()
		if err := r.carryOut(ctx, row); err != nil && !ended(err) {
			r.Log.Error("a repair", "repair", row.ID.String(), "error", err)
			select { // it goes on by itself, and not in a circle as fast as it can
			case <-ctx.Done():
			case <-time.After(asksEach):
			}
		}
	})
	return nil
}

// context is done when the application is about to stop.
func (r *Repairs) context() context.Context { return r.Life.Taking() }

// atOnce is how many items are looked for at once.
const atOnce = 50

// carryOut goes through the items of a repair that wait, up to as many as it may in one go.
func (r *Repairs) carryOut(ctx context.Context, row *store.Repair) error {
	d, newKeys, err := decide(row)
	if err != nil {
		return err
	}
	var pace <-chan time.Time
	if row.Pace > 0 {
		t := time.NewTicker(time.Second / time.Duration(row.Pace))
		defer t.Stop()
		pace = t.C
	}
	for done := 0; ; {
		items, err := r.Store.RepairItems(row.ID, true, 0, atOnce)
		if err != nil {
			return err
		}
		if len(items) == 0 {
			return r.end(ctx, row)
		}
		seen := map[store.ID]bool{}
		for i := range items {
			if seen[items[i].Tx] {
				continue // it went with another letter of the same message
			}
			seen[items[i].Tx] = true
			if row.Most > 0 && done >= row.Most {
				return r.tomorrow(ctx, row)
			}
			if pace != nil {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-pace:
				}
			}
			n, err := r.one(ctx, row, items[i], d, newKeys)
			if err != nil {
				return err
			}
			done += n
		}
	}
}

// one does what is decided to an item, and to those of the same message.
func (r *Repairs) one(
	ctx context.Context,
	row *store.Repair,
	item store.RepairItem,
	d journal.Decision,
	newKeys bool,
) (int, error) {
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	all, err := r.Store.RepairItemsOf(row.ID, item.Tx)
	if err != nil {
		return 0, err
	}
	mark := func(tx *store.Tx, state store.RepairItemState, made *store.ID, detail string) error {
		now, err := tx.Repair(row.ID)
		if err != nil {
			return err
		}
		if now.State != store.RepairRunning {
			return context.Canceled // it was stopped meanwhile
		}
		for i := range all {
			all[i].State, all[i].Made, all[i].Detail = state, made, detail
			if err := tx.SaveRepairItem(&all[i]); err != nil {
				return err
			}
		}
		return nil
	}
	isDone := func(tx *store.Tx) error { return mark(tx, store.ItemDone, nil, "") }
	d.IDs = nil
	for i := range all {
		if all[i].Letter != nil {
			d.IDs = append(d.IDs, *all[i].Letter)
		}
	}
	switch row.What {
	case "discard":
		err = r.DiscardAnd(ctx, d, isDone)
	case "again":
		var made store.ID
		if made, err = r.madeBy(ctx, all); err == nil {
			err = r.Again(ctx, item.Tx, made, d, newKeys, func(tx *store.Tx, made store.ID) error {
				return mark(tx, store.ItemDone, &made, "")
			})
		}
	default:
		_, err = r.ResendAnd(ctx, d, isDone)
	}
	if err == nil || ended(err) {
		return len(all), err
	}
	why := err.Error()
	return len(all), r.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		n.Events[journal.EventDeadLetters] = true
		return mark(tx, store.ItemRefused, nil, why)
	})
}

// madeBy gives the id under which a message is sent again. Where another partition does that it is noted before, so that
// it is not sent twice where this one dies before it has heard of it.
func (r *Repairs) madeBy(ctx context.Context, items []store.RepairItem) (made store.ID, err error) {
	if len(items) > 0 && items[0].Made != nil {
		return *items[0].Made, nil
	}
	made = store.NewID()
	there, err := r.Elsewhere("transactions", items[0].Tx)
	if err != nil || !there {
		return made, err
	}
	return made, r.Write(ctx, func(tx *store.Tx, _ *journal.Notice) error {
		for i := range items {
			items[i].Made = &made
			if err := tx.SaveRepairItem(&items[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// end notes that a repair has come to its end.
func (r *Repairs) end(ctx context.Context, row *store.Repair) error {
	return r.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		now, err := tx.Repair(row.ID)
		if err != nil || now.State != store.RepairRunning {
			return err
		}
		at := r.Now()
		now.State, now.EndedAt = store.RepairDone, &at
		n.Events[journal.EventDeadLetters] = true
		return tx.SaveRepair(&now)
	})
}

// tomorrow plans what is left for the same time of the next day, or leaves it where nothing
// more is to be done by itself.
func (r *Repairs) tomorrow(ctx context.Context, row *store.Repair) error {
	return r.Write(ctx, func(tx *store.Tx, _ *journal.Notice) error {
		now, err := tx.Repair(row.ID)
		if err != nil || now.State != store.RepairRunning {
			return err
		}
		now.State = store.RepairStopped
		if now.Nightly && now.BeginAt != nil {
			next := now.BeginAt.Add(24 * time.Hour)
			for !next.After(r.Now()) {
				next = next.Add(24 * time.Hour)
			}
			now.State, now.BeginAt = store.RepairPlanned, &next
		}
		return tx.SaveRepair(&now)
	})
}
