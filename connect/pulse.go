package connect

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"readyferry/core/message"
)

// Condition is how a connection is, as far as has been seen.
type Condition string

// The conditions of a connection.
const (
	Unknown Condition = ""        // nothing has gone through it since the start
	Works   Condition = "works"   // the last thing that was tried went through
	Refuses Condition = "refuses" // it answers, and refuses
	Silent  Condition = "silent"  // it is not reached, or does not answer
)

// Pulse is how a connection is and what goes through it, since the start.
type Pulse struct {
	Condition Condition
	Since     time.Time // of the condition
	Error     string    // the last one, in words
	ErrorAt   time.Time
	In, Out   int // messages in the last minute
	InAll     int64
	OutAll    int64
	FailedAll int64
	Lately    []Event          // the newest first, at most 20
	Backlog   map[string]int64 // messages that wait at the source, by flow, where it says so
}

// Event is something that happened to a connection.
type Event struct {
	At     time.Time `json:"at"`
	Good   bool      `json:"good"`
	Detail string    `json:"detail"`
}

const keptEvents = 20

// Pulses feels the pulse of every connection. It is safe for concurrent use.
type Pulses struct {
	mu     sync.Mutex
	all    map[string]*pulse
	others map[int]map[string]Pulse // of other partitions of a fleet
}

// Direction is the way that messages take.
type Direction int

// The directions: a connection may work in one and fail in the other.
const (
	Inward Direction = iota
	Outward
)

type pulse struct {
	Pulse
	is     [2]Condition // by direction
	tries  map[int64]*minuteOfTries
	minute [60]struct {
		at      int64 // Unix time that the counts are of
		in, out int
	}
}

func (p *Pulses) of(name string) *pulse {
	if p.all == nil {
		p.all = map[string]*pulse{}
	}
	one := p.all[name]
	if one == nil {
		one = &pulse{}
		p.all[name] = one
	}
	return one
}

// found says how one direction is; the whole is as the worse of them.
func (p *pulse) found(d Direction, c Condition, now time.Time) (changed bool) {
	p.is[d] = c
	worst := max(rank[p.is[Inward]], rank[p.is[Outward]])
	for _, one := range p.is {
		if rank[one] == worst && p.Condition != one {
			p.Condition, p.Since, changed = one, now, true
			break
		}
	}
	return changed
}

var rank = map[Condition]int{Unknown: 0, Works: 1, Refuses: 2, Silent: 3}

// happened keeps an event; one that says what the newest says takes its place.
func (p *pulse) happened(now time.Time, good bool, detail string) {
	if len(p.Lately) > 0 && p.Lately[0].Detail == detail {
		p.Lately[0].At = now
		return
	}
	p.Lately = slices.Insert(p.Lately, 0, Event{now, good, detail})
	p.Lately = p.Lately[:min(len(p.Lately), keptEvents)]
}

// Ready tells that a connection is there, though nothing has gone through it yet.
func (p *Pulses) Ready(name string, d Direction, now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if one := p.of(name); one.found(d, Works, now) {
		one.happened(now, true, "connected")
	}
}

// Unsure tells that nobody knows any more how one direction is, and why; what was known of it came
// from something else.
func (p *Pulses) Unsure(name string, d Direction, why string, now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.of(name)
	one.found(d, Unknown, now)
	one.happened(now, true, why)
}

// Works tells that one direction works.
func (p *Pulses) Works(name string, d Direction, now time.Time) { p.Through(name, d, 0, now) }

// Through counts messages that went through.
func (p *Pulses) Through(name string, d Direction, n int, now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.of(name)
	if one.found(d, Works, now) {
		one.happened(now, true, "works")
	}
	at := now.Unix()
	s := &one.minute[at%60]
	if s.at != at {
		s.at, s.in, s.out = at, 0, 0
	}
	if d == Inward {
		one.InAll, s.in = one.InAll+int64(n), s.in+n
	} else {
		one.OutAll, s.out = one.OutAll+int64(n), s.out+n
	}
}

// Failed tells what did not go through; answered, whether the system said so itself.
func (p *Pulses) Failed(name string, d Direction, why string, answered bool, now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.of(name)
	condition := Silent
	if answered {
		condition = Refuses
	}
	one.found(d, condition, now)
	one.FailedAll++
	one.Error, one.ErrorAt = why, now
	one.happened(now, false, why)
}

// Forget drops what is known of a connection that is no more, or another.
func (p *Pulses) Forget(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.all, name)
}

// Note keeps an event that says nothing of the condition: a test, a change.
func (p *Pulses) Note(name string, good bool, detail string, now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.of(name).happened(now, good, detail)
}

// Pulse gives the pulse of a connection.
func (p *Pulses) Pulse(name string, now time.Time) Pulse {
	p.mu.Lock()
	defer p.mu.Unlock()
	var out Pulse
	if one := p.all[name]; one != nil {
		at := now.Unix()
		out = one.Pulse
		out.Lately, out.Backlog = slices.Clone(out.Lately), maps.Clone(out.Backlog)
		for _, s := range one.minute {
			if s.at > at-60 && s.at <= at {
				out.In, out.Out = out.In+s.in, out.Out+s.out
			}
		}
	}
	for _, of := range p.others {
		out.with(of[name])
	}
	return out
}

// Hear takes in how another partition of a fleet finds the connections: one is as the worst of them say.
func (p *Pulses) Hear(partition int, all map[string]Pulse) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.others == nil {
		p.others = map[int]map[string]Pulse{}
	}
	p.others[partition] = all
}

// with adds what another partition says.
func (p *Pulse) with(o Pulse) {
	if rank[o.Condition] > rank[p.Condition] {
		p.Condition, p.Since = o.Condition, o.Since
	}
	if o.ErrorAt.After(p.ErrorAt) {
		p.Error, p.ErrorAt = o.Error, o.ErrorAt
	}
	p.In, p.Out = p.In+o.In, p.Out+o.Out
	p.InAll, p.OutAll, p.FailedAll = p.InAll+o.InAll, p.OutAll+o.OutAll, p.FailedAll+o.FailedAll
	if p.Backlog == nil {
		p.Backlog = map[string]int64{}
	}
	maps.Copy(p.Backlog, o.Backlog)
	p.Lately = append(p.Lately, o.Lately...)
	slices.SortStableFunc(p.Lately, func(a, b Event) int { return b.At.Compare(a.At) })
	p.Lately = p.Lately[:min(len(p.Lately), keptEvents)]
}

// Behind tells how many messages wait at the source of a flow.
func (p *Pulses) Behind(name, flow string, messages int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.of(name)
	if one.Backlog == nil {
		one.Backlog = map[string]int64{}
	}
	one.Backlog[flow] = messages
}

type tellingKey struct{}

// Telling is what a receiver tells besides its messages.
type Telling struct {
	Flow   string               // that it receives for
	Ready  func()               // it is connected, and has asked for messages
	Behind func(messages int64) // so many wait at its source
	// Answered takes one message whose sender waits for the answer of the flow.
	Answered func(ctx context.Context, a Arrival, stored func()) (Answer, error)
	// Trouble is something that it cannot take, while it goes on with the rest.
	Trouble func(err error)
}

// WithTelling gives a receiver's context through which it tells how it is.
func WithTelling(ctx context.Context, t Telling) context.Context {
	return context.WithValue(ctx, tellingKey{}, t)
}

// FlowOf gives the name of the flow that a receiver receives for, "" where there is none.
func FlowOf(ctx context.Context) string {
	t, _ := ctx.Value(tellingKey{}).(Telling)
	return t.Flow
}

// TellReady tells that a receiver is connected and has asked for messages.
func TellReady(ctx context.Context) {
	if t, is := ctx.Value(tellingKey{}).(Telling); is && t.Ready != nil {
		t.Ready()
	}
}

// Answer is what a flow says to the sender of a message who waits.
type Answer struct {
	Status  int // over HTTP, or what means the same
	Headers []message.Header
	Body    []byte
}

// TakeAnswered takes one message whose sender waits: stored is called behind the commit
// that stores it, and the answer is that of the flow. A message that is not stored has the
// answer of its refusal; an error tells that nobody knows.
func TakeAnswered(ctx context.Context, a Arrival, stored func()) (Answer, error) {
	t, is := ctx.Value(tellingKey{}).(Telling)
	if !is || t.Answered == nil {
		return Answer{}, errors.New("nobody takes messages here")
	}
	return t.Answered(ctx, a, stored)
}

// TellTrouble tells of something that a receiver cannot take, while it goes on.
func TellTrouble(ctx context.Context, err error) {
	if t, is := ctx.Value(tellingKey{}).(Telling); is && t.Trouble != nil {
		t.Trouble(err)
	}
}

// TellBehind tells how many messages wait at the source of a receiver.
func TellBehind(ctx context.Context, messages int64) {
	if t, is := ctx.Value(tellingKey{}).(Telling); is && t.Behind != nil {
		t.Behind(messages)
	}
}
