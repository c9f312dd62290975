package store

import "gorm.io/gorm"

// A journey is all that came of one business message. Transactions name it (Journey), but
// for the first, which names itself by its id; parts are found through their whole, and a
// group through its members.

// journeys adds what ties transactions together.
func journeys(db *gorm.DB) error {
	if err := addColumns(db, []column{
		{&Transaction{}, "Origin", "ALTER TABLE transactions ADD COLUMN origin blob"},
		{&Transaction{}, "Journey", "ALTER TABLE transactions ADD COLUMN journey blob"},
		{&Transaction{}, "KeysOf", "ALTER TABLE transactions ADD COLUMN keys_of blob"},
		{&QueueItem{}, "Journey", "ALTER TABLE queue_items ADD COLUMN journey blob"},
		{&TopicMessage{}, "Journey", "ALTER TABLE topic_messages ADD COLUMN journey blob"},
	}); err != nil {
		return err
	}
	return execAll(db,
		// What is called, and what tells of a dead letter, could be told before.
		"UPDATE transactions SET journey = caller WHERE journey IS NULL AND caller IS NOT NULL AND parent IS NULL",
		"UPDATE transactions SET journey = (SELECT tx FROM letters l WHERE l.id = of_letter) "+
			"WHERE journey IS NULL AND of_letter IS NOT NULL AND parent IS NULL",
		"CREATE INDEX IF NOT EXISTS transactions_journey ON transactions (journey, id) "+
			"WHERE journey IS NOT NULL AND parent IS NULL")
}

// Root gives the name of the journey that a transaction belongs to.
func (t *Transaction) Root() ID {
	if t.Journey != nil {
		return *t.Journey
	}
	return t.ID
}

// IsFirst tells whether a journey begins with a transaction, as far as it says itself.
func (t *Transaction) IsFirst() bool {
	return t.Origin == nil && t.Caller == nil && t.OfLetter == nil && t.Parent == nil && !t.FromGroup
}

// OfJourney lists the transactions of a journey that name it, the earliest first, without
// parts. The first, where it names itself by its id, is not among them.
func (v View) OfJourney(journey ID, after *ID, limit int) ([]Transaction, error) {
	q := v.sql().Where("journey = ? AND parent IS NULL", journey).Order("id").Limit(limit)
	if after != nil {
		q = q.Where("id > ?", *after)
	}
	var out []Transaction
	return out, q.Find(&out).Error
}

// CountJourney tells how many transactions name a journey, counted up to a limit.
func (v View) CountJourney(journey ID, limit int) (n int64, err error) {
	return n, v.sql().Raw("SELECT COUNT(*) FROM (SELECT 1 FROM transactions WHERE journey = ? AND parent IS NULL LIMIT ?)",
		journey, limit).Scan(&n).Error
}
