package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
	"readyferry/runner/line"
	"readyferry/runner/wire"
)

// receiver receives for one flow.
type receiver struct {
	a        *Agent
	in       wire.Receiving
	settings connect.Settings
	link     connect.Receiver
	ctx      context.Context
	stop     context.CancelFunc

	mu      sync.Mutex
	mark    []byte
	ready   bool
	behind  int64
	trouble string
	came    chan struct{} // closed and made anew with each message
}

// The pauses before a receiver that ended is begun anew.
const (
	firstPause   = time.Second
	longestPause = time.Minute
)

// fetchWaits is how long somebody who asks for messages waits for the first.
const fetchWaits = 10 * time.Second

// receive has somebody receive for a flow, unless somebody does already.
func (a *Agent) receive(ctx context.Context, in *wire.Receiving) (nothing, error) {
	changed, err := a.begin(ctx, in)
	if err != nil || !changed {
		return nothing{}, err
	}
	return nothing{}, a.note()
}

func (a *Agent) begin(ctx context.Context, in *wire.Receiving) (changed bool, err error) {
	o, err := a.of(in.Of)
	if err != nil {
		return false, err
	}
	link, can := o.link.(connect.Receiver)
	if !can {
		return false, fmt.Errorf("nothing comes from a connection of kind %s", o.conn.Kind)
	}
	settings, err := jsonfmt.Decode(in.Settings)
	if err != nil {
		return false, err
	}
	a.mu.Lock()
	old := a.receives[in.Flow]
	if old != nil && old.in.Of == in.Of && bytes.Equal(old.in.Settings, in.Settings) {
		a.mu.Unlock()
		return false, nil
	}
	delete(a.receives, in.Flow)
	a.mu.Unlock()
	if old != nil {
		old.stop()
	}
	r := &receiver{a: a, in: *in, settings: settings.Root, link: link, mark: in.Mark, came: make(chan struct{})}
	if mark, known, err := a.store.last(ctx, in.Flow); err != nil {
		return false, err
	} else if known {
		r.mark = mark
	}
	r.ctx, r.stop = context.WithCancel(a.ctx)
	a.mu.Lock()
	a.receives[in.Flow] = r
	a.store.receivings[in.Flow] = *in
	a.mu.Unlock()
	a.work.Go(r.run)
	return true, nil
}

// stops ends receiving for a flow. What is kept for it stays until it is fetched.
func (a *Agent) stops(_ context.Context, in *wire.Receiving) (nothing, error) {
	a.mu.Lock()
	r := a.receives[in.Flow]
	mine := r != nil && r.in.Of == in.Of
	if mine {
		r.stop()
		delete(a.receives, in.Flow)
		delete(a.store.receivings, in.Flow)
	}
	a.mu.Unlock()
	if !mine {
		return nothing{}, nil
	}
	return nothing{}, a.note()
}

func (r *receiver) run() {
	for pause := firstPause; r.ctx.Err() == nil; pause = min(2*pause, longestPause) {
		began := time.Now()
		err := r.receive()
		if r.ctx.Err() != nil {
			return
		}
		if err == nil {
			err = errors.New("the system ended it")
		}
		r.a.Log.Error("receiving messages", "flow", r.in.Flow, "error", err)
		r.says(false, err.Error())
		if time.Since(began) > longestPause {
			pause = firstPause
		}
		select {
		case <-r.ctx.Done():
		case <-time.After(pause):
		}
	}
}

func (r *receiver) receive() (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the runner failed over what came: %v", p)
		}
	}()
	r.mu.Lock()
	mark := r.mark
	r.mu.Unlock()
	return r.link.Receive(connect.WithTelling(r.ctx, connect.Telling{
		Flow:  r.in.Flow,
		Ready: func() { r.says(true, "") },
		Behind: func(n int64) {
			r.mu.Lock()
			r.behind = n
			r.mu.Unlock()
		},
		Answered: r.answered,
		Trouble:  func(err error) { r.says(true, err.Error()) },
	}), r.settings, mark, r.take)
}

// says keeps how the source is, and tells whoever waits.
func (r *receiver) says(ready bool, trouble string) {
	r.mu.Lock()
	r.ready, r.trouble = ready, trouble
	close(r.came)
	r.came = make(chan struct{})
	r.mu.Unlock()
}

// take keeps what came; only then is its source told.
func (r *receiver) take(ctx context.Context, list []connect.Arrival) ([]connect.Taken, error) {
	r.mu.Lock()
	mark := r.mark
	r.mu.Unlock()
	behind, err := r.a.store.put(ctx, r.in.Flow, mark, list)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	r.mark, r.ready, r.trouble = behind, true, ""
	close(r.came)
	r.came = make(chan struct{})
	r.mu.Unlock()
	return make([]connect.Taken, len(list)), nil
}

// answered hands one message whose sender waits to its flow: there is no answer while the line is cut.
func (r *receiver) answered(ctx context.Context, arrival connect.Arrival, stored func()) (connect.Answer, error) {
	b, err := json.Marshal(wire.Awaiting{Flow: r.in.Flow, Arrival: arrival})
	if err != nil {
		return connect.Answer{}, err
	}
	m, err := r.a.leaf.Conn.RequestWithContext(ctx, line.Told+wire.Answered, b)
	if err != nil {
		return connect.Answer{}, fmt.Errorf("the application, which makes the answer, is not reached: %s",
			wire.TextOf(err))
	}
	var out wire.Awaited
	if err := json.Unmarshal(m.Data, &out); err != nil {
		return connect.Answer{}, err
	}
	if out.Failure == nil {
		stored()
	}
	return out.Answer, out.Failure.Error()
}

// fetch gives what was received behind a number, and waits a while for the first.
func (a *Agent) fetch(ctx context.Context, in *wire.Fetching) (*wire.Fetched, error) {
	out := &wire.Fetched{Kept: a.store.id, Came: []wire.Arrived{}}
	behind := in.Behind
	if in.Kept != a.store.id {
		behind = 0
	}
	ctx, stop := context.WithTimeout(ctx, fetchWaits)
	defer stop()
	for {
		a.mu.Lock()
		r := a.receives[in.Flow]
		a.mu.Unlock()
		var came <-chan struct{}
		if r != nil {
			r.mu.Lock()
			came = r.came
			out.Receives, out.Ready, out.Behind, out.Trouble = true, r.ready, r.behind, r.trouble
			r.mu.Unlock()
		}
		some, err := a.store.behind(context.WithoutCancel(ctx), in.Flow, behind)
		if err != nil {
			return nil, err
		}
		if len(some) > 0 || r == nil {
			out.Came, out.Waiting = append(out.Came, some...), a.store.waiting(in.Flow)
			return out, nil
		}
		select {
		case <-came:
		case <-ctx.Done():
			return out, a.ctx.Err()
		}
	}
}

// settle lets go of what is stored inside.
func (a *Agent) settle(ctx context.Context, in *wire.Settling) (nothing, error) {
	if in.Kept != a.store.id {
		return nothing{}, nil
	}
	return nothing{}, a.store.letGo(ctx, in.Flow, in.To)
}
