package store

import (
	"errors"
	"time"

	"gorm.io/gorm/clause"
)

// AddTransaction stores a new transaction with its message.
func (tx *Tx) AddTransaction(t *Transaction, m *Message) error {
	if err := tx.db.Create(t).Error; err != nil {
		return err
	}
	if err := errors.Join(tx.tally(t, t.State, 1), tx.keep(&m.Body)); err != nil {
		return err
	}
	return tx.db.Create(m).Error
}

// SaveTransaction writes a changed transaction; before is its state until now.
func (tx *Tx) SaveTransaction(t *Transaction, before State) error {
	if t.State != before {
		if err := errors.Join(tx.tally(t, before, -1), tx.tally(t, t.State, 1)); err != nil {
			return err
		}
	}
	return tx.db.Save(t).Error
}

// tally counts a transaction in a state: a part with its siblings, any other
// with those of its flow and minute.
func (tx *Tx) tally(t *Transaction, state State, by int64) error {
	if t.Parent != nil {
		return tx.shift(t, state, int(by))
	}
	tx.count(t, state, by)
	return nil
}

// Transaction gives a transaction by id, or ErrNotFound.
func (v View) Transaction(id ID) (Transaction, error) {
	var t Transaction
	return t, v.db.Where("id = ?", id).Take(&t).Error
}

// Filter chooses transactions. Zero values choose all.
type Filter struct {
	Flow      string
	State     *State
	Reference string // exact
	From, To  time.Time
	After     *ID // only older than this one
	Limit     int
}

// Transactions lists transactions, the newest first, without the parts of
// others: those are in their whole.
func (v View) Transactions(f Filter) ([]Transaction, error) {
	q := v.db.Where("parent IS NULL").Order("id DESC").Limit(f.Limit)
	if f.Flow != "" && f.Reference != "" {
		q = q.Where("+flow = ?", f.Flow) // the reference chooses fewer
	} else if f.Flow != "" {
		q = q.Where("flow = ?", f.Flow)
	}
	if f.State != nil {
		q = q.Where("state = ?", *f.State)
	}
	if f.Reference != "" {
		q = q.Where("reference = ? AND reference <> ''", f.Reference)
	}
	// Ids begin with the time in milliseconds, so a span of time is a span of ids.
	if !f.From.IsZero() {
		q = q.Where("id >= ?", idAt(f.From))
	}
	if !f.To.IsZero() {
		q = q.Where("id < ?", idAt(f.To))
	}
	if f.After != nil {
		q = q.Where("id < ?", *f.After)
	}
	var out []Transaction
	return out, q.Find(&out).Error
}

// idAt gives the smallest id of a moment.
func idAt(t time.Time) ID {
	var id ID
	ms := t.UnixMilli()
	for i := 5; i >= 0; i-- {
		id[i] = byte(ms)
		ms >>= 8
	}
	return id
}

// Message gives the message of a transaction that counts now.
func (v View) Message(id ID) (Message, error) {
	m, err := v.MessageHead(id)
	if err != nil {
		return m, err
	}
	return m, v.Fill(&m.Body)
}

// MessageHead is Message with the body as a reference.
func (v View) MessageHead(id ID) (Message, error) {
	var m Message
	return m, v.db.Where("tx = ?", id).Order("n DESC").Take(&m).Error
}

// AddMessage stores a repaired message.
func (tx *Tx) AddMessage(m *Message) error {
	if err := tx.keep(&m.Body); err != nil {
		return err
	}
	return tx.db.Create(m).Error
}

// SaveAnswer keeps what the caller got.
func (tx *Tx) SaveAnswer(id ID, answer []byte) error {
	return tx.db.Model(&Message{}).Where("tx = ? AND n = 0", id).Update("answer", answer).Error
}

// Effects gives the recorded effects of a transaction.
func (v View) Effects(id ID) ([]Effect, error) {
	var out []Effect
	if err := v.db.Where("tx = ?", id).Find(&out).Error; err != nil {
		return nil, err
	}
	for i := range out {
		if err := v.Fill(&out[i].Body); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// AddEffect records an effect. One that is recorded already stays as it is.
func (tx *Tx) AddEffect(e *Effect) error {
	if err := tx.keep(&e.Body); err != nil {
		return err
	}
	return tx.db.Clauses(clause.OnConflict{DoNothing: true}).Create(e).Error
}

// ForgetEffect removes an effect that is to be brought about anew.
func (tx *Tx) ForgetEffect(id ID, path string) error {
	return tx.db.Where("tx = ? AND path = ?", id, path).Delete(&Effect{}).Error
}

// Once remembers a message by its once value. When the value is known and its
// time has not passed, first is the transaction that had it and fresh is false.
func (tx *Tx) Once(k *OnceKey, now time.Time) (first ID, fresh bool, err error) {
	var old OnceKey
	err = tx.db.Where("flow = ? AND key = ?", k.Flow, k.Key).Take(&old).Error
	switch {
	case err == nil && old.Until.After(now):
		return old.Tx, false, nil
	case err != nil && !errors.Is(err, ErrNotFound):
		return ID{}, false, err
	}
	return k.Tx, true, tx.db.Save(k).Error
}

// KnownOnce gives the transaction that had a once value, while its time has not
// passed; nil for none.
func (v View) KnownOnce(flow string, key []byte, now time.Time) (*ID, error) {
	var old OnceKey
	err := v.db.Where("flow = ? AND key = ?", flow, key).Take(&old).Error
	if errors.Is(err, ErrNotFound) || err == nil && !old.Until.After(now) {
		return nil, nil
	}
	return &old.Tx, err
}

// ForgetOnce removes up to limit once values whose time has passed; more tells that
// there are others.
func (tx *Tx) ForgetOnce(now time.Time, limit int) (more bool, err error) {
	done := tx.db.Exec(
		"DELETE FROM once_keys WHERE rowid IN (SELECT rowid FROM once_keys WHERE until < ? LIMIT ?)",
		micros(now),
		limit,
	)
	return done.RowsAffected == int64(limit), done.Error
}

// TakenAnew forgets the once values of a transaction: the next message with one of
// them is no repeat of it.
func (tx *Tx) TakenAnew(id ID) error { return tx.db.Where("tx = ?", id).Delete(&OnceKey{}).Error }

// FirstMessage gives the message of a transaction as it was received, its body as
// a reference.
func (v View) FirstMessage(id ID) (Message, error) {
	var m Message
	return m, v.db.Where("tx = ? AND n = 0", id).Take(&m).Error
}

// Messages lists the message of a transaction and its repairs, the first first.
func (v View) Messages(id ID) ([]Message, error) {
	var out []Message
	if err := v.db.Where("tx = ?", id).Order("n").Find(&out).Error; err != nil {
		return nil, err
	}
	for i := range out {
		if err := v.Fill(&out[i].Body); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// FlowsToWalk names the flows with transactions that are to be walked.
func (v View) FlowsToWalk() ([]string, error) {
	var out []string
	return out, v.db.Model(&Transaction{}).Where("to_walk").Distinct().Pluck("flow", &out).Error
}

// ToWalk lists transactions of a flow that are to be walked, the oldest first.
func (v View) ToWalk(flow string, limit int) ([]ID, error) {
	var out []ID
	return out, v.db.Model(&Transaction{}).
		Where("flow = ? AND to_walk", flow).
		Order("id").
		Limit(limit).
		Pluck("id", &out).
		Error
}
