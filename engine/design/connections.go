package design

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"readyferry/connect"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/engine/journal"
	"readyferry/store"
)

// SaveConnection creates or replaces a connection. A document without secrets
// keeps those that are stored, as long as the way to sign in stays the same. A
// *FindingsError tells that it was not saved.
func (g *Designs) SaveConnection(ctx context.Context, name string, document []byte, revision *int64) (int64, error) {
	d, findings := g.Catalog.Systems().Read(document)
	if d == nil {
		return 0, &FindingsError{"the connection was not saved", findings}
	}
	if d.Connection.Name != name {
		return 0, &FindingsError{
			"the connection was not saved",
			[]flow.Finding{
				{
					Level:   flow.Error,
					Code:    "wrong-name",
					Pointer: "/name",
					Line:    1,
					Column:  1,
					Message: fmt.Sprintf("the document is of %q, but it stands under %q", d.Connection.Name, name),
					Repair:  "write name: " + name,
				},
			},
		}
	}
	if c := d.Connection.HeldDuring; c != "" && g.Catalog.Calendar(c) == nil {
		return 0, &FindingsError{
			"the connection was not saved",
			[]flow.Finding{{Level: flow.Error, Code: "unknown-calendar",
				Pointer: "/hold/during", Line: 1, Column: 1, Message: fmt.Sprintf("there is no calendar named %q", c),
				Repair: "add it under Alarms, Calendars, or name another"}},
		}
	}
	row := store.Connection{Name: name, Kind: d.Connection.Kind, Document: jsonfmt.Encode(d.Tree), UpdatedAt: g.Now()}
	if d.Secrets != nil {
		plain, err := json.Marshal(d.Secrets)
		if err != nil {
			return 0, err
		}
		if row.Sealed, err = g.Store.Seal(name, plain); err != nil {
			return 0, err
		}
	}
	old, err := g.Store.Connection(name)
	if err != nil && !errors.Is(err, journal.ErrNotFound) {
		return 0, err
	}
	if revision != nil && *revision != old.Revision {
		return 0, journal.ErrConflict
	}
	if before, _ := g.Catalog.Systems().Read(old.Document); row.Sealed == nil && before != nil &&
		before.Connection.SignIn.Kind == d.Connection.SignIn.Kind &&
		before.Connection.Kind == d.Connection.Kind {
		row.Sealed = old.Sealed
	}
	if needsSecret(d.Connection) && row.Sealed == nil {
		return 0, &FindingsError{
			"the connection was not saved",
			[]flow.Finding{
				{
					Level:   flow.Error,
					Code:    "missing-key",
					Pointer: "/sign-in",
					Line:    1,
					Column:  1,
					Message: d.Connection.SignIn.Kind + " sign-in needs a secret",
					Repair:  "add secret:",
				},
			},
		}
	}
	row.Revision = old.Revision + 1
	if err := g.Store.Write(ctx, func(tx *store.Tx) error { return tx.SaveConnection(&row) }); err != nil {
		return 0, err
	}
	if err := g.Catalog.ConnectionChanged(name); err != nil {
		return 0, err
	}
	return row.Revision, nil
}

// needsSecret tells whether a connection cannot sign in without one. Where a person signs
// in, the client may have none (RFC 7636).
func needsSecret(c *connect.Connection) bool {
	return c.SignIn.Kind != connect.SignInNone && c.Text("/sign-in/grant") != "authorization-code"
}

// DeleteConnection removes a connection that no live flow names.
func (g *Designs) DeleteConnection(ctx context.Context, name string) error {
	if users := g.Catalog.UsedBy(name); len(users) > 0 {
		return fmt.Errorf("%w: %v name it", journal.ErrInUse, users)
	}
	if err := g.Store.Write(ctx, func(tx *store.Tx) error { return tx.DeleteConnection(name) }); err != nil {
		return err
	}
	g.links.Pulses.Forget(name)
	return g.Catalog.ConnectionChanged(name)
}
