// Package engine makes the walk durable: it accepts messages, performs the
// effects that walks ask for, wakes what waits, and resends what a person has
// decided about. It owns the clock and the goroutines.
//
// What it promises is in docs/architecture.md; each promise is a test here.
// Whatever moves a transaction on is one database transaction: the effect, the
// walk that follows from it and all that this walk asks for.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"readyferry/connect"
	"readyferry/core/plan"
	"readyferry/core/step"
	"readyferry/store"
)

// Config is what an engine needs of its surroundings.
type Config struct {
	Store  *store.Store
	Reader *plan.Reader
	Sender connect.Sender
	Now    func() time.Time // nil: the system's clock
	Log    *slog.Logger     // nil: the default one
}

// Engine runs flows. It is safe for concurrent use.
type Engine struct {
	store  *store.Store
	reader *plan.Reader
	sender connect.Sender
	clock  func() time.Time
	log    *slog.Logger
	Events *Hub
	rates  *rates

	ctx  context.Context
	stop context.CancelFunc
	work sync.WaitGroup

	changing    sync.Mutex // held while flows and connections are read anew, so that the newest state wins
	mu          sync.RWMutex
	flows       map[string]*flowState
	connections map[string]*connect.Connection
	lanes       map[string]*lane
	consumers   map[string]*consumer
	plans       map[planKey]*plan.Plan

	loadingMu sync.Mutex
	loading   map[string]*Loading // imports under way, by table
	bulk      map[store.ID]bool   // bulk loads that are worked on

	reached *reachCache
	split   chan struct{} // wakes the spawner
	gather  chan struct{} // wakes the gatherer

	changedTables chan string   // wakes the watcher
	clocks        chan struct{} // wakes the timekeeper

	expected map[store.ID][]chan *step.Answer // callers who wait for a transaction to be finished
}

type planKey struct {
	flow    string
	version int
}

// flowState is what the engine knows of a flow without asking the store.
type flowState struct {
	name     string
	version  int // live version, 0: never published
	paused   bool
	live     *plan.Plan // nil when never published
	draft    *plan.Plan // nil when the draft has errors of shape
	revision int64      // of the draft and its files
}

// Errors that callers compare.
var (
	ErrNotFound = store.ErrNotFound
	ErrConflict = errors.New("it has changed since it was read")
)

// New makes an engine and reads what it must know. Start sets it going.
func New(c Config) (*Engine, error) {
	if c.Now == nil {
		c.Now = time.Now
	}
	if c.Log == nil {
		c.Log = slog.Default()
	}
	e := &Engine{
		store: c.Store, reader: c.Reader, sender: c.Sender, log: c.Log, Events: newHub(), rates: newRates(),
		clock: func() time.Time { return c.Now().UTC().Truncate(time.Millisecond) },
		flows: map[string]*flowState{}, connections: map[string]*connect.Connection{},
		lanes: map[string]*lane{}, loading: map[string]*Loading{}, bulk: map[store.ID]bool{}, expected: map[store.ID][]chan *step.Answer{}, consumers: map[string]*consumer{}, plans: map[planKey]*plan.Plan{},
		reached: newReachCache(), split: make(chan struct{}, 1), gather: make(chan struct{}, 1), changedTables: make(chan string, 256), clocks: make(chan struct{}, 1),
	}
	e.ctx, e.stop = context.WithCancel(context.Background())
	if err := e.reload(); err != nil {
		return nil, err
	}
	return e, nil
}

// Start sets deliveries and queues going.
func (e *Engine) Start() error {
	if err := e.dropUnfinished(); err != nil {
		return err
	}
	targets, err := e.store.PendingTargets()
	if err != nil {
		return err
	}
	for _, t := range targets {
		e.wakeLane(t)
	}
	e.startConsumers()
	e.work.Go(e.housekeeping)
	e.work.Go(e.spawner)
	e.work.Go(e.gatherer)
	e.work.Go(e.watcher)
	if err := e.syncClocks(); err != nil {
		return err
	}
	e.work.Go(e.timekeeper)
	loads, err := e.store.OpenLoads()
	if err != nil {
		return err
	}
	for _, l := range loads {
		e.goOnLoading(l.ID)
	}
	return nil
}

// Stop ends all work. Tries under way are interrupted and begin anew after the
// next start.
func (e *Engine) Stop() {
	e.stop()
	e.work.Wait()
	e.Events.close()
}

// housekeeping removes what has lost its use, a little at a time.
func (e *Engine) housekeeping() {
	tick, retain := time.NewTicker(time.Minute), time.NewTicker(10*time.Second)
	defer tick.Stop()
	defer retain.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return
		case <-retain.C:
			if err := e.retain(e.ctx); err != nil && e.ctx.Err() == nil {
				e.log.Error("dropping old messages of topics", "error", err)
			}
		case <-tick.C:
			err := e.store.Write(e.ctx, func(tx *store.Tx) error {
				return errors.Join(tx.ForgetOnce(e.clock(), 1000), tx.ForgetPaces(e.clock(), 1000))
			})
			if err != nil && e.ctx.Err() == nil {
				e.log.Error("forgetting old once values", "error", err)
			}
		}
	}
}

// reload reads flows and connections from the store.
func (e *Engine) reload() error {
	rows, err := e.store.Flows()
	if err != nil {
		return err
	}
	flows := map[string]*flowState{}
	for _, f := range rows {
		s := &flowState{name: f.Name, version: f.Live, paused: f.Paused, revision: f.Revision}
		flows[f.Name] = s
		if f.Live > 0 {
			if s.live, err = e.plan(f.Name, f.Live); err != nil {
				e.log.Error("a flow cannot be run and takes no messages", "flow", f.Name, "error", err) // the others go on
			}
		}
		if old := e.flow(f.Name); old != nil && old.revision == f.Revision {
			s.draft = old.draft // compiling every draft on every change would cost more with every flow
			continue
		}
		files, err := e.store.Files(f.Name)
		if err != nil {
			return err
		}
		s.draft, _ = e.reader.Read([]byte(f.Draft), files)
	}
	all, err := e.store.Connections()
	if err != nil {
		return err
	}
	connections := map[string]*connect.Connection{}
	for _, row := range all {
		c, err := e.open(row)
		if err != nil {
			e.log.Error("a connection cannot be used", "connection", row.Name, "error", err)
			continue
		}
		connections[row.Name] = c
	}
	e.mu.Lock()
	e.flows, e.connections = flows, connections
	e.mu.Unlock()
	return nil
}

// plan gives the compiled plan of a published version.
func (e *Engine) plan(flow string, version int) (*plan.Plan, error) {
	key := planKey{flow, version}
	e.mu.RLock()
	p := e.plans[key]
	e.mu.RUnlock()
	if p != nil {
		return p, nil
	}
	v, err := e.store.Version(flow, version)
	if err != nil {
		return nil, fmt.Errorf("version %d of %s: %w", version, flow, err)
	}
	files, err := decodeFiles(v.Files)
	if err != nil {
		return nil, fmt.Errorf("version %d of %s: %w", version, flow, err)
	}
	p, findings := e.reader.Read([]byte(v.Document), files)
	if p == nil {
		return nil, fmt.Errorf("version %d of %s can no longer be read: %w", version, flow, findings[0])
	}
	e.mu.Lock()
	e.plans[key] = p
	e.mu.Unlock()
	return p, nil
}

func (e *Engine) flow(name string) *flowState {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return e.flows[name]
}

func (e *Engine) connection(name string) *connect.Connection {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return e.connections[name]
}

// queueReaders names the flows that read a queue: those whose live version
// does, and with drafts those whose draft does.
func (e *Engine) queueReaders(queue string, drafts bool) []string {
	return e.readers(queue, drafts)
}

// readers names the flows that read a queue or topic, by its channel.
func (e *Engine) readers(channel string, drafts bool) []string {
	e.mu.RLock()
	defer e.mu.RUnlock()
	var out []string
	for _, f := range e.flows {
		p := f.live
		if p == nil && drafts {
			p = f.draft
		}
		if p == nil {
			continue
		}
		if s, ok := sourceOf(&p.Document.Intake); ok && s.channel() == channel {
			out = append(out, f.name)
		}
	}
	return out
}

// aftermath is what must happen once a write is on disk.
type aftermath struct {
	targets, queues map[string]bool // queues and topics by channel
	events          map[string]bool
	put, taken      map[string]int // messages by channel
	split           bool           // parts may begin
	gather          bool           // a group may close, or a gap be given up
	lines           []lineKey      // more messages may go on there
	tables          map[string]bool
	answers         map[store.ID]*step.Answer // for callers who wait
}

func newAftermath() *aftermath {
	return &aftermath{targets: map[string]bool{}, queues: map[string]bool{}, events: map[string]bool{}, put: map[string]int{}, taken: map[string]int{}, tables: map[string]bool{}, answers: map[store.ID]*step.Answer{}}
}

func (e *Engine) after(a *aftermath) {
	for t := range a.targets {
		e.wakeLane(t)
	}
	if a.split {
		e.wakeSpawner()
	}
	if a.gather {
		e.wakeGatherer()
	}
	for q := range a.queues {
		e.wakeReaders(q)
	}
	for _, k := range a.lines {
		if e.ctx.Err() == nil {
			e.work.Go(func() { e.releaseMore(k) })
		}
	}
	for id, answer := range a.answers {
		e.tellCallers(id, answer)
	}
	for t := range a.tables {
		e.tableChanged(t)
	}
	now := e.clock()
	for q, n := range a.put {
		e.rates.add(q, n, 0, now)
	}
	for q, n := range a.taken {
		e.rates.add(q, 0, n, now)
	}
	for topic := range a.events {
		e.Events.Publish(topic)
	}
}
