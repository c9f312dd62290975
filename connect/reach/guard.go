package reach

import (
	"net"
	"time"
)

// Guarded is a connection to a server that may be anything: what it sends is looked at, and
// a write that it does not read ends in time.
type Guarded struct {
	net.Conn
	Patience time.Duration // for one write
	// Look follows what was read; an error ends the connection. It is called with every
	// byte once, in order, however they come.
	Look func(b []byte) error
}

// Read implements net.Conn.
func (g *Guarded) Read(p []byte) (int, error) {
	n, err := g.Conn.Read(p)
	if bad := g.Look(p[:n]); bad != nil {
		_ = g.Close()
		return 0, bad
	}
	return n, err
}

// Write implements net.Conn.
func (g *Guarded) Write(p []byte) (int, error) {
	if err := g.SetWriteDeadline(time.Now().Add(g.Patience)); err != nil {
		return 0, err
	}
	return g.Conn.Write(p)
}
