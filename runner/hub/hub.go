// Package hub is the application's side of its runners: it knows who they are and how they are, and
// opens connections that say at: on the runner that they name.
//
// It promises that a try at a connection beyond a firewall is a try like any other: the same rules,
// the same receipts, the same id on every try. Where the runner is away nothing is tried, and
// whoever waits is told since when; when it comes back they go on at once.
package hub

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"

	"readyferry/connect"
	"readyferry/core/outbound"
	"readyferry/core/run"
	"readyferry/engine/bundle"
	"readyferry/runner/line"
	"readyferry/runner/wire"
)

// silentFor is how long a runner may say nothing until it counts as away, and lookEach how often
// that is looked at.
const (
	silentFor = 7 * time.Second
	lookEach  = time.Second
)

// Config is what a hub needs.
type Config struct {
	// Here opens the connections that name no runner.
	Here connect.Opener
	// Permits says whether a key is good for a runner of a name; it is asked again and again while
	// the line is up.
	Permits func(runner, key string) error
	// Wants says whether a connection is still to be open at a runner; nil: each is that was opened.
	Wants func(runner, connection string) bool
	// Renewed keeps a secret that a system gave at a runner in place of an earlier one.
	Renewed func(runner, connection, secret string)
	// Flows gives what a runner needs for the flows that are called there; nil: none are.
	Flows func(runner string) (*bundle.Across, error)
	// List gives the addresses outside that an owner permits; nil: none.
	List func() outbound.List
	Log  *slog.Logger
}

// Hub is safe for concurrent use.
type Hub struct {
	Config
	mu      sync.Mutex
	line    *line.Hub // nil until somebody speaks of a runner: without any it costs nothing
	runners map[string]*runner
	changed []func(runner string)
	ends    context.CancelFunc
	ended   sync.WaitGroup
}

// runner is what is known of one.
type runner struct {
	name     string
	conn     *nats.Conn
	greeting wire.Greeting
	seen     time.Time       // the last word of it
	is       bool            // it is there
	since    time.Time       // that it is so; zero: since the start
	back     chan struct{}   // closed when it is there
	span     context.Context // that it is there; what is asked within it is given up with it
	ends     context.CancelFunc
	line     uint64 // the one that is up
	cutUntil time.Time
	opened   map[string]string // version by connection
	callee   callee            // takes the calls of flows that run there
	receives map[string]*receiving
}

// New makes it. It begins when a connection names a runner, or one comes.
func New(c Config) *Hub { return &Hub{Config: c, runners: map[string]*runner{}} }

// lines gives the lines, and begins them. The lock is held.
func (h *Hub) lines() (*line.Hub, error) {
	if h.line != nil {
		return h.line, nil
	}
	l, err := line.NewHub(h.Permits, h.Log)
	if err != nil {
		return nil, err
	}
	ctx, end := context.WithCancel(context.Background())
	h.line, h.ends = l, end
	h.ended.Go(func() { h.look(ctx, l) })
	return l, nil
}

// Close ends it.
func (h *Hub) Close() {
	h.mu.Lock()
	l, end := h.line, h.ends
	h.mu.Unlock()
	if l == nil {
		return
	}
	end()
	h.ended.Wait()
	l.Close()
}

// Begin begins the line of a runner that presents a key; it returns when the line ends. Who has no
// good key gets nothing but the error of Permits.
func (h *Hub) Begin(w http.ResponseWriter, r *http.Request, name, key string) error {
	if line.CheckName(name) != nil {
		name = "" // nobody; Permits says it in its own words
	}
	if err := h.Permits(name, key); err != nil {
		return err
	}
	h.mu.Lock()
	l, err := h.lines()
	h.mu.Unlock()
	if err == nil {
		err = h.Expect(name)
	}
	if err != nil {
		return err
	}
	if h.isCut(name) {
		return &run.RefusedError{Status: http.StatusServiceUnavailable, Title: "The line is cut",
			Detail:     "somebody has cut it for a while",
			RetryAfter: time.Second}
	}
	if slices.ContainsFunc(l.Up(), func(l line.Lined) bool { return l.Runner == name }) {
		return &run.RefusedError{Status: http.StatusConflict, Title: "The runner is there already",
			Detail: "another one has the name " + name + " and is there; two would both do what is asked of one. Where its line was " +
				"just cut it is missed within seconds"}
	}
	l.ServeHTTP(w, r)
	return nil
}

// Cut ends the line of a runner now, and lets it come again after a while, so that one sees what
// happens meanwhile.
func (h *Hub) Cut(name string, span time.Duration) error {
	r, err := h.of(name)
	if err != nil {
		return err
	}
	h.mu.Lock()
	l := h.line
	r.cutUntil = time.Now().Add(span)
	h.mu.Unlock()
	return l.Cut(name)
}

// isCut tells whether somebody has the line of a runner cut now.
func (h *Hub) isCut(name string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	r := h.runners[name]
	return r != nil && time.Now().Before(r.cutUntil)
}

// OnChange has a function called when a runner has come or gone. It is to be called before the start.
func (h *Hub) OnChange(do func(runner string)) {
	h.mu.Lock()
	h.changed = append(h.changed, do)
	h.mu.Unlock()
}

// of gives what is known of a runner, and listens to it from now on.
func (h *Hub) of(name string) (*runner, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if r := h.runners[name]; r != nil {
		return r, nil
	}
	l, err := h.lines()
	if err != nil {
		return nil, err
	}
	conn, err := l.To(name)
	if err != nil {
		return nil, err
	}
	r := &runner{name: name, conn: conn, back: make(chan struct{}), opened: map[string]string{},
		receives: map[string]*receiving{}}
	r.callee.h, r.callee.r = h, r
	for what, hears := range map[string]nats.MsgHandler{
		wire.Hello:    func(m *nats.Msg) { h.greeted(r, m) },
		wire.Renewed:  func(m *nats.Msg) { h.renewed(r, m) },
		wire.Answered: func(m *nats.Msg) { go h.answered(r, m) },
	} {
		if _, err := conn.Subscribe(line.Told+what, hears); err != nil {
			return nil, err
		}
	}
	h.runners[name] = r
	return r, nil
}

// Expect listens to a runner that may come.
func (h *Hub) Expect(name string) error {
	_, err := h.of(name)
	return err
}

func (h *Hub) greeted(r *runner, m *nats.Msg) {
	var g wire.Greeting
	if json.Unmarshal(m.Data, &g) != nil {
		return
	}
	now := time.Now()
	h.mu.Lock()
	anew := r.is && !g.Since.Equal(r.greeting.Since) // it was started anew before it was missed
	r.greeting, r.seen = g, now
	came := !r.is || anew
	if anew {
		r.ends()
	}
	if !r.is {
		r.is, r.since = true, now
		close(r.back)
	}
	if came {
		r.span, r.ends = context.WithCancel(context.Background())
	}
	keep := h.keep(r)
	told := slices.Clone(h.changed)
	h.mu.Unlock()
	if !came {
		return
	}
	h.Log.Info("a runner is there", "runner", r.name, "version", g.Version)
	go func() {
		h.tell(r, keep)
		r.callee.follow()
		for _, do := range told {
			do(r.name)
		}
	}()
}

// keep lists what a runner is to have; the rest it may let go. The lock is held.
func (h *Hub) keep(r *runner) wire.Keeping {
	keep := wire.Keeping{Connections: []string{}, Flows: []string{}}
	for name := range r.opened {
		if h.Wants == nil || h.Wants(r.name, name) {
			keep.Connections = append(keep.Connections, name)
		}
	}
	for flow := range r.receives {
		keep.Flows = append(keep.Flows, flow)
	}
	return keep
}

// tell tells a runner what to keep.
func (h *Hub) tell(r *runner, keep wire.Keeping) {
	ctx, stop := context.WithTimeout(context.Background(), overhead)
	defer stop()
	if err := h.ask(ctx, r, wire.Keep, keep, nil); err != nil {
		h.Log.Warn("a runner was not told what to keep", "runner", r.name, "error", err)
	}
}

// tellEach is how often a runner has its connections compared with what it is to have: one that was
// removed, or is reached by another, takes its secrets along.
const tellEach = time.Minute

// strays lets runners close what they are not to have any more.
func (h *Hub) strays() {
	type one struct {
		r    *runner
		keep wire.Keeping
	}
	var all []one
	var there []*runner
	h.mu.Lock()
	for _, r := range h.runners {
		if r.is {
			there = append(there, r)
		}
		if h.Wants == nil || !r.is {
			continue
		}
		stray := func(name string) bool { return !h.Wants(r.name, name) }
		if slices.ContainsFunc(r.greeting.Open, stray) {
			all = append(all, one{r, h.keep(r)})
		}
	}
	h.mu.Unlock()
	for _, o := range all {
		h.tell(o.r, o.keep)
	}
	for _, r := range there {
		r.callee.follow()
	}
}

// look notices who is gone, and cuts the lines whose keys are not good any more.
func (h *Hub) look(ctx context.Context, lines *line.Hub) {
	tick := time.NewTicker(lookEach)
	defer tick.Stop()
	for told := time.Now(); ; {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		up := map[string]uint64{}
		for _, l := range lines.Up() {
			if !lines.StillGood(l.Runner) {
				if err := lines.Cut(l.Runner); err != nil {
					h.Log.Error("cutting the line of a runner", "runner", l.Runner, "error", err)
				}
				continue
			}
			up[l.Runner] = l.ID
			if err := h.Expect(l.Runner); err != nil {
				h.Log.Error("listening to a runner", "runner", l.Runner, "error", err)
			}
		}
		h.gone(up)
		if time.Since(told) >= tellEach {
			h.strays()
			told = time.Now()
		}
	}
}

// gone notes those that are away now.
func (h *Hub) gone(up map[string]uint64) {
	now := time.Now()
	var away []string
	h.mu.Lock()
	for name, r := range h.runners {
		line, is := up[name]
		switch {
		case r.is && (!is || now.Sub(r.seen) > silentFor):
			r.is, r.since, r.back = false, now, make(chan struct{})
			r.ends()
			r.span = nil
			away = append(away, name)
		case r.is && r.line != 0 && line != r.line: // it came again before it was missed: what was asked is lost
			r.ends()
			r.span, r.ends = context.WithCancel(context.Background())
		}
		r.line = line
	}
	told := slices.Clone(h.changed)
	h.mu.Unlock()
	for _, name := range away {
		h.Log.Warn("a runner is away", "runner", name)
		for _, do := range told {
			do(name)
		}
	}
}

// Runner is how a runner is.
type Runner struct {
	Name    string
	There   bool
	Since   time.Time // zero: it was not there since the application started
	Version string
	Began   time.Time        // it was started
	Open    []string         // connections
	Flows   []string         // that run there
	Waiting map[string]int64 // messages that it keeps, by flow
}

// Runners lists those that are known, by name.
func (h *Hub) Runners() []Runner {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := make([]Runner, 0, len(h.runners))
	for name, r := range h.runners {
		out = append(out, Runner{name, r.is, r.since, r.greeting.Version, r.greeting.Since, r.greeting.Open,
			r.greeting.Flows, r.greeting.Waiting})
	}
	slices.SortFunc(out, func(a, b Runner) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Away tells whether a runner is away, and since when; zero: since the application started.
func (h *Hub) Away(name string) (since time.Time, away bool) {
	r, err := h.of(name)
	if err != nil {
		return since, true
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	return r.since, !r.is
}

// ask asks a runner something and waits for what it says. The error wraps line.ErrAway where nobody
// was asked.
func (h *Hub) ask(ctx context.Context, r *runner, what string, in, out any) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	h.mu.Lock()
	span := r.span
	h.mu.Unlock()
	if span != nil {
		defer context.AfterFunc(span, func() { stop(errLost) })()
	}
	m, err := r.conn.RequestWithContext(ctx, line.Do+what, b)
	if err != nil && context.Cause(ctx) == errLost {
		err = errLost
	}
	switch {
	case errors.Is(err, errLost):
		return fmt.Errorf("%w: %s", errLost, r.name)
	case errors.Is(err, nats.ErrNoResponders):
		return fmt.Errorf("%w: %s", line.ErrAway, r.name)
	case errors.Is(err, nats.ErrMaxPayload):
		return fmt.Errorf("%w: it is larger than the %d bytes that a runner is handed at once", connect.ErrCannotSend,
			line.MostBytes)
	case err != nil:
		return fmt.Errorf("the line to %s: %w", r.name, err)
	}
	var said wire.Said
	if err := json.Unmarshal(m.Data, &said); err != nil {
		return fmt.Errorf("what %s says cannot be read: %w", r.name, err)
	}
	if said.Unopened {
		return errUnopened
	}
	if said.Failure != nil {
		return said.Failure.Error()
	}
	if out == nil || len(said.Value) == 0 {
		return nil
	}
	return json.Unmarshal(said.Value, out)
}

// errLost tells that a runner went away while it did what it was asked: nobody knows what became of it.
var errLost = errors.New("the runner was lost while it was at work")

var errUnopened = errors.New("the connection is not open at the runner")
