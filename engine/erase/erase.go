// Package erase takes one person's data out of what is kept: all that holds a given value of
// a field that a flow masks.
//
// A message whose masked field has the value is looked for among all of the flow, and with it
// all that came of it, through queues, topics, parts, groups and called flows. What has ended
// is blanked: bodies, headers, answers, reasons, references, tries, letters, and the index of
// words. What has not ended is left and counted, as it is still to be delivered: once it has
// ended, the same is asked for again. Samples are blanked, too; the value itself is kept
// nowhere, not even in the audit.
package erase

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"readyferry/core/mask"
	"readyferry/engine/journal"
	"readyferry/engine/watch"
	"readyferry/store"
)

// View is how an erasure is going, or how it went.
type View struct {
	Flow    string `json:"flow"`
	State   string `json:"state"`   // none, looking, done, stopped, failed
	Preview bool   `json:"preview"` // nothing is changed
	Looked  int64  `json:"looked"`  // messages
	Found   int64  `json:"found"`   // transactions that are of the value
	Erased  int64  `json:"erased"`  // of those, blanked, or to be
	Left    int64  `json:"left"`    // of those, not ended
	Samples int64  `json:"samples"` // blanked, or to be
	Error   string `json:"error"`
}

// Erasures carries erasures out, one at a time.
type Erasures struct {
	*watch.Watch

	mu   sync.Mutex
	now  View
	stop context.CancelFunc
}

// New makes it.
func New(w *watch.Watch) *Erasures { return &Erasures{Watch: w, now: View{State: "none"}} }

// shortest is in letters: a shorter value stands in too much that is not about it.
const shortest = 4

// Now says how the erasure is going, or how the last one went.
func (e *Erasures) Now() View {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.now
}

// Stop stops it; what is blanked stays so.
func (e *Erasures) Stop() {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.stop != nil {
		e.stop()
	}
}

// Begin begins to erase a value from a flow and what came of its messages, or with preview
// only to count. journal.ErrDecision tells why it does not; journal.ErrInUse, that another is
// under way.
func (e *Erasures) Begin(ctx context.Context, flow, value string, preview bool) error {
	value = strings.TrimSpace(value)
	f := e.Catalog.Flow(flow)
	if f == nil {
		return journal.ErrNotFound
	}
	if len(e.MaskOf(flow, f.Draft)) == 0 {
		return fmt.Errorf("%w: the flow %s masks no field; its mask: names those of people", journal.ErrDecision, flow)
	}
	if utf8.RuneCountInString(value) < shortest {
		return fmt.Errorf("%w: a value has at least %d letters: a shorter one stands in too much that is not about it",
			journal.ErrDecision, shortest)
	}
	e.mu.Lock()
	if e.now.State == "looking" {
		e.mu.Unlock()
		return fmt.Errorf("%w: an erasure of %s is under way", journal.ErrInUse, e.now.Flow)
	}
	run, stop := context.WithCancel(context.WithoutCancel(ctx))
	e.now, e.stop = View{Flow: flow, State: "looking", Preview: preview}, stop
	e.mu.Unlock()
	w := &work{e: e, ctx: run, flow: flow, value: value, hide: hiding(value), preview: preview, seen: map[store.ID]bool{}}
	if !e.Life.Go(func() { w.run() }) {
		stop()
		return store.ErrClosed
	}
	return nil
}

// hiding gives what takes a value out of texts, in capitals or not. Where it is a number of
// JSON, null takes its place.
func hiding(value string) store.Hide {
	veil := mask.NewVeil([]string{value}, nil)
	bare := regexp.MustCompile(`([:\[,]\s*)` + regexp.QuoteMeta(value) + `(\s*[,}\]])`)
	plain := regexp.MustCompile(`(?i)` + regexp.QuoteMeta(value))
	return func(text string) string {
		return plain.ReplaceAllString(veil.Hide(bare.ReplaceAllString(text, "${1}null${2}")), mask.Shown)
	}
}

// work is one erasure.
type work struct {
	e       *Erasures
	ctx     context.Context
	flow    string
	value   string
	hide    store.Hide
	preview bool
	seen    map[store.ID]bool // transactions that were dealt with
}

func (w *work) note(do func(v *View)) {
	w.e.mu.Lock()
	defer w.e.mu.Unlock()
	do(&w.e.now)
}

func (w *work) run() {
	err := w.overwriting(true)
	if err == nil {
		err = errors.Join(w.transactions(), w.samples(), w.sweep())
	}
	err = errors.Join(err, w.overwriting(false))
	w.note(func(v *View) {
		switch {
		case errors.Is(err, context.Canceled) || w.ctx.Err() != nil:
			v.State = "stopped"
		case err != nil:
			v.State, v.Error = "failed", strings.ReplaceAll(err.Error(), w.value, mask.Shown)
		default:
			v.State = "done"
		}
	})
}

// overwriting has what is taken out of the file overwritten, or no more.
func (w *work) overwriting(on bool) error {
	if w.preview {
		return nil
	}
	return w.e.Store.Write(context.WithoutCancel(w.ctx), func(tx *store.Tx) error { return tx.Overwriting(on) })
}

// sweep removes the contents that nothing refers to any more.
func (w *work) sweep() error {
	for more := !w.preview; more; {
		err := w.e.Store.Write(w.ctx, func(tx *store.Tx) (err error) {
			more, err = tx.SweepBodies(atOnce)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// atOnce is how many transactions are looked at before others may write.
const atOnce = 200

func (w *work) transactions() error {
	for after := (*store.ID)(nil); ; {
		rows, err := w.e.Store.OfFlow(w.flow, after, atOnce)
		if err != nil || len(rows) == 0 {
			return err
		}
		for i := range rows {
			if err := w.ctx.Err(); err != nil {
				return err
			}
			of, err := w.isOf(&rows[i])
			if err == nil && of {
				err = w.journey(rows[i].Root())
			}
			if err != nil {
				return err
			}
			w.note(func(v *View) { v.Looked++ })
		}
		after = &rows[len(rows)-1].ID
	}
}

// isOf tells whether a masked field of a message has the value.
func (w *work) isOf(t *store.Transaction) (is bool, err error) {
	err = w.e.Masked(t.ID, func(string) bool { return false }, func(values []string, _ []mask.Path) {
		is = is || slices.ContainsFunc(values, func(v string) bool { return strings.EqualFold(v, w.value) })
	})
	return is, err
}

// journey deals with all that came of a message, and with the groups that it is in.
func (w *work) journey(id store.ID) error {
	if err := w.one(id); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	for after := (*store.ID)(nil); ; {
		rows, err := w.e.Store.OfJourney(id, after, atOnce)
		if err != nil || len(rows) == 0 {
			return err
		}
		for i := range rows {
			if err := w.one(rows[i].ID); err != nil {
				return err
			}
		}
		after = &rows[len(rows)-1].ID
	}
}

// one deals with a transaction.
func (w *work) one(id store.ID) error {
	if w.seen[id] {
		return nil
	}
	w.seen[id] = true
	t, err := w.e.Store.Transaction(id)
	if err != nil {
		return err
	}
	groups, err := w.e.Store.Memberships(id)
	if err != nil {
		return err
	}
	for _, g := range groups {
		if err := w.one(g.GroupID); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	for after := (*store.ID)(nil); t.Parts > 0; {
		parts, err := w.e.Store.Parts(id, nil, after, atOnce)
		if err != nil {
			return err
		}
		if len(parts) == 0 {
			break
		}
		for i := range parts {
			if err := w.one(parts[i].ID); err != nil {
				return err
			}
		}
		after = &parts[len(parts)-1].ID
	}
	changed := t.State.Ended()
	if changed && !w.preview {
		if err := w.e.Store.Write(w.ctx, func(tx *store.Tx) error {
			changed, err = tx.EraseIn(id, w.hide)
			return err
		}); err != nil {
			return err
		}
	}
	w.note(func(v *View) {
		v.Found++
		if changed {
			v.Erased++
		} else if !t.State.Ended() {
			v.Left++
		}
	})
	return nil
}

// samples blanks the value in the samples of all flows: what one flow hands on is a sample of
// another.
func (w *work) samples() error {
	for _, f := range w.e.Catalog.Flows() {
		rows, err := w.e.Store.Samples(f.Name)
		if err != nil {
			return err
		}
		for i := range rows {
			s := &rows[i]
			if out := w.hide(string(s.Document)); out != string(s.Document) {
				s.Document = []byte(out)
				if err := w.save(s); err != nil {
					return err
				}
				w.note(func(v *View) { v.Samples++ })
			}
		}
	}
	if !w.preview {
		w.e.Announce(journal.EventFlows)
	}
	return nil
}

func (w *work) save(s *store.Sample) error {
	if w.preview {
		return nil
	}
	return w.e.Store.Write(w.ctx, func(tx *store.Tx) error { return tx.SaveSample(s) })
}
