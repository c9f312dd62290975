package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"readyferry/core/expr"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// A load counts its records first, and takes them when a person, or its time, has begun it. Both go on where they stood
// when the process ended.

// goOnLoading works on a load, if nobody does.
func (k *Intakes) goOnLoading(id store.ID) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.Life.Ending() || k.bulk[id] {
		return
	}
	k.bulk[id] = true
	k.Life.Go(func() {
		for {
			err := k.loadSome(id)
			k.mu.Lock()
			l, readErr := k.Store.Load(id)
			if err != nil || readErr != nil || k.Life.Ending() ||
				l.State != store.LoadCounting && l.State != store.LoadRunning {
				delete(k.bulk, id)
				k.mu.Unlock()
				k.Announce(journal.EventLoads)
				return
			}
			k.mu.Unlock()
		}
	})
}

// loadSome counts or loads until the load ends, or its state changes. An error
// ends it as failed: what was loaded stays, and it can be resumed there.
func (k *Intakes) loadSome(id store.ID) error {
	l, err := k.Store.Load(id)
	if err != nil {
		return err
	}
	work := k.loadAll
	if l.State == store.LoadCounting {
		work = k.count
	}
	if err = work(&l); err == nil || k.Life.Ending() {
		return nil
	}
	reason := fmt.Sprintf("at record %d: %v", l.Read+1, err)
	return k.Store.Write(context.WithoutCancel(k.Life.Taking()), func(tx *store.Tx) error {
		now, err := tx.Load(id)
		if err != nil || now.State != store.LoadCounting && now.State != store.LoadRunning {
			return err
		}
		at := k.Now()
		now.State, now.Error, now.FinishedAt = store.LoadFailed, reason, &at
		return tx.SaveLoad(&now)
	})
}

// loadBatch is how many records are read at once, and loadBytes how many bytes of them, or one record more.
const (
	loadBatch = 200
	loadBytes = 16 << 20
)

// opened gives the filter of a load and its records, which the caller closes.
func (k *Intakes) opened(l *store.Load) (*expr.Program, records, error) {
	filter, err := k.filter(l.Filter)
	if err != nil {
		return nil, nil, err
	}
	list, err := k.recordsOf(l)
	return filter, list, err
}

// count reads all records and loads none.
func (k *Intakes) count(l *store.Load) error {
	filter, list, err := k.opened(l)
	if err != nil {
		return err
	}
	defer list.Close()
	var total, matching int64
	shown := time.Now()
	for !k.Life.Ending() {
		r, err := list.next()
		if err != nil && !errors.Is(err, io.EOF) {
			l.Read = total
			return err
		}
		ended := err != nil
		if !ended {
			total++
			ok, err := passes(filter, r.body)
			if err != nil {
				l.Read = total - 1
				return fmt.Errorf("filter: %w", err)
			}
			if ok {
				matching++
			}
		}
		if !ended && time.Since(shown) < 300*time.Millisecond {
			continue
		}
		shown = time.Now()
		counting := true
		err = k.Store.Write(k.Life.Taking(), func(tx *store.Tx) error {
			now, err := tx.Load(l.ID)
			if err != nil {
				return err
			}
			if counting = now.State == store.LoadCounting; !counting {
				return nil
			}
			now.Total, now.Matching = total, matching
			if ended {
				if now.State = store.LoadReady; now.NextAt != nil {
					now.State = store.LoadScheduled
				}
			}
			return tx.SaveLoad(&now)
		})
		if err != nil || ended || !counting {
			k.loads.Wake()
			return err
		}
		k.Announce(journal.EventLoads)
	}
	return nil
}

// loadAll takes records as messages. Each batch is one database transaction with
// the place behind it, so that a load which is stopped, or whose process is
// killed, goes on with the next record: none is missing and none comes twice.
func (k *Intakes) loadAll(l *store.Load) error {
	filter, list, err := k.opened(l)
	if err != nil {
		return err
	}
	defer list.Close()
	for !k.Life.Ending() {
		f := k.Catalog.Flow(l.Flow)
		if f == nil || f.Live == nil {
			return fmt.Errorf("the flow %s is not there any more", l.Flow)
		}
		if err := errors.Join(k.untilRoom(k.Life.Taking()), k.paced(k.Life.Taking(), f)); err != nil {
			return err
		}
		if f.Paused {
			return fmt.Errorf("the flow %s is paused; resume it, then resume the load", l.Flow)
		}
		var batch []record
		var bad error
		for size := 0; len(batch) < loadBatch && size < loadBytes; {
			r, err := list.next()
			if err != nil {
				bad = err
				break
			}
			batch = append(batch, r)
			size += len(r.body)
		}
		ended := errors.Is(bad, io.EOF)
		if err := k.handOver(f, l, filter, batch); err != nil {
			return err
		}
		running := true
		for first := true; running && (len(batch) > 0 || first && ended); first = false {
			var taken int
			err := k.Do(k.Life.Taking(), l.Flow, func(s *journal.Session) error {
				now, err := k.Store.Load(l.ID)
				if err != nil {
					return err
				}
				if running = now.State == store.LoadRunning; !running {
					return nil // a person has paused or stopped it
				}
				taken, err = k.takeRecords(s, f, &now, filter, batch, ended, l)
				return err
			})
			if err != nil {
				return err
			}
			taken = min(taken, len(batch))
			bytes := int64(0)
			for _, r := range batch[:taken] {
				bytes += int64(len(r.body))
			}
			k.came(f, taken, bytes)
			batch = batch[taken:]
			if err := k.paced(k.Life.Taking(), f); err != nil {
				return err
			}
			k.Announce(journal.EventLoads)
		}
		if ended {
			k.loads.Wake()
			return k.dropLoadFile(l.ID)
		}
		if !running {
			return nil
		}
		if bad != nil {
			return bad
		}
	}
	return nil
}

// takeRecords takes some records of a batch and tells how many; inside of the writer
// the load must still run, and stand where it was read. l is then as it stands behind
// them.
func (k *Intakes) takeRecords(
	s *journal.Session,
	f *catalog.Flow,
	now *store.Load,
	filter *expr.Program,
	batch []record,
	ended bool,
	l *store.Load,
) (taken int, err error) {
	was := now.Read
	for i, r := range batch {
		if i > 0 && (i >= mostAtOnce(f, atOneGo) || s.Tired() || s.Crowded()) {
			break // others want to write, too
		}
		if err := k.takeRecord(s, f, now, filter, r); err != nil {
			return 0, err
		}
		taken++
	}
	if ended && taken == len(batch) {
		now.State, now.FinishedAt = store.LoadDone, &s.At
		if next := nextLoad(now, s.At); next != nil { // it keeps its place for the next time
			now.State, now.NextAt, now.Total = store.LoadScheduled, next, now.Read
		}
	}
	s.Then(func(tx *store.Tx, _ *journal.Notice) error {
		present, err := tx.Load(now.ID)
		if err != nil || present.State != store.LoadRunning || present.Read != was {
			return staleOr(err)
		}
		*l = *now
		return tx.SaveLoad(now)
	})
	return taken, nil
}

func (k *Intakes) takeRecord(s *journal.Session, f *catalog.Flow, l *store.Load, filter *expr.Program,
	r record) error {
	l.Read, l.Offset, l.Last = l.Read+1, r.offset, r.last
	ok, err := passes(filter, r.body)
	if err != nil {
		return fmt.Errorf("filter: %w", err)
	}
	if !ok {
		l.Skipped++
		return nil
	}
	if _, err := jsonfmt.Decode(r.body); err != nil {
		l.Refused++
	} else {
		l.Taken++
	}
	if r.elsewhere {
		return nil
	}
	return s.Take(f, loaded(l.Title, l.Read, r.body), nil, nil)
}

// loadedHeaders are those of a message that a load makes.
var loadedHeaders = []message.Header{{Name: "Content-Type", Value: "application/json"}}

// loaded is the message of a record.
func loaded(title string, n int64, body []byte) journal.Arrival {
	return journal.Arrival{
		Headers: want.EncodeHeaders(loadedHeaders),
		Body:    body,
		Source:  fmt.Sprintf("load %s, record %d", title, n),
	}
}
