package design

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"time"

	"readyferry/connect"
	"readyferry/core/access"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/engine/journal"
	"readyferry/store"
)

// SaveConnection creates or replaces a connection. A document without secrets keeps
// those that are stored, as long as they go where they were given for: to the same
// address, by the same sign-in. A *FindingsError tells that it was not saved.
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
	row := store.Connection{Name: name, Kind: d.Connection.Kind, Document: jsonfmt.Encode(d.Tree), UpdatedAt: g.Now(),
		By: access.Of(ctx).String()}
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
	moved := false
	if before, _ := g.Catalog.Systems().Read(old.Document); row.Sealed == nil && before != nil {
		if moved = !sameDoor(before.Connection, d.Connection); !moved {
			row.Sealed = old.Sealed
		}
	}
	if needsSecret(d.Connection) && row.Sealed == nil {
		return 0, withoutSecret(d.Connection, moved)
	}
	if row.Named, err = g.named(ctx, d.Connection); err != nil {
		return 0, err
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

// SameButSecret tells whether a document is that of a connection but for its secret.
func (g *Designs) SameButSecret(name string, document []byte) bool {
	old, err := g.Store.Connection(name)
	d, _ := g.Catalog.Systems().Read(document)
	return err == nil && d != nil && string(jsonfmt.Encode(d.Tree)) == string(old.Document)
}

// withoutSecret says that a connection needs a secret, and why the stored one is not taken.
func withoutSecret(c *connect.Connection, moved bool) error {
	f := flow.Finding{Level: flow.Error, Code: "missing-key", Pointer: "/sign-in", Line: 1, Column: 1,
		Message: c.SignIn.Kind + " sign-in needs a secret", Repair: "add secret:"}
	if moved {
		f.Code, f.Message = "secret-stays", "the secret that is kept was given for another address, sign-in or header, and stays there"
		f.Repair = "give it once more for this one"
	}
	return &FindingsError{"the connection was not saved", []flow.Finding{f}}
}

// harmless are the settings of a connection that do not decide where a secret goes.
var harmless = map[string]bool{
	"readyferry": true, "title": true, "note": true, "secret-until": true, "area": true, "time-limit": true,
	"limits": true, "breaker": true,
	"hold": true, "operations": true, "retry": true, "largest-answer": true, "encoding": true, "test": true,
}

// sameDoor tells whether a secret that was given for one connection goes to the same
// place, in the same way, with another: everything but what is harmless is the same.
func sameDoor(a, b *connect.Connection) bool { return reflect.DeepEqual(doorOf(a), doorOf(b)) }

func doorOf(c *connect.Connection) map[string]any {
	var all map[string]any
	if err := json.Unmarshal(jsonfmt.Encode(c.Settings), &all); err != nil {
		return nil
	}
	delete(all, "name")
	for key := range harmless {
		delete(all, key)
	}
	filled(all)
	return all
}

// filled takes what is empty out of a document: a form leaves it there.
func filled(m map[string]any) {
	for k, v := range m {
		if below, ok := v.(map[string]any); ok {
			filled(below)
			if len(below) == 0 {
				delete(m, k)
			}
		}
		if v == nil || v == "" {
			delete(m, k)
		}
	}
}

// lookWithin is how long the hosts of a connection are looked up when it is saved.
const lookWithin = 3 * time.Second

// named notes which hosts a connection names, and what kinds of address they have now.
func (g *Designs) named(ctx context.Context, c *connect.Connection) ([]byte, error) {
	if c.Outside = g.Catalog.Outside(); c.Outside == nil {
		return []byte(store.NamedBefore), nil
	}
	if c.At != "" {
		return []byte("{}"), nil // its hosts are names of another network: the runner looks there
	}
	ctx, stop := context.WithTimeout(ctx, lookWithin)
	defer stop()
	return json.Marshal(c.Look(ctx))
}

// needsSecret tells whether a connection cannot sign in without one. Where a person signs
// in, the client may have none (RFC 7636).
func needsSecret(c *connect.Connection) bool {
	return c.SignIn.Kind != connect.SignInNone && c.SecretFrom == "" && c.Text("/sign-in/grant") != "authorization-code"
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
