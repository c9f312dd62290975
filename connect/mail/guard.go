package mail

import (
	"errors"
	"net"
	"sync/atomic"
	"time"
)

// mostAnswer is how much a server may say between two things that we do: a mail of the
// largest size, and what stands around it.
const mostAnswer = 64 << 20

var errTooMuch = errors.New("the server says more than anybody asked for")

// guarded is a connection to a server that may be anything: what it says is counted, and
// the libraries' long time limits are cut to that of the connection.
type guarded struct {
	net.Conn
	limit time.Duration
	most  int64
	said  atomic.Int64
}

// Read implements net.Conn.
func (g *guarded) Read(p []byte) (int, error) {
	n, err := g.Conn.Read(p)
	if g.said.Add(int64(n)) > g.most {
		_ = g.Close()
		return 0, errTooMuch
	}
	return n, err
}

// Write implements net.Conn.
func (g *guarded) Write(p []byte) (int, error) {
	g.said.Store(0)
	if err := g.Conn.SetWriteDeadline(time.Now().Add(g.limit)); err != nil {
		return 0, err
	}
	return g.Conn.Write(p)
}

func (g *guarded) cut(t time.Time) time.Time {
	if most := time.Now().Add(g.limit); !t.IsZero() && t.After(most) {
		return most
	}
	return t
}

// SetDeadline implements net.Conn.
func (g *guarded) SetDeadline(t time.Time) error { return g.Conn.SetDeadline(g.cut(t)) }

// SetReadDeadline implements net.Conn.
func (g *guarded) SetReadDeadline(t time.Time) error { return g.Conn.SetReadDeadline(g.cut(t)) }
