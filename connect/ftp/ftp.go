// Package ftp is the system of folders that are reached by FTP (RFC 959), with TLS (RFC
// 4217) or without. What files come to and how they are written stands in connect/folder;
// here is how the server is reached. Transfers go to the server's own address, whatever
// address it answers with, so that it cannot send us to somebody else.
package ftp

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"net/url"
	"path"
	"sync"

	client "github.com/jlaffaye/ftp"

	"readyferry/connect"
	"readyferry/connect/folder"
	"readyferry/connect/reach"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "ftp"

var connectionSchema = `{"required": ["address"], "properties": {
	"address": {"type": "string", "title": "Address", "default": "ftp://", "description":
		"ftp://host:21/folder, ftps://host:990/folder over TLS, or stand-in://name", "examples": ["ftp://files.example.org/in"]},
	"auth-tls": {"type": "boolean", "title": "switch to TLS before signing in (AUTH TLS), with ftp://"},
	` + reach.SignInProperty(connect.SignInNone, connect.SignInBasic) + `,
	` + reach.WayProperties + `}}`

// New makes the system. standIn reaches a simulated server by its name; nil where there
// are none.
func New(standIn func(name string) (net.Conn, error)) connect.System {
	door := &reach.Door{Schemes: map[string]string{"ftp": "21", "ftps": "990"}, Path: true, StandIn: standIn}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "FTP", Summary: "Folders of another machine, reached by FTP, with TLS or without.",
			Sentence: "write {name}[ into {folder}] at {to}",
			Intake:   system.Schema(folder.IntakeSchema), Deliver: system.Schema(folder.DeliverSchema),
		},
		Notes: append([]string{"Transfers are passive, and go to the address of the server alone. Links are the server's affair: FTP does " +
			"not tell where one leads."}, folder.Notes...),
		Outcomes: folder.Outcomes(
			connect.Meaning{Code: "4xx", Words: "the server cannot do it at present (RFC 959, 4.2.1)",
				Comes: string(retry.Again)},
			connect.Meaning{Code: "5xx", Words: "the server refuses it; 552 says that the disk or quota is full",
				Comes: string(retry.Never)},
		),
		Connection: system.Schema(connectionSchema), Check: door.Check,
		Says: folder.Says,
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			l := &folder.Link{C: c}
			l.Join = func(ctx context.Context, w *reach.Way) (folder.Tree, error) { return join(ctx, door, c, w) }
			return l, nil
		},
	}
}

// session is the connections of one client: the one through which it is told what to do,
// and one for each transfer.
type session struct {
	ctx   context.Context
	c     *connect.Connection
	door  *reach.Door
	way   *reach.Way
	tls   *tls.Config // of transfers; nil without
	mu    sync.Mutex
	main  *folder.Metered
	all   map[*held]bool
	ended bool
}

// held is a connection that ends with its session.
type held struct {
	net.Conn
	of *session
}

// Close implements net.Conn.
func (h *held) Close() error {
	h.of.mu.Lock()
	delete(h.of.all, h)
	h.of.mu.Unlock()
	return h.Conn.Close()
}

// dial makes the first connection, and those of transfers, which go where the first one
// went to, to another port.
func (s *session) dial(_, address string) (net.Conn, error) {
	first := s.main == nil
	var conn net.Conn
	var err error
	if first {
		conn, err = s.door.Dial(s.ctx, s.c, s.way)
	} else {
		// s.ctx is over once it is signed in. A server that names another address for a transfer is
		// not followed further than addresses of its own kind.
		conn, err = reach.DialAt(context.WithoutCancel(s.ctx), s.c.Along(s.ctx, address), address, false, nil)
	}
	if err != nil {
		return nil, err
	}
	m := folder.Meter(conn, s.c.TimeLimit)
	h := &held{m, s}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended {
		return nil, errors.Join(net.ErrClosed, conn.Close())
	}
	s.all[h] = true
	if first {
		s.main = m
	} else if s.tls != nil {
		return tls.Client(h, s.tls), nil
	}
	return h, nil
}

// close ends everything at once.
func (s *session) close() {
	s.mu.Lock()
	s.ended = true
	all := s.all
	s.all = map[*held]bool{}
	s.mu.Unlock()
	for h := range all {
		_ = h.Conn.Close()
	}
}

// join reaches the server, signs in, and finds the folder.
func join(ctx context.Context, door *reach.Door, c *connect.Connection, w *reach.Way) (folder.Tree, error) {
	u, err := url.Parse(c.Address)
	if err != nil {
		return nil, err
	}
	s := &session{ctx: ctx, c: c, door: door, way: w, all: map[*held]bool{}}
	stop := context.AfterFunc(ctx, s.close)
	defer stop()
	// No time limit of the library: one that it sets behind a transfer counts for all that
	// comes later. What takes too long is ended in connect/folder.
	opts := []client.DialOption{client.DialWithDialFunc(s.dial), client.DialWithContext(ctx)}
	explicit := u.Scheme == "ftp" && c.Text("/auth-tls") == "true"
	if explicit || u.Scheme == "ftps" {
		if s.tls, err = reach.Config(c, u.Hostname()); err != nil {
			return nil, err
		}
		s.tls.ClientSessionCache = tls.NewLRUClientSessionCache(4) // servers may ask that transfers go on with the session
		if explicit {
			opts = append(opts, client.DialWithExplicitTLS(s.tls))
		}
	}
	of, err := client.Dial(c.Address, opts...)
	if err != nil {
		s.close()
		var step *reach.Error
		if errors.As(err, &step) {
			return nil, step
		}
		return nil, &reach.Error{Step: "greeting", Err: inWords(ctx, err),
			Repair: "look whether an FTP server listens there, and whether it speaks TLS from the beginning"}
	}
	user, secret := "anonymous", "anonymous"
	if c.SignIn.Kind == connect.SignInBasic && len(c.SignIn.Secrets) > 0 {
		user, secret = c.SignIn.User, c.SignIn.Secrets[0]
	}
	if err := of.Login(user, secret); err != nil {
		s.close()
		return nil, &reach.Error{Step: "signing in", Err: inWords(ctx, err),
			Repair: "look at the user, the password, and what the server permits them"}
	}
	if explicit {
		w.Did("switched to TLS")
	}
	w.Did("signed in as %s", user)
	t := &tree{s: s, c: of, base: u.Path}
	if u.Path == "" || u.Path == "/" || u.Scheme == reach.StandInScheme {
		if t.base, err = of.CurrentDir(); err != nil {
			s.close()
			return nil, &reach.Error{Step: "asking for the folder", Err: inWords(ctx, err), Repair: "name it in the address"}
		}
	}
	return t, nil
}

// inWords says what a server answered, or what happened to the connection.
func inWords(ctx context.Context, err error) error {
	var said *textproto.Error
	switch {
	case ctx.Err() != nil:
		return errors.New("nobody answered in time, or in the way of this protocol")
	case errors.As(err, &said):
		return fmt.Errorf("the server answers %d: %s", said.Code, connect.ShortText(said.Msg))
	case errors.Is(err, io.EOF):
		return errors.New("the server broke off")
	}
	return err
}

// tree is a folder at a server.
type tree struct {
	s    *session
	c    *client.ServerConn
	base string
}

// Close implements folder.Tree.
func (t *tree) Close() error {
	t.s.close()
	return nil
}

// at gives the whole path of a name.
func (t *tree) at(name string) string {
	t.s.main.Allow()
	return path.Join("/", t.base, name)
}
