// Package repair makes one decision about many: hundreds of dead letters of one cause, or of
// several, or transactions that are to be sent once more.
//
// A decision is first looked at: every letter is walked under it, and its whole outcome is
// counted, before anything is sent (Look). Carried out, it is a repair: it goes on by itself
// at the pace that was asked for, over restarts and crashes, can be stopped at any time, and
// its report stays. Each letter is sent again in the same commit that notes it as done, so a
// crash anywhere neither forgets one nor sends one twice.
package repair

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"readyferry/engine/journal"
	"readyferry/engine/watch"
	"readyferry/store"
)

// Repairs looks at decisions about many and carries them out.
type Repairs struct {
	*journal.Journal
	watch *watch.Watch
	// answers tells whether a connection answers now; it asks it.
	answers func(ctx context.Context, connection string) bool

	mu      sync.Mutex
	looks   []*look
	running map[store.ID]context.CancelFunc
	wake    chan struct{}
}

// New makes a repairer. answers tells whether a connection answers now.
func New(w *watch.Watch, answers func(ctx context.Context, connection string) bool) *Repairs {
	return &Repairs{
		Journal: w.Journal,
		watch:   w,
		answers: answers,
		running: map[store.ID]context.CancelFunc{},
		wake:    make(chan struct{}, 1),
	}
}

// Most is how many letters or transactions one decision may concern.
const Most = 100_000

// Choice says what a decision is about: named letters, those of one cause, those that a
// filter finds, or transactions.
type Choice struct {
	IDs          []store.ID
	Cause        string
	Letters      *store.LetterFilter
	Transactions *watch.Found
	// TransactionIDs names transactions.
	TransactionIDs []store.ID
}

// Order is a decision about many, and how it is carried out.
type Order struct {
	Choice   Choice
	What     string // resend, discard or again
	Decision journal.Decision
	NewKeys  bool // again: deliveries have keys of their own, so that targets take them for new ones
	Pace     int  // a second; 0 for as fast as it goes
	BeginAt  time.Time
	Nightly  bool
	When     string // a connection that has to answer first
	Most     int
}

// kept is an order as it stands in the file.
type kept struct {
	Version string           `json:"version,omitempty"`
	Patch   json.RawMessage  `json:"patch,omitempty"`
	Message []byte           `json:"message,omitempty"`
	Tree    []byte           `json:"tree,omitempty"`
	Replace *journal.Replace `json:"replace,omitempty"`
	Map     json.RawMessage  `json:"map,omitempty"`
	Insist  bool             `json:"insist,omitempty"`
	Why     string           `json:"why,omitempty"`
	NewKeys bool             `json:"newKeys,omitempty"`
}

func (o *Order) encode() ([]byte, error) {
	d := &o.Decision
	return json.Marshal(kept{d.Version, d.Patch, d.Message, d.Tree, d.Replace, d.Map, d.Insist, d.Why, o.NewKeys})
}

// decide gives the decision of a repair, about nothing yet.
func decide(r *store.Repair) (d journal.Decision, newKeys bool, err error) {
	var k kept
	if err := json.Unmarshal(r.Decision, &k); err != nil {
		return d, false, err
	}
	return journal.Decision{Version: k.Version, Patch: k.Patch, Message: k.Message, Tree: k.Tree, Replace: k.Replace,
		Map: k.Map, Insist: k.Insist, Why: k.Why, By: r.By}, k.NewKeys, nil
}

// chosen lists what a choice finds, at most Most; the letters of one message stand together.
func (r *Repairs) chosen(ctx context.Context, c Choice) (items []store.RepairItem, err error) {
	add := func(letter *store.ID, tx store.ID) {
		items = append(items, store.RepairItem{N: int64(len(items) + 1), Letter: letter, Tx: tx})
	}
	switch {
	case c.TransactionIDs != nil:
		for _, id := range c.TransactionIDs {
			if _, err := r.Store.All().Transaction(id); err != nil {
				return nil, fmt.Errorf("transaction %s: %w", id, err)
			}
			add(nil, id)
		}
	case c.Transactions != nil:
		f := *c.Transactions
		f.Limit = 1000
		for len(items) < Most && ctx.Err() == nil {
			rows, err := r.watch.List(f)
			if err != nil {
				return nil, err
			}
			for i := range rows {
				add(nil, rows[i].ID)
			}
			if len(rows) < f.Limit {
				break
			}
			f.After = &rows[len(rows)-1].ID
		}
	case c.IDs != nil:
		for _, id := range c.IDs {
			l, err := r.Store.All().Letter(id)
			if err != nil {
				return nil, fmt.Errorf("dead letter %s: %w", id, err)
			}
			add(&l.ID, l.Tx)
		}
	default:
		f := store.LetterFilter{Cause: c.Cause}
		if c.Letters != nil {
			f = *c.Letters
		}
		f.Limit = 1000
		for len(items) < Most && ctx.Err() == nil {
			rows, err := r.Store.All().Letters(f)
			if err != nil {
				return nil, err
			}
			for i := range rows {
				add(&rows[i].ID, rows[i].Tx)
			}
			if len(rows) < f.Limit {
				break
			}
			f.After = &rows[len(rows)-1].ID
		}
	}
	if len(items) > Most {
		items = items[:Most]
	}
	return items, ctx.Err()
}

// Begin carries an order out, or plans it. What it is about is chosen now.
func (r *Repairs) Begin(ctx context.Context, o Order) (*store.Repair, error) {
	items, err := r.chosen(ctx, o.Choice)
	if err != nil {
		return nil, err
	}
	if len(items) == 0 {
		return nil, fmt.Errorf("%w: there is nothing that it is about", journal.ErrDecision)
	}
	if err := r.check(&o, items); err != nil {
		return nil, err
	}
	decision, err := o.encode()
	if err != nil {
		return nil, err
	}
	row := &store.Repair{
		ID:       store.NewID(),
		What:     o.What,
		Title:    r.title(&o, items),
		By:       o.Decision.By,
		Decision: decision,
		Pace:     o.Pace,
		Total:    int64(len(items)),
		At:       r.Now(),
		State:    store.RepairRunning,
		Nightly:  o.Nightly,
		When:     o.When,
		Most:     o.Most,
	}
	if o.BeginAt.After(row.At) {
		at := o.BeginAt.UTC()
		row.State, row.BeginAt = store.RepairPlanned, &at
	}
	if o.When != "" {
		row.State = store.RepairPlanned
	}
	for i := range items {
		items[i].Repair = row.ID
	}
	if err := r.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		n.Events[journal.EventDeadLetters] = true
		return tx.AddRepair(row, items)
	}); err != nil {
		return nil, err
	}
	r.rouse()
	return row, nil
}

// check refuses an order that cannot be carried out.
func (r *Repairs) check(o *Order, items []store.RepairItem) error {
	d := o.Decision
	for i := range items {
		if items[i].Letter != nil {
			d.IDs = append(d.IDs, *items[i].Letter)
		} else {
			d.IDs = append(d.IDs, items[i].Tx)
		}
	}
	switch {
	case o.What != "resend" && o.What != "discard" && o.What != "again":
		return fmt.Errorf("%w: what must be resend, discard or again, not %q", journal.ErrDecision, o.What)
	case (o.What == "again") != (items[0].Letter == nil):
		return fmt.Errorf("%w: dead letters are resent or discarded, transactions are sent again", journal.ErrDecision)
	case d.Version == "draft":
		return fmt.Errorf("%w: a draft changes, so nothing can be sent under it; publish it first", journal.ErrDecision)
	case o.Pace < 0 || o.Most < 0:
		return fmt.Errorf("%w: a pace and a number must not be below 0", journal.ErrDecision)
	case o.When != "" && r.Catalog.Connection(o.When) == nil:
		return fmt.Errorf("%w: there is no connection %q", journal.ErrDecision, o.When)
	case o.Nightly && o.BeginAt.IsZero():
		return fmt.Errorf("%w: it is not said at what time of the day it begins", journal.ErrDecision)
	}
	_, err := d.Check()
	return err
}

// title says in words what an order is about.
func (r *Repairs) title(o *Order, items []store.RepairItem) string {
	if items[0].Letter == nil {
		t, err := r.Store.All().Transaction(items[0].Tx)
		if err != nil {
			return "transactions"
		}
		return "transactions of " + t.Flow
	}
	l, err := r.Store.All().Letter(*items[0].Letter)
	switch {
	case err != nil:
		return "dead letters"
	case o.Choice.Cause != "" || len(items) == 1:
		return l.Flow + ": " + l.CauseText
	}
	return "dead letters of " + l.Flow
}

// Stop ends a repair; what it has done stays, and it can go on later.
func (r *Repairs) Stop(ctx context.Context, id store.ID) error {
	r.mu.Lock()
	if stop := r.running[id]; stop != nil {
		stop()
	}
	r.mu.Unlock()
	return r.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		row, err := tx.Repair(id)
		if err != nil {
			return err
		}
		if row.State == store.RepairDone {
			return fmt.Errorf("%w: it is at its end", journal.ErrDecision)
		}
		at := r.Now()
		row.State, row.EndedAt = store.RepairStopped, &at
		n.Events[journal.EventDeadLetters] = true
		return tx.SaveRepair(&row)
	})
}

// Resume lets a repair go on that was stopped, or begin now that was planned.
func (r *Repairs) Resume(ctx context.Context, id store.ID) error {
	err := r.Write(ctx, func(tx *store.Tx, n *journal.Notice) error {
		row, err := tx.Repair(id)
		if err != nil {
			return err
		}
		if row.State != store.RepairStopped && row.State != store.RepairPlanned {
			return fmt.Errorf("%w: it is %s", journal.ErrDecision, row.State)
		}
		row.When, row.BeginAt, row.Nightly, row.Most = "", nil, false, 0
		n.Events[journal.EventDeadLetters] = true
		if err := tx.SaveRepair(&row); err != nil {
			return err
		}
		return tx.BeginRepair(id)
	})
	r.rouse()
	return err
}

func (r *Repairs) rouse() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// ended tells whether an error says that the application stops, and nothing of the work.
func ended(err error) bool {
	return errors.Is(err, store.ErrClosed) || errors.Is(err, context.Canceled)
}
