package design

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/plan"
	"readyferry/engine/journal"
	"readyferry/store"
)

// A version may take all messages, a share of them beside the live one, or wait for its time.
// Of each kind there is one at most; what becomes of versions is kept, with who did it.

// What became of a version, as its events say.
const (
	wentLive   = "live"
	forShare   = "share"
	isPlanned  = "planned"
	wasRevoked = "revoked" // it takes no share any more, or does not wait any more
)

// mostShare is of how many messages a share is one at most.
const mostShare = 10_000

// mayBegin refuses a time that has passed, and a share that cannot be told from the rest.
func (g *Designs) mayBegin(name string, p *plan.Plan, word *Word) error {
	switch {
	case word.Share != 0 && !word.At.IsZero():
		return fmt.Errorf("%w: a version takes a share at once, or all messages at a time", journal.ErrDecision)
	case !word.At.IsZero() && !word.At.After(g.Now()):
		return fmt.Errorf("%w: the time at which it is to go live has passed", journal.ErrDecision)
	case word.Share == 0:
		return nil
	case word.Share < 2 || word.Share > mostShare:
		return fmt.Errorf("%w: a share is one message in 2 to %d", journal.ErrDecision, mostShare)
	}
	f := g.Catalog.Flow(name)
	if f == nil || f.Live == nil {
		return fmt.Errorf("%w: no version is live that could take the rest", journal.ErrDecision)
	}
	was, is := f.Live.Document.Source.Root.Get("intake"), p.Document.Source.Root.Get("intake")
	if string(jsonfmt.Encode(was)) != string(jsonfmt.Encode(is)) {
		return fmt.Errorf("%w: its intake is another than that of the live version, and one intake serves both",
			journal.ErrDecision)
	}
	return nil
}

// begins puts a version of a flow to work as a word says, inside of the writer.
func (g *Designs) begins(tx *store.Tx, f *store.Flow, version int, p *plan.Plan, word *Word) error {
	now := g.Now()
	e := store.VersionEvent{Flow: f.Name, Version: version, At: now, By: word.By, What: wentLive, Note: word.Note}
	switch {
	case !word.At.IsZero():
		f.Planned, f.PlannedAt, e.What = version, &word.At, isPlanned
		e.Note = "at " + word.At.UTC().Format(time.RFC3339)
	case word.Share > 0:
		f.Trial, f.TrialOf, f.TrialAt, e.What = version, word.Share, &now, forShare
		e.Note = fmt.Sprintf("1 in %d", word.Share)
	default:
		f.Live, f.Trial, f.TrialOf, f.TrialAt, f.Planned, f.PlannedAt = version, 0, 0, nil, 0, nil
		if err := g.performers.Subscribe(tx, &p.Document.Intake); err != nil {
			return err
		}
	}
	if g.Catalog.Partitions > 1 && word.At.IsZero() {
		if err := tx.SetHome(f.Name, g.Catalog.NextHome(f.Name, p)); err != nil {
			return err
		}
	}
	if err := tx.AddVersionEvent(&e); err != nil {
		return err
	}
	return tx.SaveFlow(f)
}

// GoLive puts a published version to work for all messages: one that takes a share or waits
// for its time, or an earlier one again. Whatever takes a share or waits ends with that. The
// draft stays as it is. A version that could not be worked with today is refused with
// journal.ErrDecision.
func (g *Designs) GoLive(ctx context.Context, name string, version int, word Word) error {
	return g.goLive(ctx, name, version, word, func(*store.Flow) bool { return true })
}

func (g *Designs) goLive(ctx context.Context, name string, version int, word Word, still func(*store.Flow) bool) error {
	v, err := g.Store.Version(name, version)
	if err != nil {
		return err
	}
	files, err := g.Store.Files(name)
	if err != nil {
		return err
	}
	p, err := g.Catalog.Plan(name, version)
	if err != nil {
		return fmt.Errorf("%w: version %d cannot be put to work: %w", journal.ErrDecision, version, err)
	}
	for step, connection := range g.nowhere(p) {
		return fmt.Errorf("%w: version %d cannot be put to work: there is no connection %s, which its step %s uses",
			journal.ErrDecision, version, connection, step)
	}
	if err := g.leaves(name, &p.Document.Intake, word.Sure); err != nil {
		return err
	}
	if err := g.movesHome(name, p, word.Sure); err != nil {
		return err
	}
	word.At, word.Share = time.Time{}, 0
	err = g.Store.Write(ctx, func(tx *store.Tx) error {
		f, err := tx.Flow(name)
		if err != nil {
			return err
		}
		if !still(&f) {
			return journal.ErrConflict
		}
		if f.Edits = max(f.Edits, 1); v.Document == f.Draft && sameFiles(v.Files, files) {
			f.Edits = 0
		}
		return g.begins(tx, &f, version, p, &word)
	})
	if err != nil {
		return err
	}
	return g.Catalog.FlowChanged(name)
}

// Revoke ends what takes a share of messages, and what waits for its time: the live version
// takes all again.
func (g *Designs) Revoke(ctx context.Context, name, by string) error {
	return g.revoke(ctx, name, by, "")
}

func (g *Designs) revoke(ctx context.Context, name, by, note string) error {
	err := g.Store.Write(ctx, func(tx *store.Tx) error {
		f, err := tx.Flow(name)
		if err != nil {
			return err
		}
		for _, version := range []int{f.Trial, f.Planned} {
			if version == 0 {
				continue
			}
			e := store.VersionEvent{Flow: name, Version: version, At: g.Now(), By: by, What: wasRevoked, Note: note}
			if err := tx.AddVersionEvent(&e); err != nil {
				return err
			}
		}
		if f.Trial > 0 || f.Planned > 0 {
			f.Edits = max(f.Edits, 1) // the draft is not what is live
		}
		f.Trial, f.TrialOf, f.TrialAt, f.Planned, f.PlannedAt = 0, 0, nil, 0, nil
		return tx.SaveFlow(&f)
	})
	if err != nil {
		return err
	}
	g.plans.Wake()
	return g.Catalog.FlowChanged(name)
}

// goPlanned puts the versions to work whose time has come. One that cannot be any more is
// revoked, and its event says why.
func (g *Designs) goPlanned() (more bool, next time.Time, err error) {
	list, err := g.Store.PlannedVersions()
	if err != nil {
		return false, next, err
	}
	for i := range list {
		f := &list[i]
		if f.PlannedAt.After(g.Now()) {
			return false, *f.PlannedAt, nil
		}
		still := func(now *store.Flow) bool { return now.Planned == f.Planned && now.PlannedAt.Equal(*f.PlannedAt) }
		word := Word{By: "its time came", Sure: true}
		err := g.goLive(g.Life.Context(), f.Name, f.Planned, word, still)
		switch {
		case errors.Is(err, journal.ErrConflict): // somebody has decided otherwise
		case errors.Is(err, journal.ErrDecision):
			why := err.Error()
			g.Log.Error("a version could not go live at its time", "flow", f.Name, "version", f.Planned, "error", why)
			err = g.revoke(g.Life.Context(), f.Name, word.By, why)
			fallthrough
		default:
			if err != nil {
				return false, next, err
			}
		}
		more = true
	}
	return more, next, nil
}

// SharedOut is how the versions do between which messages are shared out.
type SharedOut struct {
	Version int              `json:"version"`
	Counts  map[string]int64 `json:"counts"` // messages since then by state
}

// sharedCounted is of how many messages at most a share is counted, the latest.
const sharedCounted = 10_000

// SharedOut counts what became of messages since a version of a flow takes a share.
func (g *Designs) SharedOut(name string) ([]SharedOut, error) {
	f, err := g.Store.Flow(name)
	if err != nil || f.Trial == 0 || f.TrialAt == nil {
		return []SharedOut{}, err
	}
	rows, err := g.Store.All().VersionCounts(name, *f.TrialAt, sharedCounted)
	if err != nil {
		return nil, err
	}
	out := []SharedOut{{f.Live, map[string]int64{}}, {f.Trial, map[string]int64{}}}
	for _, r := range rows {
		if i := slices.IndexFunc(out, func(o SharedOut) bool { return o.Version == r.Version }); i >= 0 {
			out[i].Counts[r.State.String()] += r.N
		}
	}
	return out, nil
}
