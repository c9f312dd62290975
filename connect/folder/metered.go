package folder

import (
	"errors"
	"net"
	"sync/atomic"
	"time"
)

// mostAnswer is how much a server may say to one thing that it is asked, in bytes: a list
// of a hundred thousand files has some 20 MiB.
const mostAnswer = 64 << 20

// errTooMuch ends a connection to a server that says too much.
var errTooMuch = errors.New("the server says more than anything needs")

// Metered is a connection to a server that may be anything: it ends where too much comes
// for one thing, and where a write is not read in time.
type Metered struct {
	net.Conn
	Patience time.Duration // for one write
	left     atomic.Int64
}

// Meter makes a metered connection.
func Meter(c net.Conn, patience time.Duration) *Metered {
	m := &Metered{Conn: c, Patience: patience}
	m.Allow()
	return m
}

// Allow lets as much come as one thing may bring.
func (m *Metered) Allow() { m.left.Store(mostAnswer) }

// Read implements net.Conn.
func (m *Metered) Read(p []byte) (int, error) {
	n, err := m.Conn.Read(p)
	if m.left.Add(int64(-n)) < 0 {
		_ = m.Close()
		return 0, errTooMuch
	}
	return n, err
}

// Write implements net.Conn.
func (m *Metered) Write(p []byte) (int, error) {
	if err := m.SetWriteDeadline(time.Now().Add(m.Patience)); err != nil {
		return 0, err
	}
	return m.Conn.Write(p)
}
