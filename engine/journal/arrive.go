package journal

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/trace"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/store"
	"readyferry/store/body"
)

// Arrival is a message that comes to a flow from inside the application, or by
// a clock.
type Arrival struct {
	Headers   []byte // JSON
	Body      []byte
	Reference string    // the one it had before
	Source    string    // in words
	ID        string    // of its system: a repeat is told by it, where the intake has no once; "" for none
	From      store.ID  // the transaction that handed it on; zero for none
	Journey   *store.ID // that it belongs to, where that is not From's own
	Refused   string    // why its system could not make a message of it; "" where it could
}

// Arrived is a message that an intake has taken in, or refused.
type Arrived struct {
	Tx       store.Transaction
	Message  *store.Message
	Received run.Received
	Envelope run.Envelope
	Refused  error // why the intake cannot read it, or nil

	id string // by which its system tells it from others
}

// Called says by which id its system tells an arrival from others; "" for none.
func (a *Arrived) Called(id string) { a.id = id }

// Receive makes the transaction of an arrival.
func (j *Journal) Receive(flow string, version int, p *plan.Plan, a Arrival) (*Arrived, error) {
	id := store.NewID()
	envelope := run.Envelope{
		ID:         id.String(),
		ReceivedAt: j.Now(),
		Params:     []message.Header{},
		Query:      []message.Header{},
		Body:       a.Body,
		Reference:  a.Reference,
	}
	var err error
	if envelope.Headers, err = want.DecodeHeaders(a.Headers); err != nil {
		return nil, err
	}
	received, refused := run.Receive(p, envelope)
	out, err := NewTransaction(flow, version, id, envelope, received, a.Source)
	if err == nil && refused != nil {
		out.Tx.Reference, out.Refused = a.Reference, refused
	}
	if err == nil {
		out.id = a.ID
		out.follows(&a)
	}
	return out, err
}

// follows notes whom a message comes from, and which journey it goes on with: that of the
// transaction that handed it on, or the trace that it came with from outside.
func (a *Arrived) follows(of *Arrival) {
	t := &a.Tx
	if of.From == (store.ID{}) {
		return // NewTransaction has looked for one
	}
	from := of.From
	t.Origin, t.Journey = &from, &from
	if of.Journey != nil {
		t.Journey = of.Journey
	}
}

// traceOf gives the trace that headers name, or nil.
func traceOf(headers []message.Header) *store.ID {
	for _, h := range headers {
		if len(h.Name) == len(trace.Header) && strings.EqualFold(h.Name, trace.Header) {
			if id, _, ok := trace.Read(h.Value); ok {
				journey := store.ID(id)
				return &journey
			}
		}
	}
	return nil
}

// ReceiveShared makes the transaction of an arrival under the version of a flow that is to
// take it: the live one, or that which takes a share.
func (j *Journal) ReceiveShared(f *catalog.Flow, a Arrival) (*Arrived, *plan.Plan, error) {
	in, err := j.Receive(f.Name, f.Version, f.Live, a)
	if err != nil || in.Refused != nil || !f.Trial.Takes(in.Received.Order, in.Envelope.ID) {
		return in, f.Live, err
	}
	in, err = j.Receive(f.Name, f.Trial.Version, f.Trial.Plan, a)
	return in, f.Trial.Plan, err
}

// unread makes the transaction of an arrival that is not read.
func (j *Journal) unread(flow string, version int, a Arrival) (*Arrived, error) {
	id := store.NewID()
	envelope := run.Envelope{ID: id.String(), ReceivedAt: j.Now(), Params: []message.Header{}, Query: []message.Header{},
		Body: a.Body}
	var err error
	if envelope.Headers, err = want.DecodeHeaders(a.Headers); err != nil {
		return nil, err
	}
	out, err := NewTransaction(flow, version, id, envelope, run.Received{Reference: a.Reference}, a.Source)
	if err == nil {
		out.follows(&a)
	}
	return out, err
}

// NewTransaction makes the rows of a message that an intake has taken in.
func NewTransaction(
	flow string,
	version int,
	id store.ID,
	in run.Envelope,
	r run.Received,
	source string,
) (*Arrived, error) {
	t := store.Transaction{
		ID:         id,
		Flow:       flow,
		Version:    version,
		Reference:  r.Reference,
		OrderValue: r.Order,
		ReceivedAt: in.ReceivedAt,
	}
	m := &store.Message{Tx: id, Source: source}
	if !in.Apart {
		m.Body = body.OfMessage(in.Body)
	} else if err := m.Body.Scan(in.Body); err != nil {
		return nil, err
	}
	m.Headers, m.Params = want.EncodeHeaders(in.Headers), want.EncodeHeaders(in.Params)
	m.Query = want.EncodeHeaders(in.Query)
	m.Warnings = []byte("null")
	if r.Warnings != nil {
		var err error
		if m.Warnings, err = json.Marshal(r.Warnings); err != nil {
			return nil, err
		}
	}
	t.Journey = traceOf(in.Headers)
	return &Arrived{Tx: t, Message: m, Received: r, Envelope: in}, nil
}

// Take begins the transaction of an arrival in this session. hold marks inside
// of the writer what it works on, until it ends; release gives back what is not
// begun. Either may be nil.
func (s *Session) Take(
	f *catalog.Flow,
	a Arrival,
	hold func(tx *store.Tx, t *store.Transaction) error,
	release func(tx *store.Tx) error,
) error {
	aside := s.Computes(f.Name, a.Body)
	if aside != nil && !errors.Is(aside, ErrSetAside) {
		return aside
	}
	var in *Arrived
	var err error
	p := f.Live
	if aside != nil || a.Refused != "" { // it is not even read
		in, err = s.unread(f.Name, f.Version, a)
	} else {
		in, p, err = s.ReceiveShared(f, a)
	}
	if err == nil && a.Refused != "" {
		in.Refused = errors.New(a.Refused)
	}
	if err != nil {
		return err
	}
	s.Then(func(_ *store.Tx, n *Notice) error {
		n.Events[EventTransactions], n.Events[EventQueues] = true, true
		return nil
	})
	if aside != nil {
		s.Then(func(tx *store.Tx, n *Notice) error {
			return s.DeadOnArrival(tx, n, &in.Tx, in.Message, SetAside(aside))
		})
		s.and(release)
		return nil
	}
	if in.Refused != nil {
		s.Then(func(tx *store.Tx, n *Notice) error {
			return s.DeadOnArrival(
				tx,
				n,
				&in.Tx,
				in.Message,
				step.Failure{Kind: "intake", Phase: "intake", Class: step.Data, Reason: in.Refused.Error()},
			)
		})
		s.and(release)
		return nil
	}
	first, err := s.Once(p, in)
	if err != nil {
		return err
	}
	if first != nil {
		s.and(release)
		return nil
	}
	if hold != nil {
		s.Then(func(tx *store.Tx, _ *Notice) error { return hold(tx, &in.Tx) })
	}
	_, err = s.Begin(in, p)
	return err
}

func (s *Session) and(do func(tx *store.Tx) error) {
	if do != nil {
		s.Then(func(tx *store.Tx, _ *Notice) error { return do(tx) })
	}
}

// Begin begins the transaction of a message that was taken in, and takes it as
// far as it goes.
func (s *Session) Begin(in *Arrived, p *plan.Plan) (last *run.Result, err error) {
	v := s.New(in.Tx, in.Message, p, run.Input{Message: in.Received.Message})
	v.row = &in.Tx
	began := time.Now()
	if last, err = v.Go(); err == nil {
		v.remember(in, time.Since(began))
	}
	return last, err
}

// Once tells whether a message came before, by its intake's once value: then
// first is the transaction that had it, and the repeat is stored as turned away.
func (s *Session) Once(p *plan.Plan, in *Arrived) (first *store.ID, err error) {
	key := in.OnceKey(p, s.At)
	if key == nil {
		return nil, nil
	}
	old, err := s.FirstOf(key)
	if err != nil {
		return nil, err
	}
	s.Then(func(tx *store.Tx, n *Notice) error {
		had, fresh, err := tx.Once(key, s.At)
		switch {
		case err != nil:
			return err
		case fresh != (old == nil) || old != nil && had != *old:
			return ErrStale
		case fresh:
			return nil
		}
		n.Events[EventTransactions] = true
		now := s.Now()
		in.Tx.State, in.Tx.FinishedAt = store.TurnedAway, &now
		in.Tx.DuplicateOf, in.Tx.Reason = &had, "duplicate of "+had.String()
		return tx.AddTransaction(&in.Tx, in.Message)
	})
	return old, nil
}

// OnceKey is how the message is remembered; nil for an intake without once.
func (in *Arrived) OnceKey(p *plan.Plan, now time.Time) *store.OnceKey {
	value := in.Received.Once
	if p.Once == nil {
		if value = in.id; value != "" {
			value = "id\x00" + value
		}
	}
	if value == "" {
		return nil
	}
	sum := sha256.Sum256([]byte(value))
	return &store.OnceKey{Flow: in.Tx.Flow, Key: sum[:], Tx: in.Tx.ID, Until: now.Add(p.Document.Intake.OnceFor)}
}

// FirstOf gives the transaction that had a key before, in the file or earlier in
// this session; nil for none.
func (s *Session) FirstOf(key *store.OnceKey) (first *store.ID, err error) {
	at := onceKey{key.Flow, string(key.Key)}
	first, err = Keep(s, at, func() (*store.ID, error) { return s.Store.KnownOnce(key.Flow, key.Key, s.At) })
	if err == nil && first == nil {
		s.kept[at] = &key.Tx // for the next one of this session
	}
	return first, err
}

type onceKey struct{ flow, key string }
