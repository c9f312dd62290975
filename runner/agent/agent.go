// Package agent is what a runner does: it opens the connections that the application asks it to,
// tries deliveries at them, receives for flows, and keeps what came until it is stored inside.
//
// It promises that what a source was told is taken is on the runner's disk, and stays there until the
// application says that it is stored; and that a delivery that went through is not sent once more
// because the line broke before the application heard of it.
package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"golang.org/x/sync/singleflight"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/outbound"
	"readyferry/core/plan"
	"readyferry/core/retry"
	"readyferry/runner/line"
	"readyferry/runner/wire"
)

// Config is what a runner needs.
type Config struct {
	line.Joining
	Systems *connect.Registry
	Version string
	// Reader compiles the flows that run here; nil: one without scripts that are limited.
	Reader *plan.Reader
	// Outside is how systems are reached; nil: as the machine does.
	Outside *connect.Outside
}

// Agent is a runner at work.
type Agent struct {
	Config
	leaf  *line.Leaf
	store *kept
	began time.Time

	mu       sync.Mutex
	open     map[string]*opened
	receives map[string]*receiver
	closed   bool
	ctx      context.Context
	end      context.CancelFunc
	work     sync.WaitGroup

	flights singleflight.Group // tries under way, by id
	host    *host              // of the flows that run here; nil: there are none
	hosting sync.Mutex         // while it is given flows
	noting  sync.Mutex         // so that what is noted last is what is so
}

type opened struct {
	version string
	conn    *connect.Connection
	link    connect.Link
}

// helloEach is how often a runner says that it is there.
const helloEach = 2 * time.Second

// Start begins the work. It does not wait for the application to be reached.
func Start(ctx context.Context, c Config) (*Agent, error) {
	leaf, err := line.Join(ctx, c.Joining)
	if err != nil {
		return nil, err
	}
	a := &Agent{Config: c, leaf: leaf, began: time.Now().UTC(), open: map[string]*opened{},
		receives: map[string]*receiver{}}
	a.ctx, a.end = context.WithCancel(context.WithoutCancel(ctx))
	if a.store, err = openKept(ctx, leaf.Stream); err == nil {
		err = a.remember()
	}
	if err == nil {
		err = a.listen()
	}
	if err != nil {
		a.Close()
		return nil, err
	}
	a.work.Go(a.greet)
	return a, nil
}

// Close ends the work: what is under way is given up, and tried again by whoever asked for it.
func (a *Agent) Close() {
	a.end()
	a.mu.Lock()
	a.closed = true
	for _, r := range a.receives {
		r.stop()
	}
	for _, o := range a.open {
		_ = o.link.Close()
	}
	h := a.host
	a.mu.Unlock()
	a.work.Wait()
	if h != nil {
		h.close()
	}
	a.leaf.Close()
}

// Kept counts the messages of a flow that are kept until they are stored inside.
func (a *Agent) Kept(flow string) int64 { return a.store.waiting(flow) }

// Linked tells whether the application is reached, and else why not.
func (a *Agent) Linked() (is bool, why string) { return a.leaf.Linked(), a.leaf.Why() }

// listen hears what the application asks.
func (a *Agent) listen() error {
	for what, do := range map[string]func(context.Context, []byte) (any, error){
		wire.Open:     does(a.opens),
		wire.Try:      does(a.tries),
		wire.Check:    does(a.checks),
		wire.List:     does(a.lists),
		wire.Peek:     does(a.peeks),
		wire.Inspect:  does(a.inspects),
		wire.Describe: does(a.describes),
		wire.Query:    does(a.queries),
		wire.Receive:  does(a.receive),
		wire.Fetch:    does(a.fetch),
		wire.Settle:   does(a.settle),
		wire.Stop:     does(a.stops),
		wire.Keep:     does(a.keep),
		wire.Host:     does(a.hosts),
		wire.Call:     does(a.calls),
	} {
		if _, err := a.leaf.Conn.Subscribe(line.Do+what, func(m *nats.Msg) {
			a.mu.Lock()
			defer a.mu.Unlock()
			if !a.closed {
				a.work.Go(func() { a.answer(m, do) })
			}
		}); err != nil {
			return err
		}
	}
	return a.leaf.Conn.Flush()
}

// does reads what is asked.
func does[In, Out any](do func(context.Context, *In) (Out, error)) func(context.Context, []byte) (any, error) {
	return func(ctx context.Context, b []byte) (any, error) {
		var in In
		if err := json.Unmarshal(b, &in); err != nil {
			return nil, fmt.Errorf("what the application asks cannot be read: %w", err)
		}
		return do(ctx, &in)
	}
}

// nothing is the answer where there is nothing to say.
type nothing struct{}

func (a *Agent) answer(m *nats.Msg, do func(context.Context, []byte) (any, error)) {
	var said wire.Said
	value, err := a.done(m.Data, do)
	if err == nil {
		said.Value, err = json.Marshal(value)
	}
	if errors.Is(err, errUnopened) {
		said.Unopened = true
	} else {
		said.Failure = wire.FailureOf(err)
	}
	b, err := json.Marshal(said)
	if err == nil {
		err = m.Respond(b)
	}
	if errors.Is(err, nats.ErrMaxPayload) {
		b, _ = json.Marshal(wire.Said{Failure: &wire.Failure{Text: "the answer is larger than a runner hands over at once"}})
		err = m.Respond(b)
	}
	if err != nil && a.ctx.Err() == nil {
		a.Log.Error("answering the application", "about", m.Subject, "error", err)
	}
}

// done does what is asked; a fault of ours is an error to whoever asked.
func (a *Agent) done(b []byte, do func(context.Context, []byte) (any, error)) (out any, err error) {
	defer func() {
		if p := recover(); p != nil && p != http.ErrAbortHandler {
			err = fmt.Errorf("the runner failed over it: %v", p)
		}
	}()
	return do(a.ctx, b)
}

var errUnopened = errors.New("it is not open here")

// opens opens a connection, in place of another of its name.
func (a *Agent) opens(ctx context.Context, in *wire.Opening) (nothing, error) {
	if err := a.opened(ctx, in); err != nil {
		return nothing{}, err
	}
	return nothing{}, a.note()
}

func (a *Agent) opened(ctx context.Context, in *wire.Opening) error {
	d, findings := a.Systems.Read(in.Document)
	if d == nil {
		return fmt.Errorf("%w: this runner cannot read the connection: %s", connect.ErrCannotSend, findings[0].Message)
	}
	c := d.Connection
	c.SignIn.Secrets = in.Secrets
	list := in.List
	out := connect.Outside{}
	if a.Outside != nil {
		out = *a.Outside
	}
	out.List = func() outbound.List { return list }
	c.Outside = &out
	looking, stop := context.WithTimeout(ctx, 3*time.Second)
	c.Named = c.Look(looking)
	stop()
	name := c.Name
	c.Renewed = func(secret string) { a.renewed(name, secret) }
	link, err := a.Systems.Open(ctx, c)
	if err != nil {
		return err
	}
	a.mu.Lock()
	old := a.open[name]
	a.open[name] = &opened{in.Version, c, link}
	a.store.openings[name] = *in
	a.mu.Unlock()
	if old != nil {
		_ = old.link.Close()
	}
	return nil
}

// renewed tells the application of a secret that a system gave in place of an earlier one.
func (a *Agent) renewed(connection, secret string) {
	if b, err := json.Marshal(wire.Renewal{Connection: connection, Secret: secret}); err == nil {
		_ = a.leaf.Conn.Publish(line.Told+wire.Renewed, b)
	}
}

// of gives a connection that is open here.
func (a *Agent) of(of wire.Of) (*opened, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	o := a.open[of.Connection]
	if o == nil || o.version != of.Version {
		return nil, errUnopened
	}
	return o, nil
}

// tries makes one try. One that has gone through before is answered as it was then: the line broke
// before the application heard of it. Where it broke during the try, the next one of the same id
// waits for that.
func (a *Agent) tries(ctx context.Context, in *wire.Trying) (*wire.Tried, error) {
	o, err := a.of(in.Of)
	if err != nil {
		return nil, err
	}
	out, err, _ := a.flights.Do(in.ID, func() (any, error) { return a.try(ctx, o, in) })
	if err != nil {
		return nil, err
	}
	return out.(*wire.Tried), nil
}

func (a *Agent) try(ctx context.Context, o *opened, in *wire.Trying) (*wire.Tried, error) {
	if known, err := a.store.tried(ctx, in.ID); known != nil || err != nil {
		return known, err
	}
	rules, err := retry.Decode(in.Rules)
	if err != nil {
		return nil, err
	}
	r := connect.Request{ID: in.ID, TraceParent: in.TraceParent, Request: *in.Request, Rules: rules}
	r.Body = in.Body
	ctx, stop := context.WithTimeout(ctx, o.conn.TimeLimit)
	defer stop()
	var receipt connect.Receipt
	sender, sends := o.link.(connect.Sender)
	asker, asks := o.link.(connect.Asker)
	switch {
	case sends && !in.Ask:
		receipt, err = sender.Send(ctx, r)
	case asks && in.Ask:
		receipt, err = asker.Ask(ctx, r)
	default:
		err = fmt.Errorf("%w: a connection of kind %s cannot be asked this", connect.ErrCannotSend, o.conn.Kind)
	}
	if err != nil {
		return nil, err
	}
	out := &wire.Tried{Outcome: receipt.Outcome, After: receipt.After, Code: receipt.Code, Words: receipt.Words,
		Headers: receipt.Headers}
	if receipt.Answer != nil {
		if out.Answer, err = receipt.Body(); err != nil {
			return nil, err
		}
	}
	if out.Outcome == retry.Delivered {
		err = a.store.noteTried(context.WithoutCancel(ctx), in.ID, out)
	}
	return out, err
}

func (a *Agent) checks(ctx context.Context, in *wire.Asking) (out connect.Report, err error) {
	o, err := a.of(in.Of)
	if err != nil {
		return out, err
	}
	return o.link.Check(ctx)
}

func (a *Agent) lists(ctx context.Context, in *wire.Asking) ([]string, error) {
	o, err := a.of(in.Of)
	if err != nil {
		return nil, err
	}
	l, can := o.link.(connect.Lister)
	if !can {
		return nil, fmt.Errorf("a connection of kind %s lists nothing", o.conn.Kind)
	}
	return l.List(ctx, in.What)
}

func (a *Agent) peeks(ctx context.Context, in *wire.Asking) (*connect.Arrival, error) {
	o, err := a.of(in.Of)
	if err != nil {
		return nil, err
	}
	p, can := o.link.(connect.Peeker)
	if !can {
		return nil, fmt.Errorf("a connection of kind %s shows no message", o.conn.Kind)
	}
	settings, err := jsonfmt.Decode(in.Settings)
	if err != nil {
		return nil, err
	}
	return p.Peek(ctx, settings.Root)
}

func (a *Agent) inspects(ctx context.Context, in *wire.Asking) (out connect.Step, err error) {
	o, err := a.of(in.Of)
	if err != nil {
		return out, err
	}
	i, can := o.link.(connect.Inspector)
	if !can {
		return connect.Step{OK: true, Detail: "nothing more is looked at"}, nil
	}
	settings, err := jsonfmt.Decode(in.Settings)
	if err != nil {
		return out, err
	}
	return i.Inspect(ctx, connect.Use{Flow: in.Flow, Intake: in.Intake, Settings: settings.Root}), nil
}

func (a *Agent) describer(of wire.Of) (connect.Describer, error) {
	o, err := a.of(of)
	if err != nil {
		return nil, err
	}
	d, can := o.link.(connect.Describer)
	if !can {
		return nil, fmt.Errorf("a connection of kind %s has no tables", o.conn.Kind)
	}
	return d, nil
}

func (a *Agent) describes(ctx context.Context, in *wire.Asking) (*connect.Table, error) {
	d, err := a.describer(in.Of)
	if err != nil {
		return nil, err
	}
	return d.Describe(ctx, in.What)
}

func (a *Agent) queries(_ context.Context, in *wire.Selecting) (out wire.Statement, err error) {
	d, err := a.describer(in.Of)
	if err == nil {
		out.SQL, out.Params, err = d.Query(in.Selection)
	}
	return out, err
}

// keep lets go of what the application needs no more.
func (a *Agent) keep(_ context.Context, in *wire.Keeping) (nothing, error) {
	a.mu.Lock()
	for name, o := range a.open {
		if !slices.Contains(in.Connections, name) {
			_ = o.link.Close()
			delete(a.open, name)
			delete(a.store.openings, name)
		}
	}
	for flow, r := range a.receives {
		if !slices.Contains(in.Flows, flow) {
			r.stop()
			delete(a.receives, flow)
			delete(a.store.receivings, flow)
		}
	}
	a.mu.Unlock()
	return nothing{}, a.note()
}

// greet says again and again that the runner is there, and how it is.
func (a *Agent) greet() {
	for {
		g := wire.Greeting{Version: a.Version, Since: a.began, Open: []string{}, Flows: []string{},
			Waiting: map[string]int64{}}
		if h := a.hostNow(); h != nil {
			h.mu.Lock()
			g.Flows, g.Hosted = append(g.Flows, h.flows...), h.version
			h.mu.Unlock()
		}
		a.mu.Lock()
		for name := range a.open {
			g.Open = append(g.Open, name)
		}
		flows := slices.Collect(maps.Keys(a.receives))
		a.mu.Unlock()
		slices.Sort(g.Open)
		for _, flow := range flows {
			g.Waiting[flow] = a.store.waiting(flow)
		}
		if b, err := json.Marshal(g); err == nil {
			_ = a.leaf.Conn.Publish(line.Told+wire.Hello, b)
		}
		select {
		case <-a.ctx.Done():
			return
		case <-time.After(helloEach):
		}
	}
}
