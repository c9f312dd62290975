package store

import (
	"time"
)

// Letter gives a dead letter by id, or ErrNotFound.
func (v View) Letter(id ID) (Letter, error) {
	var l Letter
	return l, v.sql().Where("id = ?", id).Take(&l).Error
}

// LettersOf lists the dead letters of a transaction.
func (v View) LettersOf(txID ID) ([]Letter, error) {
	if v.unit(txID) != nil {
		return nil, nil // one with dead letters is not held in memory
	}
	var out []Letter
	return out, v.sql().Where("tx = ?", txID).Order("id").Find(&out).Error
}

// SaveLetter creates or replaces a dead letter and adds a line to its history; who
// says who brought that about.
func (tx *Tx) SaveLetter(l *Letter, at time.Time, who, what, detail string) error {
	tx.forget(l.Tx)
	if err := tx.sql().Save(l).Error; err != nil {
		return err
	}
	return tx.sql().Create(&LetterEvent{Letter: l.ID, At: at, Who: who, What: what, Detail: detail}).Error
}

// History lists what happened to a dead letter.
func (v View) History(id ID) ([]LetterEvent, error) {
	var out []LetterEvent
	return out, v.sql().Where("letter = ?", id).Order("n").Find(&out).Error
}

// OpenLetters lists open dead letters, the oldest first, of one cause or of all when
// cause is empty, and of one flow or of all.
func (v View) OpenLetters(cause, flow string, after *ID, limit int) ([]Letter, error) {
	q := v.sql().Where("state = 0").Order("id").Limit(limit)
	if flow != "" {
		q = q.Where("flow = ?", flow)
	}
	if cause != "" {
		q = q.Where("cause = ?", cause)
	}
	if after != nil {
		q = q.Where("id > ?", *after)
	}
	var out []Letter
	return out, q.Find(&out).Error
}

// Cause is a group of open dead letters.
type Cause struct {
	Cause, CauseText, Flow, Step, Kind, Path, Class string
	N                                               int64
	Since                                           ID // the oldest letter; its id tells the time
}

// Causes groups the open dead letters, the largest group first.
func (v View) Causes(limit int) ([]Cause, error) {
	var out []Cause
	// The counts stand beside; only one letter of each cause is fetched.
	return out, v.sql().Raw(`SELECT l.cause, l.cause_text, l.flow, l.step, l.kind, l.path, l.class, t.n, l.id AS since
		FROM (SELECT key, n FROM tallies WHERE kind = 'letters' AND n > 0 ORDER BY n DESC LIMIT ?) t
		JOIN letters l ON l.id = (SELECT id FROM letters WHERE state = 0 AND cause = t.key ORDER BY id LIMIT 1)
		ORDER BY t.n DESC, l.id`, limit).Scan(&out).Error
}

// CountOpenLetters counts the open dead letters.
func (v View) CountOpenLetters() (n int64, err error) {
	return v.tallied("all letters", "")
}
