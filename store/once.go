package store

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// OnceKey remembers a message that must not be worked on twice.
type OnceKey struct {
	Flow  string `gorm:"primaryKey"`
	Key   []byte `gorm:"primaryKey"`
	Tx    ID
	Until time.Time `gorm:"serializer:micros;type:integer"`
}

// onceAt is a value by which repeats of a flow are told.
type onceAt struct{ flow, key string }

func (k *OnceKey) at() onceAt { return onceAt{k.Flow, string(k.Key)} }

// onceRow puts a value in place of one whose time has passed.
var onceRow = row[OnceKey]{
	table:   "once_keys",
	or:      " OR REPLACE",
	columns: []string{"flow", "key", "tx", "until"},
	values: func(into []any, k *OnceKey) []any {
		return append(into, k.Flow, k.Key, k.Tx[:], micros(k.Until))
	},
}

// knownOnce asks for the transaction that had a value whose time has not passed.
const knownOnce = "SELECT tx FROM once_keys WHERE flow=? AND key=? AND until>?"

// Once remembers a message by its once value. When the value is known and its
// time has not passed, first is the transaction that had it and fresh is false.
//
// What is remembered is gathered with the other rows of a commit, so that messages with a
// value are written as those without are: many at a time.
func (tx *Tx) Once(k *OnceKey, now time.Time) (first ID, fresh bool, err error) {
	for _, w := range [...]*work{tx.job, tx.batch} {
		if old := w.onces[k.at()]; old != nil && old.Until.After(now) {
			return old.Tx, false, nil
		}
	}
	stmt, err := tx.prepared.of(knownOnce)
	if err != nil {
		return ID{}, false, err
	}
	err = stmt.QueryRowContext(context.Background(), k.Flow, k.Key, micros(now)).Scan(&first)
	if !errors.Is(err, sql.ErrNoRows) {
		return first, false, err
	}
	tx.job.onces[k.at()] = k
	return k.Tx, true, nil
}

// KnownOnce gives the transaction that had a once value, while its time has not
// passed; nil for none.
func (s *Store) KnownOnce(flow string, key []byte, now time.Time) (*ID, error) {
	var had ID
	err := s.repeats.QueryRow(flow, key, micros(now)).Scan(&had)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &had, err
}

// ForgetOnce removes up to limit once values whose time has passed; more tells that
// there are others.
func (tx *Tx) ForgetOnce(now time.Time, limit int) (more bool, err error) {
	done := tx.sql().Exec(
		"DELETE FROM once_keys WHERE rowid IN (SELECT rowid FROM once_keys WHERE until < ? LIMIT ?)",
		micros(now),
		limit,
	)
	return done.RowsAffected == int64(limit), done.Error
}

// TakenAnew forgets the once values of a transaction: the next message with one of
// them is no repeat of it.
func (tx *Tx) TakenAnew(id ID) error { return tx.sql().Where("tx = ?", id).Delete(&OnceKey{}).Error }

// writeOnces writes what is remembered; the file knows it from then on.
func (w *work) writeOnces(p *prepared) error {
	if len(w.onces) == 0 {
		return nil
	}
	all := make([]*OnceKey, 0, len(w.onces))
	for _, k := range w.onces {
		all = append(all, k)
	}
	clear(w.onces)
	return insert(p, &onceRow, all)
}
