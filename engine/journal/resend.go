package journal

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/pointer"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/store"
	"readyferry/store/body"
)

// Decision is what a person decides about dead letters.
type Decision struct {
	IDs     []store.ID
	Version string // own, live or draft
	Patch   []byte // JSON Patch (RFC 6902) for each message, or nil
	Message []byte // a new message in place of the old one, or nil
	Tree    []byte // the same as the JSON of its tree, for a format that a schema writes, or nil
	Why     string
	// Replies are what outside systems would answer, by path, where a preview cannot
	// know it.
	Replies map[string]want.Effect
}

// Resent is what a resend would do, or has begun to do.
type Resent struct {
	Letter    store.ID       `json:"letter"`
	Error     string         `json:"error,omitempty"`
	Rehearsal *run.Rehearsal `json:"rehearsal,omitempty"`
}

// Check reads the decision's patch, nil without one, and refuses what does not
// go together.
func (d Decision) Check() (pointer.Patch, error) {
	whole := d.Message != nil || d.Tree != nil
	switch {
	case len(d.IDs) == 0:
		return nil, fmt.Errorf("%w: no dead letter is named", ErrDecision)
	case d.Patch != nil && whole, d.Message != nil && d.Tree != nil:
		return nil, fmt.Errorf("%w: give either a patch, a message, or its tree", ErrDecision)
	case whole && len(d.IDs) > 1:
		return nil, fmt.Errorf("%w: one message cannot take the place of %d; use a patch", ErrDecision, len(d.IDs))
	case d.Patch == nil:
		return nil, nil
	}
	p, err := pointer.ParsePatch(d.Patch)
	if err != nil {
		return nil, fmt.Errorf("%w: the patch: %w", ErrDecision, err)
	}
	return p, nil
}

// Repair gives the message of a transaction as the decision wants it, under the plan that it is
// sent again under.
func (d Decision) Repair(t *store.Transaction, m *store.Message, p *plan.Plan, patch pointer.Patch) ([]byte, error) {
	was := m.Body.Bytes()
	switch {
	case d.Message != nil:
		return format.Edited(was, d.Message), nil
	case d.Tree == nil && patch == nil:
		return was, nil
	}
	name, layout, err := Written(t, m, p)
	if err != nil {
		return nil, err
	}
	var tree *message.Node
	if d.Tree != nil {
		r, err := jsonfmt.Decode(d.Tree)
		if err != nil {
			return nil, err
		}
		return format.Encode(name, r.Root, layout)
	}
	had, err := format.Decode(name, was, layout, format.Limits{})
	if err == nil {
		tree, err = patch.Apply(had.Root)
	}
	if err != nil {
		return nil, fmt.Errorf("the message cannot be patched: %w", err)
	}
	return format.Encode(name, tree, had.Layout)
}

// Written tells how a tree of a message is written: as JSON, or by the schema of its intake.
func Written(t *store.Transaction, m *store.Message, p *plan.Plan) (string, message.Layout, error) {
	if t.Parent != nil || t.FromGroup || p == nil {
		return format.JSON, message.Layout{}, nil
	}
	e, err := decodeEnvelope(t, m)
	if err != nil {
		return "", message.Layout{}, err
	}
	kind := ""
	for _, h := range e.Headers {
		if strings.EqualFold(h.Name, "content-type") {
			kind = h.Value
		}
	}
	name := format.Of(p.Document.Intake.Format, kind)
	if name != format.Avro && name != format.Protobuf {
		return format.JSON, message.Layout{}, nil
	}
	return name, p.Document.Intake.Layout, nil
}

// VersionFor gives the plan that a resend runs under, with its version; 0 for
// the draft.
func (j *Journal) VersionFor(t *store.Transaction, which string) (*plan.Plan, int, error) {
	f := j.Catalog.Flow(t.Flow)
	switch which {
	case "", "own":
		p, err := j.Catalog.Plan(t.Flow, t.Version)
		return p, t.Version, err
	case "live":
		if f == nil || f.Live == nil {
			return nil, 0, fmt.Errorf("%w: %s has no live version", ErrDecision, t.Flow)
		}
		return f.Live, f.Version, nil
	case "draft":
		if f == nil || f.Draft == nil {
			return nil, 0, fmt.Errorf("%w: %s has no draft that can be run", ErrDecision, t.Flow)
		}
		return f.Draft, 0, nil
	}
	return nil, 0, fmt.Errorf("%w: version must be own, live or draft, not %q", ErrDecision, which)
}

// Resend sends dead letters again, all or none. Deliveries that were made before
// are not made again: their effects stand in the journal. Letters of one message
// are sent again together.
func (j *Journal) Resend(ctx context.Context, d Decision) ([]Resent, error) {
	if d.Version == "draft" {
		return nil, fmt.Errorf(
			"%w: a draft changes, so nothing can be sent under it; publish it and resend under live, or ask for a preview",
			ErrDecision,
		)
	}
	patch, err := d.Check()
	if err != nil {
		return nil, err
	}
	flow := ""
	if first, err := j.Store.Letter(d.IDs[0]); err == nil {
		flow = first.Flow
	}
	err = j.Do(ctx, flow, func(s *Session) error {
		list, err := s.open(d)
		if err != nil {
			return err
		}
		for _, letters := range list {
			if err := s.resend(letters, d, patch); err != nil {
				return fmt.Errorf("dead letter %s: %w", letters[0].ID, err)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	out := make([]Resent, len(d.IDs))
	for i, id := range d.IDs {
		out[i] = Resent{Letter: id}
	}
	return out, nil
}

// open reads the letters of a decision, those of one transaction together.
func (s *Session) open(d Decision) (out [][]store.Letter, err error) {
	at := map[store.ID]int{}
	for _, id := range d.IDs {
		l, err := s.Store.Letter(id)
		if err != nil {
			return nil, fmt.Errorf("dead letter %s: %w", id, err)
		}
		if l.State != store.LetterOpen {
			return nil, fmt.Errorf(
				"dead letter %s: %w: it is %s, so there is nothing to resend",
				id,
				ErrDecision,
				l.State,
			)
		}
		i, ok := at[l.Tx]
		if !ok {
			i, at[l.Tx], out = len(out), len(out), append(out, nil)
		}
		out[i] = append(out[i], l)
	}
	return out, nil
}

// resend lets a transaction go on at the places of its letters.
func (s *Session) resend(letters []store.Letter, d Decision, patch pointer.Patch) error {
	t, err := s.Store.Transaction(letters[0].Tx)
	if err != nil {
		return err
	}
	p, version, err := s.VersionFor(&t, d.Version)
	if err != nil {
		return err
	}
	m, err := s.Store.Message(t.ID)
	if err != nil {
		return err
	}
	was := m.Body.Bytes()
	repaired, err := d.Repair(&t, &m, p, patch)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrDecision, err)
	}
	what, changed, otherVersion := fmt.Sprintf(
		"under version %d",
		version,
	), string(
		repaired,
	) != string(
		was,
	), version != t.Version
	if changed {
		m.N++
		m.Body, m.Answer, m.Source = body.OfMessage(repaired), nil, "repaired"
		what += ", with the message repaired"
	}
	if d.Why != "" {
		what += ": " + d.Why
	}
	t.Version, t.Unbegun = version, false
	s.Pardon(t.Flow, repaired)
	v, err := s.read(t, p, &m)
	var refused *run.RefusedError
	if errors.As(err, &refused) {
		return fmt.Errorf("%w: the intake would refuse the message: %w", ErrDecision, err)
	}
	if err != nil {
		return err
	}
	if changed {
		v.Then(func(w *Writing) error { return w.Tx.AddMessage(&m) })
	}
	v.rearmed(letters, version, what)
	v.anew(letters, changed || otherVersion)
	_, err = v.Go()
	return err
}

// rearmed notes that a person sends letters again.
func (v *Move) rearmed(letters []store.Letter, version int, what string) {
	v.rearm, v.pass = map[string]bool{}, map[string]bool{}
	for i := range letters {
		l := letters[i]
		if n := parked(l.Phase); n > 0 {
			v.Then(func(w *Writing) error {
				w.Notice.Events[EventQueues] = true
				return w.Tx.FreeItem(n)
			})
		} else {
			v.rearm[l.Path] = true
		}
		if l.Kind == "resequence" && l.Phase == "wait" {
			v.pass[l.Path] = true // it has waited in vain, and a person decides that it goes on
		}
		v.Then(func(w *Writing) error {
			now, err := w.Tx.Letter(l.ID)
			if err != nil || now.State != store.LetterOpen {
				return stale(err)
			}
			now.State, now.Version = store.LetterResending, version
			w.Notice.Events[EventDeadLetters] = true
			return w.Tx.SaveLetter(&now, w.Now(), Person, "resent", what)
		})
	}
}

// anew forgets the effects that are to be brought about again.
func (v *Move) anew(letters []store.Letter, changed bool) {
	for _, path := range Anew(v.Plan, v.input.Effects, letters, changed) {
		asks := v.input.Effects[path].Looked == nil
		delete(v.input.Effects, path)
		v.Then(func(w *Writing) error { return w.Forget(path) })
		v.rearm[path] = v.rearm[path] || asks
	}
}

// PhaseLease is the phase of a letter whose message was taken from its queue by somebody
// outside, again and again, and never done: a resend puts it there anew.
const PhaseLease = "lease"

// Parked is the phase of a letter whose message stays beside the queue of a subscription
// under a number: a resend gives it back to that queue, a discard takes it out for good.
func Parked(n int64) string { return fmt.Sprintf("%s of %d", PhaseLease, n) }

// parked gives the number of the message of such a letter, or 0.
func parked(phase string) (n int64) {
	_, _ = fmt.Sscanf(phase, PhaseLease+" of %d", &n)
	return n
}

// Anew names the effects that a resend brings about again, and a preview takes for
// unknown: what was read, because a person may have mended it meanwhile, in a table
// or in the system that was asked; what a script came to, where the message or the
// version is another (changed); and the failures of what was called. What was handed
// over stays: it is not sent twice.
func Anew(p *plan.Plan, effects map[string]want.Effect, letters []store.Letter, changed bool) (paths []string) {
	sent, again := map[string]bool{}, map[string]bool{}
	for _, l := range letters {
		sent[l.Path] = true
		again[l.Path] = l.Phase == PhaseLease // it is in its queue no more
	}
	for path, e := range effects {
		at := run.StepAt(p, run.GroupPath(path))
		switch {
		case len(e.Looked) > 0 && e.Said == "",
			e.Value != nil && changed,
			e.Failed != "" && sent[path],
			again[path],
			at != nil && at.Kind == "ask":
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	return paths
}

// Discard gives dead letters up, all or none.
func (j *Journal) Discard(ctx context.Context, d Decision) error {
	if len(d.IDs) == 0 {
		return fmt.Errorf("%w: no dead letter is named", ErrDecision)
	}
	return j.Write(ctx, func(tx *store.Tx, n *Notice) error {
		for _, id := range d.IDs {
			if err := j.discard(tx, n, id, d.Why); err != nil {
				return fmt.Errorf("dead letter %s: %w", id, err)
			}
		}
		return nil
	})
}

func (j *Journal) discard(tx *store.Tx, n *Notice, id store.ID, why string) error {
	l, err := tx.Letter(id)
	if err != nil {
		return err
	}
	if l.State != store.LetterOpen {
		return fmt.Errorf("%w: it is %s, so there is nothing to discard", ErrDecision, l.State)
	}
	l.State = store.LetterDiscarded
	if err := tx.SaveLetter(&l, j.Now(), Person, "discarded", why); err != nil {
		return err
	}
	n.Events[EventDeadLetters] = true
	if item := parked(l.Phase); item > 0 {
		if err := tx.Finish(item); err != nil {
			return err
		}
	}
	w, err := j.Open(tx, n, l.Tx)
	if err != nil {
		return err
	}
	if p := w.Plan(); p != nil && p.Rules >= flow.Rules2 {
		if err := tx.TakenAnew(l.Tx); err != nil { // the next message with its once value is no repeat
			return err
		}
	}
	return w.Settle()
}
