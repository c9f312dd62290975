package agent

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"sync"

	"readyferry/connect"
	"readyferry/core/outbound"
	"readyferry/core/plan"
	"readyferry/core/retry"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/engine"
	"readyferry/engine/bundle"
	"readyferry/engine/intake"
	"readyferry/runner/wire"
	"readyferry/store"
)

// host runs the flows that are called at this runner: an engine of its own, with a journal of its own
// in the runner's folder. It begins when the application gives it flows; what they had begun goes on
// with the runner's next start, whether the application is reached or not.
type host struct {
	store  *store.Store
	engine *engine.Engine

	mu      sync.Mutex // while it is given flows
	version string
	flows   []string
	secrets map[string][]string
	list    outbound.List
}

// hostDir is where the journal of the flows stands.
const hostDir = "flows"

// beginHost starts the engine.
func (a *Agent) beginHost() (*host, error) {
	reader := a.Reader
	if reader == nil {
		var err error
		if reader, err = plan.NewReader(a.Systems.Kinds()...); err != nil {
			return nil, err
		}
	}
	st, err := store.Open(filepath.Join(a.Dir, hostDir))
	if err != nil {
		return nil, err
	}
	h := &host{store: st, secrets: map[string][]string{}}
	out := connect.Outside{}
	if a.Outside != nil {
		out = *a.Outside
	}
	out.List = func() outbound.List { h.mu.Lock(); defer h.mu.Unlock(); return h.list }
	h.engine, err = engine.New(engine.Config{Store: st, Reader: reader, Systems: a.Systems, Opener: &opener{a, h},
		Log: a.Log, Outside: &out})
	if err == nil {
		err = h.engine.Start()
	}
	if err != nil {
		return nil, errors.Join(err, st.Close())
	}
	return h, nil
}

func (h *host) close() {
	h.engine.Close()
	h.engine.Stop()
	_ = h.store.Close()
}

// opener opens the connections of the flows with the secrets that the application gave. They are in
// memory, and on the disk sealed with the runner's key, as those of other connections are; the
// journal of the flows has none.
type opener struct {
	a *Agent
	h *host
}

// Open implements connect.Opener.
func (o *opener) Open(ctx context.Context, c *connect.Connection) (connect.Link, error) {
	own := *c
	o.h.mu.Lock()
	own.SignIn.Secrets = o.h.secrets[c.Name]
	o.h.mu.Unlock()
	own.Renewed = func(secret string) { o.a.renewed(c.Name, secret) }
	return o.a.Systems.Open(ctx, &own)
}

// hosts takes flows to run here, in place of those that were given before.
func (a *Agent) hosts(ctx context.Context, in *wire.Hosting) (nothing, error) {
	if err := a.hosted(ctx, in); err != nil {
		return nothing{}, err
	}
	a.mu.Lock()
	a.store.hosting = in
	a.mu.Unlock()
	return nothing{}, a.note()
}

func (a *Agent) hosted(ctx context.Context, in *wire.Hosting) error {
	a.hosting.Lock()
	defer a.hosting.Unlock()
	h := a.hostNow()
	if h == nil {
		var err error
		if h, err = a.beginHost(); err != nil {
			return fmt.Errorf("beginning to run flows: %w", err)
		}
		a.mu.Lock()
		a.host = h
		a.mu.Unlock()
	}
	h.mu.Lock()
	before := h.secrets
	h.secrets, h.list = in.Secrets, in.List
	h.mu.Unlock()
	files := bundle.Files(in.Files)
	if _, err := h.engine.Bundle.Import(ctx, files, bundle.Options{By: "the application",
		Note: "as it is live there"}); err != nil {
		return fmt.Errorf("%w: this runner cannot take the flows: %w", connect.ErrCannotSend, err)
	}
	if !sameSecrets(before, in.Secrets) {
		if err := h.engine.Reopen(); err != nil {
			return err
		}
	}
	h.mu.Lock()
	h.version, h.flows = in.Version, files.Names("flows")
	h.mu.Unlock()
	return nil
}

func sameSecrets(a, b map[string][]string) bool {
	if len(a) != len(b) {
		return false
	}
	for name, list := range a {
		if !slices.Equal(list, b[name]) {
			return false
		}
	}
	return true
}

func (a *Agent) hostNow() *host {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.host
}

// calls hands a message to a flow here, and waits until that has ended. A repeat waits for, or hears
// of, the same transaction.
func (a *Agent) calls(ctx context.Context, in *wire.Calling) (*wire.Tried, error) {
	h := a.hostNow()
	if h == nil {
		return nil, errUnopened
	}
	h.mu.Lock()
	version := h.version
	h.mu.Unlock()
	if version != in.Version {
		return nil, errUnopened
	}
	out, err, _ := a.flights.Do("call "+in.ID, func() (any, error) { return a.call(ctx, h, in) })
	if err != nil {
		return nil, err
	}
	return out.(*wire.Tried), nil
}

func (a *Agent) call(ctx context.Context, h *host, in *wire.Calling) (*wire.Tried, error) {
	if known, err := a.store.tried(ctx, in.ID); known != nil || err != nil {
		return known, err
	}
	ctx, stop := context.WithTimeout(ctx, in.Within)
	defer stop()
	effect, err := h.engine.Intake.CallFromAfar(ctx, intake.Called{ID: in.ID, Flow: in.Flow, Headers: in.Headers,
		Body: in.Body,
		From: "a call of the application"})
	out, err := a.cameTo(ctx, in, effect, err)
	if err == nil && out.Outcome == retry.Delivered {
		err = a.store.noteTried(context.WithoutCancel(ctx), in.ID, out)
	}
	return out, err
}

// cameTo says what a call has come to as the application judges a try.
func (a *Agent) cameTo(ctx context.Context, in *wire.Calling, effect *want.Effect, err error) (*wire.Tried, error) {
	var failed *intake.FailedError
	var refused *run.RefusedError
	switch {
	case err == nil:
		return &wire.Tried{Outcome: retry.Delivered, Code: strconv.Itoa(effect.Status), Headers: effect.Headers,
			Answer: effect.Body}, nil
	case errors.As(err, &failed):
		return &wire.Tried{Outcome: retry.Never, Words: fmt.Sprintf("the flow %s failed there as %s: %s", in.Flow,
				failed.Tx, failed.Reason)},
			nil
	case errors.As(err, &refused):
		out := &wire.Tried{Outcome: retry.Never, Code: strconv.Itoa(refused.Status), Words: refused.Title + ": " +
			refused.Detail}
		if refused.Status == 429 || refused.Status == 503 {
			out.Outcome, out.After = retry.Again, refused.RetryAfter
		}
		return out, nil
	case ctx.Err() != nil && a.ctx.Err() == nil:
		return &wire.Tried{Outcome: retry.Never, Words: fmt.Sprintf("the flow %s did not end within %s", in.Flow,
			in.Within)}, nil
	}
	return nil, err
}
