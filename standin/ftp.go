package standin

import (
	"crypto/tls"
	"errors"
	"net"
	"sync"
	"time"

	ftpserver "github.com/fclairamb/ftpserverlib"
)

// ftpServer is a real FTP server within the process. Transfers go over ports of this
// machine, as the protocol wants; it lets everybody in.
type ftpServer struct {
	*shelf
	server *ftpserver.FtpServer
	comes  *handed
}

func newFTP(sys *System, now func() time.Time, changed func()) (speaker, error) {
	files, err := newShelf(sys, now, changed)
	if err != nil {
		return nil, err
	}
	f := &ftpServer{shelf: files, comes: &handed{next: make(chan *ended), closed: make(chan struct{})}}
	f.server = ftpserver.NewFtpServer(f)
	if err := f.server.Listen(); err != nil {
		return nil, err
	}
	go func() { _ = f.server.Serve() }()
	return f, nil
}

// GetSettings implements ftpserver.MainDriver.
func (f *ftpServer) GetSettings() (*ftpserver.Settings, error) {
	return &ftpserver.Settings{Listener: f.comes, IdleTimeout: 900, ConnectionTimeout: 30, PublicHost: "127.0.0.1",
		DisableActiveMode: true, DefaultTransferType: ftpserver.TransferTypeBinary}, nil
}

// ClientConnected implements ftpserver.MainDriver.
func (f *ftpServer) ClientConnected(ftpserver.ClientContext) (string, error) { return "stand-in", nil }

// ClientDisconnected implements ftpserver.MainDriver.
func (f *ftpServer) ClientDisconnected(ftpserver.ClientContext) {}

// AuthUser implements ftpserver.MainDriver.
func (f *ftpServer) AuthUser(ftpserver.ClientContext, string, string) (ftpserver.ClientDriver, error) {
	return f.shelf, nil
}

// GetTLSConfig implements ftpserver.MainDriver.
func (f *ftpServer) GetTLSConfig() (*tls.Config, error) {
	return nil, errors.New("there is no TLS here")
}

// serve implements speaker.
func (f *ftpServer) serve(conn net.Conn) {
	f.comes.hand(conn)
}

// close implements speaker.
func (f *ftpServer) close() error { return f.server.Stop() }

// handed is a listener whose connections are handed to it.
type handed struct {
	next   chan *ended
	closed chan struct{}
	once   sync.Once
}

// Accept implements net.Listener.
func (h *handed) Accept() (net.Conn, error) {
	select {
	case c := <-h.next:
		return c, nil
	case <-h.closed:
		return nil, net.ErrClosed
	}
}

// Close implements net.Listener.
func (h *handed) Close() error {
	h.once.Do(func() { close(h.closed) })
	return nil
}

// Addr implements net.Listener.
func (h *handed) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)} }

// ended is a connection that tells when it ends.
type ended struct {
	net.Conn
	end  chan struct{}
	once sync.Once
}

// Close implements net.Conn.
func (c *ended) Close() error {
	c.once.Do(func() { close(c.end) })
	return c.Conn.Close()
}
