package amqp

import (
	"fmt"
	"maps"
	"slices"
)

// method does what a method of a channel asks for.
func (ch *channel) method(r *reader) error {
	class, id := r.short(), r.short()
	b := ch.s.b
	b.mu.Lock()
	defer b.mu.Unlock()
	var err error
	switch class {
	case 20:
		err = ch.channelMethod(id, r)
	case 40:
		err = ch.exchangeMethod(id, r)
	case 50:
		err = ch.queueMethod(id, r)
	case 60:
		err = ch.basicMethod(id, r)
	case 85: // confirm.select
		nowait := r.bit()
		ch.confirms = true
		if !nowait {
			ch.say(method(85, 11))
		}
	default:
		err = refusal(commandInvalid, fmt.Sprintf("there is no method %d.%d here", class, id))
	}
	if !r.done() {
		return refusal(syntaxError, fmt.Sprintf("the method %d.%d cannot be read", class, id))
	}
	return err
}

func (ch *channel) channelMethod(id uint16, r *reader) error {
	switch id {
	case 20: // flow
		w := method(20, 21)
		w.octet(map[bool]byte{true: 1}[r.bit()])
		ch.say(w)
	case 40: // close
		ch.end()
		delete(ch.s.channels, ch.id)
		ch.say(method(20, 41))
	default:
		return refusal(commandInvalid, fmt.Sprintf("there is no method 20.%d here", id))
	}
	return nil
}

func (ch *channel) exchangeMethod(id uint16, r *reader) error {
	r.short()
	name := r.shortstr()
	switch id {
	case 10: // declare
		kind, passive := r.shortstr(), r.bit()
		r.bit() // durable
		r.bit() // auto-delete
		r.bit() // internal
		nowait := r.bit()
		r.table(0)
		if passive {
			if ch.s.b.exchanges[name] == nil {
				return refusal(notFound, "there is no exchange "+name)
			}
		} else if err := ch.s.b.declareExchange(name, kind); err != nil {
			return err
		}
		ch.unless(nowait, method(40, 11))
	case 20: // delete
		r.bit()
		nowait := r.bit()
		delete(ch.s.b.exchanges, name)
		ch.unless(nowait, method(40, 21))
	default:
		return refusal(commandInvalid, fmt.Sprintf("there is no method 40.%d here", id))
	}
	return nil
}

// unless answers where the client wants an answer.
func (ch *channel) unless(nowait bool, w *writer) {
	if !nowait {
		ch.say(w)
	}
}

func (ch *channel) queueMethod(id uint16, r *reader) error {
	b := ch.s.b
	r.short()
	name := r.shortstr()
	if id == 10 {
		return ch.declare(name, r)
	}
	if id == 20 || id == 50 { // bind, unbind
		x, key, nowait := r.shortstr(), r.shortstr(), false
		if id == 20 {
			nowait = r.bit()
		}
		to := binding{name, key, r.table(0)}
		if id == 50 {
			b.unbind(x, to)
			ch.say(method(50, 51))
			return nil
		}
		if err := b.bind(x, to); err != nil {
			return err
		}
		ch.unless(nowait, method(50, 21))
		return nil
	}
	q := b.queues[name]
	if q == nil {
		return refusal(notFound, "there is no queue "+name)
	}
	switch id {
	case 30: // purge
		w := method(50, 31)
		w.long(uint32(len(q.ready)))
		q.ready = nil
		ch.unless(r.bit(), w)
	case 40: // delete
		r.bit()
		r.bit()
		nowait := r.bit()
		w := method(50, 41)
		w.long(uint32(b.dropQueue(q)))
		ch.unless(nowait, w)
	default:
		return refusal(commandInvalid, fmt.Sprintf("there is no method 50.%d here", id))
	}
	return nil
}

func (ch *channel) declare(name string, r *reader) error {
	b := ch.s.b
	passive, _, exclusive, autoDelete, nowait := r.bit(), r.bit(), r.bit(), r.bit(), r.bit()
	r.table(0)
	q := b.queues[name]
	switch {
	case passive && q == nil:
		return refusal(notFound, "there is no queue "+name)
	case !passive:
		var owner *session
		if exclusive {
			owner = ch.s
		}
		var err error
		if q, err = b.declareQueue(name, owner, autoDelete); err != nil {
			return err
		}
	}
	w := method(50, 11)
	w.shortstr(q.name)
	w.long(uint32(len(q.ready)))
	w.long(uint32(len(q.consumers)))
	ch.unless(nowait, w)
	return nil
}

func (ch *channel) basicMethod(id uint16, r *reader) error {
	switch id {
	case 10: // qos
		r.long()
		ch.prefetch = int(r.short())
		r.bit()
		ch.say(method(60, 11))
	case 20:
		return ch.consume(r)
	case 30: // cancel
		tag, nowait := r.shortstr(), r.bit()
		if c := ch.consumers[tag]; c != nil {
			ch.cancel(c)
		}
		w := method(60, 31)
		w.shortstr(tag)
		ch.unless(nowait, w)
	case 40: // publish
		r.short()
		p := &Publish{Exchange: r.shortstr(), Key: r.shortstr(), Mandatory: r.bit()}
		ch.coming = p
	case 70:
		return ch.get(r)
	case 80: // ack
		tag, several := r.longlong(), r.bit()
		return ch.settle(tag, several, false)
	case 90: // reject
		tag, again := r.longlong(), r.bit()
		return ch.settle(tag, false, again)
	case 120: // nack
		tag, several, again := r.longlong(), r.bit(), r.bit()
		return ch.settle(tag, several, again)
	default:
		return refusal(commandInvalid, fmt.Sprintf("there is no method 60.%d here", id))
	}
	return nil
}

func (ch *channel) consume(r *reader) error {
	r.short()
	name, tag := r.shortstr(), r.shortstr()
	r.bit() // no-local
	noAck, _, nowait := r.bit(), r.bit(), r.bit()
	q := ch.s.b.queues[name]
	if tag == "" {
		tag = fmt.Sprintf("consumer-%d", len(ch.consumers)+1)
	}
	switch {
	case q == nil:
		return refusal(notFound, "there is no queue "+name)
	case q.owner != nil && q.owner != ch.s:
		return refusal(resourceLocked, "queue "+name+" belongs to another connection")
	case ch.consumers[tag] != nil:
		return refusal(commandInvalid, "there is a consumer "+tag)
	}
	c := &consumer{ch, tag, noAck}
	ch.consumers[tag] = c
	q.consumers = append(q.consumers, c)
	w := method(60, 21)
	w.shortstr(tag)
	ch.unless(nowait, w)
	q.dispatch()
	return nil
}

func (ch *channel) get(r *reader) error {
	r.short()
	name, noAck := r.shortstr(), r.bit()
	q := ch.s.b.queues[name]
	switch {
	case q == nil:
		return refusal(notFound, "there is no queue "+name)
	case len(q.ready) == 0:
		w := method(60, 72)
		w.shortstr("")
		ch.say(w)
		return nil
	}
	m := q.ready[0]
	q.ready = q.ready[1:]
	ch.tag++
	if !noAck {
		ch.unacked[ch.tag] = &delivery{q, m}
	}
	w := method(60, 71)
	w.longlong(ch.tag)
	w.octet(map[bool]byte{true: 1}[m.redelivered])
	w.shortstr(m.exchange)
	w.shortstr(m.key)
	w.long(uint32(len(q.ready)))
	ch.content(w, m)
	return nil
}

// settle ends deliveries; again puts them back into their queue.
func (ch *channel) settle(tag uint64, several, again bool) error {
	tags := []uint64{tag}
	if several {
		tags = slices.DeleteFunc(slices.Sorted(maps.Keys(ch.unacked)), func(t uint64) bool { return tag != 0 && t > tag })
	}
	touched := map[*queue]bool{}
	for _, t := range slices.Backward(tags) {
		d := ch.unacked[t]
		if d == nil {
			return refusal(preconditionFailed, fmt.Sprintf("there is no delivery %d", t))
		}
		delete(ch.unacked, t)
		if again {
			d.q.back(d.m)
		}
		touched[d.q] = true
	}
	for _, c := range ch.consumers { // there is room again
		for _, q := range ch.s.b.queues {
			if slices.Contains(q.consumers, c) {
				touched[q] = true
			}
		}
	}
	for q := range touched {
		q.dispatch()
	}
	return nil
}
