package store

import "errors"

// Split is one split of a transaction: how many parts it has, how many of them
// have begun, and how many of those are in which state.
type Split struct {
	Tx       ID     `gorm:"primaryKey"`
	Path     string `gorm:"primaryKey"`
	Version  int    // of the flow, with which its parts begin
	MessageN int    // of the transaction's messages, the one that was split
	Total    int
	Next     int // the part that begins next
	InOrder  bool
	Stop     bool // a dead part keeps those from beginning that have not

	UnderWay, Waiting, Delivered, TurnedAway, Dead int
	Aside                                          int // of those that wait: for other messages alone

	// Gathers tells that groups wait for all parts of it, Gathered how many
	// parts wait in one.
	Gathers  bool
	Gathered int
}

// Awaited counts the parts that have neither ended nor wait in a group.
func (s *Split) Awaited() int { return s.Total - s.Delivered - s.TurnedAway - s.Gathered }

// GatherPart notes that a part of a split waits in a group that waits for all
// of them, or with by -1 that it does so no longer.
func (tx *Tx) GatherPart(id ID, path string, by int) error {
	return tx.changeSplit(id, path, func(s *Split) {
		s.Gathered += by
		s.Gathers = s.Gathers || by > 0
	})
}

// AllGathered notes that no group waits for parts of a split any more.
func (tx *Tx) AllGathered(s *Split) error {
	return tx.changeSplit(s.Tx, s.Path, func(s *Split) { s.Gathers = false })
}

// AddSplit stores a new split.
func (tx *Tx) AddSplit(s *Split) error { return tx.sql().Create(s).Error }

// Splits lists the splits of a transaction.
func (v View) Splits(id ID) ([]Split, error) {
	var out []Split
	return out, v.sql().Where("tx = ?", id).Order("path").Find(&out).Error
}

// Split gives one split, or ErrNotFound.
func (v View) Split(id ID, path string) (Split, error) {
	if v.tx != nil {
		s, err := v.tx.split(id, path)
		if err != nil {
			return Split{}, err
		}
		return *s, nil
	}
	var s Split
	return s, v.db.Where("tx = ? AND path = ?", id, path).Take(&s).Error
}

// split gives a split inside of a write. It is read once for all that its parts do in it,
// and written once.
func (tx *Tx) split(id ID, path string) (*Split, error) {
	key := splitKey{id, path}
	if s := tx.job.splits[key]; s != nil {
		return &s.Split, nil
	}
	if s := tx.batch.splits[key]; s != nil {
		return &s.Split, nil
	}
	var s counting
	if err := tx.db.Where("tx = ? AND path = ?", id, path).Take(&s.Split).Error; err != nil {
		return nil, err
	}
	tx.job.splits[key] = &s
	return &s.Split, nil
}

func (tx *Tx) changeSplit(id ID, path string, change func(s *Split)) error {
	was, err := tx.split(id, path)
	if errors.Is(err, ErrNotFound) {
		return nil // it went with its message
	}
	if err != nil {
		return err
	}
	key := splitKey{id, path}
	mine := tx.job.splits[key]
	if mine == nil { // the batch has it, and must not see what this job makes of it if that fails
		mine = &counting{Split: *was}
		tx.job.splits[key] = mine
	}
	change(&mine.Split)
	mine.changed = true
	return nil
}

// beginnable are the splits of which a part may begin; an index is for it.
const beginnable = "next < total AND NOT (stop AND dead > 0) AND NOT (in_order AND under_way + waiting > aside)"

// OpenSplits lists splits of which a part may begin.
func (v View) OpenSplits(limit int) ([]Split, error) {
	var out []Split
	return out, v.sql().Where(beginnable).Order("tx, path").Limit(limit).Find(&out).Error
}

// MayBegin tells whether the next part may begin.
func (s *Split) MayBegin() bool {
	return s.Next < s.Total && !(s.Stop && s.Dead > 0) && !(s.InOrder && s.UnderWay+s.Waiting > s.Aside)
}

// AdvanceSplit notes how many parts have begun.
func (tx *Tx) AdvanceSplit(s *Split) error {
	return tx.changeSplit(s.Tx, s.Path, func(now *Split) { now.Next = s.Next })
}

// shift moves a part from one state of its split's counts to another.
func (tx *Tx) shift(t *Transaction, state State, by int) error {
	return tx.changeSplit(*t.Parent, t.SplitPath, func(s *Split) {
		*[...]*int{&s.UnderWay, &s.Waiting, &s.Delivered, &s.TurnedAway, &s.Dead}[state] += by
	})
}

// SetAside notes that a part waits for other messages alone, or does so no longer.
func (tx *Tx) SetAside(t *Transaction, by int) error {
	return tx.changeSplit(*t.Parent, t.SplitPath, func(s *Split) { s.Aside += by })
}

// WorstPart gives a part in a state, the first by place; ErrNotFound when there
// is none.
func (v View) WorstPart(parent ID, state State) (Transaction, error) {
	var t Transaction
	return t, v.sql().Where("parent = ? AND state = ?", parent, state).Order("id").Take(&t).Error
}

// Parts lists the parts of a transaction in the order in which they began.
func (v View) Parts(parent ID, state *State, after *ID, limit int) ([]Transaction, error) {
	q := v.sql().Where("parent = ?", parent).Order("id").Limit(limit)
	if state != nil {
		q = q.Where("state = ?", *state)
	}
	if after != nil {
		q = q.Where("id > ?", *after)
	}
	var out []Transaction
	return out, q.Find(&out).Error
}

// MessageN gives a transaction's message by number.
func (v View) MessageN(id ID, n int) (Message, error) {
	if u := v.unit(id); u != nil && u.message.N == n {
		m := u.message
		return m, v.Fill(&m.Body)
	}
	var m Message
	err := v.sql().Where("tx = ? AND n = ?", id, n).Take(&m).Error
	if errors.Is(err, ErrNotFound) {
		return v.Message(id)
	}
	if err != nil {
		return m, err
	}
	return m, v.Fill(&m.Body)
}
