package lane

import (
	"time"

	"readyferry/core/flow"
	"readyferry/engine/journal"
	"readyferry/store"
)

// A line is what one flow has for the target of a lane. The lines of a lane take turns, each
// as often as the weight of its flow says, so that a flow with a million that waits does not
// keep another's message waiting behind them.
type line struct {
	flow   string
	ready  []journal.Ready // due, the longest due first
	known  int             // ready, running or being recorded
	more   bool            // the file may have due ones that are not known
	nextAt time.Time       // when it will have another; zero: nothing waits
	// turn is when it has its next turn, in turns of a flow of weight one: the line with the
	// least of them goes first (stride scheduling, Waldspurger and Weihl 1995).
	turn float64
}

// lineOf gives the line of a flow.
func (l *lane) lineOf(flow string) *line {
	one := l.lines[flow]
	if one == nil {
		one = &line{flow: flow, turn: l.turn}
		l.lines[flow] = one
	}
	return one
}

// idle tells that nothing is known of the line, in memory or in the file.
func (one *line) idle() bool {
	return len(one.ready) == 0 && one.known == 0 && !one.more && one.nextAt.IsZero()
}

// add takes a delivery in that is due. One that was idle has no turns to catch up on.
func (l *lane) add(one *line, r journal.Ready) {
	if len(one.ready) == 0 {
		one.turn = max(one.turn, l.turn)
	}
	one.ready, l.known[r.ID] = append(one.ready, r), one
	one.known++
}

// most is how many a line may have ready: all lines together hold about mostReady.
func (l *lane) most() int { return max(foundAtOnce/4, mostReady/max(1, len(l.lines))) }

// next gives the delivery whose turn it is.
func (l *lane) next(now time.Time) (r journal.Ready, ok bool, err error) {
	var best *line
	for name, one := range l.lines {
		if len(one.ready) == 0 && one.more {
			if err := l.find(one, now); err != nil {
				return r, false, err
			}
		}
		if len(one.ready) == 0 {
			if one.idle() {
				delete(l.lines, name)
			}
			continue
		}
		if best == nil || one.turn < best.turn || one.turn == best.turn && one.flow < best.flow {
			best = one
		}
	}
	if best == nil {
		return r, false, nil
	}
	r, best.ready[0] = best.ready[0], r
	if best.ready = best.ready[1:]; len(best.ready) == 0 {
		best.ready = nil
	}
	l.turn = best.turn
	best.turn += 1 / float64(l.weight(best.flow))
	return r, true, nil
}

// weight is how many turns a flow has beside one of weight one.
func (l *lane) weight(name string) int {
	if f := l.Catalog.Flow(name); f != nil && f.Live != nil {
		return f.Live.Document.Weight
	}
	return flow.DefaultWeight
}

// find reads from the file what a flow has that is due, and when it will have the next. It
// brings what belongs to it into memory at once: read one by one it would cost several times
// as much.
func (l *lane) find(one *line, now time.Time) error {
	most := min(foundAtOnce, l.most()) + one.known
	due, err := l.Store.Due(l.target, one.flow, now, most)
	if err != nil {
		return err
	}
	var cold []store.ID
	for _, d := range due {
		if l.known[d.ID] == nil {
			l.add(one, journal.Ready{ID: d.ID, Flow: one.flow})
			cold = append(cold, d.Tx)
		}
	}
	if err := l.bring(cold); err != nil {
		return err
	}
	if one.more = len(due) == most; one.more {
		return nil
	}
	next, err := l.Store.After(l.target, one.flow, now)
	if err != nil {
		return err
	}
	if one.nextAt = (time.Time{}); next != nil {
		one.nextAt = *next
	}
	return nil
}

// bring takes transactions into the working set.
func (l *lane) bring(ids []store.ID) error {
	if len(ids) < 2 {
		return nil
	}
	return l.Store.Write(l.Life.Context(), func(tx *store.Tx) error { return tx.Bring(ids) })
}

// discover learns which flows have something in the file for the target.
func (l *lane) discover() error {
	flows, err := l.Store.FlowsFor(l.target)
	if err != nil {
		return err
	}
	for _, f := range flows {
		l.lineOf(f).more = true
	}
	return nil
}

// come lets lines look into the file whose next delivery is due by now, and gives when the
// next of the others is; zero: none waits.
func (l *lane) come(now time.Time) (soonest time.Time) {
	for _, one := range l.lines {
		if one.nextAt.IsZero() {
			continue
		}
		if !now.Before(one.nextAt) {
			one.more, one.nextAt = true, time.Time{}
		} else if soonest.IsZero() || one.nextAt.Before(soonest) {
			soonest = one.nextAt
		}
	}
	return soonest
}
