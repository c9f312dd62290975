package store

import (
	"errors"
	"time"

	"gorm.io/gorm/clause"
)

// Sequence is the number whose turn it is, for one key of a resequence.
type Sequence struct {
	Flow   string `gorm:"primaryKey"`
	Path   string `gorm:"primaryKey"`
	Key    string `gorm:"primaryKey"`
	Next   int64
	UsedAt time.Time `gorm:"serializer:micros;type:integer"`
}

// Held is a message that waits for its turn.
type Held struct {
	N      int64 `gorm:"primaryKey;autoIncrement"` // order of arrival
	Flow   string
	Path   string // of the resequence, without numbers of parts
	Key    string
	Number int64
	Tx     ID
	At     string    // path of the step in the transaction
	Until  time.Time `gorm:"serializer:micros;type:integer"`
}

// Sequence gives the sequence of a key; one that is new begins with first.
func (v View) Sequence(flow, path, key string, first int64) (Sequence, error) {
	s := Sequence{Flow: flow, Path: path, Key: key, Next: first}
	err := v.sql().Where("flow = ? AND path = ? AND key = ?", flow, path, key).Take(&s).Error
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return s, err
}

// SaveSequence writes a sequence.
func (tx *Tx) SaveSequence(s *Sequence) error {
	return tx.sql().Clauses(clause.OnConflict{UpdateAll: true}).Create(s).Error
}

// Hold lets a message wait for its turn.
func (tx *Tx) Hold(h *Held) error { return tx.sql().Create(h).Error }

// CountHeld counts the messages of a key that wait.
func (v View) CountHeld(flow, path, key string) (n int64, err error) {
	return n, v.sql().Model(&Held{}).Where("flow = ? AND path = ? AND key = ?", flow, path, key).Count(&n).Error
}

// FirstHeld gives the message of a key with the lowest number; of equal ones
// that which came first. ErrNotFound when none waits.
func (v View) FirstHeld(flow, path, key string) (Held, error) {
	var h Held
	return h, v.sql().Where("flow = ? AND path = ? AND key = ?", flow, path, key).Order("number, n").Take(&h).Error
}

// HeldOf lists the messages of a key that wait, in the order of their numbers; of
// equal ones that first which came first.
func (v View) HeldOf(flow, path, key string, limit int) ([]Held, error) {
	var out []Held
	return out, v.sql().Where("flow = ? AND path = ? AND key = ?", flow, path, key).
		Order("number, n").
		Limit(limit).
		Find(&out).
		Error
}

// Held gives a message that waits, or ErrNotFound.
func (v View) Held(n int64) (Held, error) {
	var h Held
	return h, v.sql().Where("n = ?", n).Take(&h).Error
}

// Unhold takes a message out of its line.
func (tx *Tx) Unhold(n int64) error { return tx.sql().Where("n = ?", n).Delete(&Held{}).Error }

// HeldAt lists the paths at which a transaction waits for its turn.
func (v View) HeldAt(id ID) ([]string, error) {
	var out []string
	return out, v.sql().Model(&Held{}).Where("tx = ?", id).Pluck("at", &out).Error
}

// DueHeld lists messages that have waited as long as they may.
func (v View) DueHeld(now time.Time, limit int) ([]Held, error) {
	var out []Held
	return out, v.sql().Where("until <= ?", micros(now)).Order("until, n").Limit(limit).Find(&out).Error
}

// Line is a key whose messages wait for a number.
type Line struct {
	Flow, Path, Key string
	Next            int64
	Waiting         int64
	Until           time.Time
}

// Lines lists the keys that wait for a number, the one first that waits least
// long still.
func (v View) Lines(limit int) ([]Line, error) {
	var rows []struct {
		Flow, Path, Key string
		Waiting, First  int64
	}
	err := v.sql().Raw("SELECT flow, path, key, COUNT(*) AS waiting, MIN(n) AS first FROM helds GROUP BY flow, path, key ORDER BY first LIMIT ?",
		limit).
		Scan(&rows).
		Error
	if err != nil {
		return nil, err
	}
	out := make([]Line, len(rows))
	for i, r := range rows {
		out[i] = Line{Flow: r.Flow, Path: r.Path, Key: r.Key, Waiting: r.Waiting}
		var h Held
		if err := v.sql().Where("n = ?", r.First).Take(&h).Error; err == nil {
			out[i].Until = h.Until
		}
		var q Sequence
		if err := v.sql().Where("flow = ? AND path = ? AND key = ?", r.Flow, r.Path, r.Key).Take(&q).Error; err == nil {
			out[i].Next = q.Next
		}
	}
	return out, nil
}
