package perform

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"sync"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/group"
	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
)

// join makes a message a member of its group. Whether the group closes with it
// is worked out outside of the writer, over the group as it will be then.
type join struct{ *Performers }

// groupKey is where messages meet.
type groupKey struct{ flow, path, scope, key string }

// meeting is a group as a session sees it: with the members that this session is
// going to add.
type meeting struct {
	store.Group                 // as it will be
	open        bool            // it was there, or this session opens it
	items       []*message.Node // only where the rules look at them
	late        *store.Group    // the one that closed last, when that was not long ago
	unique      map[[16]byte]bool
	opened      int // groups of the step that are open
}

// joining is what one member comes to.
type joining struct {
	group  store.Group // with this member
	before int         // members before it; -1: it opens the group
	member store.Member
	why    string // it closes the group
}

func keyOf(v *store.Transaction, asked want.Asked) groupKey {
	j := asked.Want.(*want.Join)
	k := groupKey{flow: v.Flow, path: run.GroupPath(asked.Path), key: j.Key}
	if split := run.SplitOf(asked.Path); j.Rules.Parts != "" && v.Parent != nil && split != "" {
		k.scope = journal.Scope(*v.Parent, split)
	}
	return k
}

// Foresee implements journal.Performer.
func (p join) Foresee(v *journal.Move, asked want.Asked) (journal.Outcome, error) {
	j, k := asked.Want.(*want.Join), keyOf(&v.Tx, asked)
	g, err := journal.Keep(v.Session, k, func() (*meeting, error) { return p.meet(v.Session, k, j.Rules) })
	if err != nil {
		return journal.Outcome{}, err
	}
	if u := uniqueOf(j); u != nil && g.open {
		has, err := p.Store.HasMember(g.ID, u)
		if err != nil {
			return journal.Outcome{}, err
		}
		g.unique[[16]byte(u)] = g.unique[[16]byte(u)] || has
	}
	item := jsonfmt.Encode(j.Item)
	if o, ends := g.refuses(k, j, int64(len(item))); ends {
		return o, nil
	}
	now, next := v.Session.At, g.Group
	made := joining{before: g.Members}
	if !g.open {
		made.before = -1
		next = store.Group{
			ID:       store.NewID(),
			Flow:     k.flow,
			Path:     k.path,
			Scope:    k.scope,
			Key:      k.key,
			Version:  v.Tx.Version,
			OpenedAt: now,
			Late:     g.late != nil && j.Rules.Late == group.Add,
		}
	}
	items := g.items
	if j.Rules.NeedsItems {
		items = append(items[:len(items):len(items)], j.Item)
	}
	made.why, err = j.Rules.Closes(
		&group.Group{
			Key:      k.key,
			Count:    next.Members + 1,
			OpenedAt: next.OpenedAt,
			LastAt:   now,
			Newest:   j.Item,
			Items:    items,
			Awaited:  -1,
		},
	)
	if err != nil {
		return journal.Outcome{Failure: &step.Failure{Phase: "close/when", Class: step.Data, Reason: err.Error()}}, nil
	}
	if next.Late {
		made.why = "an addition"
	}
	next.Members, next.LastAt, next.Bytes, next.Version = next.Members+1, now, next.Bytes+int64(
		len(item),
	), max(
		next.Version,
		v.Tx.Version,
	)
	if at, closeWhy := j.Rules.Deadline(next.OpenedAt, now); !at.IsZero() {
		next.CloseAt, next.CloseWhy = &at, closeWhy
	}
	made.group = next
	made.member = store.Member{
		GroupID:   next.ID,
		N:         next.Members,
		Tx:        v.Tx.ID,
		Path:      asked.Path,
		Item:      item,
		At:        now,
		UniqueKey: uniqueOf(j),
	}
	g.takes(next, items, made)
	said := fmt.Sprintf("member %d of %s", next.Members, k.key)
	if made.why != "" {
		said += ", which closes " + made.why
	}
	return journal.Outcome{Effect: &want.Effect{Group: next.ID.String(), Said: said}, Data: &made}, nil
}

func uniqueOf(j *want.Join) []byte {
	if j.Unique == nil {
		return nil
	}
	sum := sha256.Sum256([]byte(*j.Unique))
	return sum[:16]
}

// meet reads the group of a key.
func (p join) meet(s *journal.Session, k groupKey, rules *group.Rules) (*meeting, error) {
	g := &meeting{unique: map[[16]byte]bool{}}
	var err error
	switch g.Group, err = p.Store.OpenGroup(k.flow, k.path, k.scope, k.key); {
	case errors.Is(err, store.ErrNotFound):
		return g, p.lateOrNew(s, g, k, rules)
	case err != nil:
		return nil, err
	}
	g.open = true
	if rules.NeedsItems {
		g.items, err = p.gathered.get(p.Store, &g.Group)
	}
	return g, err
}

// lateOrNew reads what decides about a member for which no group is open.
func (p join) lateOrNew(s *journal.Session, g *meeting, k groupKey, rules *group.Rules) error {
	if rules.Late != group.NewGroup {
		last, err := p.Store.ClosedGroup(k.flow, k.path, k.scope, k.key, s.At.Add(-rules.LateFor))
		if err == nil {
			g.late = &last
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	var err error
	g.opened, err = p.Store.CountOpenGroups(k.flow, k.path, rules.Groups)
	return err
}

// items gives the items of a group behind a member, decoded.
func items(v *store.Store, id store.ID, after int) ([]*message.Node, error) {
	rows, err := v.Items(id, after)
	if err != nil {
		return nil, err
	}
	out := make([]*message.Node, len(rows))
	for i, b := range rows {
		r, err := jsonfmt.Decode(b)
		if err != nil {
			return nil, fmt.Errorf("an item of group %s: %w", id, err)
		}
		out[i] = r.Root
	}
	return out, nil
}

// gatheredItems keeps the decoded items of the groups that were joined last, so that
// a condition over all of them does not read them again with each member. Members
// only ever come behind those that are there.
type gatheredItems struct {
	mu     sync.Mutex
	groups []itemsOf // the one used last is the last
}

type itemsOf struct {
	id    store.ID
	items []*message.Node
}

// What is kept: so many groups, and none larger than this, in bytes as JSON.
const (
	gatheredGroups = 16
	gatheredBytes  = 4 << 20
)

func newGatheredItems() *gatheredItems { return &gatheredItems{} }

// get gives all items of an open group.
func (k *gatheredItems) get(v *store.Store, g *store.Group) ([]*message.Node, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	own := itemsOf{id: g.ID}
	if i := slices.IndexFunc(k.groups, func(o itemsOf) bool { return o.id == g.ID }); i >= 0 {
		own = k.groups[i]
		k.groups = slices.Delete(k.groups, i, i+1)
	}
	if len(own.items) < g.Members {
		more, err := items(v, g.ID, len(own.items))
		if err != nil {
			return nil, err
		}
		own.items = append(own.items[:len(own.items):len(own.items)], more...)
	}
	if g.Bytes <= gatheredBytes {
		if k.groups = append(k.groups, own); len(k.groups) > gatheredGroups {
			k.groups = slices.Delete(k.groups, 0, 1)
		}
	}
	return own.items[:min(len(own.items), g.Members)], nil
}

// refuses tells why a message does not become a member.
func (g *meeting) refuses(k groupKey, j *want.Join, size int64) (journal.Outcome, bool) {
	switch {
	case !g.open && g.late != nil && j.Rules.Late == group.TurnAway:
		return journal.Outcome{Effect: &want.Effect{Refused: run.LateReason(k.key, *g.late.ClosedAt)}}, true
	case !g.open && g.opened >= j.Rules.Groups:
		return journal.Outcome{
			Failure: &step.Failure{
				Phase:  "groups",
				Class:  step.Target,
				Reason: fmt.Sprintf("%d groups are open, which is the limit; raise groups, or close some", g.opened),
			},
		}, true
	}
	if u := uniqueOf(j); u != nil && g.unique[[16]byte(u)] {
		return refused(k.key, *j.Unique), true
	}
	if full := j.Rules.Full(g.Members, g.Bytes, size); g.open && full != "" {
		return journal.Outcome{Failure: run.FullGroup(k.key, full)}, true
	}
	return journal.Outcome{}, false
}

func refused(key, unique string) journal.Outcome {
	return journal.Outcome{
		Effect: &want.Effect{Refused: fmt.Sprintf("the group %s has a member %s already", key, unique)},
	}
}

// takes lets the next message of the session see this member.
func (g *meeting) takes(next store.Group, items []*message.Node, made joining) {
	if made.why != "" { // the next one finds it closed, and looks anew
		*g = meeting{late: &next, unique: map[[16]byte]bool{}, opened: max(0, g.opened-1)}
		g.late.ClosedAt = &next.LastAt
		return
	}
	if !g.open {
		g.opened++
	}
	g.Group, g.open, g.items = next, true, items
	if made.member.UniqueKey != nil {
		g.unique[[16]byte(made.member.UniqueKey)] = true
	}
}

// Perform implements journal.Performer.
func (p join) Perform(w *journal.Writing, asked want.Asked, foreseen journal.Outcome) (journal.Outcome, error) {
	j, k := asked.Want.(*want.Join), keyOf(w.T, asked)
	made, ok := foreseen.Data.(*joining)
	if !ok {
		return p.stillNot(w, asked, foreseen)
	}
	g, err := w.Tx.OpenGroup(k.flow, k.path, k.scope, k.key)
	switch {
	case errors.Is(err, store.ErrNotFound) && made.before >= 0,
		err == nil && (made.before < 0 || g.ID != made.group.ID || g.Members != made.before):
		return foreseen, journal.ErrStale
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return foreseen, err
	}
	if u := made.member.UniqueKey; u != nil {
		if has, err := w.Tx.HasMember(made.group.ID, u); has || err != nil {
			return refused(k.key, *j.Unique), err
		}
	}
	next := made.group
	if made.why != "" {
		now := w.Now()
		next.State, next.ClosedAt, next.Why, next.CloseAt = store.GroupClosing, &now, made.why, nil
	}
	if err := w.Tx.SaveGroup(&next); err != nil {
		return foreseen, err
	}
	if added, err := w.Tx.AddMember(&made.member); err != nil || !added {
		return foreseen, errors.Join(err, fmt.Errorf("member %d of %s is there already", made.member.N, next.ID))
	}
	w.T.Gathered++
	w.T.Idle = true
	w.T.GatherPlace, w.T.GatherText = asked.Path, "group "+k.key
	w.Notice.Gather, w.Notice.Events[journal.EventQueues] = true, true
	if k.scope == "" {
		return foreseen, nil
	}
	return foreseen, p.gatherPart(w, *w.T.Parent, run.SplitOf(asked.Path))
}

// stillNot looks whether what kept a message out of its group still does.
func (p join) stillNot(w *journal.Writing, asked want.Asked, foreseen journal.Outcome) (journal.Outcome, error) {
	j, k := asked.Want.(*want.Join), keyOf(w.T, asked)
	g := &meeting{unique: map[[16]byte]bool{}}
	var err error
	if g.Group, err = w.Tx.OpenGroup(k.flow, k.path, k.scope, k.key); err == nil {
		g.open = true
		if u := uniqueOf(j); u != nil {
			has, err := w.Tx.HasMember(g.ID, u)
			if err != nil {
				return foreseen, err
			}
			g.unique[[16]byte(u)] = has
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return foreseen, err
	}
	if foreseen.Failure != nil && foreseen.Failure.Phase == "close/when" {
		return foreseen, nil // it fails whatever the group is like
	}
	if o, ends := g.refuses(k, j, int64(len(jsonfmt.Encode(j.Item)))); ends && g.open {
		return o, nil
	}
	if !g.open {
		return foreseen, nil // the group that closed not long ago has not gone away
	}
	return foreseen, journal.ErrStale
}

// gatherPart notes that a part waits for its siblings, and lets the groups close
// that wait for all of them, when no more can come.
func (p *Performers) gatherPart(w *journal.Writing, parent store.ID, split string) error {
	if err := w.Tx.GatherPart(parent, split, 1); err != nil {
		return err
	}
	w.Later(func() error {
		s, err := w.Tx.Split(parent, split)
		if err != nil {
			return err
		}
		return journal.AllParts(w.Tx, w.Notice, &s, w.Now())
	})
	return nil
}

// Held tells what the performers hold in memory.
func (p *Performers) Held() []store.InMemory {
	p.gathered.mu.Lock()
	defer p.gathered.mu.Unlock()
	return []store.InMemory{{What: "groups with their items", N: int64(len(p.gathered.groups)), Most: gatheredGroups}}
}
