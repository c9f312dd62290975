// Package outbound decides which addresses the application may connect to.
//
// A person who saves a connection names its host, and thereby permits it: as the kind
// of address that it has on that day. What a name comes to later is looked at anew
// each time it is dialled, so that one that was public does not lead into the house
// behind a changed name record (DNS rebinding). Any other host (one that a system
// sends us to, one that a message brought) needs a line of the list that an owner
// keeps.
//
// Loopback, link-local, private and otherwise special addresses (RFC 6890 and the
// registries that it began, from memory) are refused unless they are named: written
// as the address itself, found behind the host when the connection was saved, or
// covered by a line of the list.
package outbound

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Class is a kind of address.
type Class string

// The kinds of address.
const (
	Public    Class = "public"
	Private   Class = "private"    // RFC 1918, 4193, 6598 and what is reserved
	LinkLocal Class = "link-local" // RFC 3927, 4291: where machines in clouds tell their secrets
	Loopback  Class = "loopback"   // this machine, also as the unspecified address
)

// Any stands, in the classes of a host, for whatever it comes to: what a connection had
// that was saved before there were classes.
const Any Class = "*"

// ErrRefused is wrapped by the error of an address that may not be connected to.
var ErrRefused = errors.New("this address may not be reached from here")

var special = prefixes(
	"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "172.16.0.0/12", "192.0.0.0/24", "192.0.2.0/24", "192.168.0.0/16",
	"198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "224.0.0.0/3",
	"100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "fc00::/7", "fec0::/10", "ff00::/8",
)

// Addresses of IPv4 that are written inside of ones of IPv6 (RFC 6052, 2.1).
var embedded = netip.MustParsePrefix("64:ff9b::/96")

func prefixes(list ...string) (out []netip.Prefix) {
	for _, one := range list {
		out = append(out, netip.MustParsePrefix(one))
	}
	return out
}

// ClassOf gives the kind of an address.
func ClassOf(ip netip.Addr) Class {
	ip = ip.Unmap().WithZone("")
	if b := ip.As16(); embedded.Contains(ip) {
		ip = netip.AddrFrom4([4]byte(b[12:]))
	}
	switch {
	case ip.IsLoopback(), ip.IsUnspecified():
		return Loopback
	case ip.IsLinkLocalUnicast():
		return LinkLocal
	case slices.ContainsFunc(special, func(p netip.Prefix) bool { return p.Contains(ip) }):
		return Private
	}
	return Public
}

// Classes gives the kinds of some addresses, each once.
func Classes(ips []netip.Addr) (out []Class) {
	for _, ip := range ips {
		if c := ClassOf(ip); !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	slices.Sort(out)
	return out
}

// List is what an owner permits beyond the connections' own hosts: names
// (printer.example.org), names below one (*.example.org), addresses and ranges
// (10.1.0.0/16), each with a port where only that one is meant (printer:9100,
// [fd00::1]:80).
type List []string

// Check says which line cannot be read, and how it is written.
func (l List) Check() error {
	if len(l) > 1000 {
		return errors.New("the list takes up to 1000 lines; join hosts to ranges or to *.example.org")
	}
	for i, line := range l {
		host, _, err := split(line)
		if err == nil && strings.Contains(host, "/") {
			_, err = netip.ParsePrefix(host)
		} else if err == nil && !named(strings.TrimPrefix(host, "*.")) {
			err = errors.New("it is no name and no address")
		}
		if err != nil {
			return fmt.Errorf("line %d, %q: %w; write a name, *.name, an address or a range, and :port behind it where "+
				"only that one is meant", i+1, line, err)
		}
	}
	return nil
}

func named(host string) bool {
	if _, err := netip.ParseAddr(host); err == nil {
		return true
	}
	return host != "" && len(host) <= 253 && !strings.ContainsFunc(host, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '.' && r != '-' && r != '_'
	})
}

// split takes the port off a line, "" where it names none.
func split(line string) (host, port string, err error) {
	if rest, ok := strings.CutPrefix(line, "["); ok {
		host, rest, ok = strings.Cut(rest, "]")
		if !ok || rest != "" && !strings.HasPrefix(rest, ":") {
			return "", "", errors.New("the bracket is not closed")
		}
		return host, strings.TrimPrefix(rest, ":"), nil
	}
	if strings.Count(line, ":") == 1 {
		host, port, _ = strings.Cut(line, ":")
		if port == "" || strings.Trim(port, "0123456789") != "" {
			return "", "", errors.New("the port is no number")
		}
		return host, port, nil
	}
	return line, "", nil
}

// Covers tells whether a line names a host, or the address that it came to, at a port.
func (l List) Covers(host, port string, ip netip.Addr) bool {
	host, ip = strings.ToLower(strings.TrimSuffix(host, ".")), ip.Unmap()
	return slices.ContainsFunc(l, func(line string) bool {
		is, at, err := split(strings.ToLower(line))
		if err != nil || at != "" && at != port {
			return false
		}
		if p, err := netip.ParsePrefix(is); err == nil {
			return ip.IsValid() && p.Contains(ip)
		}
		if a, err := netip.ParseAddr(is); err == nil {
			return ip.IsValid() && a.Unmap() == ip
		}
		if below, ok := strings.CutPrefix(is, "*."); ok {
			return strings.HasSuffix(host, "."+below)
		}
		return is == host
	})
}

// Named is what a connection names: its hosts, lower case, with the kinds of address
// that each had when it was saved.
type Named map[string][]Class

// Permit says whether a host at a port may be reached by an address that its name came
// to. The error wraps ErrRefused and says what to do.
func Permit(own Named, list List, host, port string, ip netip.Addr) error {
	if list.Covers(host, port, ip) {
		return nil
	}
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	classes, its := own[host]
	class := ClassOf(ip)
	_, err := netip.ParseAddr(host)
	literal := err == nil
	switch {
	case !its:
		return fmt.Errorf("%w: %s is not the host of this connection; an owner can name it under Settings, Addresses outside",
			ErrRefused, host)
	case class == Public, literal, slices.Contains(classes, class), slices.Contains(classes, Any):
		return nil
	}
	return fmt.Errorf("%w: %s is now %s, a %s address, and was none when the connection was saved; save it again if that is "+
		"right, or let an owner name it under Settings, Addresses outside", ErrRefused, host, ip, class)
}
