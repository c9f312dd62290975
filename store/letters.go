package store

import (
	"time"
)

// Letter gives a dead letter by id, or ErrNotFound.
func (v View) Letter(id ID) (Letter, error) {
	var l Letter
	return l, v.db.Where("id = ?", id).Take(&l).Error
}

// LettersOf lists the dead letters of a transaction.
func (v View) LettersOf(txID ID) ([]Letter, error) {
	var out []Letter
	return out, v.db.Where("tx = ?", txID).Order("id").Find(&out).Error
}

// SaveLetter creates or replaces a dead letter and adds a line to its history.
func (tx *Tx) SaveLetter(l *Letter, at time.Time, what, detail string) error {
	if err := tx.db.Save(l).Error; err != nil {
		return err
	}
	return tx.db.Create(&LetterEvent{Letter: l.ID, At: at, What: what, Detail: detail}).Error
}

// History lists what happened to a dead letter.
func (v View) History(id ID) ([]LetterEvent, error) {
	var out []LetterEvent
	return out, v.db.Where("letter = ?", id).Order("n").Find(&out).Error
}

// OpenLetters lists open dead letters, the oldest first, of one cause or of all
// when cause is empty.
func (v View) OpenLetters(cause string, after *ID, limit int) ([]Letter, error) {
	q := v.db.Where("state = 0").Order("id").Limit(limit)
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
	// The inner query reads the index alone; only one letter of each cause is fetched.
	return out, v.db.Raw(`SELECT l.cause, l.cause_text, l.flow, l.step, l.kind, l.path, l.class, g.n, g.since
		FROM (SELECT cause, COUNT(*) AS n, MIN(id) AS since FROM letters WHERE state = 0 GROUP BY cause) g
		JOIN letters l ON l.id = g.since ORDER BY g.n DESC, g.since LIMIT ?`, limit).Scan(&out).Error
}

// CountOpenLetters counts the open dead letters.
func (v View) CountOpenLetters() (n int64, err error) {
	return n, v.db.Model(&Letter{}).Where("state = 0").Count(&n).Error
}
