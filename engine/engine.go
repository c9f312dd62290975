// Package engine wires what a running application is made of, and decides
// nothing: the journal of transactions, the performers of what happens inside,
// the intakes, the lanes of deliveries, the designs that people make, and the
// watch over all of it.
//
// What it promises is in docs/architecture.md; each promise is a test here.
package engine

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"sync"
	"time"

	"readyferry/connect"
	"readyferry/core/plan"
	"readyferry/engine/alarm"
	"readyferry/engine/audit"
	"readyferry/engine/bundle"
	"readyferry/engine/catalog"
	"readyferry/engine/design"
	"readyferry/engine/erase"
	"readyferry/engine/intake"
	"readyferry/engine/journal"
	"readyferry/engine/lane"
	"readyferry/engine/perform"
	"readyferry/engine/repair"
	"readyferry/engine/watch"
	"readyferry/store"
)

// Config is what an engine needs of its surroundings.
type Config struct {
	Store  *store.Store
	Reader *plan.Reader
	// Systems are the kinds of outside system, and Opener opens connections to them;
	// nil: Systems does.
	Systems *connect.Registry
	Opener  connect.Opener
	// Runners are those beyond firewalls; nil: there are none. They open what is at them, and Opener
	// or Systems the rest.
	Runners Runners
	// Now is the machine's clock, and Elapsed the time since some moment whatever that
	// clock is set to; nil: the system's. With Now alone, its jumps are followed.
	Now     func() time.Time
	Elapsed func() time.Duration
	// Alarms is how often the rules of alarms are looked at; 0: only when Alarms.Look is called.
	Alarms time.Duration
	Log    *slog.Logger // nil: the default one
	// Missing counts members of the fleet that are away; nil: there is no fleet.
	Missing func() int
	// LeastFree gives the bytes that are left on the disk of the member that has least; 0 or nil: nobody says so.
	LeastFree func() int64
	// Outside is how outside systems are reached; nil: as the machine does, whatever they are.
	Outside *connect.Outside
	// Partition is the part of a fleet's messages that it works on; the zero value: all there are.
	Partition journal.Partition
	// Others are the engines of the other parts; nil: there are none, or this is one of them.
	Others journal.Others
}

// Runners are programs that reach what only a closed network does.
type Runners interface {
	connect.Opener
	// Away tells whether one is away, and since when; zero: since the application was started.
	Away(name string) (since time.Time, away bool)
	// OnChange has a function called when one comes or goes.
	OnChange(do func(runner string))
}

// Engine is a running application without its interface.
type Engine struct {
	Catalog *catalog.Catalog
	Journal *journal.Journal
	Perform *perform.Performers
	Intake  *intake.Intakes
	Lane    *lane.Lanes
	Design  *design.Designs
	Watch   *watch.Watch
	Repair  *repair.Repairs
	Alarm   *alarm.Alarms
	Audit   *audit.Audit
	Bundle  *bundle.Bundles
	Erase   *erase.Erasures

	life  *journal.Life
	links *connect.Links
	marks *store.Marks
	ended sync.Once
}

// Hold keeps deliveries to a target waiting.
type Hold = store.Hold

// Errors that callers compare.
var (
	ErrNotFound = journal.ErrNotFound
	ErrConflict = journal.ErrConflict
	ErrDecision = journal.ErrDecision
	ErrInUse    = journal.ErrInUse
	ErrClosed   = store.ErrClosed
)

// New makes an engine and reads what it must know. Start sets it going.
func New(c Config) (*Engine, error) {
	if c.Now == nil && c.Elapsed == nil {
		began := time.Now()
		c.Now = func() time.Time { return time.Now().Round(0) } // what the clock says, without what it measures
		c.Elapsed = func() time.Duration { return time.Since(began) }
	}
	if c.Elapsed != nil {
		c.Now = newSteady(c.Now, c.Elapsed).Now
	}
	if c.Log == nil {
		c.Log = slog.Default()
	}
	switch {
	case c.Runners != nil:
		c.Opener = c.Runners
	case c.Opener == nil:
		c.Opener = c.Systems
	}
	known, err := catalog.New(c.Store, c.Reader, c.Systems, c.Outside, c.Log)
	if err != nil {
		return nil, err
	}
	known.Partitions = c.Partition.Of
	e := &Engine{Catalog: known, life: journal.NewLife(), links: connect.NewLinks(c.Opener)}
	marks, left, err := store.OpenMarks(c.Store.Dir)
	if err != nil {
		return nil, err
	}
	e.marks = marks
	e.Journal = journal.New(journal.Config{
		Marks: marks, Left: left, Store: c.Store, Catalog: known, Log: c.Log, Life: e.life, Partition: c.Partition,
		Others: c.Others,
		Now:    func() time.Time { return c.Now().UTC().Truncate(time.Microsecond) },
	})
	e.Perform = perform.New(e.Journal)
	e.Intake = intake.New(e.Journal, e.links)
	e.Lane = lane.New(e.Journal, e.links)
	e.Design = design.New(e.Perform, e.links)
	e.Watch = watch.New(e.Journal, e.links)
	e.Watch.Meter.Pass(watch.Logging(c.Log))
	e.Repair = repair.New(e.Watch, e.answers)
	e.Alarm = alarm.New(alarm.Config{Watch: e.Watch, Intake: e.Intake, Lane: e.Lane, Perform: e.Perform,
		Links: e.links,
		Every: c.Alarms, Missing: c.Missing, LeastFree: c.LeastFree})
	e.Bundle = bundle.New(e.Design)
	e.Erase = erase.New(e.Watch)
	e.Audit = audit.New(c.Store, e.Journal.Now)
	e.links.Late = e.Lane.Late
	if c.Runners != nil {
		e.Lane.Away = c.Runners.Away
		c.Runners.OnChange(e.Lane.RunnerChanged)
	}
	return e, nil
}

// answers asks a connection whether it answers now.
func (e *Engine) answers(ctx context.Context, connection string) bool {
	ctx, stop := context.WithTimeout(ctx, answersWithin)
	defer stop()
	t, err := e.Design.TestConnection(ctx, connection)
	return err == nil && t.OK
}

// answersWithin is how long a connection may take to say that it is well.
const answersWithin = 10 * time.Second

// DoAsked does what the engine of the first partition asks for.
func (e *Engine) DoAsked(ctx context.Context, a journal.Asked) (out journal.Done, err error) {
	switch a.What {
	case journal.AskTry:
		err = e.Lane.TryNow(ctx, a.ID)
	case journal.AskSkipWait:
		out.N, err = e.Lane.SkipWait(ctx, a.Target)
	case journal.AskGiveUp:
		out.N, err = e.Lane.GiveUp(ctx, a.Target, a.By, a.Why)
	case journal.AskClose:
		err = e.Perform.CloseGroup(ctx, a.ID)
	case journal.AskSkipGap:
		err = e.Perform.SkipGap(ctx, a.Line)
	case journal.AskLeave:
		var kept intake.SourceKept
		if kept, err = e.Intake.Leave(ctx, a.Flow, a.Value); err == nil {
			out.Said, err = json.Marshal(kept)
		}
	case journal.AskLeft:
		err = e.Intake.Left(ctx, a.Flow)
	case journal.AskRunNow:
		err = e.Intake.RunNow(a.Flow)
	case journal.AskSetMark:
		err = e.Intake.SetMark(a.Flow, a.Given)
	case journal.AskLoad:
		err = e.Intake.TakeLoaded(ctx, a.Given)
	case journal.AskErase:
		err = e.Erase.Begin(ctx, a.Flow, a.Value, a.Preview)
	case journal.AskErasing:
		out.Said, err = json.Marshal(e.Erase.Now())
	case journal.AskNoMore:
		e.Erase.Stop()
	case journal.AskStanding:
		out.Said, err = json.Marshal(e.standing(a.ID, a.Behind))
	case journal.AskPassed:
		passed := e.Watch.Passed(a.ID, a.Behind)
		if a.Packed {
			passed = passed.Pack()
		}
		out.Said, err = json.Marshal(passed)
	default:
		return e.Journal.DoAsked(ctx, a)
	}
	return out, err
}

// DesignChanged lets it go on with what was designed anew in another partition, and taken over
// into its journal.
func (e *Engine) DesignChanged() error {
	return errors.Join(e.Catalog.Renewed(), e.Lane.HoldsChanged())
}

// Reopen closes the connections that are open; each is opened again when it is used next.
func (e *Engine) Reopen() error { return e.links.Close() }

// Start sets everything going.
func (e *Engine) Start() error {
	for _, start := range []func() error{
		e.Design.Start, e.Journal.Start, e.Perform.Start, e.Lane.Start, e.Intake.Start, e.Repair.Start, e.Alarm.Start,
		e.Watch.Start,
	} {
		if err := start(); err != nil {
			return err
		}
	}
	return nil
}

// Close says that the application is about to stop: callers who wait for an end are
// told that it will come later, and no more messages are taken in from outside.
func (e *Engine) Close() { e.life.Close() }

// Closing is closed behind Close.
func (e *Engine) Closing() <-chan struct{} { return e.life.Closing() }

// Grace is how long tries under way may take to come to their end when the application
// stops.
const Grace = 5 * time.Second

// Abandon ends all work at once, where the journal takes nothing any more: what is under way is found
// there by whoever opens it next.
func (e *Engine) Abandon() { e.stop(0) }

// Stop ends all work. Tries under way have Grace to come to their end; what is behind that is
// cut off, noted as tries whose end is not known, and tried again under the same key after
// the next start.
func (e *Engine) Stop() { e.stop(Grace) }

func (e *Engine) stop(grace time.Duration) { e.ended.Do(func() { e.end(grace) }) }

func (e *Engine) end(grace time.Duration) {
	e.life.Close()
	e.Lane.Finish(grace)
	e.life.End()
	e.Watch.Close()
	if err := e.links.Close(); err != nil {
		e.Journal.Log.Error("closing connections", "error", err)
	}
	if err := e.marks.Close(); err != nil {
		e.Journal.Log.Error("closing the marks", "error", err)
	}
}
