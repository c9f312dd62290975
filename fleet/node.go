package fleet

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"os"
	"sync"
	"time"

	"github.com/nats-io/nats.go"

	"readyferry/store"
)

// How often a member says how it is, how often it looks how the others are, and after how long without
// a word it counts as gone. One that leads and is not heard by a majority steps down before the others
// may take over... it could write nothing in any case, but its deliveries would go on.
const (
	beatEach  = 400 * time.Millisecond
	lookEvery = 200 * time.Millisecond
	silentFor = 3 * time.Second
	stepDown  = 10 * time.Second
)

// Config is what a member needs.
type Config struct {
	File    *File
	Dir     string // its data folder
	Version string // of the program
	// Lead begins the work over the journal of a partition that this member leads from now on, and gives what
	// answers calls and what ends the work; lost tells that the journal takes nothing any more. It is open
	// until stop has returned.
	Lead func(part int, st *store.Store) (handler http.Handler, stop func(lost bool), err error)
	Log  *slog.Logger
}

// Node is a member at work on a partition: it follows its log, or leads it. It is safe for concurrent use.
type Node struct {
	Config
	part  int     // which one
	first *Node   // of this member, that has what all of them share
	parts []*Node // of the first: those of all partitions, itself among them
	id    *identity
	link  *link
	began time.Time
	ctx   context.Context
	end   context.CancelFunc
	done  sync.WaitGroup
	over  chan struct{} // it has ended its work; until then it says how it is
	short chan struct{} // short calls of other members that are under way
	// Of the first: who hands short calls over, by member, and who answers those of others, by whom they are for. Both
	// stay; a member that starts anew is another one for the second.
	carriers map[string]*carrier
	answers  map[string]*gathered
	woken    chan struct{} // something is to be looked at at once

	mu      sync.Mutex
	beats   map[string]*heard // of the others, and the own
	state   string
	trouble string // why it cannot do its part; "" for nothing
	copied  store.Position
	handler http.Handler // of the engine, while it leads
	epoch   int64        // the place in the log from which it leads
	led     time.Time    // when it began to
	drained bool
	whole   bool      // it has seen a majority
	acked   time.Time // a majority kept something for it
	pending time.Time // since when it waits for that; zero: it does not
	lost    error     // why the log takes nothing from it any more
	changed chan struct{}
	spans   map[string]*span // in which a member is heard; what it was handed is given up with it
}

// span is a time in which a member is heard.
type span struct {
	ctx context.Context
	end context.CancelFunc
}

// The states of a member.
const (
	StateStarts  = "starts"
	StateFollows = "follows"
	StateTakes   = "takes over"
	StateLeads   = "leads"
	StateHands   = "hands over" // it ends its work, so that another one may lead
	StateCopies  = "takes a copy"
)

// beat is what a member says of itself again and again.
type beat struct {
	Name    string    `json:"name"`
	Schema  string    `json:"schema"` // of the journal, that its release writes
	Version string    `json:"version"`
	Began   time.Time `json:"began"`
	State   string    `json:"state"`
	Trouble string    `json:"trouble,omitempty"`
	Log     string    `json:"log"`
	At      int64     `json:"at"`
	Epoch   int64     `json:"epoch,omitempty"` // from which it leads
	Drained bool      `json:"drained,omitempty"`
	Free    int64     `json:"free,omitempty"`  // bytes that are left on its disk; earlier releases do not say
	Calls   bool      `json:"calls,omitempty"` // it hears short calls between the engines; earlier releases do not
}

// heard is a beat, and when it came.
type heard struct {
	beat
	when time.Time
}

// Start starts a member, in all partitions. It does not wait for the others. What is given is its node of
// the first partition.
func Start(ctx context.Context, c Config) (*Node, error) {
	key, err := c.File.SealKey()
	if err != nil {
		return nil, err
	}
	var first *Node
	id, began := &identity{f: c.File}, time.Now().UTC()
	for part := range c.File.Parts() {
		own := c
		own.Dir = store.PartDir(c.Dir, part)
		if err := errors.Join(os.MkdirAll(own.Dir, 0o700), store.GiveKey(own.Dir, key)); err != nil {
			return nil, err
		}
		n := &Node{Config: own, part: part, id: id, began: began, beats: map[string]*heard{}, state: StateStarts,
			woken: make(chan struct{}, 1), changed: make(chan struct{}), spans: map[string]*span{},
			over: make(chan struct{})}
		if part == 0 {
			first = n
			n.short = make(chan struct{}, mostShort)
			n.carriers, n.answers = map[string]*carrier{}, map[string]*gathered{}
		}
		n.first = first
		first.parts = append(first.parts, n)
	}
	link, err := startEngine(c.File, id, c.Dir, c.Log)
	if err != nil {
		return nil, err
	}
	first.ctx, first.end = context.WithCancel(context.WithoutCancel(ctx))
	for _, n := range first.parts {
		n.link, n.ctx, n.end = link, first.ctx, first.end
	}
	for _, n := range first.parts {
		if err := n.listen(); err != nil {
			first.end()
			link.close()
			return nil, err
		}
	}
	for _, n := range first.parts {
		n.done.Go(n.tell)
		n.done.Go(func() {
			defer close(n.over)
			n.run()
		})
	}
	return first, nil
}

// End begins to end the member: it leads nothing from now on, and calls go to another one as soon as that leads.
// While what it leads comes to its end the others know of that and wait, so that no two work on the same.
func (n *Node) End() { n.end() }

// Close ends the member, and returns when all its work has ended.
func (n *Node) Close() {
	n.End()
	for _, one := range n.parts {
		one.done.Wait()
	}
	n.link.close()
}

// listen hears the other members.
func (n *Node) listen() error {
	hear := map[string]nats.MsgHandler{beatOf(n.part): n.hears}
	if n.part == 0 {
		hear[callsSubject(n.File.This)], hear[callSubject(n.File.This)] = n.calls, n.callsOne
		hear["fleet.drain."+n.File.This] = func(m *nats.Msg) {
			n.setDrained(string(m.Data) == "true")
			_ = m.Respond([]byte("{}"))
		}
	}
	for what, hears := range hear {
		if _, err := n.link.conn.Subscribe(what, hears); err != nil {
			return err
		}
	}
	return nil
}

func (n *Node) nudge() {
	select {
	case n.woken <- struct{}{}:
	default:
	}
}

func (n *Node) hears(m *nats.Msg) {
	var b beat
	if json.Unmarshal(m.Data, &b) != nil || n.File.Member(b.Name) == nil {
		return
	}
	n.mu.Lock()
	was := n.beats[b.Name]
	n.beats[b.Name] = &heard{b, time.Now()}
	if was == nil || was.State != b.State {
		n.change()
	}
	if was != nil && !was.Began.Equal(b.Began) { // what was handed to its process before is lost with that
		n.endSpan(b.Name)
	}
	n.whole = n.whole || len(n.there()) >= n.File.majority()
	if n.state == StateLeads && b.State == StateLeads && b.Epoch > n.epoch && n.lost == nil {
		n.lost = ErrFenced
	}
	n.mu.Unlock()
}

// change wakes who waits for another state of things. The lock is held.
func (n *Node) change() {
	close(n.changed)
	n.changed = make(chan struct{})
}

// tell says how this member is, until it has ended its work.
func (n *Node) tell() {
	tick := time.NewTicker(beatEach)
	defer tick.Stop()
	for {
		n.say()
		n.endSpans()
		select {
		case <-n.over:
			return
		case <-tick.C:
		}
	}
}

// spanOf gives the time in which a member is heard.
func (n *Node) spanOf(member string) context.Context {
	n.mu.Lock()
	defer n.mu.Unlock()
	s := n.spans[member]
	if s == nil {
		s = &span{}
		s.ctx, s.end = context.WithCancel(n.ctx)
		n.spans[member] = s
	}
	return s.ctx
}

// endSpans gives up what was handed to members that are not heard any more: where the network between
// is gone nothing else says so for a long time.
func (n *Node) endSpans() {
	n.mu.Lock()
	defer n.mu.Unlock()
	for name := range n.spans {
		if h := n.beats[name]; h == nil || time.Since(h.when) > silentFor {
			n.endSpan(name)
		}
	}
}

// endSpan gives up what was handed to a member. The lock is held.
func (n *Node) endSpan(member string) {
	s := n.spans[member]
	if s == nil {
		return
	}
	s.end()
	delete(n.spans, member)
	n.change()
}

func (n *Node) say() {
	n.mu.Lock()
	b := beat{Name: n.File.This, Schema: store.Schema(), Version: n.Version, Began: n.began,
		State:   n.state,
		Trouble: n.trouble, Log: n.copied.Log,
		At: n.copied.At, Epoch: n.epoch, Calls: true}
	n.mu.Unlock()
	b.Drained = n.isDrained()
	if n.part == 0 {
		b.Free = store.FreeAt(n.Dir)
	}
	if text, err := json.Marshal(b); err == nil {
		_ = n.link.conn.Publish(beatOf(n.part), text)
	}
}

func (n *Node) set(state, trouble string) {
	n.mu.Lock()
	if n.state != state || n.trouble != trouble {
		n.state, n.trouble = state, trouble
		n.change()
	}
	n.mu.Unlock()
	n.say()
}

func (n *Node) setDrained(is bool) {
	n.first.mu.Lock()
	n.first.drained = is
	n.first.mu.Unlock()
	for _, one := range n.first.parts {
		one.nudge()
	}
}

// isDrained tells whether this member is to lead nothing.
func (n *Node) isDrained() bool {
	n.first.mu.Lock()
	defer n.first.mu.Unlock()
	return n.first.drained
}

// there lists the members that are heard, this one among them. The lock is held.
func (n *Node) there() (out []*heard) {
	for _, h := range n.beats {
		if time.Since(h.when) < silentFor {
			out = append(out, h)
		}
	}
	return out
}

// leader gives the member that leads, as far as this one hears; nil for none.
func (n *Node) leader() *heard {
	n.mu.Lock()
	defer n.mu.Unlock()
	var out *heard
	for _, h := range n.there() {
		if h.State == StateLeads && (out == nil || h.Epoch > out.Epoch) {
			out = h
		}
	}
	return out
}

// run is the life of a member: it follows, and leads when nobody else does.
func (n *Node) run() {
	for n.ctx.Err() == nil {
		err := n.follow()
		if err == nil {
			continue
		}
		if n.ctx.Err() == nil {
			n.Log.Error("following the log", "partition", n.part, "error", err)
			n.set(StateFollows, err.Error())
		}
		if errors.Is(err, store.ErrNotTheSame) {
			if err := store.Discard(n.Dir); err != nil {
				n.Log.Error("removing a copy that is not the same", "error", err)
			}
		}
		select {
		case <-n.ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// errElsewhere tells that the folder has a journal of another fleet.
var errElsewhere = errors.New(
	"the journal in the data folder is of another fleet, or of none: adopt it, or name another folder",
)

// follow opens the copy and keeps it at the end of the log, until this member is to lead; then it
// leads, until it cannot any more.
func (n *Node) follow() error {
	c, err := store.OpenCopy(n.ctx, n.Dir)
	if err != nil {
		return err
	}
	n.place(c.Position)
	n.set(StateFollows, "")
	r, err := n.link.reader(n.part)
	if err != nil {
		return errors.Join(err, c.Close())
	}
	defer r.close()
	f := &follower{
		Node:  n,
		c:     c,
		r:     r,
		j:     &journal{link: n.link, part: n.part, replicas: n.File.Replicas},
		began: time.Now(),
	}
	takes, err := f.run()
	if err = errors.Join(err, c.Close()); err != nil || n.ctx.Err() != nil {
		return err
	}
	if f.behind {
		return n.fetch()
	}
	if takes {
		return n.lead(f.at)
	}
	return nil
}

func (n *Node) place(p store.Position) {
	n.mu.Lock()
	n.copied = p
	n.mu.Unlock()
}

func newLogID() string { return rand.Text() }
