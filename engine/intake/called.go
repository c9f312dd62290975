package intake

import (
	"context"
	"fmt"

	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Called is a message that a flow of another application hands to one of ours.
type Called struct {
	ID      string // by which a repeat is told
	Flow    string
	Headers []message.Header
	Body    []byte
	From    string // who hands it on, in words
}

// FailedError tells that what was called has become a dead letter here.
type FailedError struct{ Tx, Reason string }

// Error implements error.
func (e *FailedError) Error() string { return e.Reason }

// CallFromAfar lets a flow take a message, and waits for what it says or comes to. A repeat goes on
// with what the first one began: it waits for that, hears what it came to, or has it sent again where
// it has become a dead letter. The error is a *FailedError where it becomes one now, a
// *run.RefusedError where the flow does not take it.
func (k *Intakes) CallFromAfar(ctx context.Context, c Called) (*want.Effect, error) {
	if err := k.stopping(); err != nil {
		return nil, err
	}
	f := k.Catalog.Flow(c.Flow)
	switch {
	case f == nil || f.Live == nil:
		return nil, &run.RefusedError{Status: 404, Title: "The flow is not here", Detail: "there is no flow named " +
			c.Flow}
	case f.Paused:
		return nil, &run.RefusedError{Status: 503, Title: "The flow is paused", Detail: c.Flow + " takes no messages now"}
	}
	t := &taking{
		Intakes: k, id: store.NewID(), source: c.From, called: c.ID,
		in: &Intake{Flow: f.Name, version: f.Version, plan: f.Live, trial: f.Trial},
		envelope: run.Envelope{ReceivedAt: k.Now(), Headers: c.Headers, Params: []message.Header{},
			Query: []message.Header{}, Body: c.Body},
	}
	t.envelope.ID = t.id.String()
	leave, err := k.Enter(ctx, c.Body)
	if err != nil {
		return nil, err
	}
	heard, forget := k.expect(t.id)
	defer forget()
	err = k.Do(ctx, c.Flow, t.take)
	leave()
	if err != nil {
		return nil, err
	}
	if first := t.duplicate; first != nil {
		forget()
		if heard, forget = k.expect(*first); t.id != *first {
			t.id = *first
		}
		defer forget()
		if err := k.sentAgain(ctx, t.id, c.From); err != nil {
			return nil, err
		}
	}
	return k.comesTo(ctx, t.id, heard)
}

// sentAgain sends the dead letters of a transaction again, if it has some: whoever repeats a call
// wants it done.
func (k *Intakes) sentAgain(ctx context.Context, id store.ID, by string) error {
	first, err := k.Store.Transaction(id)
	if err != nil || first.State != store.DeadLetter {
		return err
	}
	letters, err := k.Store.LettersOf(id)
	if err != nil {
		return err
	}
	d := journal.Decision{Version: "live", Why: "it is called again", By: by}
	for i := range letters {
		if letters[i].State == store.LetterOpen {
			d.IDs = append(d.IDs, letters[i].ID)
		}
	}
	if len(d.IDs) == 0 {
		return nil
	}
	_, err = k.Resend(ctx, d)
	return err
}

// comesTo waits for what a step says to whoever called, or for the end.
func (k *Intakes) comesTo(ctx context.Context, id store.ID, heard <-chan *step.Answer) (*want.Effect, error) {
	for {
		effect, err := k.cameTo(ctx, id)
		if effect != nil || err != nil {
			return effect, err
		}
		select {
		case a := <-heard:
			if a != nil {
				return &want.Effect{Item: id.String(), Status: a.Status, Headers: a.Headers, Body: a.Body}, nil
			}
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-k.Life.Closing():
			return nil, fmt.Errorf("the runner stops; the message is stored as %s and goes on after its next start", id)
		}
	}
}

// cameTo gives what a transaction has come to; nil while it has not ended.
func (k *Intakes) cameTo(ctx context.Context, id store.ID) (*want.Effect, error) {
	t, err := k.Store.Transaction(id)
	if err != nil {
		return nil, err
	}
	switch t.State {
	case store.DeadLetter:
		return nil, &FailedError{id.String(), t.Reason}
	case store.Delivered, store.TurnedAway:
	default:
		return nil, nil
	}
	var effect *want.Effect
	err = k.Do(ctx, t.Flow, func(s *journal.Session) error {
		v, err := s.Read(id)
		if err == nil {
			effect = v.Heard()
		}
		return err
	})
	return effect, err
}
