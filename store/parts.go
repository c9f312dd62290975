package store

import (
	"errors"

	"gorm.io/gorm"
)

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
	set := map[string]any{"gathered": gorm.Expr("gathered + ?", by)}
	if by > 0 {
		set["gathers"] = true
	}
	return tx.sql().Model(&Split{}).Where("tx = ? AND path = ?", id, path).UpdateColumns(set).Error
}

// AllGathered notes that no group waits for parts of a split any more.
func (tx *Tx) AllGathered(s *Split) error {
	return tx.sql().Model(&Split{}).Where("tx = ? AND path = ?", s.Tx, s.Path).UpdateColumn("gathers", false).Error
}

// splitColumns are the counts of a split, by state.
var splitColumns = [...]string{"under_way", "waiting", "delivered", "turned_away", "dead"}

// AddSplit stores a new split.
func (tx *Tx) AddSplit(s *Split) error { return tx.sql().Create(s).Error }

// Splits lists the splits of a transaction.
func (v View) Splits(id ID) ([]Split, error) {
	var out []Split
	return out, v.sql().Where("tx = ?", id).Order("path").Find(&out).Error
}

// Split gives one split, or ErrNotFound.
func (v View) Split(id ID, path string) (Split, error) {
	var s Split
	return s, v.sql().Where("tx = ? AND path = ?", id, path).Take(&s).Error
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
	return tx.sql().Model(&Split{}).Where("tx = ? AND path = ?", s.Tx, s.Path).Update("next", s.Next).Error
}

// shift moves a part from one state of its split's counts to another.
func (tx *Tx) shift(t *Transaction, state State, by int) error {
	column := splitColumns[state]
	return tx.sql().Model(&Split{}).Where("tx = ? AND path = ?", *t.Parent, t.SplitPath).
		UpdateColumn(column, gorm.Expr(column+" + ?", by)).Error
}

// SetAside notes that a part waits for other messages alone, or does so no longer.
func (tx *Tx) SetAside(t *Transaction, by int) error {
	return tx.sql().Model(&Split{}).Where("tx = ? AND path = ?", *t.Parent, t.SplitPath).
		UpdateColumn("aside", gorm.Expr("aside + ?", by)).Error
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
		return u.message, nil
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
