// Package perform brings about what steps want inside of the application: one
// file for each want, with what people do to the same thing. It holds queues and
// topics, parts, groups, turns, waits, tables and the flows that call each other.
//
// It promises exactly once: what a step wants is done in the database
// transaction in which the step's effect is recorded. What has to wait for time
// or for other messages waits on disk, and goes on after a restart.
//
// To add a want: its type in core/want, a file here with Foresee and Perform,
// one line in performers, and its counterpart for rehearsals in core/run.
package perform

import (
	"context"
	"time"

	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/engine/waker"
	"readyferry/store"
)

// Performers bring wants about. They are safe for concurrent use.
type Performers struct {
	*journal.Journal

	split         *waker.Sleeper // the spawner
	gather        *waker.Sleeper // the gatherer
	changedTables chan string    // wakes the watcher
	gathered      *gatheredItems
	beganToHold   chan store.TimeLimit
	leased        *waker.Sleeper // who ends leases
	waiting       waiting
	heardOf       heardOf
}

// New makes the performers and registers them with the journal.
func New(j *journal.Journal) *Performers {
	p := &Performers{
		Journal: j, split: j.Waker.Sleeper(), gather: j.Waker.Sleeper(),
		changedTables: make(chan string, 256), beganToHold: make(chan store.TimeLimit, 256),
		gathered: newGatheredItems(), leased: j.Waker.Sleeper(),
	}
	for kind, performer := range p.performers() {
		j.Perform(kind, performer)
	}
	j.Listen(p.heard)
	return p
}

func (p *Performers) performers() map[string]journal.Performer {
	return map[string]journal.Performer{
		want.KindPut:      put{p},
		want.KindPublish:  publish{p},
		want.KindSpawn:    spawn{p},
		want.KindJoin:     join{p},
		want.KindTurn:     turn{p},
		want.KindLimit:    limit{p},
		want.KindLook:     look{p},
		want.KindRows:     look{p},
		want.KindPair:     pair{p},
		want.KindOnce:     once{p},
		want.KindHold:     hold{p},
		want.KindPace:     pace{p},
		want.KindQuestion: question{p},
		want.KindCall:     call{p},
	}
}

// Start sets going what waits for time or for others.
func (p *Performers) Start() error {
	lines, err := p.Store.Lines(100_000)
	if err != nil {
		return err
	}
	for _, l := range lines { // their turn may have come when the process ended
		p.Life.Go(func() { p.release(journal.LineKey{Flow: l.Flow, Path: l.Path, Key: l.Key}, false) })
	}
	if err := p.Store.Write(p.Life.Context(), func(tx *store.Tx) error { return tx.SweepLapses() }); err != nil {
		return err
	}
	over := p.Life.Context().Done()
	p.Life.Go(func() { p.leased.Keep(over, p.lapse, p.tell("giving messages back whose lease has ended")) })
	p.Life.Go(p.housekeeping)
	p.Life.Go(p.pruner)
	p.Life.Go(func() { p.split.Keep(over, p.spawnSome, p.tell("beginning parts")) })
	p.Life.Go(func() { p.gather.Keep(over, p.gatherSome, p.tell("closing groups and ending waits")) })
	p.Life.Go(p.watcher)
	return nil
}

// timeOf reads a time that may be none.
func timeOf(at *time.Time, err error) (time.Time, error) {
	if at == nil {
		return time.Time{}, err
	}
	return *at, err
}

// tell gives what notes that some work has failed, unless the engine stops.
func (p *Performers) tell(what string) func(error) {
	return func(err error) {
		if !p.Life.Over() {
			p.Log.Error(what, "error", err)
		}
	}
}

// heard wakes who waits for what a commit tells.
func (p *Performers) heard(n *journal.Notice) {
	if n.Split {
		p.split.Wake()
	}
	if n.Gather {
		p.gather.Wake()
	}
	for channel := range n.Channels {
		p.waiting.wake(channel)
	}
	for _, k := range n.Lines {
		p.Life.Go(func() { p.release(k, false) })
	}
	for t := range n.Tables {
		send(p, p.changedTables, t)
	}
	for _, l := range n.Held {
		send(p, p.beganToHold, l)
	}
}

// send hands something over without waiting for it here.
func send[T any](p *Performers, c chan T, v T) {
	select {
	case c <- v:
	default:
		p.Life.Go(func() {
			select {
			case c <- v:
			case <-p.Life.Context().Done():
			}
		})
	}
}

// forgotten is how many keys one write forgets, so that nobody waits for long.
const forgotten = 500

// forget removes what has lost its use, some at a time until nothing is left of it:
// it must not come faster than it goes.
func (p *Performers) forget(ctx context.Context, some func(tx *store.Tx) (more bool, err error)) error {
	for more := true; more; {
		err := p.Store.Write(ctx, func(tx *store.Tx) (err error) {
			more, err = some(tx)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// housekeeping removes what has lost its use, a little at a time.
func (p *Performers) housekeeping() {
	tick, retain := time.NewTicker(time.Minute), time.NewTicker(10*time.Second)
	defer tick.Stop()
	defer retain.Stop()
	ctx := p.Life.Context()
	for {
		select {
		case <-ctx.Done():
			return
		case <-retain.C:
			if err := p.retain(ctx); err != nil && ctx.Err() == nil {
				p.Log.Error("dropping old messages of topics", "error", err)
			}
		case <-tick.C:
			for _, forget := range []func(tx *store.Tx) (bool, error){
				func(tx *store.Tx) (bool, error) { return tx.ForgetOnce(p.Now(), forgotten) },
				func(tx *store.Tx) (bool, error) { return tx.ForgetPaces(p.Now(), forgotten) },
			} {
				if err := p.forget(ctx, forget); err != nil && ctx.Err() == nil {
					p.Log.Error("forgetting old keys", "error", err)
				}
			}
		}
	}
}
