package journal

import (
	"encoding/json"
	"errors"
	"fmt"

	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/store"
)

// Begun is what a walk over a transaction begins with: a message, the place of a
// part in its whole, or that of a group in its flow.
type Begun struct {
	input    run.Input
	Envelope run.Envelope
}

// Input gives what a walk takes.
func (b *Begun) Input() run.Input { return b.input }

// Options lets a rehearsal begin where the walk does, over the effects known here.
func (b *Begun) Options() run.Options {
	return run.Options{
		Known:         b.input.Effects,
		Origin:        b.input.Origin,
		Resume:        b.input.Resume,
		Letter:        b.input.Letter,
		LetterMessage: &b.input.Message,
	}
}

// WalkOf reads what a walk over a transaction needs. m is the message that
// counts; the error may be a *run.RefusedError.
func (j *Journal) WalkOf(t *store.Transaction, m *store.Message, p *plan.Plan) (Begun, error) {
	return j.walkOf(t, m, p)
}

func (j *Journal) walkOf(t *store.Transaction, m *store.Message, p *plan.Plan) (Begun, error) {
	var b Begun
	rows, err := j.Store.Effects(t.ID)
	if err != nil {
		return b, err
	}
	if b.input.Effects, err = decodeEffects(rows); err != nil {
		return b, err
	}
	if b.Envelope, err = decodeEnvelope(t, m); err != nil {
		return b, err
	}
	switch {
	case t.Parent != nil:
		b.input.Origin, err = j.originOf(t, m, p)
		return b, err
	case t.Caller != nil:
		b.input.Called = t.CallerWaits
	}
	switch {
	case t.OfLetter != nil:
		return b, ofLetter(p, &b)
	case t.FromGroup:
		b.input.Resume, err = j.groupOf(t, m)
		return b, err
	}
	r, err := run.Receive(p, b.Envelope)
	b.input.Message = r.Message
	return b, err
}

// Effects reads what the wants of a transaction came to, by path.
func (j *Journal) Effects(id store.ID) (map[string]want.Effect, error) {
	rows, err := j.Store.Effects(id)
	if err != nil {
		return nil, err
	}
	return decodeEffects(rows)
}

// Stored reads an effect as it is stored, without its body.
func Stored(row *store.Effect) (e want.Effect, err error) {
	err = json.Unmarshal(row.Result, &e)
	return e, err
}

func decodeEffects(rows []store.Effect) (map[string]want.Effect, error) {
	out := make(map[string]want.Effect, len(rows))
	for _, r := range rows {
		var e want.Effect
		if err := json.Unmarshal(r.Result, &e); err != nil {
			return nil, fmt.Errorf("the effect at %s: %w", r.Path, err)
		}
		if b := r.Body.Bytes(); len(b) > 0 {
			e.Body = b
		}
		out[r.Path] = e
	}
	return out, nil
}

func decodeEnvelope(t *store.Transaction, m *store.Message) (run.Envelope, error) {
	e := run.Envelope{ID: t.ID.String(), ReceivedAt: t.ReceivedAt, Reference: t.Reference}
	if e.Apart = !m.Body.Filled(); e.Apart {
		e.Body, e.Size = m.Body.Reference(), int(m.Body.Size())
	} else {
		e.Body = m.Body.Bytes()
	}
	for _, part := range []struct {
		from []byte
		into *[]message.Header
	}{{m.Headers, &e.Headers}, {m.Params, &e.Params}, {m.Query, &e.Query}} {
		var err error
		if *part.into, err = want.DecodeHeaders(part.from); err != nil {
			return e, fmt.Errorf("the message of %s: %w", t.ID, err)
		}
	}
	return e, nil
}

// ofLetter reads what the steps for a dead letter work on. A message that cannot
// be read is there as its bytes.
func ofLetter(p *plan.Plan, b *Begun) error {
	about := b.Envelope.Params
	b.Envelope.Params = []message.Header{}
	b.input.Letter = message.NewMap()
	for _, h := range about {
		b.input.Letter = b.input.Letter.With(h.Name, message.NewString(h.Value))
	}
	r, err := run.Receive(p, b.Envelope)
	var refused *run.RefusedError
	if errors.As(err, &refused) {
		d, _ := format.Decode(
			step.FormatOf("auto", message.NewString("application/octet-stream"), b.Envelope.Body),
			b.Envelope.Body,
			message.Layout{},
			format.Limits{},
		)
		r.Message = message.Message{
			ID: b.Envelope.ID, ReceivedAt: b.Envelope.ReceivedAt, Format: format.Binary, Raw: b.Envelope.Body, Body: d.Root,
			Size: len(b.Envelope.Body),
			Headers: message.HeaderMap(
				b.Envelope.Headers,
			), Params: message.NewMap(), Query: message.ListMap(b.Envelope.Query),
		}
		err = nil
	}
	b.input.Message = r.Message
	return err
}

// originOf gives the place at which a part begins.
func (j *Journal) originOf(t *store.Transaction, m *store.Message, p *plan.Plan) (*run.Origin, error) {
	s, err := j.Store.Split(*t.Parent, t.SplitPath)
	if err != nil {
		return nil, fmt.Errorf("the split of part %s: %w", t.ID, err)
	}
	reached, err := j.Reach(&s, t.Version, p)
	if err != nil {
		return nil, &run.RefusedError{Status: 422, Title: "The part has lost its place", Detail: err.Error()}
	}
	if t.PartIndex >= len(reached.Parts.Items) {
		return nil, &run.RefusedError{
			Status: 422,
			Title:  "The part has lost its place",
			Detail: fmt.Sprintf(
				"%s makes %d parts under version %d, and this is part %d",
				t.SplitPath,
				len(reached.Parts.Items),
				t.Version,
				t.PartIndex+1,
			),
		}
	}
	var value *step.Part
	if m.N > 0 { // a person has repaired it
		r, err := jsonfmt.Decode(m.Body.Bytes())
		if err != nil {
			return nil, &run.RefusedError{Status: 400, Title: "The part cannot be read", Detail: err.Error()}
		}
		value = &step.Part{Value: r.Root}
	}
	return reached.Origin(t.PartIndex, t.ID.String(), value), nil
}

// groupOf reads the place at which the transaction of a group goes on.
func (j *Journal) groupOf(t *store.Transaction, m *store.Message) (*run.Resume, error) {
	g, err := j.Store.Group(t.ID)
	if err != nil {
		return nil, fmt.Errorf("the group of %s: %w", t.ID, err)
	}
	r, err := jsonfmt.Decode(m.Body.Bytes())
	if err == nil && r.Root.Kind != message.List {
		err = fmt.Errorf("it is a %s, not the list of the group's items", r.Root.Kind)
	}
	if err != nil {
		return nil, &run.RefusedError{Status: 400, Title: "The group cannot be read", Detail: err.Error()}
	}
	return ResumeOf(&g, r.Root.Items), nil
}

// ResumeOf gives the place at which a closed group goes on.
func ResumeOf(g *store.Group, items []*message.Node) *run.Resume {
	c := &step.Closed{Key: g.Key, Items: items, OpenedAt: g.OpenedAt, ClosedAt: *g.ClosedAt, Why: g.Why, Late: g.Late}
	return &run.Resume{Path: g.Path, Message: run.GroupMessage(g.ID.String(), c), Group: c}
}
