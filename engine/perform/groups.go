package perform

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// gatherSome closes groups whose time has come, lets them go on and their members go, gives
// up gaps and ends waits. next is when the next of them is due.
func (p *Performers) gatherSome() (more bool, next time.Time, err error) {
	now := p.Now()
	due, errDue := p.Store.DueGroups(now, 50)
	closing, errClosing := p.Store.ClosingGroups(50)
	leaving, errLeaving := p.Store.LeavingGroups(20)
	late, errLate := p.Store.DueHeld(now, 20)
	over, errOver := p.Store.DueLimits(now, 20)
	if err := errors.Join(errDue, errClosing, errLeaving, errLate, errOver); err != nil {
		return false, next, err
	}
	// They are done together, so that they share a commit; each stands alone.
	var all sync.WaitGroup
	errs := make(chan error, len(due)+len(closing)+len(leaving)+len(late)+len(over))
	do := func(work func() error) { all.Go(func() { errs <- work() }) }
	ctx := p.Life.Context()
	for _, g := range due {
		do(func() error { return p.closeGroup(ctx, g.Flow, g.ID, "") })
	}
	for _, g := range closing {
		do(func() error { return p.closeGroup(ctx, g.Flow, g.ID, "") })
	}
	for _, g := range leaving {
		do(func() error {
			return p.Write(ctx, func(tx *store.Tx, n *journal.Notice) error { return p.leave(tx, n, g.ID) })
		})
	}
	for _, h := range late {
		do(func() error { return p.gapOver(ctx, h) })
	}
	for _, l := range over {
		do(func() error { return p.timeOver(ctx, &l) })
	}
	all.Wait()
	close(errs)
	for one := range errs {
		err = errors.Join(err, one)
	}
	if err != nil || cap(errs) > 0 {
		return err == nil, next, err
	}
	next, err = timeOf(p.Store.NextGather())
	return false, next, err
}

// closeGroup lets a group go on as a transaction of its own: one that has closed,
// one whose time is over, or with why one that somebody closes. Any other stays
// as it is.
func (p *Performers) closeGroup(ctx context.Context, flow string, id store.ID, why string) error {
	return p.Do(ctx, flow, func(s *journal.Session) error {
		g, err := p.Store.Group(id)
		if err != nil {
			return err
		}
		members := g.Members
		switch {
		case g.State == store.GroupClosing:
		case g.State != store.GroupOpen:
			return nil
		case why == "" && (g.CloseAt == nil || g.CloseAt.After(s.At)):
			return nil // another member has come meanwhile
		default:
			if g.Why = why; why == "" {
				g.Why = g.CloseWhy
			}
			g.ClosedAt, g.CloseAt = &s.At, nil
		}
		was := g.State
		s.Then(func(tx *store.Tx, n *journal.Notice) error {
			now, err := tx.Group(id)
			if err != nil || now.State != was || now.Members != members {
				return staleOr(err)
			}
			n.Gather, n.Events[journal.EventQueues], n.Events[journal.EventTransactions] = true, true, true
			g.State = store.GroupLeaving
			return tx.SaveGroup(&g)
		})
		if err := p.goOnAs(s, &g); err != nil {
			return err
		}
		s.Then(func(tx *store.Tx, n *journal.Notice) error {
			if err := tx.ForgetItems(id); err != nil { // they stand in its transaction now
				return err
			}
			return p.leave(tx, n, id)
		})
		return nil
	})
}

// goOnAs begins the transaction in which a group goes on.
func (p *Performers) goOnAs(s *journal.Session, g *store.Group) error {
	items, err := items(p.Store, g.ID, 0)
	if err != nil {
		return err
	}
	version, err := p.Catalog.Plan(g.Flow, g.Version)
	unreadable := errors.Is(err, catalog.ErrUnreadable)
	if err != nil && !unreadable {
		return err
	}
	list := message.NewList()
	list.Items = items
	t := store.Transaction{
		ID:         g.ID,
		Flow:       g.Flow,
		Version:    g.Version,
		Reference:  g.Key,
		ReceivedAt: *g.ClosedAt,
		FromGroup:  true,
	}
	content := jsonfmt.Encode(list)
	m := inner(t.ID, content, fmt.Sprintf("group %s, %d members", g.Key, g.Members))
	if !unreadable {
		err = s.Computes(t.Flow, content)
	}
	if failed := journal.CannotGoOn(err); err != nil && failed == nil {
		return err
	} else if failed != nil { // the others must not wait behind it
		failure := *failed
		s.Then(func(tx *store.Tx, n *journal.Notice) error { return s.DeadOnArrival(tx, n, &t, m, failure) })
		return nil
	}
	_, err = s.New(t, m, version, run.Input{Resume: journal.ResumeOf(g, items)}).Go()
	return err
}

// leaveBatch is how many members one database transaction lets go.
const leaveBatch = 30

// leave lets members of a closed group end, some at a time.
func (p *Performers) leave(tx *store.Tx, n *journal.Notice, id store.ID) error {
	members, err := tx.WaitingMembers(id, leaveBatch)
	if err != nil {
		return err
	}
	g, err := tx.Group(id)
	if err != nil {
		return err
	}
	for i := range members {
		if err := tx.MemberGone(&members[i]); err != nil {
			return err
		}
		w, err := p.Open(tx, n, members[i].Tx)
		if err != nil {
			return err
		}
		if g.Scope != "" && w.T.Parent != nil {
			if err := tx.GatherPart(*w.T.Parent, run.SplitOf(members[i].Path), -1); err != nil {
				return err
			}
		}
		w.T.Gathered = max(0, w.T.Gathered-1)
		if err := w.Settle(); err != nil {
			return err
		}
	}
	if len(members) == leaveBatch {
		n.Gather = true
		return nil
	}
	g.State = store.GroupClosed
	return tx.SaveGroup(&g)
}

// CloseGroup closes an open group because a person asks for it.
func (p *Performers) CloseGroup(ctx context.Context, id store.ID) error {
	there, err := p.ElsewhereDo(ctx, "groups", id, journal.Asked{What: journal.AskClose, ID: id})
	if there || err != nil {
		return err
	}
	g, err := p.Store.Group(id)
	if err != nil {
		return err
	}
	if g.State != store.GroupOpen {
		return fmt.Errorf("%w: the group %s has closed already, %s", journal.ErrDecision, g.Key, g.Why)
	}
	return p.closeGroup(ctx, g.Flow, id, "by a person")
}
