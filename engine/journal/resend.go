package journal

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"readyferry/core/plan"
	"readyferry/core/pointer"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/store"
	"readyferry/store/body"
)

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
// are not made again, unless the decision insists: their effects stand in the journal.
// Letters of one message are sent again together.
func (j *Journal) Resend(ctx context.Context, d Decision) ([]Resent, error) {
	return j.ResendAnd(ctx, d, nil)
}

// ResendAnd is Resend with more that is done in the same commit; nil for nothing more.
func (j *Journal) ResendAnd(ctx context.Context, d Decision, also func(tx *store.Tx) error) ([]Resent, error) {
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
	all := d.IDs
	if d.IDs, err = j.elsewhere(ctx, Asked{What: AskResend, Decision: d, Repeated: also != nil}); err != nil {
		return nil, err
	}
	if err := j.resendHere(ctx, d, patch, also); err != nil {
		return nil, err
	}
	out := make([]Resent, len(all))
	for i, id := range all {
		out[i] = Resent{Letter: id}
	}
	return out, nil
}

// resendHere sends those again that are in this partition.
func (j *Journal) resendHere(ctx context.Context, d Decision, patch pointer.Patch, also func(tx *store.Tx) error) error {
	if len(d.IDs) == 0 {
		return j.only(ctx, also)
	}
	flow := ""
	if first, err := j.Store.Letter(d.IDs[0]); err == nil {
		flow = first.Flow
	}
	return j.Do(ctx, flow, func(s *Session) error {
		list, err := s.open(d)
		if err != nil {
			return err
		}
		for _, letters := range list {
			if err := s.resend(letters, d, patch); err != nil {
				return fmt.Errorf("dead letter %s: %w", letters[0].ID, err)
			}
		}
		s.and(also)
		return nil
	})
}

// only does what is done beside, where the rest was done elsewhere.
func (j *Journal) only(ctx context.Context, also func(tx *store.Tx) error) error {
	if also == nil {
		return nil
	}
	return j.Write(ctx, func(tx *store.Tx, n *Notice) error {
		n.Events[EventDeadLetters] = true
		return also(tx)
	})
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
	repaired, err := s.Repaired(d, &t, &m, p, patch)
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
	v.rearmed(letters, version, d.who(), what)
	v.anew(letters, changed || otherVersion)
	if d.Insist {
		if err := v.insist(); err != nil {
			return err
		}
	}
	_, err = v.Go()
	return err
}

// rearmed notes that a person sends letters again.
func (v *Move) rearmed(letters []store.Letter, version int, who, what string) {
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
			return w.Tx.SaveLetter(&now, w.Now(), who, "resent", what)
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

// insist lets the deliveries that were made be made once more, under the keys that they had.
func (v *Move) insist() error {
	all, err := v.Session.Store.Deliveries(v.Tx.ID)
	if err != nil {
		return err
	}
	for _, d := range all {
		if d.State != store.Done {
			continue
		}
		v.rearm[d.Path] = true
		delete(v.input.Effects, d.Path)
		v.Then(func(w *Writing) error { return w.Forget(d.Path) })
	}
	return nil
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
