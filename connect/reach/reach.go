// Package reach is the way to the door of an outside system that listens at a port: the
// name is resolved, the connection made, and where the address says so TLS spoken. Each
// step is said in words, so that the test of a connection shows how far it came and what
// to do where it ended.
//
// TLS trusts the authorities of this machine or the one that the connection names, never
// everybody; the lowest version is 1.2 (RFC 9325, 3.1.1) unless the connection asks for more.
package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"

	"readyferry/connect"
	"readyferry/core/outbound"
)

// Way collects the steps of reaching a system. A nil Way collects nothing.
type Way struct{ Steps []connect.Step }

// Did notes a step that was made.
func (w *Way) Did(format string, args ...any) {
	if w != nil {
		w.Steps = append(w.Steps, connect.Step{OK: true, Detail: fmt.Sprintf(format, args...)})
	}
}

// Failed notes the step at which it ended, and the steps that were not tried.
func (w *Way) Failed(err error, untried ...string) {
	if w == nil || err == nil {
		return
	}
	s := connect.Step{Detail: err.Error()}
	var failed *Error
	if errors.As(err, &failed) {
		s.Repair = failed.Repair
	}
	w.Steps = append(w.Steps, s)
	for _, one := range untried {
		w.Steps = append(w.Steps, connect.Step{Untried: true, Detail: one})
	}
}

// Report makes the report of a test whose last step ended with err, nil for a good one.
func (w *Way) Report(err error, good string, untried ...string) connect.Report {
	if err != nil {
		w.Failed(err, untried...)
		return connect.Report{Detail: err.Error(), Steps: w.Steps}
	}
	return connect.Report{OK: true, Detail: good, Steps: w.Steps}
}

// Error is a step that failed.
type Error struct {
	Step   string // what was tried
	Err    error
	Repair string // what to do
}

// Error implements error.
func (e *Error) Error() string { return e.Step + ": " + e.Err.Error() }

// Unwrap gives what was wrong.
func (e *Error) Unwrap() error { return e.Err }

// Door says how the addresses of a system are written.
type Door struct {
	// Schemes are those that its addresses begin with, and the port where none is
	// named. One that ends in s, besides another without it, is over TLS.
	Schemes map[string]string
	// Path tells whether a path may follow the host.
	Path bool
	// StandIn reaches a simulated system by its name; nil where there are none.
	StandIn func(name string) (net.Conn, error)
}

// StandInScheme begins the address of a simulated system.
const StandInScheme = "stand-in"

// Check finds what is wrong with the address of a connection and its TLS.
func (d *Door) Check(c *connect.Connection, found connect.Found) {
	u, err := url.Parse(c.Address)
	known := err == nil && u.Host != "" && (u.Scheme == StandInScheme || d.Schemes[u.Scheme] != "") &&
		(d.Path || strings.Trim(u.Path, "/") == "") && u.RawQuery == "" && u.Fragment == ""
	switch {
	case !known:
		found("/address", "wrong-value", fmt.Sprintf("%q is no address of such a system", c.Address),
			"write it as "+d.examples()+", or stand-in://name for one that ships with the application")
	case u.User != nil:
		found("/address", "secret-in-text", "the address holds a user or password",
			"take them out of the address and use sign-in")
	}
	CheckTLS(c, found)
}

func (d *Door) examples() string {
	var all []string
	for scheme, port := range d.Schemes {
		all = append(all, scheme+"://host:"+port)
	}
	slices.Sort(all)
	return strings.Join(all, " or ")
}

// HostPort takes an address apart.
func (d *Door) HostPort(address string) (hostPort string, secure bool, err error) {
	u, err := url.Parse(address)
	if err != nil {
		return "", false, err
	}
	port := u.Port()
	if port == "" {
		port = d.Schemes[u.Scheme]
	}
	plain, ends := strings.CutSuffix(u.Scheme, "s")
	return net.JoinHostPort(u.Hostname(), port), ends && d.Schemes[plain] != "", nil
}

// Dial reaches the door of a connection.
func (d *Door) Dial(ctx context.Context, c *connect.Connection, w *Way) (net.Conn, error) {
	u, _ := url.Parse(c.Address)
	if u != nil && u.Scheme == StandInScheme {
		return d.dialStandIn(u.Host, w)
	}
	at, secure, err := d.HostPort(c.Address)
	if err != nil {
		return nil, &Error{"reading the address", err, "write it as " + d.examples()}
	}
	return DialAt(ctx, c, at, secure, w)
}

func (d *Door) dialStandIn(name string, w *Way) (net.Conn, error) {
	err := errors.New("there are no stand-ins here")
	var conn net.Conn
	if d.StandIn != nil {
		conn, err = d.StandIn(name)
	}
	if err != nil {
		return nil, &Error{"reaching the stand-in " + name, err,
			"look at it under Stand-ins, or make one of this name and kind"}
	}
	shown, _, _ := strings.Cut(name, "+") // what is behind it says which side of it
	w.Did("the stand-in %s is there", shown)
	return conn, nil
}

// DialAt connects to a host and port of a connection, through its proxy where it has one.
func DialAt(ctx context.Context, c *connect.Connection, at string, secure bool, w *Way) (net.Conn, error) {
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return nil, &Error{"reading the address", err, "write the host and the port"}
	}
	var plain net.Conn
	if Proxied(c) {
		plain, err = through(ctx, c, at, w)
	} else {
		plain, err = directly(ctx, c, host, port, w)
	}
	if err != nil || !secure {
		return plain, err
	}
	return speakTLS(ctx, c, plain, host, w)
}

// directly resolves a name and connects to it.
func directly(ctx context.Context, c *connect.Connection, host, port string, w *Way) (net.Conn, error) {
	addresses, err := c.LookUp(ctx, host)
	if err != nil || len(addresses) == 0 {
		return nil, &Error{"resolving the name " + host, errors.New("there is no such host"),
			"look at how it is written, and whether this machine's name service knows it"}
	}
	if first := addresses[0].String(); first != host {
		for _, one := range addresses[1:] {
			first += ", " + one.String()
		}
		w.Did("%s is %s", host, first)
	}
	at := net.JoinHostPort(host, port)
	plain, err := c.Dial(ctx, "tcp", at)
	switch {
	case errors.Is(err, outbound.ErrRefused):
		return nil, &Error{"looking whether " + at + " may be reached", err,
			"save the connection again if that is where it belongs, or name the address under Settings, Addresses outside"}
	case err != nil:
		return nil, &Error{"connecting to " + at, inWords(err),
			"look whether it runs, listens there, and no firewall is between"}
	}
	w.Did("connected on port %s", port)
	return plain, nil
}

// inWords says why a connection was not made.
func inWords(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Timeout() {
		return errors.New("nobody answered in time")
	}
	if errors.As(err, &op) && op.Err != nil {
		return fmt.Errorf("it was refused (%w)", op.Err)
	}
	return err
}
