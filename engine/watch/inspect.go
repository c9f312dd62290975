package watch

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"readyferry/core/retry"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Inspect tells what a transaction did, step by step: it is walked again over
// its recorded effects, and deliveries that have not ended say where they are.
func (w *Watch) Inspect(id store.ID) (*run.Rehearsal, error) {
	t, err := w.Store.All().Transaction(id)
	if err != nil {
		return nil, err
	}
	m, err := w.Store.All().Message(id)
	if err != nil {
		return nil, err
	}
	p, err := w.Catalog.Plan(t.Flow, t.Version)
	if err != nil {
		return nil, err
	}
	b, err := w.WalkOf(&t, &m, p)
	var refused *run.RefusedError
	if err != nil && !errors.As(err, &refused) {
		return nil, err
	}
	deliveries, err := w.Store.All().Deliveries(id)
	if err != nil {
		return nil, err
	}
	opt := b.Options()
	opt.Live = true
	r := run.Rehearse(p, b.Envelope, opt)
	r.State, r.Reason = t.State.String(), nil
	if t.Reason != "" {
		r.Reason = &t.Reason
	}
	if t.DuplicateOf != nil {
		// Its caller got the first one's answer.
		unbegun(&t, &r)
		if r.Answer != nil {
			a, err := w.Given(*t.DuplicateOf)
			if err != nil {
				return nil, err
			}
			r.Answer = run.ShowAnswer(a)
		}
		return &r, nil
	}
	if t.Unbegun {
		unbegun(&t, &r)
		r.Answer = nil // nobody waits at a queue
		return &r, nil
	}
	if m.N == 0 && len(m.Answer) > 0 {
		var a step.Answer
		if err := json.Unmarshal(m.Answer, &a); err != nil {
			return nil, err
		}
		r.Answer = run.ShowAnswer(&a)
	}
	letters, err := w.Store.All().LettersOf(id)
	if err != nil {
		return nil, err
	}
	for i := range r.Trace {
		entry := &r.Trace[i]
		for j := range deliveries {
			if d := &deliveries[j]; d.Path == entry.Path {
				if err := w.overlay(entry, d); err != nil {
					return nil, err
				}
			}
		}
		for j := range letters {
			if l := &letters[j]; l.Path == entry.Path && l.State == store.LetterOpen {
				overlayLetter(entry, l)
			}
		}
	}
	return &r, nil
}

// unbegun shows of a transaction that ended at its intake no steps, but why.
func unbegun(t *store.Transaction, r *run.Rehearsal) {
	r.Trace, r.Deliveries, r.Notes, r.Intake.Outcome = []run.Entry{}, []run.Delivery{}, []step.Note{}, t.Reason
}

// overlay says of a delivery's cell where the delivery stands.
func (w *Watch) overlay(entry *run.Entry, d *store.Delivery) error {
	tries, err := w.Store.All().Tries(d.ID)
	tries = slices.DeleteFunc(tries, func(t store.Try) bool { return !t.Counts() })
	if err != nil || len(tries) == 0 {
		return err
	}
	last := tries[len(tries)-1]
	what := fmt.Sprint(last.Status)
	switch {
	case last.Status == 0 && last.Outcome == string(retry.Delivered) && last.Detail != "":
		what = last.Detail // the system's own word for it
	case last.Status == 0:
		what = "no answer"
	}
	rules, err := retry.Decode(d.Plan)
	if err != nil {
		return err
	}
	entry.Took = float64(last.At.Add(time.Duration(last.Took)*time.Microsecond).Sub(tries[0].At).Microseconds()) / 1000
	if entry.Caught != "" {
		return nil // it has said why
	}
	var request want.Request
	if err := json.Unmarshal(d.Request, &request); err != nil {
		return err
	}
	if request.Query != nil && d.State == store.Done {
		what = entry.Outcome // its rows say more than a status
	}
	switch d.State {
	case store.Done:
		entry.Outcome = fmt.Sprintf("%s, %s try", what, ordinal(d.Total))
	case store.Dead:
		if entry.Outcome = fmt.Sprintf("%s, given up", what); !d.Soft {
			entry.State = run.DeadLetter
		}
	case store.Pending:
		entry.Outcome = fmt.Sprintf("%s, %d of %d tries", what, d.Tries, rules.Tries)
	}
	return nil
}

// overlayLetter says of a cell that the walk leaves waiting why it waits no more.
func overlayLetter(entry *run.Entry, l *store.Letter) {
	if entry.Error != nil {
		return
	}
	if entry.State == run.Waiting {
		entry.Outcome = l.Reason
	}
	entry.State, entry.Error = run.DeadLetter, &l.Reason
}

func ordinal(n int) string {
	suffix := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			suffix = "st"
		case 2:
			suffix = "nd"
		case 3:
			suffix = "rd"
		}
	}
	return fmt.Sprint(n, suffix)
}

// PlannedTry is a try that is still to come.
type PlannedTry struct {
	N        int       `json:"n"` // within this round
	Earliest time.Time `json:"earliest"`
	Planned  time.Time `json:"planned"`
	Latest   time.Time `json:"latest"`
	Why      string    `json:"why"`
}

// Upcoming lists the tries that a delivery may still make, as the engine will
// make them if each fails at once.
func (w *Watch) Upcoming(d *store.Delivery) ([]PlannedTry, error) {
	out := []PlannedTry{}
	if d.State != store.Pending || d.NextAt == nil {
		return out, nil
	}
	rules, err := retry.Decode(d.Plan)
	if err != nil {
		return nil, err
	}
	first := *d.NextAt
	if d.FirstAt != nil {
		first = *d.FirstAt
	}
	at := PlannedTry{N: d.Tries + 1, Earliest: *d.NextAt, Planned: *d.NextAt, Latest: *d.NextAt, Why: d.NextWhy}
	for {
		out = append(out, at)
		next, ok, _ := rules.Next(journal.Seed(d.ID, d.Round), at.N, at.Planned.Sub(first), 0)
		if !ok || len(out) >= 50 {
			return out, nil
		}
		low, high := rules.Bounds(at.N)
		at = PlannedTry{
			N:        at.N + 1,
			Earliest: at.Earliest.Add(low),
			Planned:  first.Add(next),
			Latest:   at.Latest.Add(high),
		}
		if end := first.Add(rules.Within); at.Latest.After(end) {
			at.Latest = end
		}
	}
}
