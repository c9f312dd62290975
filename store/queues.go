package store

import "time"

// Put adds a message to a queue.
func (tx *Tx) Put(item *QueueItem) error { return tx.db.Create(item).Error }

// Free lists messages of a queue that nobody works on, in order.
func (tx *Tx) Free(queue string, limit int) ([]QueueItem, error) {
	var out []QueueItem
	return out, tx.db.Where("queue = ? AND taken_by IS NULL", queue).Order("n").Limit(limit).Find(&out).Error
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
	err := s.read.Raw(`SELECT queue, SUM(taken_by IS NULL) AS depth, SUM(taken_by IS NOT NULL) AS in_flight,
		MIN(CASE WHEN taken_by IS NULL THEN n END) AS first FROM queue_items GROUP BY queue`).Scan(&rows).Error
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

// Peek lists the first messages of a queue without taking them.
func (s *Store) Peek(queue string, after int64, limit int) ([]QueueItem, error) {
	var out []QueueItem
	return out, s.read.Where("queue = ? AND n > ?", queue, after).Order("n").Limit(limit).Find(&out).Error
}
