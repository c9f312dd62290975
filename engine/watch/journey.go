package watch

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"readyferry/engine/journal"
	"readyferry/store"
)

// Journey is all that came of one business message: the transactions in which it went
// through queues, topics, splits, groups, subflows, dead letters and repeats, each below the
// one that brought it about.
type Journey struct {
	Root      ID
	State     State // of the most troubled
	Reference string
	Places    []Place
	// More is how many transactions there are besides, which are not listed.
	More int
	// Joined are other journeys that have gone on together with this one in a group.
	Joined []ID
}

// Place is where a message has been: a transaction, or a queue in which it waits still.
type Place struct {
	Tx    *Transaction // nil for a queue in which it waits
	By    string       // how it got there: intake, queue, topic, part, group, call, letter, again
	Above *ID          // the transaction that brought it about
	Depth int
	// Queue and PutAt are of a message that came by a queue, or waits in one.
	Queue      string
	PutAt      *time.Time
	Source     string // in words
	Deliveries []PlaceDelivery
	PartsLeft  int // parts that are not listed
}

// PlaceDelivery is a delivery of a place with its tries.
type PlaceDelivery struct {
	Delivery
	Tries    []store.Try
	Upcoming []PlannedTry
}

// How much of a journey is listed.
const (
	mostPlaces = 400
	mostParts  = 60
)

// Journey gives the journey that a transaction belongs to.
func (w *Watch) Journey(id ID) (*Journey, error) {
	t, err := w.Store.All().Transaction(id)
	if err != nil {
		return nil, err
	}
	g := &gathering{w: w, seen: map[ID]*Place{}, journeys: map[ID]bool{}}
	root, err := g.rootOf(&t)
	if err != nil {
		return nil, err
	}
	if err := g.journey(root); err != nil {
		return nil, err
	}
	if g.seen[id] == nil { // a part that is not among the first ones
		if err := g.add(&t); err != nil {
			return nil, err
		}
	}
	return g.told(root)
}

// gathering collects the places of a journey.
type gathering struct {
	w        *Watch
	seen     map[ID]*Place
	order    []*Place
	journeys map[ID]bool
	more     int
	joined   []ID
}

// rootOf gives the journey of a transaction; of a group that goes on, that of its members
// where they all belong to one.
func (g *gathering) rootOf(t *Transaction) (ID, error) {
	if t.Journey != nil {
		return *t.Journey, nil
	}
	if t.Parent != nil {
		whole, err := g.w.Store.All().Transaction(*t.Parent)
		if err != nil {
			return t.ID, ignoreGone(err)
		}
		return g.rootOf(&whole)
	}
	if !t.FromGroup {
		return t.ID, nil
	}
	members, err := g.w.Store.Members(t.ID, 0, mostParts)
	if err != nil {
		return t.ID, err
	}
	roots := map[ID]bool{}
	last := t.ID
	for _, m := range members {
		one, err := g.w.Store.All().Transaction(m.Tx)
		if err != nil {
			continue
		}
		if last, err = g.rootOf(&one); err != nil {
			return t.ID, err
		}
		roots[last] = true
	}
	if len(roots) == 1 {
		return last, nil
	}
	for root := range roots {
		g.joined = append(g.joined, root)
	}
	return t.ID, nil
}

func ignoreGone(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

// journey adds all transactions of a journey, and of the groups that they have gone into.
func (g *gathering) journey(root ID) error {
	if g.journeys[root] {
		return nil
	}
	g.journeys[root] = true
	if first, err := g.w.Store.All().Transaction(root); err == nil {
		if err := g.add(&first); err != nil {
			return err
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return err // a trace from outside is no transaction
	}
	rows, err := g.w.Store.All().OfJourney(root, nil, mostPlaces+1)
	if err != nil {
		return err
	}
	if len(rows) > mostPlaces {
		n, err := g.w.Store.All().CountJourney(root, 1_000_000)
		if err != nil {
			return err
		}
		g.more += int(n) - mostPlaces
		rows = rows[:mostPlaces]
	}
	for i := range rows {
		if err := g.add(&rows[i]); err != nil {
			return err
		}
	}
	return nil
}

// add adds a transaction with its parts, and the group that it has gone into.
func (g *gathering) add(t *Transaction) error {
	if g.seen[t.ID] != nil {
		return nil
	}
	if len(g.order) >= mostPlaces {
		g.more++
		return nil
	}
	row := *t
	p := &Place{Tx: &row}
	g.seen[t.ID] = p
	g.order = append(g.order, p)
	if t.Parts > 0 {
		parts, err := g.parts(t)
		if err != nil {
			return err
		}
		p.PartsLeft = max(0, t.Parts-len(parts))
		for i := range parts {
			if err := g.add(&parts[i]); err != nil {
				return err
			}
		}
	}
	groups, err := g.w.Store.Memberships(t.ID)
	if err != nil {
		return err
	}
	for _, m := range groups {
		if err := g.journey(m.GroupID); err != nil {
			return err
		}
	}
	return nil
}

// parts lists parts of a whole: those in trouble first.
func (g *gathering) parts(t *Transaction) (out []Transaction, err error) {
	for _, state := range []State{DeadLetter, Waiting, UnderWay, TurnedAway, Delivered} {
		if len(out) >= mostParts {
			break
		}
		some, err := g.w.Store.All().Parts(t.ID, &state, nil, mostParts-len(out))
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	slices.SortFunc(out, func(a, b Transaction) int {
		if a.SplitPath != b.SplitPath {
			return bytes.Compare(a.ID[:], b.ID[:])
		}
		return a.PartIndex - b.PartIndex
	})
	return out, nil
}

// told puts the places below those that brought them about, each with what it did.
func (g *gathering) told(root ID) (*Journey, error) {
	j := &Journey{Root: root, More: g.more, Joined: g.joined, State: Delivered}
	below := map[ID][]*Place{}
	var tops []*Place
	for _, p := range g.order {
		if err := g.fill(p); err != nil {
			return nil, err
		}
		if p.Above != nil && g.seen[*p.Above] != nil && *p.Above != p.Tx.ID {
			below[*p.Above] = append(below[*p.Above], p)
		} else {
			tops = append(tops, p)
		}
	}
	done := map[ID]bool{}
	var walk func(p *Place, depth int) error
	walk = func(p *Place, depth int) error {
		if done[p.Tx.ID] {
			return nil
		}
		done[p.Tx.ID], p.Depth = true, depth
		j.Places = append(j.Places, *p)
		waits, err := g.waitsIn(p)
		if err != nil {
			return err
		}
		for _, q := range waits {
			q.Depth = depth + 1
			j.Places = append(j.Places, q)
		}
		for _, c := range below[p.Tx.ID] {
			if err := walk(c, depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	for _, p := range append(tops, g.order...) { // who stands in a circle comes all the same
		if err := walk(p, 0); err != nil {
			return nil, err
		}
	}
	for _, p := range g.order {
		if j.Reference == "" {
			j.Reference = p.Tx.Reference
		}
		if trouble[p.Tx.State] > trouble[j.State] {
			j.State = p.Tx.State
		}
	}
	return j, nil
}

// trouble orders states: what has the most of it is that of the whole.
var trouble = map[State]int{TurnedAway: 0, Delivered: 1, UnderWay: 2, Waiting: 3, DeadLetter: 4}

// fill says how a place was reached, and what went out from it.
func (g *gathering) fill(p *Place) error {
	t := p.Tx
	switch {
	case t.Parent != nil:
		p.By, p.Above = "part", t.Parent
	case t.OfLetter != nil:
		p.By = "letter"
		if l, err := g.w.Store.All().Letter(*t.OfLetter); err == nil {
			p.Above = &l.Tx
		}
	case t.Caller != nil:
		p.By, p.Above = "call", t.Caller
	case t.FromGroup:
		p.By = "group"
		if members, err := g.w.Store.Members(t.ID, 0, 1); err == nil && len(members) > 0 {
			p.Above = &members[0].Tx
		}
	case t.Origin != nil:
		p.By, p.Above = "again", t.Origin
	default:
		p.By = "intake"
	}
	head, err := g.w.Store.All().FirstMessage(t.ID)
	if err == nil {
		p.Source = head.Source
	}
	// Its number in the queue or topic is gone with its end; what it came by stands with it.
	if by, name, found := strings.Cut(p.Source, " "); found && t.Origin != nil && (by == "queue" || by == "topic") {
		if p.By = by; by == "queue" {
			p.Queue = name
		}
	}
	if p.By == "queue" && t.Origin != nil {
		if err := g.putAt(p); err != nil {
			return err
		}
	}
	deliveries, err := g.w.Store.All().Deliveries(t.ID)
	if err != nil {
		return err
	}
	for i := range deliveries {
		d := PlaceDelivery{Delivery: deliveries[i]}
		if d.Tries, err = g.w.Store.All().Tries(d.ID); err != nil {
			return err
		}
		if d.Upcoming, err = g.w.Upcoming(&deliveries[i]); err != nil {
			return err
		}
		p.Deliveries = append(p.Deliveries, d)
	}
	return nil
}

// putAt says when a message was put into the queue that it came by: the last that the
// transaction above put anywhere before this one was taken.
func (g *gathering) putAt(p *Place) error {
	effects, err := g.w.Store.All().Effects(*p.Tx.Origin)
	if err != nil {
		return err
	}
	for i := range effects {
		e, err := journal.Stored(&effects[i])
		if err != nil || e.Item == "" || effects[i].At.After(p.Tx.ReceivedAt) {
			continue
		}
		if p.PutAt == nil || effects[i].At.After(*p.PutAt) {
			at := effects[i].At
			p.PutAt = &at
		}
	}
	return nil
}

// waitsIn lists the queues in which messages of a place wait still.
func (g *gathering) waitsIn(p *Place) (out []Place, err error) {
	if p.Tx.State == UnderWay {
		return nil, nil
	}
	effects, err := g.w.Store.All().Effects(p.Tx.ID)
	if err != nil {
		return nil, err
	}
	for i := range effects {
		e, err := journal.Stored(&effects[i])
		if err != nil {
			continue
		}
		n, err := strconv.ParseInt(e.Item, 10, 64)
		if err != nil {
			continue
		}
		item, err := g.w.Store.QueueItem(n)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("the message %d: %w", n, err)
		}
		if item.From != p.Tx.ID || item.TakenBy != nil {
			continue
		}
		at := item.PutAt
		id := p.Tx.ID
		out = append(out, Place{By: "queue", Above: &id, Queue: item.Queue, PutAt: &at})
	}
	return out, nil
}
