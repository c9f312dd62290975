package store

import "gorm.io/gorm/clause"

// Ask is a question that waits for its reply by a queue.
type Ask struct {
	Correlation string `gorm:"primaryKey"`
	Tx          ID
	Path        string
	ReplyTo     string
}

// Ask notes a question. One that is there already stays.
func (tx *Tx) Ask(a *Ask) error {
	return tx.sql().Clauses(clause.OnConflict{DoNothing: true}).Create(a).Error
}

// TakeAsk gives the question that a reply in a queue is for, and forgets it;
// ErrNotFound when none waits.
func (tx *Tx) TakeAsk(correlation, queue string) (Ask, error) {
	var a Ask
	if err := tx.sql().Where("correlation = ? AND reply_to = ?", correlation, queue).Take(&a).Error; err != nil {
		return a, err
	}
	return a, tx.DropAsk(correlation)
}

// DropAsk forgets a question.
func (tx *Tx) DropAsk(correlation string) error {
	return tx.sql().Where("correlation = ?", correlation).Delete(&Ask{}).Error
}

// HasLimit tells whether a transaction waits at a path.
func (v View) HasLimit(id ID, path string) (bool, error) {
	var n int64
	err := v.sql().Model(&TimeLimit{}).Where("tx = ? AND path = ? AND waits", id, path).Count(&n).Error
	return n > 0, err
}

// AnswerOnce keeps what the caller of a transaction gets, unless it has an
// answer already; first tells whether it had none.
func (tx *Tx) AnswerOnce(id ID, answer []byte) (first bool, err error) {
	if u := tx.unit(id); u != nil {
		if u.message.Answer != nil {
			return false, nil
		}
		return true, tx.SaveAnswer(id, answer)
	}
	res := tx.sql().Model(&Message{}).Where("tx = ? AND n = 0 AND answer IS NULL", id).Update("answer", answer)
	return res.RowsAffected > 0, res.Error
}

// WaitingRepeats lists the transactions that repeat one, and whose callers wait for
// its answer.
func (v View) WaitingRepeats(id ID) ([]Transaction, error) {
	var out []Transaction
	if v.unit(id) != nil {
		return nil, nil // one that others wait for is not held in memory
	}
	return out, v.sql().Where("duplicate_of = ? AND caller_waits", id).Find(&out).Error
}

// Called lists the transactions that a transaction's steps have begun in other
// flows.
func (v View) Called(id ID, limit int) ([]Transaction, error) {
	var out []Transaction
	return out, v.sql().Where("caller = ?", id).Order("id").Limit(limit).Find(&out).Error
}
