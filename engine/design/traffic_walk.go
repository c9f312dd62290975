package design

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"

	"readyferry/core/cause"
	"readyferry/core/run"
	"readyferry/store"
)

// walkTraffic walks what a span chooses, the oldest first, some at a time.
func (g *Designs) walkTraffic(ctx context.Context, t *traffic, of Span) error {
	var chosen []store.ID
	for after := (*store.ID)(nil); len(chosen) < of.Last; {
		some, err := g.Store.All().Transactions(store.Filter{Flow: t.about.Flow, From: of.From, To: of.To, After: after,
			Limit: min(500, of.Last-len(chosen))})
		if err = cmp.Or(err, ctx.Err()); err != nil {
			return err
		}
		if len(some) == 0 {
			break
		}
		for i := range some {
			chosen = append(chosen, some[i].ID)
		}
		after = &some[len(some)-1].ID
	}
	slices.Reverse(chosen)
	t.mu.Lock()
	t.about.Total = len(chosen)
	t.mu.Unlock()
	for batch := range slices.Chunk(chosen, 64) {
		walked := make([]walkedOne, len(batch))
		var wg sync.WaitGroup
		free := make(chan struct{}, max(1, runtime.NumCPU()/2)) // messages under way have the rest
		for i, id := range batch {
			wg.Go(func() {
				free <- struct{}{}
				defer func() { <-free }()
				if ctx.Err() == nil {
					walked[i] = g.walkOne(t, id)
				}
			})
		}
		wg.Wait()
		if err := ctx.Err(); err != nil {
			return err
		}
		t.mu.Lock()
		for i := range walked {
			t.add(&walked[i])
		}
		t.mu.Unlock()
	}
	return nil
}

// walkedOne is what became of one message in both walks.
type walkedOne struct {
	tx     store.Transaction
	r      *run.Retraced
	err    error
	values []string // what its body holds
	// sameOnce: both tell repeats by the same.
	sameOnce bool
}

func (g *Designs) walkOne(t *traffic, id store.ID) (out walkedOne) {
	defer func() { // nobody else would catch it here, and messages under way go on
		if fault := recover(); fault != nil {
			g.Log.Error("a message could not be walked through a draft", "transaction", id, "fault", fault)
			out.err = fmt.Errorf("the walk broke off: %v", fault)
		}
	}()
	if out.tx, out.err = g.Store.All().Transaction(id); out.err != nil {
		return out
	}
	if out.r, out.err = g.retrace(t, &out.tx, false); out.err != nil {
		return out
	}
	if p, err := g.Catalog.Plan(out.tx.Flow, out.tx.Version); err == nil {
		out.sameOnce = p.Document.Intake.Once == t.draft.Document.Intake.Once
	}
	out.values = valuesOf(out.r.Body)
	return out
}

// errUnbegun is of messages that ended before their first step.
var errUnbegun = errors.New("it ended before its first step")

// retrace walks a message under its version and under the draft.
func (g *Designs) retrace(t *traffic, tx *store.Transaction, bodies bool) (*run.Retraced, error) {
	if tx.Unbegun && tx.DuplicateOf == nil {
		return nil, errUnbegun
	}
	m, err := g.Store.All().Message(tx.ID)
	if err != nil {
		return nil, err
	}
	was, err := g.Catalog.Plan(tx.Flow, tx.Version)
	if err != nil {
		return nil, err
	}
	b, err := g.WalkOf(tx, &m, was)
	var refused *run.RefusedError
	if err != nil && !errors.As(err, &refused) {
		return nil, err
	}
	past := run.Past{Effects: b.Input().Effects, Died: map[string]string{}}
	if err := g.pastOf(tx.ID, &past); err != nil {
		return nil, err
	}
	opt := b.Options()
	opt.Tables, opt.NoBodies = g.Store.LookIn(), !bodies
	r := run.Retrace(was, t.draft, b.Envelope, opt, past)
	stopped(&r.Is, t.nowhere)
	return &r, nil
}

// pastOf collects what a transaction and its parts met.
func (g *Designs) pastOf(id store.ID, into *run.Past) error {
	letters, err := g.Store.All().LettersOf(id)
	if err != nil {
		return err
	}
	for i := range letters {
		into.Died[letters[i].Path] = letters[i].Reason
	}
	for after := (*store.ID)(nil); ; {
		parts, err := g.Store.All().Parts(id, nil, after, 200)
		if err != nil || len(parts) == 0 {
			return err
		}
		for i := range parts {
			effects, err := g.Journal.Effects(parts[i].ID)
			if err != nil {
				return err
			}
			for path, e := range effects {
				into.Effects[path] = e
			}
			if err := g.pastOf(parts[i].ID, into); err != nil {
				return err
			}
		}
		after = &parts[len(parts)-1].ID
	}
}

// add counts a message that was walked.
func (t *traffic) add(w *walkedOne) {
	t.about.Done++
	if w.err != nil {
		t.about.LeftOut++
		t.about.Why = w.tx.ID.String() + ": " + w.err.Error()
		return
	}
	differences := t.repeats(w)
	t.common.add(w.values)
	if len(differences) == 0 {
		t.about.Same++
		return
	}
	t.about.Other++
	texts := make([]string, len(differences))
	dead := false
	for i := range differences {
		d := differences[i]
		dead = dead || d.Kind == run.OtherEnd && d.Is == run.DeadLetter
		d.Reason = cause.Text(d.Reason, t.draft.Names)
		texts[i] = d.Text()
	}
	text := strings.Join(texts, "; ")
	one := t.groups[text]
	if one == nil {
		one = &trafficGroup{TrafficGroup: TrafficGroup{N: len(t.order), Text: text, Dead: dead}, shared: map[string]int{}}
		t.groups[text] = one
		t.order = append(t.order, one)
	}
	one.messages = append(one.messages, TrafficMessage{w.tx.ID, w.tx.Reference, w.tx.ReceivedAt, differences})
	one.share(w.values)
}

// share counts the values of one more message of a group.
func (one *trafficGroup) share(values []string) {
	one.Count++
	for _, v := range values {
		if one.shared[v]++; one.shared[v] < one.Count {
			delete(one.shared, v) // not all of them have it
		}
	}
}

// repeats gives the differences of a message. One that came again ends at once: that is
// compared by the values by which the draft tells repeats, over the messages that are walked.
func (t *traffic) repeats(w *walkedOne) []run.Difference {
	key, again := w.r.Is.Intake.Once, w.tx.DuplicateOf != nil
	if w.sameOnce {
		if again {
			return nil
		}
		return w.r.Differences()
	}
	first, seen := t.once[key]
	seen = seen && key != "" && w.tx.ReceivedAt.Sub(first) < t.draft.Document.Intake.OnceFor
	if key != "" && !seen {
		t.once[key] = w.tx.ReceivedAt
	}
	switch {
	case again && seen:
		return nil
	case again:
		return []run.Difference{{Kind: run.OtherEnd, Was: "a repeat", Is: w.r.Is.State}}
	case seen:
		return []run.Difference{{Kind: run.OtherEnd, Was: w.r.Was.State, Is: "a repeat"}}
	}
	return w.r.Differences()
}
