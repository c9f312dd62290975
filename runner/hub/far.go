package hub

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/retry"
	"readyferry/core/system"
	"readyferry/runner/line"
	"readyferry/runner/wire"
)

// Open implements connect.Opener.
func (h *Hub) Open(ctx context.Context, c *connect.Connection) (connect.Link, error) {
	if c.At == "" {
		return h.Here.Open(ctx, c)
	}
	r, err := h.of(c.At)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	if c.Kind == system.Runner {
		return &r.callee, nil
	}
	f := &far{h: h, r: r, c: c, opening: wire.Opening{
		Document: jsonfmt.Encode(c.Settings.Without("at").Without("secret-from")), Secrets: c.SignIn.Secrets,
	}}
	if h.List != nil {
		f.opening.List = h.List()
	}
	sum := sha256.New()
	_ = json.NewEncoder(sum).Encode(f.opening)
	f.opening.Of = wire.Of{Connection: c.Name, Version: hex.EncodeToString(sum.Sum(nil)[:12])}
	return f, nil
}

// far is a connection that a runner has.
type far struct {
	h       *Hub
	r       *runner
	c       *connect.Connection
	opening wire.Opening
}

// overhead is what a try may take longer than its limit, for the way there and back.
const overhead = 5 * time.Second

// ask asks about the connection, which is opened where it is not.
func (f *far) ask(ctx context.Context, what string, in, out any) error {
	err := f.h.ask(ctx, f.r, what, in, out)
	if !errors.Is(err, errUnopened) {
		return err
	}
	f.h.mu.Lock()
	f.r.opened[f.c.Name] = f.opening.Version
	f.h.mu.Unlock()
	if err := f.h.ask(ctx, f.r, wire.Open, f.opening, nil); err != nil {
		return fmt.Errorf("opening it at %s: %w", f.r.name, err)
	}
	return f.h.ask(ctx, f.r, what, in, out)
}

func (f *far) within(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, f.c.TimeLimit+overhead)
}

// Check implements connect.Link.
func (f *far) Check(ctx context.Context) (out connect.Report, err error) {
	ctx, stop := f.within(ctx)
	defer stop()
	err = f.ask(ctx, wire.Check, wire.Asking{Of: f.opening.Of}, &out)
	if errors.Is(err, line.ErrAway) {
		detail := "the runner " + f.r.name + " is away, so nobody can look"
		return connect.Report{Detail: detail, Steps: []connect.Step{{Detail: detail,
			Repair: "start it, or see why its line is cut: its own log says so"}}}, nil
	}
	if err == nil {
		out.Steps = append([]connect.Step{{OK: true, Detail: "the runner " + f.r.name + " is there"}}, out.Steps...)
	}
	return out, err
}

// Close implements io.Closer: the runner forgets it with the next one of its name, or when it hears
// what is to stay.
func (f *far) Close() error {
	f.h.mu.Lock()
	defer f.h.mu.Unlock()
	if f.r.opened[f.c.Name] == f.opening.Version {
		delete(f.r.opened, f.c.Name)
	}
	return nil
}

// Send implements connect.Sender.
func (f *far) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	return f.try(ctx, r, false)
}

// Ask implements connect.Asker.
func (f *far) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	return f.try(ctx, r, true)
}

func (f *far) try(ctx context.Context, r connect.Request, ask bool) (connect.Receipt, error) {
	rules, err := r.Rules.Encode()
	if err != nil {
		return connect.Receipt{}, err
	}
	ctx, stop := f.within(ctx)
	defer stop()
	var out wire.Tried
	err = f.ask(ctx, wire.Try, wire.Trying{Of: f.opening.Of, ID: r.ID, TraceParent: r.TraceParent, Rules: rules,
		Request: &r.Request,
		Body:    r.Body, Ask: ask}, &out)
	if errors.Is(err, line.ErrAway) {
		return connect.Receipt{Outcome: retry.Again, Words: "the runner " + f.r.name + " is away"}, nil
	}
	if err != nil {
		return connect.Receipt{}, err
	}
	return receiptOf(&out), nil
}

// List implements connect.Lister.
func (f *far) List(ctx context.Context, what string) (out []string, err error) {
	ctx, stop := f.within(ctx)
	defer stop()
	return out, f.ask(ctx, wire.List, wire.Asking{Of: f.opening.Of, What: what}, &out)
}

// Peek implements connect.Peeker.
func (f *far) Peek(ctx context.Context, in connect.Settings) (out *connect.Arrival, err error) {
	ctx, stop := f.within(ctx)
	defer stop()
	return out, f.ask(ctx, wire.Peek, wire.Asking{Of: f.opening.Of, Settings: jsonfmt.Encode(in)}, &out)
}

// Describe implements connect.Describer.
func (f *far) Describe(ctx context.Context, table string) (out *connect.Table, err error) {
	ctx, stop := f.within(ctx)
	defer stop()
	return out, f.ask(ctx, wire.Describe, wire.Asking{Of: f.opening.Of, What: table}, &out)
}

// Query implements connect.Describer.
func (f *far) Query(s *connect.Selection) (sql string, params []string, err error) {
	ctx, stop := f.within(context.Background())
	defer stop()
	var out wire.Statement
	err = f.ask(ctx, wire.Query, wire.Selecting{Of: f.opening.Of, Selection: s}, &out)
	return out.SQL, out.Params, err
}

// Inspect implements connect.Inspector.
func (f *far) Inspect(ctx context.Context, u connect.Use) (out connect.Step) {
	ctx, stop := f.within(ctx)
	defer stop()
	if err := f.ask(ctx, wire.Inspect, wire.Asking{Of: f.opening.Of, Settings: jsonfmt.Encode(u.Settings),
		Flow:   u.Flow,
		Intake: u.Intake}, &out); err != nil {
		return connect.Step{Detail: "whether what " + u.Flow + " names is there: " + err.Error()}
	}
	return out
}

// renewed keeps a secret that a system gave at the runner.
func (h *Hub) renewed(r *runner, m *nats.Msg) {
	var renewal wire.Renewal
	if json.Unmarshal(m.Data, &renewal) != nil || h.Renewed == nil {
		return
	}
	h.Renewed(r.name, renewal.Connection, renewal.Secret)
}
