package store

import (
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Put adds a message to a queue.
func (tx *Tx) Put(item *QueueItem) error { return tx.db.Create(item).Error }

// Free lists messages of a queue that nobody works on: the highest priority
// first, those of one priority in the order in which they were put.
func (tx *Tx) Free(queue string, limit int) ([]QueueItem, error) {
	var out []QueueItem
	return out, tx.db.Where("queue = ? AND taken_by IS NULL", queue).Order("priority DESC, n").Limit(limit).Find(&out).Error
}

// Expired lists messages that nobody works on and whose time is up.
func (tx *Tx) Expired(queue string, now time.Time, limit int) ([]QueueItem, error) {
	var out []QueueItem
	return out, tx.db.Where("queue = ? AND taken_by IS NULL AND expires_at <= ?", queue, now).Order("expires_at").Limit(limit).Find(&out).Error
}

// NextExpiry tells when the next free message of a queue expires; nil for never.
func (s *Store) NextExpiry(queue string) (*time.Time, error) {
	var item QueueItem
	err := s.read.Select("expires_at").Where("queue = ? AND taken_by IS NULL AND expires_at IS NOT NULL", queue).Order("expires_at").Take(&item).Error
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return item.ExpiresAt, err
}

// PauseQueue stops a queue from handing out messages, or lets it go on.
func (tx *Tx) PauseQueue(queue string, pause bool, now time.Time) error {
	if !pause {
		return tx.db.Where("queue = ?", queue).Delete(&PausedQueue{}).Error
	}
	return tx.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&PausedQueue{queue, now}).Error
}

// QueuePaused tells whether a queue is paused.
func (tx *Tx) QueuePaused(queue string) (bool, error) {
	var n int64
	return n > 0, tx.db.Model(&PausedQueue{}).Where("queue = ?", queue).Count(&n).Error
}

// PausedQueues lists the queues that are paused.
func (s *Store) PausedQueues() ([]PausedQueue, error) {
	var out []PausedQueue
	return out, s.read.Find(&out).Error
}

// MoveItems moves up to limit free messages to another queue; ns chooses some
// by number, nil takes all. What is moved keeps its place by priority and age.
func (tx *Tx) MoveItems(from, to string, ns []int64, limit int) (int64, error) {
	first := free(tx.db.Model(&QueueItem{}), from, ns).Select("n").Order("priority DESC, n").Limit(limit)
	done := tx.db.Model(&QueueItem{}).Where("n IN (?)", first).Update("queue", to)
	return done.RowsAffected, done.Error
}

// FreeOf lists up to limit free messages of a queue; ns chooses some by number.
func (tx *Tx) FreeOf(queue string, ns []int64, limit int) ([]QueueItem, error) {
	var out []QueueItem
	return out, free(tx.db, queue, ns).Order("priority DESC, n").Limit(limit).Find(&out).Error
}

func free(db *gorm.DB, queue string, ns []int64) *gorm.DB {
	db = db.Where("queue = ? AND taken_by IS NULL", queue)
	if ns != nil {
		db = db.Where("n IN ?", ns)
	}
	return db
}

// Taken counts messages of a queue that are being worked on.
func (tx *Tx) Taken(queue string) (n int64, err error) {
	return n, tx.db.Model(&QueueItem{}).Where("queue = ? AND taken_by IS NOT NULL", queue).Count(&n).Error
}

// Take marks a message as worked on by a transaction.
func (tx *Tx) Take(n int64, by ID) error {
	return tx.db.Model(&QueueItem{}).Where("n = ?", n).Update("taken_by", by).Error
}

// Finish removes a message whose transaction has ended.
func (tx *Tx) Finish(n int64) error { return tx.db.Where("n = ?", n).Delete(&QueueItem{}).Error }

// QueueDepth is how full a queue is.
type QueueDepth struct {
	Queue    string
	Depth    int64 // messages that nobody works on
	InFlight int64
	Oldest   *time.Time // when the oldest free message was put
}

// QueueDepths measures every queue that holds something.
func (s *Store) QueueDepths() ([]QueueDepth, error) {
	var rows []struct {
		Queue           string
		Depth, InFlight int64
		First           *int64
	}
	// Each part is answered by its partial index alone, without a look at a message.
	err := s.read.Raw(`SELECT queue, SUM(depth) AS depth, SUM(in_flight) AS in_flight, MIN(first) AS first FROM (
		SELECT queue, COUNT(*) AS depth, 0 AS in_flight, MIN(n) AS first FROM queue_items WHERE taken_by IS NULL GROUP BY queue
		UNION ALL SELECT queue, 0, COUNT(*), NULL FROM queue_items WHERE taken_by IS NOT NULL GROUP BY queue)
		GROUP BY queue ORDER BY queue`).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	out := make([]QueueDepth, len(rows))
	for i, r := range rows {
		out[i] = QueueDepth{Queue: r.Queue, Depth: r.Depth, InFlight: r.InFlight}
		if r.First != nil {
			var item QueueItem
			if err := s.read.Select("put_at").Where("n = ?", *r.First).Take(&item).Error; err == nil {
				out[i].Oldest = &item.PutAt
			}
		}
	}
	return out, nil
}

// Peek lists messages of a queue in the order in which they are taken, without
// taking them; after is the number of the last one seen, or 0. When that one
// has left meanwhile, the list begins anew: rather a message twice than none.
func (s *Store) Peek(queue string, after int64, limit int) ([]QueueItem, error) {
	q := s.read.Where("queue = ?", queue).Order("priority DESC, n").Limit(limit)
	if after > 0 {
		var last QueueItem
		err := s.read.Select("priority").Where("n = ?", after).Take(&last).Error
		if err != nil && !errors.Is(err, ErrNotFound) {
			return nil, err
		}
		if err == nil {
			q = q.Where("(priority < ? OR priority = ? AND n > ?)", last.Priority, last.Priority, after)
		}
	}
	var out []QueueItem
	return out, q.Find(&out).Error
}
