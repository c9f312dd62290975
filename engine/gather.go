package engine

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/group"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// join makes a message a member of its group, or says why not.
func (w *walking) join(want *step.Want) (effect step.Effect, failure *step.Failure, err error) {
	j, path := want.Join, run.GroupPath(want.Path)
	rules, now := j.Rules, w.e.clock()
	scope := ""
	if split := run.SplitOf(want.Path); rules.Parts != "" && w.t.Parent != nil && split != "" {
		scope = scopeOf(*w.t.Parent, split)
	}
	g, err := w.tx.OpenGroup(w.t.Flow, path, scope, j.Key)
	switch {
	case errors.Is(err, ErrNotFound):
		if g, effect, failure, err = w.newGroup(j, path, scope, now); err != nil || failure != nil || effect.Refused != "" {
			return effect, failure, err
		}
	case err != nil:
		return effect, nil, err
	}
	m := &store.Member{GroupID: g.ID, N: g.Members + 1, Tx: w.t.ID, Path: want.Path, Item: jsonfmt.Encode(j.Item), At: now}
	if j.Unique != nil {
		sum := sha256.Sum256([]byte(*j.Unique))
		m.UniqueKey = sum[:16]
		if has, err := w.tx.HasMember(g.ID, m.UniqueKey); has || err != nil {
			return step.Effect{Refused: fmt.Sprintf("the group %s has a member %s already", j.Key, *j.Unique)}, nil, err
		}
	}
	if full := rules.Full(g.Members, g.Bytes, int64(len(m.Item))); full != "" {
		return effect, run.FullGroup(j.Key, full), nil
	}
	seen := &group.Group{Key: g.Key, Count: g.Members + 1, OpenedAt: g.OpenedAt, LastAt: now, Newest: j.Item, Awaited: -1}
	if rules.NeedsItems {
		items, err := w.tx.Items(g.ID)
		if err != nil {
			return effect, nil, err
		}
		for _, b := range append(items, m.Item) {
			r, err := jsonfmt.Decode(b)
			if err != nil {
				return effect, nil, err
			}
			seen.Items = append(seen.Items, r.Root)
		}
	}
	why, err := rules.Closes(seen)
	if err != nil {
		return effect, &step.Failure{Phase: "close/when", Class: step.Data, Reason: err.Error()}, nil
	}
	if g.Late {
		why = "an addition"
	}
	g.Members, g.LastAt, g.Bytes, g.Version = m.N, now, g.Bytes+int64(len(m.Item)), max(g.Version, w.t.Version)
	if at, closeWhy := rules.Deadline(g.OpenedAt, now); !at.IsZero() {
		g.CloseAt, g.CloseWhy = &at, closeWhy
	}
	if err := w.tx.SaveGroup(&g); err != nil {
		return effect, nil, err
	}
	if added, err := w.tx.AddMember(m); err != nil || !added {
		return effect, nil, errors.Join(err, fmt.Errorf("member %d of %s is there already", m.N, g.ID))
	}
	w.t.Gathered++
	w.t.Idle = true
	w.t.GatherPlace, w.t.GatherText = want.Path, "group "+j.Key
	w.after.gather, w.after.events[TopicQueues] = true, true
	effect = step.Effect{Group: g.ID.String(), Said: fmt.Sprintf("member %d of %s", m.N, j.Key)}
	if why != "" {
		effect.Said += ", which closes " + why
		w.next = append(w.next, func() error { return w.e.closeGroup(w.tx, g.ID, why, w.after) })
	}
	if scope == "" {
		return effect, nil, nil
	}
	parent, split := *w.t.Parent, run.SplitOf(want.Path)
	if err := w.tx.GatherPart(parent, split, 1); err != nil {
		return effect, nil, err
	}
	w.next = append(w.next, func() error {
		s, err := w.tx.Split(parent, split)
		if err != nil {
			return err
		}
		return w.e.allParts(w.tx, &s, w.after)
	})
	return effect, nil, nil
}

// newGroup opens a group for a key that has none, unless the member is late.
func (w *walking) newGroup(j *step.Join, path, scope string, now time.Time) (g store.Group, effect step.Effect, failure *step.Failure, err error) {
	late := false
	if j.Rules.Late != group.NewGroup {
		last, err := w.tx.ClosedGroup(w.t.Flow, path, scope, j.Key, now.Add(-j.Rules.LateFor))
		switch {
		case errors.Is(err, ErrNotFound):
		case err != nil:
			return g, effect, nil, err
		case j.Rules.Late == group.TurnAway:
			return g, step.Effect{Refused: run.LateReason(j.Key, *last.ClosedAt)}, nil, nil
		default:
			late = true
		}
	}
	open, err := w.tx.CountOpenGroups(w.t.Flow, path, j.Rules.Groups)
	if err != nil {
		return g, effect, nil, err
	}
	if open >= j.Rules.Groups {
		return g, effect, &step.Failure{Phase: "groups", Class: step.Target, Reason: fmt.Sprintf("%d groups are open, which is the limit; raise groups, or close some", open)}, nil
	}
	return store.Group{ID: store.NewID(), Flow: w.t.Flow, Path: path, Scope: scope, Key: j.Key, Version: w.t.Version, OpenedAt: now, LastAt: now, Late: late}, effect, nil, nil
}

func scopeOf(parent store.ID, split string) string { return parent.String() + " " + split }

// allParts lets the groups close that wait for all parts of a split, when no
// more can come. There may be many, so that the gatherer does it.
func (e *Engine) allParts(tx *store.Tx, s *store.Split, after *aftermath) error {
	if s.Next < s.Total || s.Awaited() > 0 {
		return nil
	}
	after.gather = true
	if err := tx.AllGathered(s); err != nil { // so that it is asked for once
		return err
	}
	return tx.CloseScope(scopeOf(s.Tx, s.Path), e.clock(), "all parts are here")
}

// closeGroup closes an open group: it goes on as a transaction of its own, in
// this database transaction. A group that has closed already stays as it is.
func (e *Engine) closeGroup(tx *store.Tx, id store.ID, why string, after *aftermath) error {
	g, err := tx.Group(id)
	if err != nil || g.State != store.GroupOpen {
		return err
	}
	now := e.clock()
	g.State, g.ClosedAt, g.Why, g.CloseAt = store.GroupLeaving, &now, why, nil
	if err := tx.SaveGroup(&g); err != nil {
		return err
	}
	items, err := tx.Items(id)
	if err != nil {
		return err
	}
	list := message.NewList()
	for _, b := range items {
		r, err := jsonfmt.Decode(b)
		if err != nil {
			return fmt.Errorf("an item of group %s: %w", id, err)
		}
		list.Items = append(list.Items, r.Root)
	}
	p, err := e.plan(g.Flow, g.Version)
	if err != nil {
		return err
	}
	empty := []byte("[]")
	t := &store.Transaction{ID: g.ID, Flow: g.Flow, Version: g.Version, Reference: g.Key, ReceivedAt: now, FromGroup: true}
	m := &store.Message{Tx: t.ID, Body: jsonfmt.Encode(list), Headers: empty, Params: empty, Query: empty, Warnings: empty, Source: fmt.Sprintf("group %s, %d members", g.Key, g.Members)}
	if err := tx.AddTransaction(t, m); err != nil {
		return err
	}
	if err := tx.ForgetItems(id); err != nil {
		return err
	}
	w := &walking{e: e, tx: tx, t: t, p: p, after: after, fresh: true}
	w.input = run.Input{Resume: resumeOf(&g, list.Items), Effects: map[string]step.Effect{}}
	after.gather, after.events[TopicQueues], after.events[TopicTransactions] = true, true, true
	if _, err := w.advance(nil); err != nil {
		return err
	}
	return e.leave(tx, id, after)
}

// resumeOf gives the place at which a closed group goes on.
func resumeOf(g *store.Group, items []*message.Node) *run.Resume {
	c := &step.Closed{Key: g.Key, Items: items, OpenedAt: g.OpenedAt, ClosedAt: *g.ClosedAt, Why: g.Why, Late: g.Late}
	return &run.Resume{Path: g.Path, Message: run.GroupMessage(g.ID.String(), c), Group: c}
}

// groupOf reads the place at which the transaction of a group goes on.
func (e *Engine) groupOf(j journal, t *store.Transaction, m *store.Message) (*run.Resume, error) {
	g, err := j.Group(t.ID)
	if err != nil {
		return nil, fmt.Errorf("the group of %s: %w", t.ID, err)
	}
	r, err := jsonfmt.Decode(m.Body)
	if err == nil && r.Root.Kind != message.List {
		err = fmt.Errorf("it is a %s, not the list of the group's items", r.Root.Kind)
	}
	if err != nil {
		return nil, &run.RefusedError{Status: 400, Title: "The group cannot be read", Detail: err.Error()}
	}
	return resumeOf(&g, r.Root.Items), nil
}

// leaveBatch is how many members one database transaction lets go.
const leaveBatch = 100

// leave lets members of a closed group end, some at a time.
func (e *Engine) leave(tx *store.Tx, id store.ID, after *aftermath) error {
	members, err := tx.WaitingMembers(id, leaveBatch)
	if err != nil {
		return err
	}
	g, err := tx.Group(id)
	if err != nil {
		return err
	}
	for i := range members {
		if g.Scope != "" {
			if err := e.leaveSplit(tx, members[i].Tx, members[i].Path); err != nil {
				return err
			}
		}
		if err := tx.MemberGone(&members[i]); err != nil {
			return err
		}
		if err := e.waitsNoMore(tx, members[i].Tx, after); err != nil {
			return err
		}
	}
	if len(members) == leaveBatch {
		after.gather = true
		return nil
	}
	g.State = store.GroupClosed
	return tx.SaveGroup(&g)
}

// leaveSplit notes that a part does not wait for its siblings any more.
func (e *Engine) leaveSplit(tx *store.Tx, member store.ID, path string) error {
	t, err := tx.Transaction(member)
	if err != nil || t.Parent == nil {
		return err
	}
	return tx.GatherPart(*t.Parent, run.SplitOf(path), -1)
}

// waitsNoMore settles a transaction that has waited in a group.
func (e *Engine) waitsNoMore(tx *store.Tx, id store.ID, after *aftermath) error {
	t, err := tx.Transaction(id)
	if err != nil {
		return err
	}
	p, err := e.plan(t.Flow, t.Version)
	if err != nil {
		return err
	}
	t.Gathered = max(0, t.Gathered-1)
	rows, err := tx.Deliveries(id)
	if err != nil {
		return err
	}
	w := &walking{e: e, tx: tx, t: &t, p: p, after: after}
	return w.settle(nil, pointersTo(rows))
}

func pointersTo(rows []store.Delivery) []*store.Delivery {
	out := make([]*store.Delivery, len(rows))
	for i := range rows {
		out[i] = &rows[i]
	}
	return out
}

// CloseGroup closes an open group because a person asks for it.
func (e *Engine) CloseGroup(ctx context.Context, id store.ID) error {
	after := newAftermath()
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		*after = *newAftermath()
		g, err := tx.Group(id)
		if err != nil {
			return err
		}
		if g.State != store.GroupOpen {
			return fmt.Errorf("%w: the group %s has closed already, %s", ErrDecision, g.Key, g.Why)
		}
		return e.closeGroup(tx, id, "by a person", after)
	})
	if err == nil {
		e.after(after)
	}
	return err
}

// OpenGroup is an open group as people see it.
type OpenGroup struct {
	store.Group
	Missing []string // what it waits for, in words, besides time
	In      int      // members that have come in the last minute
}

// OpenGroups lists open groups with what they wait for.
func (e *Engine) OpenGroups(flow string, after *store.ID, limit int) ([]OpenGroup, error) {
	rows, err := e.store.OpenGroups(flow, after, limit)
	if err != nil {
		return nil, err
	}
	out := make([]OpenGroup, len(rows))
	for i, g := range rows {
		out[i] = OpenGroup{Group: g, Missing: []string{}}
		if out[i].In, err = e.store.CountSince(g.ID, e.clock().Add(-time.Minute), 1000); err != nil {
			return nil, err
		}
		p, err := e.plan(g.Flow, g.Version)
		if err != nil {
			continue // its flow can no longer be read; the group is there all the same
		}
		if rules := rulesAt(p, g.Path); rules != nil {
			seen := &group.Group{Key: g.Key, Count: g.Members, OpenedAt: g.OpenedAt, LastAt: g.LastAt, Awaited: -1}
			if out[i].Missing = append(out[i].Missing, rules.Missing(seen)...); rules.Parts != "" && g.Scope != "" {
				out[i].Missing = append(out[i].Missing, "the other parts of "+rules.Parts)
			}
		}
	}
	return out, nil
}

func rulesAt(p *plan.Plan, path string) *group.Rules {
	if s := run.StepAt(p, path); s != nil {
		return step.RulesOf(s)
	}
	return nil
}
