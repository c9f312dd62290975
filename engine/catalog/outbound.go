package catalog

import (
	"context"
	"encoding/json"
	"fmt"

	"readyferry/connect"
	"readyferry/core/outbound"
	"readyferry/store"
)

// outboundSetting is the setting that holds the list of addresses outside.
const outboundSetting = "outbound"

// Outbound gives what an owner permits beyond the hosts of the connections themselves.
func (c *Catalog) Outbound() outbound.List {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.outbound
}

// SetOutbound replaces the list; what is dialled from now on follows it.
func (c *Catalog) SetOutbound(ctx context.Context, l outbound.List) error {
	if err := l.Check(); err != nil {
		return err
	}
	b, err := json.Marshal(l)
	if err != nil {
		return err
	}
	if err := c.store.Write(ctx, func(tx *store.Tx) error { return tx.SetSetting(outboundSetting, string(b)) }); err != nil {
		return err
	}
	return c.readOutbound()
}

func (c *Catalog) readOutbound() error {
	text, err := c.store.Setting(outboundSetting)
	var l outbound.List
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &l)
	}
	if err != nil {
		return fmt.Errorf("the list of addresses outside: %w", err)
	}
	c.mu.Lock()
	c.outbound = l
	c.mu.Unlock()
	return nil
}

// Outside gives how systems are reached; nil: as the machine does.
func (c *Catalog) Outside() *connect.Outside { return c.outside }

// namedBy gives the hosts that a stored connection may reach.
func namedBy(stored []byte, of *connect.Connection) outbound.Named {
	named := outbound.Named{}
	if string(stored) == store.NamedBefore || json.Unmarshal(stored, &named) != nil {
		named = outbound.Named{}
		for _, host := range of.Hosts() {
			named[host] = []outbound.Class{outbound.Any}
		}
	}
	return named
}
