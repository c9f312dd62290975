package engine

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"

	"readyferry/core/step"
	"readyferry/store"
)

// letters keeps one dead letter for each place that failed, and closes those
// whose place has been passed.
func (w *walking) letters(failures []step.Failure, deliveries []*store.Delivery) error {
	var old []store.Letter
	if !w.fresh {
		var err error
		if old, err = w.tx.LettersOf(w.t.ID); err != nil {
			return err
		}
	}
	now := w.e.clock()
	discarded := map[string]bool{}
	for _, l := range old {
		discarded[l.Path] = l.State == store.LetterDiscarded
	}
	failed := map[string]bool{}
	for _, f := range failures {
		if discarded[f.Path] {
			continue // a person has decided about this place
		}
		failed[f.Path] = true
		if err := w.die(old, f); err != nil {
			return err
		}
	}
	state := map[string]store.DeliveryState{}
	for _, d := range deliveries {
		state[d.Path] = d.State
	}
	for i := range old {
		l := &old[i]
		s, known := state[l.Path]
		if l.State >= store.LetterResolved || failed[l.Path] || known && (s <= store.Behind || s == store.Dead) {
			continue
		}
		l.State = store.LetterResolved
		if err := w.tx.SaveLetter(l, now, "resolved", ""); err != nil {
			return err
		}
		w.after.events[TopicDeadLetters] = true
	}
	return nil
}

// lettered gives the failure of a place whose dead letter a person has not sent
// again; nil for any other place. What stands there is not done again by the way,
// when something else of the transaction moves on.
func (w *walking) lettered(path string) (*step.Failure, error) {
	if w.fresh || w.rearm[path] {
		return nil, nil
	}
	if !w.lettersRead {
		var err error
		if w.lettersNow, err = w.tx.LettersOf(w.t.ID); err != nil {
			return nil, err
		}
		w.lettersRead = true
	}
	for _, l := range w.lettersNow {
		if l.Path == path && (l.State == store.LetterOpen || l.State == store.LetterDiscarded) {
			return &step.Failure{Step: l.Step, Path: l.Path, Kind: l.Kind, Phase: l.Phase, Class: step.Class(l.Class), Reason: l.Reason}, nil
		}
	}
	return nil, nil
}

// die makes or reopens the dead letter of a failure.
func (w *walking) die(old []store.Letter, f step.Failure) error {
	l, known := &store.Letter{ID: store.NewID(), Tx: w.t.ID, At: w.e.clock()}, false
	for i := range old {
		if old[i].Path == f.Path && old[i].State != store.LetterDiscarded {
			if old[i].State == store.LetterOpen && old[i].Reason == f.Reason {
				return nil
			}
			l, known = &old[i], true
		}
	}
	l.Flow, l.Version, l.Step, l.Path, l.Kind, l.Phase = w.t.Flow, w.t.Version, f.Step, f.Path, f.Kind, f.Phase
	l.Class, l.Reason, l.Reference, l.State = string(f.Class), f.Reason, w.t.Reference, store.LetterOpen
	l.CauseText = normalise(f.Reason)
	sum := sha256.Sum256([]byte(w.t.Flow + "\x00" + f.Step + "\x00" + l.CauseText))
	l.Cause = hex.EncodeToString(sum[:8])
	w.after.events[TopicDeadLetters] = true
	if err := w.tx.SaveLetter(l, w.e.clock(), "died", f.Reason); err != nil || known {
		return err
	}
	return w.tellDeath(l)
}

var (
	uuids   = regexp.MustCompile(`[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}`)
	quoted  = regexp.MustCompile(`"[^"]*"`)
	numbers = regexp.MustCompile(`\b[0-9]{4,}\b`)
	tails   = regexp.MustCompile(`; (it has|near it) .*$`)
)

// normalise takes what differs from message to message out of a reason, so
// that letters with the same cause are found together.
func normalise(reason string) string {
	reason = tails.ReplaceAllString(reason, "")
	reason = uuids.ReplaceAllString(reason, "…")
	reason = quoted.ReplaceAllString(reason, `"…"`)
	reason = numbers.ReplaceAllString(reason, "…")
	if r := []rune(reason); len(r) > 200 {
		reason = string(r[:200])
	}
	return reason
}
