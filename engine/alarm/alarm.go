// Package alarm watches over a running application by the rules that people set, and tells them:
// what is wrong now, since when, what to do about it, and who has it in hand.
//
// Each look measures what rules are about, judges it (package core/alarm), and keeps what rings in
// the file, so that an alarm outlives a restart and nobody is told twice. A notice is kept before
// it is sent, and tried again on a plan that ends; one that could not be sent is shown. What was
// measured is kept by the minute, where it changed, so that a new rule can be tried on the past.
package alarm

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"

	"readyferry/connect"
	core "readyferry/core/alarm"
	"readyferry/engine/intake"
	"readyferry/engine/journal"
	"readyferry/engine/lane"
	"readyferry/engine/perform"
	"readyferry/engine/watch"
	"readyferry/store"
)

// Alarms watches. It is safe for concurrent use.
type Alarms struct {
	*journal.Journal
	watch   *watch.Watch
	intake  *intake.Intakes
	lane    *lane.Lanes
	perform *perform.Performers
	links   *connect.Links
	missing func() int
	least   func() int64  // room on the disks of the fleet's members
	every   time.Duration // between two looks; 0: nobody looks by himself

	mu      sync.Mutex // held while one looks
	rules   map[string]*Rule
	states  map[about]core.State
	rings   map[about]*store.Ring // that ring now
	samples map[string]float64    // what series came to last
	sampled int64                 // the minute of it
	heard   map[string]time.Time  // when a message of a flow was seen last
	pruned  time.Time
	sending sync.Map // notices that are on their way
	wake    chan struct{}
}

// Rule is a rule as it is kept.
type Rule struct {
	core.Rule
	Name      string
	Revision  int64
	CreatedAt time.Time
	By        string // who saved it last
}

// Names of the store's for those who look on.
type (
	Ring     = store.Ring
	Calendar = store.Calendar
)

// about is a rule and the thing that it is about.
type about struct{ rule, of string }

// Config is what Alarms needs.
type Config struct {
	Watch   *watch.Watch
	Intake  *intake.Intakes
	Lane    *lane.Lanes
	Perform *perform.Performers
	Links   *connect.Links
	Missing func() int // members of the fleet that are away; nil: there is no fleet
	// LeastFree gives the bytes that are left on the disk of the member that has least; 0 or nil: nobody says so.
	LeastFree func() int64
	Every     time.Duration // between two looks; 0: nobody looks by himself
}

// New makes a watcher.
func New(c Config) *Alarms {
	a := &Alarms{
		Journal: c.Watch.Journal, watch: c.Watch, intake: c.Intake, lane: c.Lane, perform: c.Perform, links: c.Links,
		every: c.Every, missing: c.Missing, least: c.LeastFree, rules: map[string]*Rule{}, states: map[about]core.State{}, rings: map[about]*store.Ring{},
		samples: map[string]float64{}, heard: map[string]time.Time{}, wake: make(chan struct{}, 1),
	}
	a.Catalog.OnChange(func() { // others may have changed rules with what they are about
		if err := a.readRules(); err != nil {
			a.Log.Error("reading the rules of alarms", "error", err)
		}
		a.rouse()
	})
	return a
}

// Start reads the rules and what rings, and begins to look.
func (a *Alarms) Start() error {
	if a.every > 0 {
		if err := a.seed(); err != nil {
			return err
		}
	}
	if err := a.readRules(); err != nil {
		return err
	}
	open, err := a.Store.OpenRings()
	if err != nil {
		return err
	}
	for i := range open {
		r := &open[i]
		key := about{r.Rule, r.Subject}
		a.rings[key] = r
		a.states[key] = core.State{OutSince: r.Began, Began: r.Began, Last: r.Value, Worst: r.Worst}
	}
	if a.every > 0 {
		a.Life.Go(a.loop)
	}
	return nil
}

func (a *Alarms) loop() {
	beat := time.NewTicker(a.every)
	defer beat.Stop()
	for {
		if err := a.Look(); err != nil && !a.Life.Ending() {
			a.Log.Error("looking for alarms", "error", err)
		}
		select {
		case <-a.Life.Closing():
			return
		case <-beat.C:
		case <-a.wake:
		}
	}
}

func (a *Alarms) rouse() {
	select {
	case a.wake <- struct{}{}:
	default:
	}
}

func (a *Alarms) readRules() error {
	rows, err := a.Store.AlarmRules()
	if err != nil {
		return err
	}
	rules := map[string]*Rule{}
	for _, row := range rows {
		r := &Rule{Name: row.Name, Revision: row.Revision, CreatedAt: row.CreatedAt, By: row.By}
		if err := json.Unmarshal(row.Document, &r.Rule); err != nil || r.Check() != nil {
			a.Log.Error("a rule of alarms cannot be read", "rule", row.Name, "error", errors.Join(err, r.Check()))
			continue
		}
		rules[row.Name] = r
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.rules = rules
	for key := range a.states {
		if rules[key.rule] == nil {
			delete(a.states, key)
			delete(a.rings, key)
		}
	}
	return nil
}

// Look measures, judges, tells, and keeps what came of it.
func (a *Alarms) Look() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.Now()
	m, err := a.measure(now)
	if err != nil {
		return err
	}
	ch := &changes{}
	a.sample(m, now, ch)
	states := maps.Clone(a.states)
	if err := a.judge(m, now, states, ch); err != nil {
		return err
	}
	if err := a.keep(ch); err != nil {
		return err
	}
	a.states = states
	for _, r := range ch.rings {
		key := about{r.Rule, r.Subject}
		if r.Ended != nil {
			a.Log.Info("an alarm is over", "rule", r.Rule, "about", r.Subject, "alarm", r.ID.String())
			delete(a.rings, key)
		} else {
			if a.rings[key] == nil {
				a.Log.Warn("an alarm rings", "rule", r.Rule, "about", r.Subject, "value", r.Value, "alarm", r.ID.String())
			}
			a.rings[key] = r
		}
	}
	if err := a.tell(now); err != nil {
		return err
	}
	return a.send(now)
}

// changes are what a look has to keep.
type changes struct {
	measures []store.Measure
	rings    []*store.Ring
	minute   bool // another one has begun since the last look
	prune    bool
}

// kept is for how long measures, rings that are over and notices stay.
const kept = 35 * 24 * time.Hour

func (a *Alarms) keep(ch *changes) error {
	if len(ch.measures) == 0 && len(ch.rings) == 0 && !ch.prune {
		return nil
	}
	return a.Write(a.context(), func(tx *store.Tx, n *journal.Notice) error {
		if len(ch.rings) > 0 {
			n.Events[journal.EventAlarms] = true
		}
		for _, r := range ch.rings {
			if err := tx.SaveRing(r); err != nil {
				return err
			}
		}
		if len(ch.measures) > 0 {
			if err := tx.AddMeasures(ch.measures); err != nil {
				return err
			}
		}
		if ch.prune {
			return tx.PruneAlarms(a.Now().Add(-kept), 5000)
		}
		return nil
	})
}

func (a *Alarms) context() context.Context { return a.Life.Taking() }

// judge holds every rule against what was measured.
func (a *Alarms) judge(m *measured, now time.Time, states map[about]core.State, ch *changes) error {
	alive := map[about]bool{}
	for _, r := range a.rules {
		if r.Off {
			continue
		}
		for _, of := range a.subjects(&r.Rule) {
			key := about{r.Name, of}
			alive[key] = true
			v, err := a.value(m, &r.Rule, of, now)
			if err != nil {
				return err
			}
			s, turn := r.Step(states[key], now, v, a.hours(r.During))
			a.turned(key, states[key], s, turn, now, ch)
			states[key] = s
		}
	}
	for key := range states {
		if !alive[key] { // the rule is off, or what it was about is gone
			if r := a.rings[key]; r != nil {
				over := *r
				over.Ended = &now
				ch.rings = append(ch.rings, &over)
			}
			delete(states, key)
		}
	}
	return nil
}

func (a *Alarms) turned(key about, was, is core.State, turn core.Turn, now time.Time, ch *changes) {
	old := a.rings[key]
	switch turn {
	case core.Begins:
		ch.rings = append(ch.rings, &store.Ring{ID: store.NewID(), Rule: key.rule, Subject: key.of, Began: now,
			Value: is.Last, Worst: is.Worst})
	case core.Ends:
		if old != nil {
			over := *old
			over.Ended, over.Value = &now, is.Last
			ch.rings = append(ch.rings, &over)
		}
	default:
		// What it comes to is kept by the minute, or when it gets worse.
		if old != nil && (is.Worst != was.Worst || is.Last != old.Value && ch.minute) {
			next := *old
			next.Value, next.Worst = is.Last, is.Worst
			ch.rings = append(ch.rings, &next)
		}
	}
}

// hours gives the calendar of a rule; nil: always.
func (a *Alarms) hours(name string) core.Hours {
	if c := a.Catalog.Calendar(name); c != nil {
		return c
	}
	return nil
}

// Acknowledge notes who has an alarm in hand: nobody else is told of it then. taken false takes
// that back.
func (a *Alarms) Acknowledge(ctx context.Context, id store.ID, by, note string, taken bool) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	r, err := a.Store.Ring(id)
	if err != nil {
		return err
	}
	if r.Ended != nil && taken {
		return fmt.Errorf("%w: this alarm is over", journal.ErrDecision)
	}
	now := a.Now()
	r.AckedAt, r.AckedBy, r.Note = nil, "", ""
	if taken {
		r.AckedAt, r.AckedBy, r.Note = &now, by, note
	}
	err = a.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		n.Events[journal.EventAlarms] = true
		return tx.SaveRing(&r)
	})
	if err == nil && r.Ended == nil {
		a.rings[about{r.Rule, r.Subject}] = &r
	}
	return err
}
