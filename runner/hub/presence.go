package hub

// Who is there, who is away, and what each of those that are there is to have.

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go"

	"readyferry/runner/line"
	"readyferry/runner/wire"
)

// silentFor is how long a runner may say nothing until it counts as away, and lookEach how often
// that is looked at.
const (
	silentFor = 7 * time.Second
	lookEach  = time.Second
)

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
