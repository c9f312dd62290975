// Package audit keeps what people, keys and the command line have done: who, when, from
// where, what, on which thing, how it was and what was asked for. Secrets and the
// contents of messages are never part of it.
//
// It promises that it only grows: a line hangs on the one before it by a mark that only
// this folder's key can make (see store.AuditLine), and what changes something in the
// file is in it by the same commit. Lines are let go by Keep alone, the
// oldest first.
package audit

import (
	"context"
	"encoding/json"
	"io"
	"time"

	"readyferry/core/access"
	"readyferry/store"
)

// Line, Query and Fault are as the store has them.
type (
	Line  = store.AuditLine
	Query = store.AuditQuery
	Fault = store.AuditFault
	Deed  = store.Deed
)

// Done is the result of what was done.
const Done = "done"

// UsualKeep is how long lines are kept.
const UsualKeep = 400 * 24 * time.Hour

// Audit is safe for concurrent use.
type Audit struct {
	store *store.Store
	now   func() time.Time
}

// New makes it.
func New(s *store.Store, now func() time.Time) *Audit { return &Audit{s, now} }

// Begin makes a deed of somebody, whose line is written with the first write on its behalf.
func (a *Audit) Begin(ctx context.Context, w *access.Who, what string, t access.Thing) (context.Context, *Deed) {
	d := &Deed{AuditLine: Line{At: a.now(), Who: w.String(), What: what, Area: t.Area, Result: Done}}
	if w != nil {
		d.Kind, d.Source = string(w.Kind), w.From
	}
	if t.Kind != "" {
		d.Thing = t.Kind + ":" + t.Name
	}
	return store.WithDeed(ctx, d), d
}

// End writes the line of a deed that has written nothing: it was refused, or changed nothing
// in the file.
func (a *Audit) End(ctx context.Context, d *Deed, result string) error {
	if d.Written {
		return nil
	}
	d.Result, d.Written = result, true
	return a.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.AuditDeed(a.store, d) })
}

// Lines gives lines, the newest first.
func (a *Audit) Lines(q Query) ([]Line, error) { return a.store.AuditLines(q) }

// Verify walks the whole chain and says where it does not hold.
func (a *Audit) Verify(most int) (lines int64, faults []Fault, err error) {
	return a.store.VerifyAudit(most)
}

// Keep removes lines that are older than a span, and leaves one that says so.
func (a *Audit) Keep(ctx context.Context, w *access.Who, span time.Duration) error {
	before := a.now().Add(-span)
	old, err := a.store.AuditBegins()
	if err != nil || old.IsZero() || !old.Before(before) {
		return err
	}
	ctx, _ = a.Begin(ctx, w, "lines of the audit are let go", access.Thing{Kind: "before",
		Name: before.Format(time.DateOnly)})
	return a.store.Write(ctx, func(tx *store.Tx) error { return tx.LetAuditGo(before) })
}

// Shown is a line as people and programs read it.
type Shown struct {
	N      int64           `json:"line"`
	At     time.Time       `json:"at"`
	Who    string          `json:"who"`
	Kind   string          `json:"kind"`
	From   string          `json:"from"`
	What   string          `json:"what"`
	Thing  string          `json:"thing"`
	Area   string          `json:"area"`
	Result string          `json:"result"`
	Before json.RawMessage `json:"before"`
	After  json.RawMessage `json:"after"`
	Mark   []byte          `json:"mark"`
}

// Show gives a line as people and programs read it.
func Show(l *Line) Shown {
	return Shown{l.N, l.At, l.Who, l.Kind, l.Source, l.What, l.Thing, l.Area, l.Result, orNull(l.Before),
		orNull(l.After), l.Mark}
}

func orNull(b []byte) json.RawMessage {
	if len(b) == 0 {
		return json.RawMessage("null")
	}
	return b
}

// exportedAtOnce is how many lines are read at once.
const exportedAtOnce = 1000

// Export writes lines as JSON lines, the newest first, until whoever reads has gone.
func (a *Audit) Export(ctx context.Context, w io.Writer, q Query) error {
	out := json.NewEncoder(w)
	q.Limit = exportedAtOnce
	for ctx.Err() == nil {
		some, err := a.Lines(q)
		if err != nil {
			return err
		}
		for i := range some {
			if err := out.Encode(Show(&some[i])); err != nil {
				return err
			}
		}
		if len(some) < exportedAtOnce {
			return nil
		}
		q.Before = some[len(some)-1].N
	}
	return ctx.Err()
}
