package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"readyferry/connect"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/store"
)

// open makes a stored connection usable, with its secrets.
func (e *Engine) open(row store.Connection) (*connect.Connection, error) {
	d, findings := connect.Read(row.Document)
	if d == nil {
		return nil, findings[0]
	}
	if len(row.Sealed) > 0 {
		plain, err := e.store.Unseal(row.Name, row.Sealed)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(plain, &d.Connection.SignIn.Secrets); err != nil {
			return nil, errors.New("its secrets cannot be read")
		}
	}
	return d.Connection, nil
}

// SaveConnection creates or replaces a connection. A document without secrets
// keeps those that are stored, as long as the way to sign in stays the same. A
// *FindingsError tells that it was not saved.
func (e *Engine) SaveConnection(ctx context.Context, name string, document []byte, revision *int64) (int64, error) {
	d, findings := connect.Read(document)
	if d == nil {
		return 0, &FindingsError{"the connection was not saved", findings}
	}
	if d.Connection.Name != name {
		return 0, &FindingsError{"the connection was not saved", []flow.Finding{{Level: flow.Error, Code: "wrong-name", Pointer: "/name", Line: 1, Column: 1, Message: fmt.Sprintf("the document is of %q, but it stands under %q", d.Connection.Name, name), Repair: "write name: " + name}}}
	}
	row := store.Connection{Name: name, Kind: d.Connection.Kind, Document: jsonfmt.Encode(d.Tree), UpdatedAt: e.clock()}
	if d.Secrets != nil {
		plain, err := json.Marshal(d.Secrets)
		if err != nil {
			return 0, err
		}
		if row.Sealed, err = e.store.Seal(name, plain); err != nil {
			return 0, err
		}
	}
	old, err := e.store.Connection(name)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return 0, err
	}
	if revision != nil && *revision != old.Revision {
		return 0, ErrConflict
	}
	if before, _ := connect.Read(old.Document); row.Sealed == nil && before != nil && before.Connection.SignIn.Kind == d.Connection.SignIn.Kind && before.Connection.Kind == d.Connection.Kind {
		row.Sealed = old.Sealed
	}
	if needsSecret(d.Connection) && row.Sealed == nil {
		return 0, &FindingsError{"the connection was not saved", []flow.Finding{{Level: flow.Error, Code: "missing-key", Pointer: "/sign-in", Line: 1, Column: 1, Message: d.Connection.SignIn.Kind + " sign-in needs a secret", Repair: "add secret:"}}}
	}
	row.Revision = old.Revision + 1
	if err := e.store.Write(ctx, func(tx *store.Tx) error { return tx.SaveConnection(&row) }); err != nil {
		return 0, err
	}
	if err := e.changed(); err != nil {
		return 0, err
	}
	e.wakeLane(name)
	return row.Revision, nil
}

func needsSecret(c *connect.Connection) bool { return c.SignIn.Kind != connect.SignInNone }

// DeleteConnection removes a connection that no live flow names.
func (e *Engine) DeleteConnection(ctx context.Context, name string) error {
	if users := e.UsedBy(name); len(users) > 0 {
		return fmt.Errorf("%w: %v name it", ErrInUse, users)
	}
	if err := e.store.Write(ctx, func(tx *store.Tx) error { return tx.DeleteConnection(name) }); err != nil {
		return err
	}
	return e.changed()
}

// UsedBy names the live flows that use a connection.
func (e *Engine) UsedBy(connection string) []string {
	e.mu.RLock()
	defer e.mu.RUnlock()
	out := []string{}
	for _, f := range e.flows {
		if f.live == nil {
			continue
		}
		for _, u := range f.live.Uses {
			if u.Kind == step.UseConnection && u.Name == connection {
				out = append(out, f.name)
				break
			}
		}
	}
	return out
}

// Tested is what a test of a connection came to.
type Tested struct {
	OK     bool             `json:"ok"`
	Status int              `json:"status"`
	Detail string           `json:"detail"`
	Took   float64          `json:"took"` // milliseconds
	Header []message.Header `json:"headers"`
	Body   string           `json:"body"` // its first 4 KiB
}

// TestConnection calls the outside system once. Any answer but a refused
// sign-in or a server's fault counts as good: the system is there.
func (e *Engine) TestConnection(ctx context.Context, name string) (Tested, error) {
	c := e.connection(name)
	if c == nil {
		return Tested{}, ErrNotFound
	}
	if c.Kind == connect.KindCaller {
		return Tested{}, fmt.Errorf("%w: a connection of kind %s is called by others, so there is nothing to call", ErrDecision, c.Kind)
	}
	began := time.Now()
	a, err := e.sender.Send(ctx, c, connect.Request{Request: step.Request{Method: c.TestMethod, Path: c.TestPath}})
	t := Tested{Status: a.Status, Took: float64(time.Since(began).Microseconds()) / 1000, Header: append([]message.Header{}, a.Headers...)}
	t.Body = string(a.Body[:min(len(a.Body), 4096)])
	switch {
	case err != nil:
		t.Detail = err.Error()
	case a.Status == 401 || a.Status == 403:
		t.Detail = fmt.Sprintf("it answers, but refuses the sign-in with %d", a.Status)
	case a.Status >= 500:
		t.Detail = fmt.Sprintf("it answers, but with its own fault: %d", a.Status)
	default:
		t.OK, t.Detail = true, fmt.Sprintf("it answers with %d", a.Status)
	}
	return t, nil
}
