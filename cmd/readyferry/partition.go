package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"readyferry/api"
	"readyferry/connect"
	"readyferry/engine"
	"readyferry/engine/journal"
	"readyferry/fleet"
	"readyferry/standin"
	"readyferry/store"
	"readyferry/web"
)

// The partitions of a fleet behind the first. Each has an engine of its own, at the member that leads it, which
// takes the messages of its order values in, works on them and delivers them. What it works by it takes over
// from the first partition, and it answers nothing but webhooks and what the first partition asks for.

// designEach is how often it is looked whether something was designed anew.
const designEach = 250 * time.Millisecond

// leadPart works over the journal of a further partition while this member leads it.
func (m *member) leadPart(ctx context.Context, part int, st *store.Store) (http.Handler, func(bool), error) {
	ctx, end := context.WithCancel(context.WithoutCancel(ctx))
	a, design, err := m.buildPart(ctx, part, st)
	if err != nil {
		end()
		return nil, nil, err
	}
	messages, asked := handlerOf(a.Config), m.answering(a.Engine, design)
	stop := func(lost bool) {
		a.Engine.Close()
		end()
		if lost {
			a.Engine.Abandon()
		}
		a.close()
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == askPath { // but for webhooks members alone call here
			asked(w, r)
			return
		}
		messages.ServeHTTP(w, r)
	}), stop, nil
}

func (m *member) buildPart(ctx context.Context, part int, st *store.Store) (_ *application, _ *design, err error) {
	a := &application{s: m.serving, in: m.in}
	defer func() {
		if err != nil {
			a.close()
		}
	}()
	none := standin.NewSet(time.Now, func() {})
	a.atEnd(func() { _ = none.Close() })
	if err := a.documents(none); err != nil {
		return nil, nil, err
	}
	d := &design{store: st, of: store.NewDesign(store.PartDir(m.data, 0))}
	a.atEnd(d.close)
	if _, err := st.TakeDesign(ctx, d.of); err != nil {
		return nil, nil, err
	}
	e, err := engine.New(engine.Config{Store: st, Reader: a.reader, Systems: a.all, Log: m.log.With("partition", part),
		Outside:   &connect.Outside{},
		Partition: journal.Partition{This: part, Of: m.node.File.Parts()}})
	if err != nil {
		return nil, nil, err
	}
	d.engine = e
	if err := errors.Join(m.follow(ctx, e, m.log), e.Start()); err != nil {
		return nil, nil, err
	}
	a.atEnd(e.Stop)
	following := make(chan struct{})
	go func() {
		defer close(following)
		every(ctx, designEach, func() {
			if err := d.take(ctx); err != nil && ctx.Err() == nil {
				m.log.Warn("taking over what was designed", "error", err)
			}
		})
	}()
	a.atEnd(func() { <-following })
	a.Config = api.Config{
		Engine:   e,
		StandIns: none,
		Web:      web.Files(),
		Door:     m.in.Door,
		Log:      m.log,
		HandOver: m.handOver,
	}
	return a, d, nil
}

// design is what an engine takes over of the first partition.
type design struct {
	mu     sync.Mutex
	of     *store.Design // nil: the engine has come to its end, and takes over nothing any more
	store  *store.Store
	engine *engine.Engine
}

// take lets the engine go on with what is designed anew.
func (d *design) take(ctx context.Context) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.of == nil {
		return store.ErrClosed
	}
	changed, err := d.store.TakeDesign(ctx, d.of)
	if err == nil && changed {
		err = d.engine.DesignChanged()
	}
	return err
}

func (d *design) close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	_ = d.of.Close()
	d.of = nil
}

// settledWithin is how long whoever designs something waits until it counts everywhere; it will, in any case.
const settledWithin = 3 * time.Second

// settle waits until what was designed in the first partition counts in all others.
func (m *member) settle(ctx context.Context, e *engine.Engine) {
	ctx, stop := context.WithTimeout(ctx, settledWithin)
	defer stop()
	if _, err := e.Journal.EverywhereDo(ctx, journal.Asked{What: journal.AskDesign, Behind: m.node.At(0)}); err != nil {
		m.log.Info("not all partitions have taken over yet what was designed", "error", err)
	}
}

// takeBehind takes over what is designed up to a place in the log of the first partition.
func (m *member) takeBehind(ctx context.Context, d *design, behind int64) error {
	ctx, stop := context.WithTimeout(ctx, settledWithin)
	defer stop()
	for m.node.At(0) < behind {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
	return d.take(ctx)
}

// together has the first partition's lists read all partitions, until apart is called.
func (m *member) together(ctx context.Context, st *store.Store) (apart func(), err error) {
	parts := m.node.File.Parts()
	if parts == 1 {
		return func() {}, nil
	}
	var dirs []string
	for part := 1; part < parts; part++ {
		dirs = append(dirs, store.PartDir(m.data, part))
	}
	t, err := st.Together(dirs)
	if err != nil {
		return nil, err
	}
	followed := make(chan struct{})
	go func() {
		defer close(followed)
		every(ctx, time.Second, func() {
			if err := t.Follow(); err != nil && ctx.Err() == nil {
				m.log.Warn("reading the partitions together", "error", err)
			}
		})
	}()
	return func() {
		<-followed // ctx has ended
		if err := t.Close(); err != nil {
			m.log.Warn("closing the partitions", "error", err)
		}
	}, nil
}

// saidKey is the key of what other members have said of a call, in its context.
type saidKey struct{}

// saidOf takes what members say of a call out of its headers.
func saidOf(r *http.Request) http.Header {
	said := http.Header{}
	for _, name := range append(slices.Clone(fleet.Said), partHeader) {
		if v := r.Header.Get(name); v != "" {
			said.Set(name, v)
		}
		if name != fleet.TrustedHeader { // which the interface asks for
			r.Header.Del(name)
		}
	}
	return said
}

// handOver answers a call by the member that leads another partition.
func (m *member) handOver(part int, w http.ResponseWriter, r *http.Request) {
	out := r.Clone(r.Context())
	if said, is := r.Context().Value(saidKey{}).(http.Header); is {
		for name := range said {
			out.Header.Set(name, said.Get(name))
		}
		out.Header.Del(fleet.ForwardedBy) // this member does it now
	}
	m.door.HandTo(part, w, out)
}

// askPath is where a partition is asked by the first one.
const askPath = "/fleet/ask"

// answer is what a partition says.
type answer struct {
	journal.Done
	Error string `json:",omitempty"`
	Kind  string `json:",omitempty"` // of the error
}

// kindsOfError are those that are told from others on the way between members.
var kindsOfError = map[string]error{
	"decision":  journal.ErrDecision,
	"not found": journal.ErrNotFound,
	"conflict":  journal.ErrConflict,
}

// answering does what the first partition asks for.
func (m *member) answering(e *engine.Engine, d *design) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var in journal.Asked
		var out answer
		err := json.NewDecoder(io.LimitReader(r.Body, mostAsked)).Decode(&in)
		switch {
		case err != nil:
		case in.What == journal.AskDesign:
			err = m.takeBehind(r.Context(), d, in.Behind)
		default:
			out.Done, err = e.DoAsked(r.Context(), in)
		}
		if err != nil {
			out.Error = err.Error()
			for kind, is := range kindsOfError {
				if errors.Is(err, is) {
					out.Kind = kind
				}
			}
		}
		_ = json.NewEncoder(w).Encode(out)
	}
}

// mostAsked is how large a question may be, in bytes: it may carry a message that a person has repaired.
const mostAsked = 256 << 20

// others are the engines of the other partitions.
type others struct{ *member }

// others gives them; nil where there are none.
func (m *member) others() journal.Others {
	if m.node.File.Parts() == 1 {
		return nil
	}
	return others{m}
}

// remote is an error of another partition.
type remote struct {
	text string
	kind error
}

// Error implements error.
func (r *remote) Error() string { return r.text }

// Unwrap gives what kind it is of.
func (r *remote) Unwrap() error { return r.kind }

// Ask implements journal.Others.
func (o others) Ask(ctx context.Context, part int, a journal.Asked) (journal.Done, error) {
	body, err := json.Marshal(a)
	if err != nil {
		return journal.Done{}, err
	}
	status, said, err := o.door.Ask(ctx, part, askPath, body)
	if err != nil {
		return journal.Done{}, err
	}
	var out answer
	if err := json.Unmarshal(said, &out); err != nil || status != http.StatusOK {
		return journal.Done{}, fmt.Errorf(
			"partition %d does not answer now (%d %s): nothing more was done there; try again later",
			part,
			status,
			bytes.TrimSpace(said),
		)
	}
	if out.Error != "" {
		return journal.Done{}, &remote{out.Error, kindsOfError[out.Kind]}
	}
	return out.Done, nil
}
