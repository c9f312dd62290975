package engine

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"readyferry/core/format"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// tellDeath begins the steps that a flow runs once for each of its dead
// letters, as a transaction of their own. When that one becomes a dead letter
// itself, nothing more is begun: it cannot loop.
func (w *walking) tellDeath(l *store.Letter) error {
	p := w.p
	if p == nil && w.t.Version > 0 {
		var err error
		if p, err = w.e.plan(w.t.Flow, w.t.Version); err != nil {
			return nil // the letter stands all the same; a flow that cannot be read cannot tell of it
		}
	}
	if p == nil || p.OnDead == nil || w.t.OfLetter != nil {
		return nil
	}
	m, err := w.tx.Message(w.t.ID)
	if err != nil {
		return err
	}
	id, now := store.NewID(), w.e.clock()
	about := []message.Header{
		{Name: "id", Value: l.ID.String()}, {Name: "flow", Value: l.Flow}, {Name: "version", Value: fmt.Sprint(l.Version)},
		{Name: "transaction", Value: l.Tx.String()}, {Name: "reference", Value: l.Reference}, {Name: "step", Value: l.Step},
		{Name: "path", Value: l.Path}, {Name: "kind", Value: l.Kind}, {Name: "setting", Value: l.Phase}, {Name: "class", Value: l.Class},
		{Name: "reason", Value: l.Reason}, {Name: "at", Value: l.At.UTC().Format(time.RFC3339Nano)},
	}
	params, err := json.Marshal(about)
	if err != nil {
		return err
	}
	t := &store.Transaction{ID: id, Flow: w.t.Flow, Version: w.t.Version, Reference: w.t.Reference, ReceivedAt: now, OfLetter: &l.ID}
	own := &store.Message{Tx: id, Headers: m.Headers, Params: params, Query: m.Query, Body: m.Body, Source: "dead letter of " + l.Tx.String(), Warnings: []byte("null")}
	if err := w.tx.AddTransaction(t, own); err != nil {
		return err
	}
	next := &walking{e: w.e, tx: w.tx, t: t, p: p, after: w.after, fresh: true}
	if next.begun, err = w.e.walkOf(w.tx, t, own, p); err != nil {
		return err
	}
	_, err = next.advance(nil)
	return err
}

// ofLetter reads what the steps for a dead letter work on. A message that cannot
// be read is there as its bytes.
func ofLetter(p *plan.Plan, b *begun) error {
	about := b.envelope.Params
	b.envelope.Params = []message.Header{}
	b.input.Letter = message.NewMap()
	for _, h := range about {
		b.input.Letter = b.input.Letter.With(h.Name, message.NewString(h.Value))
	}
	r, err := run.Receive(p, b.envelope)
	var refused *run.RefusedError
	if errors.As(err, &refused) {
		d, _ := format.Decode(step.FormatOf("auto", message.NewString("application/octet-stream"), b.envelope.Body), b.envelope.Body, message.Layout{}, format.Limits{})
		r.Message = message.Message{
			ID: b.envelope.ID, ReceivedAt: b.envelope.ReceivedAt, Format: format.Binary, Raw: b.envelope.Body, Body: d.Root, Size: len(b.envelope.Body),
			Headers: message.HeaderMap(b.envelope.Headers), Params: message.NewMap(), Query: message.ListMap(b.envelope.Query),
		}
		err = nil
	}
	b.input.Message = r.Message
	return err
}
