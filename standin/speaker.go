package standin

import (
	"errors"
	"fmt"
	"net"
	"strings"
	"time"
)

// The kinds of stand-in that speak otherwise than HTTP.
const (
	KindMQTT = "mqtt"
	KindAMQP = "amqp"

	KindStream = "stream"
	KindNATS   = "nats"

	KindFiles   = "files"
	KindSFTP    = "sftp"
	KindFTP     = "ftp"
	KindTCP     = "tcp"
	KindMail    = "mail"
	KindObjects = "objects"
)

// speakers makes what stands behind each kind; Kinds lists them.
var speakers = map[string]func(sys *System, now func() time.Time, changed func()) (speaker, error){
	KindMQTT: newMQTT,
	KindAMQP: newAMQP,

	KindStream: newStream,
	KindNATS:   newNATS,

	KindFiles: func(sys *System, now func() time.Time, changed func()) (speaker, error) {
		return newShelf(sys, now,
			changed)
	},
	KindSFTP: newSFTP,
	KindFTP:  newFTP,
	KindTCP:  newTCP,
	KindMail: newMail,

	KindObjects: newObjects,
}

// Kinds are the kinds of stand-in besides those over HTTP, in the order in which people
// are offered them.
var Kinds = []string{KindMQTT, KindAMQP, KindStream, KindNATS, KindFiles, KindSFTP, KindFTP, KindTCP, KindMail, KindObjects}

// speaker is a server within the process that speaks something else than HTTP.
type speaker interface {
	serve(conn net.Conn)  // speaks with one client until that ends
	send(m Message) error // has it say something
	close() error
}

// shaped is a speaker that its definition says more of.
type shaped interface{ shape(d Definition) error }

// looked is a speaker with something within that people may look at.
type looked interface{ inside() []Inside }

// inward is a speaker that sends by itself, to who is reached by its name with +in behind it.
type inward interface{ serveInward(conn net.Conn) }

// forgotten is a speaker that keeps something until the stand-in is removed.
type forgotten interface{ forget() error }

// Inside is something within a stand-in: a queue, a topic, a file.
type Inside struct {
	Name      string `json:"name"`
	Messages  int64  `json:"messages"`
	Consumers int    `json:"consumers"`
	Bytes     int64  `json:"bytes"` // of a file
	Text      string `json:"text"`  // of a file, where it is short
}

// Message is what a person lets a stand-in send.
type Message struct {
	Topic    string            `json:"topic"` // or a routing key, a subject, the name of a file
	Exchange string            `json:"exchange"`
	Key      string            `json:"key"` // of a record
	Body     string            `json:"body"`
	Headers  map[string]string `json:"headers"` // Content-Type, and those of the protocol
	QoS      byte              `json:"qos"`
	Retain   bool              `json:"retain"`
}

// Dial reaches a stand-in that speaks a protocol, as a connection to a port would.
func (s *Set) Dial(kind, name string) (net.Conn, error) {
	name, takes := strings.CutSuffix(name, "+in")
	sys := s.find(name)
	if sys == nil {
		return nil, ErrNotFound
	}
	b, out := sys.reached(s.now())
	in, sends := b.(inward)
	switch {
	case b == nil || sys.def.Kind != kind:
		return nil, fmt.Errorf("the stand-in %s does not speak %s", name, kind)
	case takes && !sends:
		return nil, fmt.Errorf("the stand-in %s sends nothing", name)
	case out:
		return nil, errors.New("the stand-in is out of order for a while")
	}
	ours, theirs, err := pair()
	if err != nil {
		return nil, err
	}
	if sys.hold(theirs, true); takes {
		in.serveInward(theirs)
		return ours, nil
	}
	go func() {
		b.serve(theirs)
		sys.hold(theirs, false)
	}()
	return ours, nil
}

// pair gives the two ends of a connection within this machine. Both sides of a protocol
// may write at once, so what is written must have room until it is read, which the
// ends of net.Pipe do not give.
func pair() (ours, theirs net.Conn, err error) {
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = door.Close() }()
	if ours, err = net.DialTimeout("tcp", door.Addr().String(), 5*time.Second); err != nil {
		return nil, nil, err
	}
	for {
		if theirs, err = door.Accept(); err != nil {
			return nil, nil, errors.Join(err, ours.Close())
		}
		if theirs.RemoteAddr().String() == ours.LocalAddr().String() {
			return ours, theirs, nil
		}
		_ = theirs.Close() // somebody else knocked at the door meanwhile
	}
}

// hold notes a connection to a stand-in that speaks, or that it has ended.
func (sys *System) hold(c net.Conn, open bool) {
	sys.mu.Lock()
	defer sys.mu.Unlock()
	if !open {
		delete(sys.conns, c)
		return
	}
	if sys.conns == nil {
		sys.conns = map[net.Conn]bool{}
	}
	sys.conns[c] = true
}

// cut breaks all connections off.
func (sys *System) cut() {
	sys.mu.Lock()
	defer sys.mu.Unlock()
	for c := range sys.conns {
		_ = c.Close()
	}
}

// reached gives what stands behind a stand-in, and whether it is out of order.
func (sys *System) reached(now time.Time) (speaker, bool) {
	sys.mu.Lock()
	defer sys.mu.Unlock()
	return sys.speaker, sys.behaviour.OutUntil != nil && sys.behaviour.OutUntil.After(now)
}

// Send has a stand-in send a message, to all who take what it sends.
func (s *Set) Send(name string, m Message) error {
	sys := s.find(name)
	if sys == nil {
		return ErrNotFound
	}
	b, _ := sys.reached(s.now())
	if b == nil {
		return fmt.Errorf("the stand-in %s sends nothing by itself; it is called over HTTP", name)
	}
	defer s.changed()
	return b.send(m)
}

// Close ends all that speak.
func (s *Set) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, sys := range s.systems {
		if sys.speaker != nil {
			errs = append(errs, sys.speaker.close())
		}
	}
	return errors.Join(errs...)
}
