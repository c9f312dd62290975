package catalog

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"readyferry/connect"
	"readyferry/core/system"
	"readyferry/store"
)

// Connections are opened from their rows, with their secrets. One that cannot be is left out, and the others go on.

// ConnectionChanged reads one connection anew and tells everyone.
func (c *Catalog) ConnectionChanged(name string) error {
	return c.change(func() error {
		row, err := c.store.Connection(name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		var opened *connect.Connection
		if err == nil {
			if opened, err = c.open(row); err != nil {
				c.log.Error("a connection cannot be used", "connection", name, "error", err)
				opened = nil
			}
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.connections = with(c.connections, name, opened)
		return nil
	})
}

// open makes a stored connection usable, with its secrets.
func (c *Catalog) open(row store.Connection) (*connect.Connection, error) {
	d, findings := c.systems.Read(row.Document)
	if d == nil {
		return nil, findings[0]
	}
	if len(row.Sealed) > 0 {
		plain, err := c.store.Unseal(row.Name, row.Sealed)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(plain, &d.Connection.SignIn.Secrets); err != nil {
			return nil, errors.New("its secrets cannot be read")
		}
	}
	if from, err := c.systems.SecretOf(d.Connection); err != nil {
		return nil, err
	} else if from != "" {
		d.Connection.SignIn.Secrets = []string{from}
	}
	name := row.Name
	if d.Connection.Outside = c.outside; c.outside != nil {
		d.Connection.Named = namedBy(row.Named, d.Connection)
	}
	d.Connection.Renewed = func(secret string) { c.renewed(name, secret) }
	d.Connection.Shown = func(ends time.Time) { c.shown.Store(name, ends) }
	return d.Connection, nil
}

// FollowSecrets opens the connections anew whose secret comes from the place and has changed.
func (c *Catalog) FollowSecrets() error {
	c.mu.RLock()
	connections := c.connections
	c.mu.RUnlock()
	for name, known := range connections {
		if known.SecretFrom == "" {
			continue
		}
		now, err := c.systems.SecretOf(known)
		if err != nil {
			return fmt.Errorf("the connection %s goes on with the secret that it has: %w", name, err)
		}
		if !slices.Equal(known.SignIn.Secrets, []string{now}) {
			if err := c.ConnectionChanged(name); err != nil {
				return err
			}
		}
	}
	return nil
}

// renewed keeps a secret that an outside system gives in place of an earlier one. Links
// that are open have it already, so nothing is opened anew.
func (c *Catalog) renewed(name, secret string) {
	err := c.store.Write(context.Background(), func(tx *store.Tx) error {
		row, err := tx.Connection(name)
		if err != nil {
			return err
		}
		if row.Sealed, err = c.store.WithSecond(name, row.Sealed, secret); err != nil {
			return err
		}
		return tx.SaveConnection(&row)
	})
	if err != nil {
		c.log.Error("keeping a renewed secret", "connection", name, "error", err)
	}
}

// Connections lists all connections, by name.
func (c *Catalog) Connections() []*connect.Connection {
	c.mu.RLock()
	defer c.mu.RUnlock()
	out := make([]*connect.Connection, 0, len(c.connections))
	for _, name := range slices.Sorted(maps.Keys(c.connections)) {
		out = append(out, c.connections[name])
	}
	return out
}

// Connection gives a connection by name, or nil. What takes the calls of flows at a runner is one,
// too, though it is in no list.
func (c *Catalog) Connection(name string) *connect.Connection {
	if runner, is := system.RunnerOf(name); is {
		known, _ := c.across.LoadOrStore(runner, connect.Across(runner))
		return known.(*connect.Connection)
	}
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.connections[name]
}
