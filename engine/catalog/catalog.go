// Package catalog knows what is published and connected now: every flow with
// its live version and its draft, compiled, and every connection, with its
// secrets. It answers from memory; the file is read when it is told that
// something has changed.
//
// It promises that what it hands out never changes: a plan belongs to one
// version for ever, and a flow that is published again is another Flow.
package catalog

import (
	"errors"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"readyferry/connect"
	"readyferry/core/flow"
	"readyferry/core/hours"
	"readyferry/core/outbound"
	"readyferry/core/plan"
	"readyferry/store"
)

// Flow is a flow as it is now.
type Flow struct {
	Name    string
	Version int // the live one, 0: never published
	Paused  bool
	Live    *plan.Plan // nil when never published, or when it can no longer be read
	Draft   *plan.Plan // nil when the draft has errors of shape
	Trial   *Trial     // nil where all messages go through the live version
	Home    int        // the partition of a fleet in which it is at home, where its messages meet each other

	revision int64 // of the draft and its files
}

// Intake gives the flow's intake: the live version's, or the draft's when it was
// never published; nil when the draft cannot be read.
func (f *Flow) Intake() *flow.Intake {
	switch {
	case f == nil:
	case f.Live != nil:
		return &f.Live.Document.Intake
	case f.Draft != nil:
		return &f.Draft.Document.Intake
	}
	return nil
}

// plans gives the versions that take messages.
func (f *Flow) plans() (out []*plan.Plan) {
	if f.Live != nil {
		out = append(out, f.Live)
	}
	if f.Trial != nil {
		out = append(out, f.Trial.Plan)
	}
	return out
}

// Catalog is safe for concurrent use.
type Catalog struct {
	// Partitions is how many a fleet's messages are worked on in. It is to be set before the start.
	Partitions int

	store   *store.Store
	reader  *plan.Reader
	systems *connect.Registry
	log     *slog.Logger

	changing    sync.Mutex // held while all is read anew, so that the newest state wins
	mu          sync.RWMutex
	flows       map[string]*Flow
	related     *relations // of the flows; nil: to be worked out
	connections map[string]*connect.Connection
	plans       map[versionKey]*plan.Plan
	listeners   []func()
	keys        []known
	keysAt      time.Time // when they were read
	calendars   map[string]*hours.Calendar
	outbound    outbound.List

	// Outside is how systems are reached; nil: as the machine does, whatever they are.
	outside *connect.Outside

	across sync.Map // what takes calls, by runner
	shown  sync.Map // when the certificate ends that a system showed last, by connection
}

// New makes a catalog and reads it.
func New(
	s *store.Store, r *plan.Reader, systems *connect.Registry, outside *connect.Outside, log *slog.Logger,
) (*Catalog, error) {
	c := &Catalog{
		store:       s,
		reader:      r,
		systems:     systems,
		log:         log,
		flows:       map[string]*Flow{},
		connections: map[string]*connect.Connection{},
		plans:       map[versionKey]*plan.Plan{},
		outside:     outside,
	}
	if outside != nil && outside.List == nil {
		outside.List = c.Outbound
	}
	return c, errors.Join(c.readCalendars(), c.readOutbound(), c.read(), c.loadKeys())
}

// OnChange has a function called behind every change; they are called in turn.
// It is to be called before the engine starts.
func (c *Catalog) OnChange(do func()) { c.listeners = append(c.listeners, do) }

// Changed reads flows and connections anew and tells everyone.
func (c *Catalog) Changed() error {
	return c.change(c.read)
}

// Renewed reads all there is anew and tells everyone.
func (c *Catalog) Renewed() error {
	return c.change(func() error { return errors.Join(c.readCalendars(), c.readOutbound(), c.read(), c.loadKeys()) })
}

// FlowChanged reads one flow anew and tells everyone: it costs what the one flow does,
// however many there are.
func (c *Catalog) FlowChanged(name string) error {
	return c.change(func() error {
		row, err := c.store.Flow(name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		var f *Flow
		if err == nil {
			homes, err := c.store.Homes(name)
			if err != nil {
				return err
			}
			if f, err = c.readFlow(row, homes[name]); err != nil {
				return err
			}
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.flows, c.related = with(c.flows, name, f), nil
		return nil
	})
}

// with gives a copy of a map in which a name has another value; nil takes it away.
// Whoever has the old one goes on with it.
func with[T any](m map[string]*T, name string, v *T) map[string]*T {
	out := maps.Clone(m)
	if v == nil {
		delete(out, name)
	} else {
		out[name] = v
	}
	return out
}

func (c *Catalog) change(read func() error) error {
	c.changing.Lock()
	defer c.changing.Unlock()
	if err := read(); err != nil {
		return err
	}
	for _, do := range c.listeners {
		do()
	}
	return nil
}

// Systems gives the kinds of outside system.
func (c *Catalog) Systems() *connect.Registry { return c.systems }

// Reader gives what compiles documents.
func (c *Catalog) Reader() *plan.Reader { return c.reader }

func (c *Catalog) read() error {
	flows, err := c.readFlows()
	if err != nil {
		return err
	}
	rows, err := c.store.Connections()
	if err != nil {
		return err
	}
	connections := map[string]*connect.Connection{}
	for _, row := range rows {
		opened, err := c.open(row)
		if err != nil {
			c.log.Error("a connection cannot be used", "connection", row.Name, "error", err)
			continue
		}
		connections[row.Name] = opened
	}
	c.mu.Lock()
	c.flows, c.related, c.connections = flows, nil, connections
	c.mu.Unlock()
	return nil
}

func (c *Catalog) readFlows() (map[string]*Flow, error) {
	rows, err := c.store.Flows()
	if err != nil {
		return nil, err
	}
	homes, err := c.store.Homes("")
	if err != nil {
		return nil, err
	}
	flows := map[string]*Flow{}
	for _, row := range rows {
		if flows[row.Name], err = c.readFlow(row, homes[row.Name]); err != nil {
			return nil, err
		}
	}
	return flows, nil
}

// readFlow compiles a flow as it is now; what is known of it already stays.
func (c *Catalog) readFlow(row store.Flow, home int) (*Flow, error) {
	f := &Flow{Name: row.Name, Version: row.Live, Paused: row.Paused, Home: home, revision: row.Revision}
	var err error
	if row.Live > 0 {
		if f.Live, err = c.Plan(row.Name, row.Live); err != nil {
			// The others go on.
			c.log.Error("a flow cannot be run and takes no messages", "flow", row.Name, "error", err)
		}
	}
	if row.Trial > 0 && f.Live != nil {
		f.Trial = &Trial{Version: row.Trial, Of: row.TrialOf}
		if f.Trial.Plan, err = c.Plan(row.Name, row.Trial); err != nil {
			f.Trial = nil
			c.log.Error("a version takes no share of messages, as it cannot be run", "flow", row.Name, "error", err)
		}
	}
	if old := c.Flow(row.Name); old != nil && old.revision == row.Revision {
		f.Draft = old.Draft // compiling every draft on every change would cost more with every flow
		return f, nil
	}
	files, err := c.store.Files(row.Name)
	if err != nil {
		return nil, err
	}
	f.Draft, _ = c.reader.Read([]byte(row.Draft), files)
	return f, nil
}

// Flow gives a flow by name, or nil.
func (c *Catalog) Flow(name string) *Flow {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.flows[name]
}

// Each calls do for every flow, in no order.
func (c *Catalog) Each(do func(f *Flow)) {
	c.mu.RLock()
	flows := c.flows // replaced as a whole, never changed
	c.mu.RUnlock()
	for _, f := range flows {
		do(f)
	}
}

// Flows lists all flows, by name.
func (c *Catalog) Flows() []*Flow {
	c.mu.RLock()
	defer c.mu.RUnlock()
	out := make([]*Flow, 0, len(c.flows))
	for _, name := range slices.Sorted(maps.Keys(c.flows)) {
		out = append(out, c.flows[name])
	}
	return out
}
