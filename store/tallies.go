package store

import "errors"

// tally is how many there are of something; triggers keep it, so that a count costs
// the same however many there are.
type tally struct {
	Kind string `gorm:"primaryKey"` // letters by cause, groups by flow and step; "all letters", "all groups"
	Key  string `gorm:"primaryKey"`
	N    int64
}

// TableName implements schema.Tabler.
func (tally) TableName() string { return "tallies" }

func (v View) tallied(kind, key string) (int64, error) {
	var t tally
	err := v.db.Where("kind = ? AND key = ?", kind, key).Take(&t).Error
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return t.N, err
}

// StagedItem is a message that a poll has brought and that is yet to begin: a large
// answer is taken in a little at a time, so that nobody waits for it. They count from
// when the last of an answer is there, together with the mark behind it.
type StagedItem struct {
	Flow   string `gorm:"primaryKey"`
	N      int    `gorm:"primaryKey;autoIncrement:false"` // from 0
	Body   []byte
	Source string
}

// Stage keeps items of an answer.
func (tx *Tx) Stage(items []StagedItem) error {
	return tx.db.CreateInBatches(&items, 300).Error
}

// Staged lists the next items of a flow.
func (v View) Staged(flow string, limit int) ([]StagedItem, error) {
	var out []StagedItem
	return out, v.db.Where("flow = ?", flow).Order("n").Limit(limit).Find(&out).Error
}

// Unstage removes up to limit items of a flow before one, all with n < 0.
func (tx *Tx) Unstage(flow string, before, limit int) (more bool, err error) {
	q := "DELETE FROM staged_items WHERE rowid IN (SELECT rowid FROM staged_items WHERE flow = ? AND (? < 0 OR n < ?) LIMIT ?)"
	done := tx.db.Exec(q, flow, before, before, limit)
	return done.RowsAffected == int64(limit), done.Error
}
