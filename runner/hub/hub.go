// Package hub is the application's side of its runners: it knows who they are and how they are, and
// opens connections that say at: on the runner that they name.
//
// It promises that a try at a connection beyond a firewall is a try like any other: the same rules,
// the same receipts, the same id on every try. Where the runner is away nothing is tried, and
// whoever waits is told since when; when it comes back they go on at once.
package hub

import (
	"context"
	"log/slog"
	"net/http"
	"slices"
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
