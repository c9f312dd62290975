package connect

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"readyferry/core/outbound"
)

// Outside is how the systems of connections are reached over the network: names are
// resolved, each address that one comes to is asked about, and one that is permitted is
// connected to, as that very address, so that nothing can change in between. The zero
// value resolves and dials as this machine does.
type Outside struct {
	Resolve func(ctx context.Context, host string) ([]netip.Addr, error)
	Connect func(ctx context.Context, network, at string) (net.Conn, error)
	// List gives what an owner permits beyond the connections' own hosts.
	List func() outbound.List
}

// LookUp gives the addresses of a host.
func (o *Outside) LookUp(ctx context.Context, host string) ([]netip.Addr, error) {
	if ip, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{ip}, nil
	}
	if o != nil && o.Resolve != nil {
		return o.Resolve(ctx, host)
	}
	ips, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	for i := range ips {
		ips[i] = ips[i].Unmap()
	}
	return ips, err
}

// dial connects to one address.
func (o *Outside) dial(ctx context.Context, network, at string, limit time.Duration) (net.Conn, error) {
	if o != nil && o.Connect != nil {
		return o.Connect(ctx, network, at)
	}
	return (&net.Dialer{Timeout: limit}).DialContext(ctx, network, at)
}

// LookUp gives the addresses of a host as this connection may find them.
func (c *Connection) LookUp(ctx context.Context, host string) ([]netip.Addr, error) {
	return c.Outside.LookUp(ctx, host)
}

// Dial connects to a host and port on behalf of a connection: to the first of its
// addresses that is permitted and answers. Where none is permitted nothing is connected
// to, and the error wraps outbound.ErrRefused.
func (c *Connection) Dial(ctx context.Context, network, at string) (net.Conn, error) {
	if c.Outside == nil {
		return c.Outside.dial(ctx, network, at, c.TimeLimit)
	}
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return nil, err
	}
	ips, err := c.LookUp(ctx, host)
	if err != nil {
		return nil, err
	}
	var all []error
	for _, ip := range ips {
		if err := c.permitted(host, port, ip); err != nil {
			all = append(all, err)
			continue
		}
		conn, err := c.Outside.dial(ctx, network, net.JoinHostPort(ip.String(), port), c.TimeLimit)
		if err == nil {
			return conn, nil
		}
		all = append(all, err)
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s has no address", host)
	}
	if len(all) == 1 {
		return nil, all[0]
	}
	return nil, errors.Join(all...)
}

func (c *Connection) permitted(host, port string, ip netip.Addr) error {
	var list outbound.List
	if c.Outside.List != nil {
		list = c.Outside.List()
	}
	return outbound.Permit(c.Named, list, host, port, ip)
}

// Hosts gives the hosts that a connection names: those of its address, of its proxy, of
// where its tokens come from, and of further servers. Lower case, each once.
func (c *Connection) Hosts() (out []string) {
	texts := append([]string{c.Text("/address"), c.Text("/proxy"), c.Text("/sign-in/token-address")}, c.Texts("/more")...)
	for _, text := range texts {
		if h := hostOf(text); h != "" && !slices.Contains(out, h) {
			out = append(out, h)
		}
	}
	return out
}

// hostOf gives the host of an address, with or without a scheme; "" where it has none.
func hostOf(text string) string {
	if scheme, rest, ok := strings.Cut(text, "://"); ok {
		if scheme == "stand-in" || scheme == "file" {
			return ""
		}
		text = rest
	}
	text, _, _ = strings.Cut(text, "/")
	text, _, _ = strings.Cut(text, "?")
	if i := strings.LastIndex(text, "@"); i >= 0 {
		text = text[i+1:]
	}
	if host, _, err := net.SplitHostPort(text); err == nil {
		text = host
	}
	return strings.ToLower(strings.TrimSuffix(strings.Trim(text, "[]"), "."))
}

// Look finds what kinds of address the hosts of a connection have now: with them its
// saving permits them. A host that has none yet is permitted at public addresses.
func (c *Connection) Look(ctx context.Context) outbound.Named {
	named := outbound.Named{}
	for _, host := range c.Hosts() {
		ips, err := c.LookUp(ctx, host)
		if err != nil {
			ips = nil
		}
		named[host] = outbound.Classes(ips)
	}
	return named
}

// Along gives the connection as it may reach a host and port that the system itself has
// named, such as another broker of its own: that has to be of the kinds of address that the
// connection's own hosts have.
func (c *Connection) Along(ctx context.Context, at string) *Connection {
	host := hostOf(at)
	if c.Outside == nil || host == "" || c.Named[host] != nil {
		return c
	}
	var kinds []outbound.Class
	if strings.HasPrefix(c.Address, "stand-in://") {
		kinds = append(kinds, outbound.Loopback) // those that ship with the application are in it
	}
	for _, of := range c.Named {
		kinds = append(kinds, of...)
	}
	if ip, err := netip.ParseAddr(host); err == nil && !slices.Contains(kinds, outbound.ClassOf(ip)) &&
		!slices.Contains(kinds, outbound.Any) {
		return c
	}
	other := *c
	if other.Named = maps.Clone(c.Named); other.Named == nil {
		other.Named = outbound.Named{}
	}
	other.Named[host] = kinds
	return &other
}
