// Package listen is the door that callers knock at: it listens at an address, speaks TLS
// where it has a certificate, and bounds what one caller may hold.
//
// A caller may keep so many connections open from one address, and has to take what it
// asked for: a write that it does not read within WriteWithin ends the connection, so
// that nobody holds an answer for as long as they like. Reading is bounded where bodies
// are read.
package listen

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"
)

// WriteWithin is how long a caller may take to accept what is written to it at once.
const WriteWithin = 30 * time.Second

// Usual is how many connections one address may have open where nothing else is said.
const Usual = 1024

// Config says how it is listened.
type Config struct {
	Address    string
	PerAddress int            // connections open at once from one address; 0: Usual
	Trusted    []netip.Prefix // proxies, which are not counted
	TLS        *tls.Config    // nil: none
}

// Open listens.
func Open(c Config) (net.Listener, error) {
	l, err := net.Listen("tcp", c.Address)
	if err != nil {
		return nil, fmt.Errorf("listening on %s: %w; choose another address with --listen", c.Address, err)
	}
	if c.PerAddress <= 0 {
		c.PerAddress = Usual
	}
	bounded := &listener{Listener: l, most: c.PerAddress, trusted: c.Trusted, open: map[netip.Addr]int{}}
	if c.TLS == nil {
		return bounded, nil
	}
	return tls.NewListener(bounded, c.TLS), nil
}

// listener hands out connections, of each address no more than most.
type listener struct {
	net.Listener
	most    int
	trusted []netip.Prefix

	mu   sync.Mutex
	open map[netip.Addr]int
}

// Accept implements net.Listener. A connection too many is closed at once.
func (l *listener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from := addressOf(c)
		if l.enter(from) {
			return &conn{Conn: c, leave: sync.OnceFunc(func() { l.leave(from) })}, nil
		}
		_ = c.Close()
	}
}

func addressOf(c net.Conn) netip.Addr {
	a, ok := c.RemoteAddr().(*net.TCPAddr)
	if !ok {
		return netip.Addr{}
	}
	return a.AddrPort().Addr().Unmap().WithZone("")
}

func (l *listener) enter(from netip.Addr) bool {
	if slices.ContainsFunc(l.trusted, func(p netip.Prefix) bool { return p.Contains(from) }) {
		return true
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open[from] >= l.most {
		return false
	}
	l.open[from]++
	return true
}

func (l *listener) leave(from netip.Addr) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open[from]--; l.open[from] <= 0 {
		delete(l.open, from)
	}
}

// conn is a connection of a caller.
type conn struct {
	net.Conn
	leave func()
}

// Write implements net.Conn, in pieces: each has to be taken within WriteWithin, so that a
// large answer to a slow line comes through.
func (c *conn) Write(p []byte) (n int, err error) {
	const piece = 64 << 10
	for {
		end := min(len(p), n+piece)
		if err := c.SetWriteDeadline(time.Now().Add(WriteWithin)); err != nil {
			return n, err
		}
		m, err := c.Conn.Write(p[n:end])
		if n += m; err != nil || n == len(p) {
			return n, err
		}
	}
}

// Close implements net.Conn.
func (c *conn) Close() error {
	c.leave()
	return c.Conn.Close()
}
