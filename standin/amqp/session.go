package amqp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"
)

// The reply codes (1.3) that are used here.
const (
	contentTooLarge    = 311
	notFound           = 404
	accessRefused      = 403
	resourceLocked     = 405
	preconditionFailed = 406
	frameError         = 501
	syntaxError        = 502
	commandInvalid     = 503
	channelError       = 504
	resourceError      = 506
)

// refused is what closes a channel, or with a hard code the connection.
type refused struct {
	code uint16
	text string
}

func (r *refused) Error() string { return fmt.Sprintf("%d %s", r.code, r.text) }

func refusal(code uint16, text string) error { return &refused{code, text} }

// patience is how long one write may take: a client that reads nothing holds nobody.
const patience = 30 * time.Second

// session is the connection of one client.
type session struct {
	b        *Broker
	conn     net.Conn
	channels map[uint16]*channel // under b.mu
	open     bool                // signed in; touched by the reading goroutine alone

	outMu  sync.Mutex
	out    []byte // what is yet to be written
	wake   chan struct{}
	ended  chan struct{}
	ending sync.Once
}

func newSession(b *Broker, conn net.Conn) *session {
	return &session{b: b, conn: conn, channels: map[uint16]*channel{}, wake: make(chan struct{}, 1), ended: make(chan struct{})}
}

func (s *session) cut() { s.ending.Do(func() { close(s.ended); _ = s.conn.Close() }) }

// mostUnwritten bounds what waits for a client that does not read, in bytes.
const mostUnwritten = 64 << 20

// send queues frames for the client.
func (s *session) send(frames ...frame) {
	s.outMu.Lock()
	for _, f := range frames {
		s.out = f.append(s.out)
	}
	tooMuch := len(s.out) > mostUnwritten
	s.outMu.Unlock()
	if tooMuch {
		s.cut()
	}
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

func (s *session) write() {
	for {
		s.outMu.Lock()
		now := s.out
		s.out = nil
		s.outMu.Unlock()
		if len(now) > 0 {
			_ = s.conn.SetWriteDeadline(time.Now().Add(patience))
			if _, err := s.conn.Write(now); err != nil {
				s.cut()
				return
			}
			continue
		}
		select {
		case <-s.wake:
		case <-s.ended:
			return
		}
	}
}

// run speaks with the client until one of them ends it.
func (s *session) run() {
	defer s.leave()
	r := bufio.NewReaderSize(s.conn, 64<<10)
	var head [8]byte
	_ = s.conn.SetReadDeadline(time.Now().Add(patience))
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return
	}
	if string(head[:]) != "AMQP\x00\x00\x09\x01" { // 4.2.2: it is told what is spoken here
		_ = s.conn.SetWriteDeadline(time.Now().Add(patience))
		_, _ = s.conn.Write([]byte("AMQP\x00\x00\x09\x01"))
		return
	}
	go s.write()
	start := method(10, 10)
	start.octet(0)
	start.octet(9)
	start.table(map[string]any{"product": "stand-in"})
	start.longstr("PLAIN EXTERNAL")
	start.longstr("en_US")
	s.send(frame{frameMethod, 0, start.Bytes()})
	for {
		f, err := readFrame(r)
		if err == nil {
			err = s.handle(f)
		}
		var no *refused
		switch {
		case errors.As(err, &no):
			s.closeWith(no)
			return
		case err != nil:
			return
		}
	}
}

// closeWith closes the connection for a reason, and gives the client the time to read it.
func (s *session) closeWith(no *refused) {
	w := method(10, 50)
	w.short(no.code)
	w.shortstr(no.text)
	w.short(0)
	w.short(0)
	s.send(frame{frameMethod, 0, w.Bytes()})
	_ = s.conn.SetReadDeadline(time.Now().Add(time.Second))
	_, _ = io.Copy(io.Discard, io.LimitReader(s.conn, frameMax))
}

// leave gives back what the client had.
func (s *session) leave() {
	s.cut()
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	for _, ch := range s.channels {
		ch.end()
	}
	delete(s.b.sessions, s)
	for _, q := range s.b.queues {
		if q.owner == s {
			s.b.dropQueue(q)
		}
	}
}

// handle does what a frame asks for. A *refused closes the connection.
func (s *session) handle(f frame) error {
	if f.kind == frameHeartbeat {
		return nil
	}
	if f.channel == 0 {
		return s.connection(f)
	}
	if !s.open {
		return refusal(commandInvalid, "the connection is not open")
	}
	s.b.mu.Lock()
	ch := s.channels[f.channel]
	s.b.mu.Unlock()
	if ch == nil {
		return s.openChannel(f)
	}
	err := ch.handle(f)
	var no *refused
	if errors.As(err, &no) && no.code < frameError {
		s.b.mu.Lock()
		ch.end()
		ch.closing = true
		s.b.mu.Unlock()
		w := method(20, 40)
		w.short(no.code)
		w.shortstr(no.text)
		w.short(0)
		w.short(0)
		s.send(frame{frameMethod, f.channel, w.Bytes()})
		return nil
	}
	return err
}

// connection does what is said about the connection itself.
func (s *session) connection(f frame) error {
	r := &reader{b: f.payload}
	class, id := r.short(), r.short()
	if f.kind != frameMethod || class != 10 {
		return refusal(commandInvalid, "channel 0 is for the connection alone")
	}
	switch id {
	case 11: // start-ok: everybody is let in
		r.table(0)
		r.shortstr()
		r.longstr()
		w := method(10, 30)
		w.short(mostThings)
		w.long(frameMax)
		w.short(60)
		s.send(frame{frameMethod, 0, w.Bytes()})
	case 31: // tune-ok
		r.short()
		r.long()
		beat := time.Duration(r.short()) * time.Second
		_ = s.conn.SetReadDeadline(time.Time{})
		if beat > 0 {
			go s.beat(beat / 2)
		}
	case 40: // open, of whatever virtual host
		s.open = true
		w := method(10, 41)
		w.shortstr("")
		s.send(frame{frameMethod, 0, w.Bytes()})
	case 50: // close
		s.send(frame{frameMethod, 0, method(10, 51).Bytes()})
		time.Sleep(10 * time.Millisecond) // it is written before the end
		return io.EOF
	case 51:
		return io.EOF
	default:
		return refusal(commandInvalid, fmt.Sprintf("there is no method 10.%d here", id))
	}
	if !r.done() {
		return refusal(syntaxError, "the method cannot be read")
	}
	return nil
}

// beat lets the client know that we are there.
func (s *session) beat(every time.Duration) {
	t := time.NewTicker(every)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			s.send(frame{frameHeartbeat, 0, nil})
		case <-s.ended:
			return
		}
	}
}

func (s *session) openChannel(f frame) error {
	r := &reader{b: f.payload}
	if f.kind != frameMethod || r.short() != 20 || r.short() != 10 {
		return refusal(channelError, fmt.Sprintf("channel %d is not open", f.channel))
	}
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	if len(s.channels) >= mostThings {
		return refusal(resourceError, "there are too many channels")
	}
	s.channels[f.channel] = &channel{s: s, id: f.channel, consumers: map[string]*consumer{}, unacked: map[uint64]*delivery{}}
	w := method(20, 11)
	w.longstr("")
	s.send(frame{frameMethod, f.channel, w.Bytes()})
	return nil
}
