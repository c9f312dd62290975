package store

import (
	"slices"
	"sync"
	"time"
)

// unit is all that stands in the file about a transaction under way, in memory. It is
// never changed: what changes it makes another one. There is none of a transaction of
// which more is known elsewhere: with dead letters, repairs, or others that wait for it.
type unit struct {
	tx         Transaction
	message    Message
	deliveries []Delivery
	effects    []Effect
}

// What is held in memory of work under way: so many units, and so many bytes of them.
const (
	mostUnits     = 32 << 10
	mostUnitBytes = 64 << 20
	unitBytes     = 2 << 10 // besides its bodies, about
)

func (u *unit) size() int {
	n := unitBytes + int(u.message.Body.Size())
	for i := range u.deliveries {
		n += int(u.deliveries[i].Body.Size())
	}
	for i := range u.effects {
		n += int(u.effects[i].Body.Size())
	}
	return n
}

// with gives the unit with a changed delivery, or a new one.
func (u *unit) with(d *Delivery) *unit {
	now := *u
	now.deliveries = slices.Clone(u.deliveries)
	for i := range now.deliveries {
		if now.deliveries[i].ID == d.ID {
			kept := now.deliveries[i].Body // where only its place is saved
			if now.deliveries[i] = *d; !d.Body.Filled() {
				now.deliveries[i].Body = kept
			}
			return &now
		}
	}
	now.deliveries = append(now.deliveries, *d)
	return &now
}

func (u *unit) moved(t *Transaction) *unit {
	now := *u
	now.tx = *t
	return &now
}

func (u *unit) effect(e *Effect) *unit {
	for i := range u.effects {
		if u.effects[i].Path == e.Path {
			return u // the first one stays
		}
	}
	now := *u
	now.effects = append(slices.Clone(u.effects), *e)
	return &now
}

// unanswered gives the unit without what an earlier round of a delivery was answered.
func (u *unit) unanswered(path string) *unit {
	now := *u
	now.effects = slices.DeleteFunc(slices.Clone(u.effects), func(e Effect) bool { return e.OfTry && e.Path == path })
	return &now
}

// units is the working set: what is committed of work under way. What does not fit is
// read from the file when it is needed.
type units struct {
	mu    sync.RWMutex
	all   map[ID]*unit
	of    map[ID]ID // transactions by delivery
	order []ID      // as they came; some are gone
	bytes int
	// ending is held from before a commit until what is in memory is as the file has it.
	ending sync.Mutex
}

// Settle waits for the end of a commit under way. Who reads the file and what is in memory
// behind it sees both as they are behind the same commits, or later ones.
func (s *Store) Settle() {
	s.units.ending.Lock()
	defer s.units.ending.Unlock()
}

func newUnits() *units { return &units{all: map[ID]*unit{}, of: map[ID]ID{}} }

func (k *units) get(id ID) *unit {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.all[id]
}

func (k *units) byDelivery(id ID) (tx ID, known bool) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	tx, known = k.of[id]
	return tx, known
}

// publish takes over what a commit has made of units; nil: it is forgotten.
func (k *units) publish(changed map[ID]*unit) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for id, u := range changed {
		_, had := k.all[id]
		k.remove(id)
		if u == nil || u.tx.State >= Delivered {
			continue
		}
		k.all[id] = u
		k.bytes += u.size()
		for i := range u.deliveries {
			k.of[u.deliveries[i].ID] = id
		}
		if !had {
			k.order = append(k.order, id)
		}
	}
	for (len(k.all) > mostUnits || k.bytes > mostUnitBytes) && len(k.order) > 0 {
		k.remove(k.order[0])
		k.order = k.order[1:]
	}
	if len(k.order) > 2*len(k.all)+1024 {
		k.order = slices.DeleteFunc(k.order, func(id ID) bool { return k.all[id] == nil })
	}
}

func (k *units) remove(id ID) {
	u := k.all[id]
	if u == nil {
		return
	}
	delete(k.all, id)
	k.bytes -= u.size()
	for i := range u.deliveries {
		delete(k.of, u.deliveries[i].ID)
	}
}

// exact gives a time as the file would give it back.
func exact(t time.Time) time.Time { return time.UnixMicro(micros(t)).UTC() }

func exactly(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	e := exact(*t)
	return &e
}

// unit finds what is in memory of a transaction: as this write has made it so far, or as
// it is committed. nil: it has to be read from the file.
func (v View) unit(id ID) *unit {
	if v.tx != nil {
		for _, level := range []*work{v.tx.job, v.tx.batch} {
			if u, known := level.units[id]; known {
				return u
			}
		}
	}
	if v.units == nil {
		return nil
	}
	return v.units.get(id)
}

// AtHand tells whether all that stands in the file about a transaction is in memory: then
// it has no dead letters and no repairs, and nobody waits for it.
func (tx *Tx) AtHand(id ID) bool { return tx.unit(id) != nil }

// unitOf finds the transaction of a delivery in memory.
func (v View) unitOf(delivery ID) (*unit, int) {
	var u *unit
	if v.tx != nil {
		for _, level := range []*work{v.tx.job, v.tx.batch} {
			if tx, known := level.of[delivery]; known {
				u = v.unit(tx)
			}
		}
	}
	if u == nil && v.units != nil {
		if tx, known := v.units.byDelivery(delivery); known {
			u = v.unit(tx)
		}
	}
	if u == nil {
		return nil, 0
	}
	for i := range u.deliveries {
		if u.deliveries[i].ID == delivery {
			return u, i
		}
	}
	return nil, 0
}
