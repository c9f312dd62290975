package hub

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
	"readyferry/runner/line"
	"readyferry/runner/wire"
)

// receiving is a flow for which a runner receives.
type receiving struct {
	ctx  context.Context
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error)
}

// mark is where the application stands with a runner: which store, which number in it, and where
// the source stood there. It is saved with the messages, so each is taken once.
type mark struct {
	Kept  string `json:"kept"`
	N     uint64 `json:"n"`
	Inner []byte `json:"inner,omitempty"`
}

// markOf reads a saved mark. One of the time when the application received by itself is that of the
// source, whatever that looks like: only a runner's names a store.
func markOf(at []byte) mark {
	var m mark
	if json.Unmarshal(at, &m) != nil || m.Kept == "" {
		return mark{Inner: at}
	}
	return m
}

// fetchWithin is how long an answer may take: the runner waits for ten seconds at most.
const fetchWithin = 20 * time.Second

// fetchAgain is the pause behind an answer without messages, where the runner did not wait itself.
const fetchAgain = 100 * time.Millisecond

// Receive implements connect.Receiver: the runner receives and keeps, and hands over what is behind
// the mark. While it is away that waits; it receives and keeps all the same.
func (f *far) Receive(ctx context.Context, in connect.Settings, at []byte,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error)) error {
	flow := connect.FlowOf(ctx)
	m := markOf(at)
	f.h.mu.Lock()
	mine := &receiving{ctx, take}
	f.r.receives[flow] = mine
	f.h.mu.Unlock()
	defer f.leave(flow, mine, in)
	for ctx.Err() == nil {
		err := f.receive(ctx, flow, in, &m, take)
		switch {
		case errors.Is(err, errLost), errors.Is(err, context.DeadlineExceeded): // perhaps it is there again
		case errors.Is(err, line.ErrAway):
			connect.TellTrouble(ctx, err)
			f.wait(ctx)
		default:
			return err
		}
	}
	return ctx.Err()
}

// leave lets a runner receive no more for a flow; where it is away it hears of it when it is back.
func (f *far) leave(flow string, mine *receiving, in connect.Settings) {
	f.h.mu.Lock()
	is := f.r.receives[flow] == mine
	if is {
		delete(f.r.receives, flow)
	}
	f.h.mu.Unlock()
	if !is {
		return // another has taken over
	}
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Second)
	defer stop()
	_ = f.h.ask(ctx, f.r, wire.Stop, wire.Receiving{Of: f.opening.Of, Flow: flow, Settings: jsonfmt.Encode(in)}, nil)
}

// wait waits until the runner is there.
func (f *far) wait(ctx context.Context) {
	f.h.mu.Lock()
	back := f.r.back
	f.h.mu.Unlock()
	select {
	case <-ctx.Done():
	case <-back:
		select { // it is back, or the word of it comes before that it is gone
		case <-ctx.Done():
		case <-time.After(fetchAgain):
		}
	}
}

func (f *far) receive(ctx context.Context, flow string, in connect.Settings, m *mark,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error)) error {
	begin := func() error {
		return f.ask(ctx, wire.Receive, wire.Receiving{Of: f.opening.Of, Flow: flow, Settings: jsonfmt.Encode(in),
			Mark: m.Inner}, nil)
	}
	if err := begin(); err != nil {
		return err
	}
	ready := false
	for {
		var got wire.Fetched
		asking, stop := context.WithTimeout(ctx, fetchWithin)
		err := f.h.ask(asking, f.r, wire.Fetch, wire.Fetching{Flow: flow, Kept: m.Kept, Behind: m.N}, &got)
		stop()
		if err != nil {
			return err
		}
		if !got.Receives {
			if err := begin(); err != nil { // it was started anew
				return err
			}
		}
		f.tell(ctx, &got, &ready)
		if got.Kept != m.Kept {
			m.Kept, m.N = got.Kept, 0 // another folder than before: what it has is all new
		}
		if len(got.Came) == 0 {
			continue
		}
		if err := f.takeAll(ctx, got.Came, m, take); err != nil {
			return err
		}
		if err := f.h.ask(ctx, f.r, wire.Settle, wire.Settling{Flow: flow, Kept: m.Kept, To: m.N}, nil); err != nil {
			return err // what is not let go is not taken again: the mark says so
		}
	}
}

// takeAll takes what came together together, each with the mark behind it.
func (f *far) takeAll(ctx context.Context, came []wire.Arrived, m *mark,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error)) (err error) {
	for _, together := range came {
		list, next := together.Arrivals, *m
		next.N = together.N
		for i := range list {
			if list[i].Mark != nil {
				next.Inner = list[i].Mark
			}
			list[i].Mark = nil
		}
		if len(list) == 0 {
			continue
		}
		if list[len(list)-1].Mark, err = json.Marshal(next); err != nil {
			return err
		}
		if _, err := take(ctx, list); err != nil {
			return err
		}
		*m = next
	}
	return nil
}

// tell tells what the runner says of its source.
func (f *far) tell(ctx context.Context, got *wire.Fetched, ready *bool) {
	if got.Ready && !*ready {
		connect.TellReady(ctx)
	}
	*ready = got.Ready
	if got.Trouble != "" {
		connect.TellTrouble(ctx, errors.New(got.Trouble))
	}
	if waiting := got.Behind + got.Waiting; waiting > 0 || got.Ready {
		connect.TellBehind(ctx, waiting)
	}
}

// answered hands a message whose sender waits to its flow.
func (h *Hub) answered(r *runner, m *nats.Msg) {
	var in wire.Awaiting
	var out wire.Awaited
	if err := json.Unmarshal(m.Data, &in); err != nil {
		out.Failure = wire.FailureOf(err)
	} else {
		h.mu.Lock()
		to := r.receives[in.Flow]
		h.mu.Unlock()
		if to == nil {
			out.Failure = wire.FailureOf(fmt.Errorf("nobody receives for %s", in.Flow))
		} else if out.Answer, err = connect.TakeAnswered(to.ctx, in.Arrival, func() {}); err != nil {
			out.Failure = wire.FailureOf(err)
		}
	}
	b, err := json.Marshal(out)
	if err == nil {
		err = m.Respond(b)
	}
	if err != nil {
		h.Log.Error("answering a runner", "runner", r.name, "error", err)
	}
}
