package amqp

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"
)

// channel is one channel of a client. What others touch is under the broker's mutex.
type channel struct {
	s         *session
	id        uint16
	prefetch  int
	consumers map[string]*consumer
	unacked   map[uint64]*delivery
	tag       uint64 // of the last delivery
	confirms  bool
	published uint64 // messages, where it confirms
	closing   bool   // nothing but its end is heard

	// The message that is being published: its method, then its header, then its body.
	coming     *Publish
	properties []byte
	left       uint64 // bytes of the body that are yet to come; the header is there when properties is not nil
}

// consumer takes what comes to a queue.
type consumer struct {
	ch    *channel
	tag   string
	noAck bool
}

// delivery is a message that the client has and has not acknowledged.
type delivery struct {
	q *queue
	m *stored
}

// mostUnacked bounds what a client has that names no bound, in messages.
const mostUnacked = 1000

func (c *consumer) hasRoom() bool {
	limit := mostUnacked
	if c.ch.prefetch > 0 {
		limit = c.ch.prefetch
	}
	return len(c.ch.unacked) < limit
}

func (c *consumer) deliver(q *queue, m *stored) {
	ch := c.ch
	ch.tag++
	if !c.noAck {
		ch.unacked[ch.tag] = &delivery{q, m}
	}
	w := method(60, 60)
	w.shortstr(c.tag)
	w.longlong(ch.tag)
	w.octet(map[bool]byte{true: 1}[m.redelivered])
	w.shortstr(m.exchange)
	w.shortstr(m.key)
	ch.content(w, m)
}

// content sends a method with the message that belongs to it.
func (ch *channel) content(w *writer, m *stored) {
	head := binary.BigEndian.AppendUint16(nil, 60)
	head = binary.BigEndian.AppendUint16(head, 0)
	head = binary.BigEndian.AppendUint64(head, uint64(len(m.body)))
	frames := []frame{{frameMethod, ch.id, w.Bytes()}, {frameHeader, ch.id, append(head, m.properties...)}}
	for part := range slices.Chunk(m.body, frameMax-frameExtra) {
		frames = append(frames, frame{frameBody, ch.id, part})
	}
	ch.s.send(frames...)
}

func (ch *channel) say(w *writer) { ch.s.send(frame{frameMethod, ch.id, w.Bytes()}) }

// end gives back what the client has not acknowledged, the oldest first in its queue.
func (ch *channel) end() {
	for _, c := range ch.consumers {
		ch.cancel(c)
	}
	tags := slices.Sorted(maps.Keys(ch.unacked))
	touched := map[*queue]bool{}
	for _, tag := range slices.Backward(tags) {
		d := ch.unacked[tag]
		d.q.back(d.m)
		touched[d.q] = true
	}
	ch.unacked = map[uint64]*delivery{}
	for q := range touched {
		q.dispatch()
	}
}

func (ch *channel) cancel(c *consumer) {
	delete(ch.consumers, c.tag)
	for _, q := range ch.s.b.queues {
		had := len(q.consumers)
		q.consumers = slices.DeleteFunc(q.consumers, func(o *consumer) bool { return o == c })
		if had > 0 && len(q.consumers) == 0 && q.autoDelete {
			ch.s.b.dropQueue(q)
		}
	}
}

// handle does what a frame asks for.
func (ch *channel) handle(f frame) error {
	if ch.closing {
		if r := (&reader{b: f.payload}); f.kind == frameMethod && r.short() == 20 {
			id := r.short()
			if id == 40 {
				ch.say(method(20, 41))
			}
			if id == 40 || id == 41 {
				ch.s.b.mu.Lock()
				delete(ch.s.channels, ch.id)
				ch.s.b.mu.Unlock()
			}
		}
		return nil
	}
	switch f.kind {
	case frameHeader:
		return ch.header(f.payload)
	case frameBody:
		return ch.body(f.payload)
	case frameMethod:
		if ch.coming != nil {
			return refusal(commandInvalid, "a message was to come")
		}
		return ch.method(&reader{b: f.payload})
	}
	return refusal(frameError, fmt.Sprintf("there are no frames of kind %d", f.kind))
}

func (ch *channel) header(b []byte) error {
	r := &reader{b: b}
	r.short()
	r.short()
	size := r.longlong()
	switch {
	case ch.coming == nil || ch.properties != nil:
		return refusal(commandInvalid, "no header was to come")
	case size > largest:
		ch.coming = nil
		return refusal(contentTooLarge, fmt.Sprintf("the body has more than %d bytes", largest))
	}
	p, ok := readProperties(r.b)
	if !ok || r.bad {
		return refusal(syntaxError, "the properties cannot be read")
	}
	ch.coming.Properties, ch.properties, ch.left = p, slices.Clone(r.b), size
	if size == 0 {
		return ch.whole()
	}
	return nil
}

func (ch *channel) body(b []byte) error {
	if ch.coming == nil || ch.properties == nil || uint64(len(b)) > ch.left || len(b) == 0 {
		return refusal(commandInvalid, "no body was to come")
	}
	ch.coming.Body = append(ch.coming.Body, b...)
	if ch.left -= uint64(len(b)); ch.left == 0 {
		return ch.whole()
	}
	return nil
}

// whole takes a message that has come as a whole.
func (ch *channel) whole() error {
	p, properties := ch.coming, ch.properties
	ch.coming, ch.properties = nil, nil
	b := ch.s.b
	tag := uint64(0)
	if ch.confirms {
		ch.published++
		tag = ch.published
	}
	verdict := Verdict{}
	if b.OnPublish != nil {
		verdict = b.OnPublish(*p)
	}
	switch {
	case verdict.Cut:
		return io.EOF
	case verdict.Code != 0:
		time.Sleep(verdict.Delay)
		return refusal(verdict.Code, verdict.Text)
	case verdict.Silent:
		return nil
	case verdict.Refuse:
		ch.confirm(120, tag, verdict.Delay)
		return nil
	}
	b.mu.Lock()
	n, err := b.put(p, properties)
	b.mu.Unlock()
	switch {
	case errors.Is(err, ErrFull):
		ch.confirm(120, tag, verdict.Delay)
		return nil
	case err != nil:
		return err
	}
	if n == 0 && p.Mandatory {
		w := method(60, 50)
		w.short(312) // no-route
		w.shortstr("NO_ROUTE")
		w.shortstr(p.Exchange)
		w.shortstr(p.Key)
		ch.content(w, &stored{properties: properties, body: p.Body})
	}
	ch.confirm(80, tag, verdict.Delay)
	return nil
}

// confirm says that a message is taken (80) or not (120).
func (ch *channel) confirm(id uint16, tag uint64, after time.Duration) {
	if tag == 0 {
		return
	}
	w := method(60, id)
	w.longlong(tag)
	w.octet(0)
	if after > 0 {
		time.AfterFunc(after, func() { ch.say(w) })
		return
	}
	ch.say(w)
}
