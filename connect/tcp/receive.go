package tcp

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"sync"
	"time"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/flow"
	"readyferry/core/message"
)

// Headers of a message that came over a connection.
const (
	HeaderFrom   = "tcp-from"   // the address that it came from
	HeaderClient = "tcp-client" // the name in the certificate that was shown
)

// Receive implements connect.Receiver: it listens, and takes what comes on each connection
// one by one. Nobody is answered before the commit that stores a message. There is no mark:
// who has no answer sends again.
func (l *link) Receive(
	ctx context.Context,
	in connect.Settings,
	_ []byte,
	_ func(context.Context, []connect.Arrival) ([]connect.Taken, error),
) error {
	s := &listening{link: l, most: 100, idle: time.Hour, finished: connect.SettingText(in, "answer") == "finished",
		open: map[net.Conn]bool{}}
	if n := connect.SettingText(in, "connections"); n != "" {
		_, _ = fmt.Sscan(n, &s.most)
	}
	if d, err := flow.Duration(connect.SettingText(in, "idle")); err == nil {
		s.idle = d
	}
	at, secure, is := listensAt(l.c)
	if !is {
		return s.standIn(ctx)
	}
	if secure {
		var err error
		if s.tls, err = reach.ListenConfig(l.c); err != nil {
			return fmt.Errorf("listening on %s: %w", at, err)
		}
	}
	door, err := net.Listen("tcp", at)
	if err != nil {
		return fmt.Errorf("listening on %s: %w", at, why(err))
	}
	stop := context.AfterFunc(ctx, func() { _ = door.Close() })
	defer stop()
	defer s.end()
	connect.TellReady(ctx)
	for {
		conn, err := door.Accept()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return fmt.Errorf("listening on %s: %w", at, err)
		}
		if !s.enter(conn) {
			connect.TellTrouble(ctx, fmt.Errorf("%s was turned away: %d connections are open, as many as may",
				conn.RemoteAddr(), s.most))
			_ = conn.Close()
			continue
		}
		go func() {
			defer s.leave(conn)
			if err := s.greet(ctx, conn); err != nil && ctx.Err() == nil {
				connect.TellTrouble(ctx, fmt.Errorf("the connection from %s was closed: %w", conn.RemoteAddr(), err))
			}
		}()
	}
}

// why says why nobody can listen somewhere.
func why(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Err != nil {
		return op.Err
	}
	return err
}

// checkListening tries to listen, where this connection does not listen itself already.
func checkListening(at string, w *reach.Way) connect.Report {
	door, err := net.Listen("tcp", at)
	if err != nil {
		if conn, dialed := net.DialTimeout("tcp", at, time.Second); dialed == nil {
			_ = conn.Close()
			w.Did("somebody listens on %s; when a flow receives there, it is this application", at)
			return w.Report(nil, "somebody listens there")
		}
		return w.Report(&reach.Error{Step: "listening on " + at, Err: why(err),
			Repair: "choose another port, or an address of this machine"}, "")
	}
	_ = door.Close()
	w.Did("%s is free to listen on", at)
	return w.Report(nil, "nobody listens there; a flow that receives will")
}

// listening takes messages for one flow.
type listening struct {
	link     *link
	most     int
	idle     time.Duration
	finished bool
	tls      *tls.Config // nil for a plain one

	mu   sync.Mutex
	open map[net.Conn]bool
}

func (s *listening) enter(c net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.open) >= s.most {
		return false
	}
	s.open[c] = true
	return true
}

func (s *listening) leave(c net.Conn) {
	_ = c.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.open, c)
}

func (s *listening) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.open {
		_ = c.Close()
	}
}

// standIn waits at a simulated partner for what it sends.
func (s *listening) standIn(ctx context.Context) error {
	u, err := url.Parse(s.link.c.Address)
	if err != nil || u.Scheme != reach.StandInScheme {
		return fmt.Errorf("the connection %s is to send to; one to receive from begins with listen://", s.link.c.Name)
	}
	if s.link.door.StandIn == nil {
		return errors.New("there are no stand-ins here")
	}
	conn, err := s.link.door.StandIn(u.Host + Inward)
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	connect.TellReady(ctx)
	if err := s.serve(ctx, conn, comesFrom(conn, "")); err != nil {
		return err
	}
	return errors.New("the stand-in broke off")
}

// Inward, behind the name of a simulated partner, reaches it as one that sends to us.
const Inward = "+in"

// greet speaks TLS with who has come, where that is asked for, and takes what it sends.
func (s *listening) greet(ctx context.Context, conn net.Conn) error {
	if s.tls == nil {
		return s.serve(ctx, conn, comesFrom(conn, ""))
	}
	secure := tls.Server(conn, s.tls)
	limited, cancel := context.WithTimeout(ctx, s.link.c.TimeLimit)
	defer cancel()
	if err := secure.HandshakeContext(limited); err != nil {
		return fmt.Errorf("speaking TLS: %w", err)
	}
	client := ""
	if shown := secure.ConnectionState().PeerCertificates; len(shown) > 0 {
		client = shown[0].Subject.CommonName
	}
	return s.serve(ctx, secure, comesFrom(conn, client))
}

// comesFrom gives the headers that say who has sent a message.
func comesFrom(conn net.Conn, client string) []message.Header {
	from := []message.Header{{Name: HeaderFrom, Value: conn.RemoteAddr().String()}}
	if client != "" {
		from = append(from, message.Header{Name: HeaderClient, Value: client})
	}
	return slices.Clip(from) // messages share it
}

// serve takes the messages of one connection, until it ends.
func (s *listening) serve(ctx context.Context, conn net.Conn, from []message.Header) error {
	r := bufio.NewReaderSize(conn, 64<<10)
	for {
		_ = conn.SetReadDeadline(time.Now().Add(s.idle))
		if _, err := r.Peek(1); err != nil {
			return nil // it has ended between two messages, or is idle
		}
		_ = conn.SetReadDeadline(time.Now().Add(s.link.c.TimeLimit)) // for one message
		body, err := readFrame(r, s.link.framing())
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return inWords(err, s.link.c.TimeLimit)
		}
		if len(body) == 0 && s.link.framing() == Line {
			continue
		}
		if err := s.one(ctx, conn, from, body); err != nil {
			return err
		}
	}
}

// one takes a message and answers it.
func (s *listening) one(ctx context.Context, conn net.Conn, from []message.Header, body []byte) error {
	reply := func(answer []byte) error {
		out, err := frame(s.link.framing(), answer)
		if err != nil {
			return fmt.Errorf("answering: %w", err)
		}
		_ = conn.SetWriteDeadline(time.Now().Add(s.link.c.TimeLimit))
		_, err = conn.Write(out)
		return err
	}
	a := connect.Arrival{Body: body, Headers: from}
	if s.link.framing() != MLLP {
		said, err := connect.TakeAnswered(ctx, a, func() {})
		if err != nil || !s.finished {
			return err
		}
		return reply(said.Body)
	}
	a.Headers = append([]message.Header{{Name: "content-type", Value: "application/hl7-v2"}}, a.Headers...)
	h := headerOf(body)
	a.ID = h.id()
	var failed error
	stored := func() {
		if h.enhanced() && asks(h.field(15), true) {
			failed = reply(h.ack("CA", "", time.Now()))
		}
	}
	said, err := connect.TakeAnswered(ctx, a, stored)
	if err = errors.Join(err, failed); err != nil {
		return err // who sends hears nothing, and sends again
	}
	if !h.enhanced() {
		return reply(h.said(said, time.Now()))
	}
	return s.enhanced(h, said, reply)
}

// enhanced answers a message that says itself which acknowledgements it wants.
func (s *listening) enhanced(h *header, said connect.Answer, reply func([]byte) error) error {
	good := said.Status < 300
	if kept := good || s.finished && said.Status == 500; !kept && asks(h.field(15), false) {
		code := "CE"
		if codeOf(said.Status) == "AR" {
			code = "CR"
		}
		return reply(h.ack(code, reasonOf(said), time.Now()))
	}
	if asks(h.field(16), good) {
		return reply(h.said(said, time.Now()))
	}
	return nil
}
