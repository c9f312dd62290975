package engine

import (
	"context"
	"encoding/json"
	"time"

	"readyferry/connect"
	"readyferry/engine/intake"
	"readyferry/engine/journal"
	"readyferry/engine/lane"
	"readyferry/engine/watch"
	"readyferry/store"
)

// What the engines of other partitions do is counted, listed and watched over in the first one: it asks them
// a few times a second what has happened, and how their connections are.

// Standing is how the connections and the lanes of an engine are, by name.
type Standing struct {
	Pulses map[string]connect.Pulse
	Lanes  map[string]lane.Standing
	// What follows one of an earlier release does not say.
	Used    map[string]time.Time // when keys were used last, by name
	Refused intake.Refused
	Short   intake.Short
}

// standing tells it to who knows of so many refused calls of a run.
func (e *Engine) standing(run store.ID, refused int64) Standing {
	s := Standing{Pulses: map[string]connect.Pulse{}, Lanes: map[string]lane.Standing{}, Used: e.Catalog.UsedKeys()}
	s.Refused, s.Short = e.Intake.ForOthers(run, refused)
	for _, c := range e.Catalog.Connections() {
		s.Pulses[c.Name], s.Lanes[c.Name] = e.Watch.Pulse(c.Name), e.Lane.Standing(c.Name)
	}
	return s
}

// How often other partitions are asked, and for how long what they say is left to lie: the files that are read
// together have by then what it is about.
const (
	askEach      = 300 * time.Millisecond
	standingEach = 2 * time.Second
	liesFor      = 700 * time.Millisecond
)

// another is another partition, as the first one hears of it.
type another struct {
	run   store.ID
	next  int64
	plain bool // it packs in a form that this release does not know
	lies  []lying
}

type lying struct {
	at  time.Time
	all []store.Happened
}

// FollowOthers hears what other partitions do, until ctx ends.
func (e *Engine) FollowOthers(ctx context.Context) {
	if e.Journal.Others == nil {
		return
	}
	parts := make([]another, e.Journal.Partition.Of)
	tick := time.NewTicker(askEach)
	defer tick.Stop()
	var stood time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		stands := time.Since(stood) >= standingEach
		if stands {
			stood = time.Now()
		}
		for part := range parts {
			if part != e.Journal.Partition.This {
				e.hearOf(ctx, part, &parts[part], stands)
			}
		}
	}
}

// hearOf asks one of them. One that does not answer is asked again; how the fleet is says that it does not.
func (e *Engine) hearOf(ctx context.Context, part int, p *another, stands bool) {
	ctx, stop := context.WithTimeout(ctx, standingEach)
	defer stop()
	var now watch.Passed
	if e.ask(ctx, part, journal.Asked{What: journal.AskPassed, ID: p.run, Behind: p.next, Packed: !p.plain}, &now) {
		p.hear(&now)
	}
	for len(p.lies) > 0 && time.Since(p.lies[0].at) >= liesFor {
		e.Watch.HeardOf(p.lies[0].all)
		p.lies = p.lies[1:]
		e.Watch.Events.Publish(journal.EventTransactions)
		e.Watch.Events.Publish(journal.EventDeadLetters)
		e.Watch.Events.Publish(journal.EventQueues) // with groups and turns
		e.Watch.Events.Publish(journal.EventFlows)  // with clocks
	}
	var s Standing
	if !stands {
		return
	}
	run, refused := e.Intake.KnownOf(part)
	if e.ask(ctx, part, journal.Asked{What: journal.AskStanding, ID: run, Behind: refused}, &s) {
		e.links.Pulses.Hear(part, s.Pulses)
		e.Lane.Hear(part, s.Lanes)
		e.Intake.HearOther(part, s.Refused, s.Short)
		if err := e.Catalog.KeysWereUsed(ctx, s.Used); err != nil && !e.life.Ending() {
			e.Journal.Log.Error("noting that keys were used", "error", err)
		}
	}
}

// hear takes in what it says; what cannot be read is asked for again, plainly.
func (p *another) hear(now *watch.Passed) {
	all, err := now.Happened()
	if p.plain = p.plain || err != nil; err != nil {
		return
	}
	p.run, p.next = now.Run, now.Next
	if len(all) > 0 {
		p.lies = append(p.lies, lying{time.Now(), all})
	}
}

func (e *Engine) ask(ctx context.Context, part int, a journal.Asked, into any) bool {
	done, err := e.Journal.Others.Ask(ctx, part, a)
	return err == nil && json.Unmarshal(done.Said, into) == nil
}
