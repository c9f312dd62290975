package engine

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// journal is what reading needs of a store, inside a write or outside.
type journal interface {
	Transaction(id store.ID) (store.Transaction, error)
	Message(id store.ID) (store.Message, error)
	MessageN(id store.ID, n int) (store.Message, error)
	Effects(id store.ID) ([]store.Effect, error)
	Split(id store.ID, path string) (store.Split, error)
	Group(id store.ID) (store.Group, error)
}

// begun is what a walk over a transaction begins with: a message, or the place
// of a part in its whole.
type begun struct {
	input    run.Input
	envelope run.Envelope
}

// walkOf reads what a walk over a transaction needs. m is the message that
// counts; the error may be a *run.RefusedError.
func (e *Engine) walkOf(j journal, t *store.Transaction, m *store.Message, p *plan.Plan) (begun, error) {
	var b begun
	rows, err := j.Effects(t.ID)
	if err != nil {
		return b, err
	}
	if b.input.Effects, err = decodeEffects(rows); err != nil {
		return b, err
	}
	if b.envelope, err = decodeEnvelope(t, m); err != nil {
		return b, err
	}
	switch {
	case t.Parent != nil:
		b.input.Origin, err = e.originOf(j, t, m, p)
		return b, err
	case t.Caller != nil:
		b.input.Called = t.CallerWaits
	}
	switch {
	case t.OfLetter != nil:
		return b, ofLetter(p, &b)
	case t.FromGroup:
		b.input.Resume, err = e.groupOf(j, t, m)
		return b, err
	}
	r, err := run.Receive(p, b.envelope)
	b.input.Message = r.Message
	return b, err
}

// originOf gives the place at which a part begins.
func (e *Engine) originOf(j journal, t *store.Transaction, m *store.Message, p *plan.Plan) (*run.Origin, error) {
	s, err := j.Split(*t.Parent, t.SplitPath)
	if err != nil {
		return nil, fmt.Errorf("the split of part %s: %w", t.ID, err)
	}
	reached, err := e.reach(j, &s, t.Version, p)
	if err != nil {
		return nil, &run.RefusedError{Status: 422, Title: "The part has lost its place", Detail: err.Error()}
	}
	if t.PartIndex >= len(reached.Parts.Items) {
		return nil, &run.RefusedError{Status: 422, Title: "The part has lost its place", Detail: fmt.Sprintf("%s makes %d parts under version %d, and this is part %d", t.SplitPath, len(reached.Parts.Items), t.Version, t.PartIndex+1)}
	}
	var value *step.Part
	if m.N > 0 { // a person has repaired it
		r, err := jsonfmt.Decode(m.Body)
		if err != nil {
			return nil, &run.RefusedError{Status: 400, Title: "The part cannot be read", Detail: err.Error()}
		}
		value = &step.Part{Value: r.Root}
	}
	return reached.Origin(t.PartIndex, value), nil
}

// reach walks the whole to one of its splits, or remembers having done so: the
// parts of one message begin one after the other, and each begins there.
func (e *Engine) reach(j journal, s *store.Split, version int, p *plan.Plan) (*run.Reached, error) {
	key := reachKey{s.Tx, s.Path, version}
	if r := e.reached.get(key); r != nil && version > 0 { // a draft changes
		return r, nil
	}
	parent, err := j.Transaction(s.Tx)
	if err != nil {
		return nil, err
	}
	m, err := j.MessageN(s.Tx, s.MessageN)
	if err != nil {
		return nil, err
	}
	parent.Version = version
	b, err := e.walkOf(j, &parent, &m, p)
	if err != nil {
		return nil, err
	}
	r, err := run.Reach(p, b.input, s.Path)
	if err == nil {
		e.reached.put(key, r)
	}
	return r, err
}

type reachKey struct {
	tx      store.ID
	path    string
	version int
}

// reachCache keeps the splits that were reached last.
type reachCache struct {
	mu   sync.Mutex
	keys []reachKey
	all  map[reachKey]*run.Reached
}

// What is held in memory of messages with parts: so many at most, and several
// only while they are small together.
const (
	keptReached      = 4
	keptReachedBytes = 16 << 20
)

func newReachCache() *reachCache { return &reachCache{all: map[reachKey]*run.Reached{}} }

func (c *reachCache) get(k reachKey) *run.Reached {
	c.mu.Lock()
	defer c.mu.Unlock()
	r := c.all[k]
	if r != nil {
		c.keys = append(slices.DeleteFunc(c.keys, func(o reachKey) bool { return o == k }), k)
	}
	return r
}

func (c *reachCache) put(k reachKey, r *run.Reached) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all[k] == nil {
		c.keys = append(c.keys, k)
	}
	c.all[k] = r
	for len(c.keys) > keptReached || len(c.keys) > 1 && c.bytes() > keptReachedBytes {
		delete(c.all, c.keys[0])
		c.keys = c.keys[1:]
	}
}

func (c *reachCache) bytes() (n int) {
	for _, r := range c.all {
		n += r.Size()
	}
	return n
}

// splitUp stores what a split wants: from then on its parts may begin.
func (w *walking) splitUp(want *step.Want) (step.Effect, error) {
	s := &store.Split{
		Tx: w.t.ID, Path: want.Path, Version: w.t.Version, MessageN: w.messageN,
		Total: len(want.Parts.Items), InOrder: want.Parts.InOrder, Stop: want.Parts.Stop,
	}
	w.t.Parts += s.Total
	w.after.split = true
	return step.Effect{Item: fmt.Sprint(s.Total)}, w.tx.AddSplit(s)
}

// spawner begins parts, until the engine stops.
func (e *Engine) spawner() {
	for {
		more, err := e.spawnSome()
		if err != nil && e.ctx.Err() == nil {
			e.log.Error("beginning parts", "error", err)
		}
		if more && e.ctx.Err() == nil {
			continue
		}
		select {
		case <-e.ctx.Done():
			return
		case <-e.split:
		case <-time.After(idle):
		}
	}
}

func (e *Engine) wakeSpawner() {
	select {
	case e.split <- struct{}{}:
	default:
	}
}

// spawnSome begins some parts of every message that has parts to begin, so that
// a small one does not wait for a large one.
func (e *Engine) spawnSome() (more bool, err error) {
	open, err := e.store.OpenSplits(32)
	if err != nil {
		return false, err
	}
	for i := range open {
		if e.ctx.Err() != nil {
			return false, nil
		}
		if one := e.spawn(&open[i]); one != nil {
			err = errors.Join(err, fmt.Errorf("parts of %s: %w", open[i].Tx, one)) // the others go on
		} else {
			more = true
		}
	}
	return more, err
}

// partBatch is how many parts one database transaction begins.
const partBatch = 50

func (e *Engine) spawn(open *store.Split) error {
	parent, err := e.store.Transaction(open.Tx)
	if err != nil {
		return err
	}
	p, err := e.plan(parent.Flow, open.Version)
	if err != nil {
		return err
	}
	reached, err := e.reach(e.store, open, open.Version, p) // outside of the write: it may take its time
	if err != nil {
		return err
	}
	after := newAftermath()
	err = e.store.Write(e.ctx, func(tx *store.Tx) error {
		*after = *newAftermath()
		for range partBatch {
			s, err := tx.Split(open.Tx, open.Path)
			if err != nil {
				return err
			}
			if !s.MayBegin() || s.Next >= len(reached.Parts.Items) {
				break
			}
			if err := e.beginPart(tx, &parent, &s, reached, p, after); err != nil {
				return fmt.Errorf("part %d: %w", s.Next, err)
			}
		}
		return nil
	})
	if err == nil {
		e.after(after)
	}
	return err
}

// beginPart makes the next part of a split and takes it as far as it goes.
func (e *Engine) beginPart(tx *store.Tx, parent *store.Transaction, s *store.Split, reached *run.Reached, p *plan.Plan, after *aftermath) error {
	i := s.Next
	s.Next++
	if err := tx.AdvanceSplit(s); err != nil {
		return err
	}
	t := &store.Transaction{
		ID: store.NewID(), Flow: parent.Flow, Version: s.Version, Reference: parent.Reference, OrderValue: parent.OrderValue,
		ReceivedAt: e.clock(), Parent: &s.Tx, SplitPath: s.Path, PartIndex: i,
	}
	empty := []byte("[]")
	m := &store.Message{Tx: t.ID, Body: jsonfmt.Encode(reached.Parts.Items[i]), Headers: empty, Params: empty, Query: empty, Warnings: empty, Source: fmt.Sprintf("part %d of %d", i+1, s.Total)}
	if err := tx.AddTransaction(t, m); err != nil {
		return err
	}
	w := &walking{e: e, tx: tx, t: t, p: p, begun: begun{input: run.Input{Origin: reached.Origin(i, nil), Effects: map[string]step.Effect{}}}, after: after, fresh: true}
	_, err := w.advance(nil)
	return err
}

// own is the state of a transaction with parts, without them.
type own struct {
	State      store.State `json:"state"`
	Reason     string      `json:"reason,omitempty"`
	Place      string      `json:"place,omitempty"`
	PlaceText  string      `json:"placeText,omitempty"`
	FinishedAt *time.Time  `json:"finishedAt,omitempty"`
}

// whole gives a transaction with parts the state of its most troubled one.
func (w *walking) whole() error {
	t := w.t
	var mine own
	if err := json.Unmarshal(t.Own, &mine); err != nil {
		return err
	}
	t.State, t.Reason, t.Place, t.PlaceText, t.FinishedAt = mine.State, mine.Reason, mine.Place, mine.PlaceText, mine.FinishedAt
	all, err := w.tx.Splits(t.ID)
	if err != nil {
		return err
	}
	var sum store.Split
	for _, s := range all {
		sum.Total, sum.Next = sum.Total+s.Total, sum.Next+s.Next
		sum.UnderWay, sum.Waiting, sum.Delivered = sum.UnderWay+s.UnderWay, sum.Waiting+s.Waiting, sum.Delivered+s.Delivered
		sum.TurnedAway, sum.Dead = sum.TurnedAway+s.TurnedAway, sum.Dead+s.Dead
	}
	switch {
	case mine.State == store.DeadLetter:
	case sum.Dead > 0:
		return w.troubled(store.DeadLetter)
	case mine.State == store.Waiting:
	case sum.Waiting > 0:
		return w.troubled(store.Waiting)
	case mine.State == store.UnderWay:
	case sum.UnderWay > 0 || sum.Next < sum.Total:
		t.State, t.Reason, t.FinishedAt = store.UnderWay, "", nil
		t.PlaceText = "parts of the message"
	case mine.FinishedAt != nil:
		now := w.e.clock()
		t.FinishedAt = &now // the last of all has ended now
	}
	return nil
}

// troubled shows the first part that is in a state.
func (w *walking) troubled(state store.State) error {
	p, err := w.tx.WorstPart(w.t.ID, state)
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	t := w.t
	t.State, t.FinishedAt, t.Place, t.PlaceText = state, nil, p.Place, fmt.Sprintf("part %d, %s", p.PartIndex+1, p.PlaceText)
	if t.Reason = p.Reason; p.Reason != "" {
		t.Reason = fmt.Sprintf("part %d: %s", p.PartIndex+1, p.Reason)
	}
	return nil
}

// tell lets the whole know that one of its parts has come to another state.
func (w *walking) tell() error {
	w.after.split = true // the next in order, or one that was stopped, may begin
	if w.t.State == store.Delivered || w.t.State == store.TurnedAway {
		s, err := w.tx.Split(*w.t.Parent, w.t.SplitPath)
		if err != nil {
			return err
		}
		if s.Gathers {
			if err := w.e.allParts(w.tx, &s, w.after); err != nil {
				return err
			}
		}
	}
	parent, err := w.tx.Transaction(*w.t.Parent)
	if err != nil {
		return err
	}
	p, err := w.e.plan(parent.Flow, parent.Version)
	if err != nil {
		return err
	}
	was := parent
	up := &walking{e: w.e, tx: w.tx, t: &parent, p: p, after: w.after}
	if err := up.whole(); err != nil {
		return err
	}
	if parent.State == was.State && parent.Reason == was.Reason && parent.Place == was.Place && parent.PlaceText == was.PlaceText {
		return nil
	}
	return up.save(was.State)
}
