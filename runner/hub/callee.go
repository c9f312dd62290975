package hub

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"sync"
	"time"

	"readyferry/connect"
	"readyferry/core/retry"
	"readyferry/core/want"
	"readyferry/engine/bundle"
	"readyferry/runner/line"
	"readyferry/runner/wire"
)

// callee takes the calls of flows at a runner.
type callee struct {
	h *Hub
	r *runner

	mu    sync.Mutex
	given *bundle.Across
	have  wire.Hosting // of given
}

// hosting gives what the runner is to have now. What is given once more as the same is not told apart
// again.
func (f *callee) hosting() (wire.Hosting, error) {
	if f.h.Flows == nil {
		return wire.Hosting{}, fmt.Errorf("%w: flows run in the application alone", connect.ErrCannotSend)
	}
	given, err := f.h.Flows(f.r.name)
	if err != nil {
		return wire.Hosting{}, err
	}
	out := wire.Hosting{Files: given.Files, Secrets: given.Secrets}
	if f.h.List != nil {
		out.List = f.h.List()
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.given == given && reflect.DeepEqual(f.have.List, out.List) {
		return f.have, nil
	}
	sum := sha256.New()
	if err := json.NewEncoder(sum).Encode(out); err != nil {
		return out, err
	}
	out.Version = hex.EncodeToString(sum.Sum(nil)[:12])
	f.given, f.have = given, out
	return out, nil
}

// follow gives the runner the flows that are live now, where it has others: also none, so that it
// does not keep secrets for which there is no use any more.
func (f *callee) follow() {
	f.h.mu.Lock()
	hosted := f.r.greeting.Hosted
	f.h.mu.Unlock()
	if hosted == "" || f.h.Flows == nil {
		return // nothing was called there yet
	}
	have, err := f.hosting()
	if err == nil && have.Version != hosted {
		ctx, stop := context.WithTimeout(context.Background(), hostWithin)
		defer stop()
		err = f.h.ask(ctx, f.r, wire.Host, have, nil)
	}
	if err != nil && !errors.Is(err, line.ErrAway) && !errors.Is(err, errLost) {
		f.h.Log.Warn("a runner was not given the flows that are live", "runner", f.r.name, "error", err)
	}
}

// hostWithin is how long a runner may take to take flows.
const hostWithin = time.Minute

// Check implements connect.Link.
func (f *callee) Check(context.Context) (connect.Report, error) {
	_, away := f.h.Away(f.r.name)
	return connect.Report{OK: !away, Detail: map[bool]string{true: "the runner is away",
		false: "the runner is there"}[away]}, nil
}

// Close implements io.Closer.
func (f *callee) Close() error { return nil }

// Ask implements connect.Asker: one try is one call, which lasts until the other flow has ended. A
// runner that has other flows than are live now is given them first.
func (f *callee) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	var across want.Across
	if err := json.Unmarshal(r.Settings, &across); err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	have, err := f.hosting()
	if err != nil {
		return connect.Receipt{}, err
	}
	ctx, stop := context.WithTimeout(ctx, across.Within+overhead)
	defer stop()
	var out wire.Tried
	calling := wire.Calling{Version: have.Version, ID: r.ID, Flow: across.Flow, Within: across.Within,
		TraceParent: r.TraceParent,
		Headers:     r.Headers, Body: r.Body}
	err = f.h.ask(ctx, f.r, wire.Call, calling, &out)
	if errors.Is(err, errUnopened) {
		if err = f.h.ask(ctx, f.r, wire.Host, have, nil); err == nil {
			err = f.h.ask(ctx, f.r, wire.Call, calling, &out)
		}
	}
	switch {
	case errors.Is(err, line.ErrAway):
		return connect.Receipt{Outcome: retry.Again, Words: "the runner " + f.r.name + " is away"}, nil
	case err != nil:
		return connect.Receipt{}, err
	}
	return receiptOf(&out), nil
}

func receiptOf(out *wire.Tried) connect.Receipt {
	receipt := connect.Receipt{Outcome: out.Outcome, After: out.After, Code: out.Code, Words: out.Words,
		Headers: out.Headers}
	if out.Answer != nil {
		receipt.Answer = bytes.NewReader(out.Answer)
	}
	return receipt
}
