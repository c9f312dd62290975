// Package amqp is a small broker that speaks AMQP 0-9-1, as a stand-in: it routes, keeps
// queues in memory, confirms, returns what is bound to nothing, and misbehaves as it is
// told to. It lets everybody in and keeps nothing on disk.
//
// It reads whatever comes to its door within bounds: frames of 128 KiB, bodies of 16 MiB,
// tables of 1,024 values and 16 levels.
package amqp

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"
)

// Bounds of what a broker keeps.
const (
	mostQueued = 10_000 // messages of a queue; more are not taken
	mostThings = 1_000  // queues, exchanges, bindings of an exchange, channels of a client
)

// The kinds of exchange (3.1.3).
const (
	Direct, Fanout, Topic, Headers = "direct", "fanout", "topic", "headers"
)

// Publish is a message that a client publishes.
type Publish struct {
	Exchange, Key string
	Properties    Properties
	Body          []byte
	Mandatory     bool
}

// Verdict says what the broker does with a message.
type Verdict struct {
	Refuse bool          // it is not taken: nack
	Code   uint16        // the channel is closed with this reply code and text, where it is not 0
	Text   string        // of the code
	Cut    bool          // the connection is broken off
	Silent bool          // it is not taken, and nothing said
	Delay  time.Duration // before it says anything
}

// Broker is one broker. It is safe for concurrent use.
type Broker struct {
	// OnPublish looks at every message that a client publishes; nil: all are taken.
	OnPublish func(p Publish) Verdict

	mu        sync.Mutex
	exchanges map[string]*exchange
	queues    map[string]*queue
	sessions  map[*session]bool
	made      int // queues that were named by the broker
	closed    bool
}

type exchange struct {
	kind     string
	bindings []binding
}

type binding struct {
	queue, key string
	args       map[string]any
}

type queue struct {
	name       string
	ready      []*stored
	consumers  []*consumer // in turn
	owner      *session    // of an exclusive one
	autoDelete bool
}

// stored is a message in a queue.
type stored struct {
	exchange, key string
	properties    []byte // as they came
	body          []byte
	redelivered   bool
}

// New makes a broker with the exchanges that each has (3.1.3): those named amq.direct,
// amq.fanout, amq.topic and amq.match, and the one without a name.
func New() *Broker {
	b := &Broker{exchanges: map[string]*exchange{}, queues: map[string]*queue{}, sessions: map[*session]bool{}}
	for name, kind := range map[string]string{
		"": Direct, "amq.direct": Direct, "amq.fanout": Fanout, "amq.topic": Topic, "amq.match": Headers, "amq.headers": Headers,
	} {
		b.exchanges[name] = &exchange{kind: kind}
	}
	return b
}

// Bind makes an exchange of a kind, a queue and a binding between them, where they are
// not there. Without an exchange it makes the queue alone.
func (b *Broker) Bind(exchangeName, kind, queueName, key string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if queueName != "" {
		if _, err := b.declareQueue(queueName, nil, false); err != nil {
			return err
		}
	}
	if exchangeName == "" {
		return nil
	}
	if err := b.declareExchange(exchangeName, kind); err != nil || queueName == "" {
		return err
	}
	return b.bind(exchangeName, binding{queueName, key, nil})
}

func (b *Broker) declareExchange(name, kind string) error {
	if !slices.Contains([]string{Direct, Fanout, Topic, Headers}, kind) {
		return refusal(commandInvalid, "there is no exchange of type "+kind)
	}
	switch x := b.exchanges[name]; {
	case x != nil && x.kind != kind:
		return refusal(preconditionFailed, fmt.Sprintf("exchange %s is of type %s", name, x.kind))
	case x != nil:
		return nil
	case len(b.exchanges) >= mostThings:
		return refusal(resourceError, "there are too many exchanges")
	}
	b.exchanges[name] = &exchange{kind: kind}
	return nil
}

func (b *Broker) declareQueue(name string, owner *session, autoDelete bool) (*queue, error) {
	if name == "" {
		b.made++
		name = fmt.Sprintf("amq.gen-%d", b.made)
	}
	q := b.queues[name]
	switch {
	case q != nil && q.owner != nil && q.owner != owner:
		return nil, refusal(resourceLocked, "queue "+name+" belongs to another connection")
	case q != nil:
		return q, nil
	case len(b.queues) >= mostThings:
		return nil, refusal(resourceError, "there are too many queues")
	}
	q = &queue{name: name, owner: owner, autoDelete: autoDelete}
	b.queues[name] = q
	return q, nil
}

func (b *Broker) bind(exchangeName string, to binding) error {
	x := b.exchanges[exchangeName]
	switch {
	case x == nil:
		return refusal(notFound, "there is no exchange "+exchangeName)
	case exchangeName == "":
		return refusal(accessRefused, "every queue is bound to the exchange without a name")
	case b.queues[to.queue] == nil:
		return refusal(notFound, "there is no queue "+to.queue)
	case len(x.bindings) >= mostThings:
		return refusal(resourceError, "there are too many bindings")
	}
	for _, have := range x.bindings {
		if have.queue == to.queue && have.key == to.key && fmt.Sprint(have.args) == fmt.Sprint(to.args) {
			return nil
		}
	}
	x.bindings = append(x.bindings, to)
	return nil
}

func (b *Broker) unbind(exchangeName string, to binding) {
	if x := b.exchanges[exchangeName]; x != nil {
		x.bindings = slices.DeleteFunc(x.bindings, func(have binding) bool { return have.queue == to.queue && have.key == to.key })
	}
}

func (b *Broker) dropQueue(q *queue) int {
	for _, x := range b.exchanges {
		x.bindings = slices.DeleteFunc(x.bindings, func(have binding) bool { return have.queue == q.name })
	}
	for _, c := range q.consumers {
		delete(c.ch.consumers, c.tag)
	}
	delete(b.queues, q.name)
	return len(q.ready)
}

// route gives the queues that a message goes to.
func (b *Broker) route(p *Publish) (to []*queue, known bool) {
	x := b.exchanges[p.Exchange]
	if x == nil {
		return nil, false
	}
	if p.Exchange == "" {
		if q := b.queues[p.Key]; q != nil {
			to = append(to, q)
		}
		return to, true
	}
	for _, have := range x.bindings {
		q := b.queues[have.queue]
		if q != nil && !slices.Contains(to, q) && have.takes(x.kind, p) {
			to = append(to, q)
		}
	}
	return to, true
}

func (b *binding) takes(kind string, p *Publish) bool {
	switch kind {
	case Fanout:
		return true
	case Topic:
		return Matches(b.key, p.Key)
	case Headers:
		return b.headersMatch(p.Properties.Headers)
	}
	return b.key == p.Key
}

// headersMatch compares headers with the arguments of a binding (3.1.3.4).
func (b *binding) headersMatch(headers map[string]any) bool {
	any, asked := b.args["x-match"] == "any", 0
	for name, want := range b.args {
		if len(name) > 1 && name[:2] == "x-" {
			continue
		}
		asked++
		got, is := headers[name]
		if fits := is && (want == nil || fmt.Sprint(got) == fmt.Sprint(want)); fits == any {
			return any
		}
	}
	return !any || asked == 0
}

// Put puts a message into the broker, as a client would. It gives the number of queues
// that have it; ErrFull tells that one of them takes no more.
func (b *Broker) Put(p Publish) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.put(&p, p.Properties.raw())
}

// ErrFull tells that a queue takes no more.
var ErrFull = errors.New("the queue is full")

func (b *Broker) put(p *Publish, properties []byte) (int, error) {
	to, known := b.route(p)
	if !known {
		return 0, refusal(notFound, "there is no exchange "+p.Exchange)
	}
	for _, q := range to {
		if len(q.ready) >= mostQueued {
			return 0, ErrFull
		}
	}
	for _, q := range to {
		q.ready = append(q.ready, &stored{exchange: p.Exchange, key: p.Key, properties: properties, body: p.Body})
		q.dispatch()
	}
	return len(to), nil
}

// dispatch hands over what is ready to whoever has room.
func (q *queue) dispatch() {
	for tries := len(q.consumers); len(q.ready) > 0 && tries > 0; {
		c := q.consumers[0]
		q.consumers = append(q.consumers[1:], c) // the next in turn
		if !c.hasRoom() {
			tries--
			continue
		}
		m := q.ready[0]
		q.ready = q.ready[1:]
		c.deliver(q, m)
		tries = len(q.consumers)
	}
}

// back puts a message where it was taken from.
func (q *queue) back(m *stored) {
	m.redelivered = true
	q.ready = slices.Insert(q.ready, 0, m)
}

// Queue is a queue as people see it.
type Queue struct {
	Name      string `json:"name"`
	Messages  int    `json:"messages"`
	Consumers int    `json:"consumers"`
}

// Queues lists the queues that have a name of their own.
func (b *Broker) Queues() []Queue {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := []Queue{}
	for _, q := range b.queues {
		if q.owner == nil {
			out = append(out, Queue{q.name, len(q.ready), len(q.consumers)})
		}
	}
	slices.SortFunc(out, func(a, b Queue) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Serve speaks with one client until it ends.
func (b *Broker) Serve(conn net.Conn) {
	s := newSession(b, conn)
	b.mu.Lock()
	if b.closed {
		b.mu.Unlock()
		_ = conn.Close()
		return
	}
	b.sessions[s] = true
	b.mu.Unlock()
	s.run()
}

// Close ends all connections.
func (b *Broker) Close() error {
	b.mu.Lock()
	b.closed = true
	all := make([]*session, 0, len(b.sessions))
	for s := range b.sessions {
		all = append(all, s)
	}
	b.mu.Unlock()
	for _, s := range all {
		s.cut()
	}
	return nil
}

// Cut breaks all connections off, as a broker does that dies.
func (b *Broker) Cut() {
	b.mu.Lock()
	all := make([]*session, 0, len(b.sessions))
	for s := range b.sessions {
		all = append(all, s)
	}
	b.mu.Unlock()
	for _, s := range all {
		s.cut()
	}
}
