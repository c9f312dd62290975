package hub

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/nats-io/nats.go"

	"readyferry/connect"
	"readyferry/runner/line"
	"readyferry/runner/wire"
)

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
