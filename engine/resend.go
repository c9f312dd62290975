package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/plan"
	"readyferry/core/pointer"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// Decision is what a person decides about dead letters.
type Decision struct {
	IDs     []store.ID
	Version string // own, live or draft
	Patch   []byte // JSON Patch (RFC 6902) for each message, or nil
	Message []byte // a new message in place of the old one, or nil
	Why     string
}

// ErrDecision wraps a decision that cannot be carried out; nothing is changed
// then.
var ErrDecision = errors.New("this cannot be done")

// Resent is what a resend would do, or has begun to do.
type Resent struct {
	Letter    store.ID       `json:"letter"`
	Error     string         `json:"error,omitempty"`
	Rehearsal *run.Rehearsal `json:"rehearsal,omitempty"`
}

// Preview tells what a resend would do, without doing it.
func (e *Engine) Preview(d Decision) ([]Resent, error) {
	patch, err := d.check()
	if err != nil {
		return nil, err
	}
	out := make([]Resent, 0, len(d.IDs))
	for _, id := range d.IDs {
		r := Resent{Letter: id}
		rehearsal, err := e.previewOne(id, d, patch)
		if err != nil {
			r.Error = err.Error()
		} else {
			r.Rehearsal = rehearsal
		}
		out = append(out, r)
	}
	return out, nil
}

func (e *Engine) previewOne(id store.ID, d Decision, patch pointer.Patch) (*run.Rehearsal, error) {
	l, err := e.store.Letter(id)
	if err != nil {
		return nil, err
	}
	t, err := e.store.Transaction(l.Tx)
	if err != nil {
		return nil, err
	}
	m, err := e.store.Message(l.Tx)
	if err != nil {
		return nil, err
	}
	repaired, err := d.repair(m.Body, patch)
	if err != nil {
		return nil, err
	}
	if string(repaired) != string(m.Body) {
		m.Body, m.N = repaired, m.N+1
	}
	p, version, err := e.versionFor(&t, d.Version)
	if err != nil {
		return nil, err
	}
	t.Version = version
	b, err := e.walkOf(e.store, &t, &m, p)
	var refused *run.RefusedError
	if err != nil && (t.Parent != nil || t.FromGroup || !errors.As(err, &refused)) {
		return nil, err
	}
	maps.DeleteFunc(b.input.Effects, func(_ string, e step.Effect) bool { return e.OnlyRead() })
	r := run.Rehearse(p, b.envelope, run.Options{Known: b.input.Effects, Origin: b.input.Origin, Resume: b.input.Resume, Letter: b.input.Letter, LetterMessage: &b.input.Message, Tables: e.store.LookIn()})
	return &r, nil
}

func (d Decision) check() (pointer.Patch, error) {
	if len(d.IDs) == 0 {
		return nil, fmt.Errorf("%w: no dead letter is named", ErrDecision)
	}
	if d.Patch != nil && d.Message != nil {
		return nil, fmt.Errorf("%w: give either a patch or a message", ErrDecision)
	}
	if d.Message != nil && len(d.IDs) > 1 {
		return nil, fmt.Errorf("%w: one message cannot take the place of %d; use a patch", ErrDecision, len(d.IDs))
	}
	if d.Patch == nil {
		return nil, nil
	}
	p, err := pointer.ParsePatch(d.Patch)
	if err != nil {
		return nil, fmt.Errorf("%w: the patch: %w", ErrDecision, err)
	}
	return p, nil
}

func (d Decision) repair(body []byte, patch pointer.Patch) ([]byte, error) {
	switch {
	case d.Message != nil:
		return d.Message, nil
	case patch == nil:
		return body, nil
	}
	r, err := jsonfmt.Decode(body)
	if err != nil {
		return nil, fmt.Errorf("the message cannot be patched: %w", err)
	}
	n, err := patch.Apply(r.Root)
	if err != nil {
		return nil, err
	}
	return jsonfmt.Encode(n), nil
}

// versionFor gives the plan that a resend runs under.
func (e *Engine) versionFor(t *store.Transaction, which string) (*plan.Plan, int, error) {
	f := e.flow(t.Flow)
	switch which {
	case "", "own":
		p, err := e.plan(t.Flow, t.Version)
		return p, t.Version, err
	case "live":
		if f == nil || f.live == nil {
			return nil, 0, fmt.Errorf("%w: %s has no live version", ErrDecision, t.Flow)
		}
		return f.live, f.version, nil
	case "draft":
		if f == nil || f.draft == nil {
			return nil, 0, fmt.Errorf("%w: %s has no draft that can be run", ErrDecision, t.Flow)
		}
		return f.draft, 0, nil
	}
	return nil, 0, fmt.Errorf("%w: version must be own, live or draft, not %q", ErrDecision, which)
}

// Resend sends dead letters again, all or none. Deliveries that were made
// before are not made again: their effects stand in the journal.
func (e *Engine) Resend(ctx context.Context, d Decision) ([]Resent, error) {
	if d.Version == "draft" {
		return nil, fmt.Errorf("%w: a draft changes, so nothing can be sent under it; publish it and resend under live, or ask for a preview", ErrDecision)
	}
	patch, err := d.check()
	if err != nil {
		return nil, err
	}
	after := newAftermath()
	err = e.store.Write(ctx, func(tx *store.Tx) error {
		*after = *newAftermath()
		for _, id := range d.IDs {
			if err := e.resendOne(tx, id, d, patch, after); err != nil {
				return fmt.Errorf("dead letter %s: %w", id, err)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	e.after(after)
	out := make([]Resent, len(d.IDs))
	for i, id := range d.IDs {
		out[i] = Resent{Letter: id}
	}
	return out, nil
}

func (e *Engine) resendOne(tx *store.Tx, id store.ID, d Decision, patch pointer.Patch, after *aftermath) error {
	l, err := tx.Letter(id)
	if err != nil {
		return err
	}
	if l.State != store.LetterOpen {
		return fmt.Errorf("%w: it is %s, so there is nothing to resend", ErrDecision, l.State)
	}
	t, err := tx.Transaction(l.Tx)
	if err != nil {
		return err
	}
	p, version, err := e.versionFor(&t, d.Version)
	if err != nil {
		return err
	}
	m, err := tx.Message(l.Tx)
	if err != nil {
		return err
	}
	body, err := d.repair(m.Body, patch)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrDecision, err)
	}
	what := fmt.Sprintf("under version %d", version)
	before, beforeVersion := m, t.Version
	if string(body) != string(m.Body) {
		m.N++
		m.Body, m.Answer = body, nil
		m.Source = "repaired"
		if err := tx.AddMessage(&m); err != nil {
			return err
		}
		what += ", with the message repaired"
	}
	if d.Why != "" {
		what += ": " + d.Why
	}
	t.Version, t.Unbegun = version, false
	w := &walking{e: e, tx: tx, t: &t, p: p, messageN: m.N, after: after, rearm: map[string]bool{l.Path: true}}
	if l.Kind == "resequence" && l.Phase == "wait" {
		w.pass = map[string]bool{l.Path: true} // it has waited in vain, and a person decides that it goes on
	}
	if w.begun, err = e.walkOf(tx, &t, &m, p); err != nil {
		var refused *run.RefusedError
		if errors.As(err, &refused) {
			return fmt.Errorf("%w: the intake would refuse the message: %w", ErrDecision, err)
		}
		return err
	}
	if m.N > before.N || version != beforeVersion {
		for path, effect := range w.input.Effects {
			if effect.OnlyRead() {
				delete(w.input.Effects, path)
				if err := tx.ForgetEffect(t.ID, path); err != nil {
					return err
				}
			}
		}
	}
	if l.Kind == "ask" && (l.Phase == step.PhaseReply || l.Phase == step.PhaseRows) {
		delete(w.input.Effects, l.Path)
		if err := tx.ForgetEffect(t.ID, l.Path); err != nil {
			return err
		}
	}
	l.State, l.Version = store.LetterResending, version
	if err := tx.SaveLetter(&l, e.clock(), "resent", what); err != nil {
		return err
	}
	after.events[TopicDeadLetters] = true
	_, err = w.advance(nil)
	return err
}

// Discard gives dead letters up, all or none.
func (e *Engine) Discard(ctx context.Context, d Decision) error {
	if len(d.IDs) == 0 {
		return fmt.Errorf("%w: no dead letter is named", ErrDecision)
	}
	after := newAftermath()
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		*after = *newAftermath()
		for _, id := range d.IDs {
			if err := e.discardOne(tx, id, d.Why, after); err != nil {
				return fmt.Errorf("dead letter %s: %w", id, err)
			}
		}
		return nil
	})
	if err == nil {
		e.after(after)
	}
	return err
}

func (e *Engine) discardOne(tx *store.Tx, id store.ID, why string, after *aftermath) error {
	l, err := tx.Letter(id)
	if err != nil {
		return err
	}
	if l.State != store.LetterOpen {
		return fmt.Errorf("%w: it is %s, so there is nothing to discard", ErrDecision, l.State)
	}
	l.State = store.LetterDiscarded
	if err := tx.SaveLetter(&l, e.clock(), "discarded", why); err != nil {
		return err
	}
	after.events[TopicDeadLetters] = true
	t, err := tx.Transaction(l.Tx)
	if err != nil {
		return err
	}
	p, err := e.plan(t.Flow, t.Version)
	if err != nil {
		return err
	}
	rows, err := tx.Deliveries(l.Tx)
	if err != nil {
		return err
	}
	w := &walking{e: e, tx: tx, t: &t, p: p, after: after}
	return w.settle(nil, pointersTo(rows))
}

func decodeFiles(b []byte) (map[string][]byte, error) {
	out := map[string][]byte{}
	if len(b) == 0 {
		return out, nil
	}
	text := map[string]string{}
	if err := json.Unmarshal(b, &text); err != nil {
		return nil, fmt.Errorf("the files: %w", err)
	}
	for k, v := range text {
		out[k] = []byte(v)
	}
	return out, nil
}
