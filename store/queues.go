package store

import (
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// QueueItem is a message in a queue inside the application.
type QueueItem struct {
	N         int64 `gorm:"primaryKey;autoIncrement"`
	Queue     string
	From      ID // the transaction that put it there
	Path      string
	Headers   []byte // JSON
	Body      []byte
	Reference string
	PutAt     time.Time `gorm:"serializer:micros;type:integer"`
	TakenBy   *ID       // the transaction that works on it
	Priority  int       // 0 to 9; the higher are taken first
	// ExpiresAt is when a message that nobody works on becomes a dead letter.
	ExpiresAt *time.Time `gorm:"serializer:micros;type:integer"`
	Journey   *ID        // that it belongs to, where that is not From's own
}

// QueueSize counts the messages of a queue; triggers keep it, so that a full
// queue is measured as fast as an empty one.
type QueueSize struct {
	Queue string `gorm:"primaryKey"`
	Free  int64  // nobody works on them
	Taken int64
}

// QueueSettings are what a person has set for a queue.
type QueueSettings struct {
	Queue string `gorm:"primaryKey"`
	Limit int64  // messages that nobody works on; more are refused
}

// UsualQueueLimit is the limit of a queue that nobody has set.
const UsualQueueLimit = 1_000_000

// PausedQueue is a queue that hands out nothing for now.
type PausedQueue struct {
	Queue string    `gorm:"primaryKey"`
	Since time.Time `gorm:"serializer:micros;type:integer"`
}

// Put adds a message to a queue.
func (tx *Tx) Put(item *QueueItem) error {
	item.N = tx.numbers.item()
	kept := *item
	tx.job.items = append(tx.job.items, &kept)
	if r := tx.room(item.Queue); r != nil {
		tx.job.rooms[item.Queue] = &room{r.free + 1, r.limit}
	}
	return nil
}

// room is how many messages a queue has that nobody works on, and may have.
type room struct{ free, limit int64 }

// room gives what this write knows of a queue's room; nil: it has to be read.
func (tx *Tx) room(queue string) *room {
	if r := tx.job.rooms[queue]; r != nil {
		return r
	}
	return tx.batch.rooms[queue]
}

// forgetRooms lets the room of queues be read anew.
func (tx *Tx) forgetRooms() {
	clear(tx.job.rooms)
	clear(tx.batch.rooms)
}

// Free lists messages of a queue that nobody works on: the highest priority
// first, those of one priority in the order in which they were put.
func (v View) Free(queue string, limit int) ([]QueueItem, error) {
	var out []QueueItem
	return out, v.sql().Where("queue = ? AND taken_by IS NULL", queue).
		Order("priority DESC, n").
		Limit(limit).
		Find(&out).
		Error
}

// Expired lists messages that nobody works on and whose time is up.
func (v View) Expired(queue string, now time.Time, limit int) ([]QueueItem, error) {
	var out []QueueItem
	return out, v.sql().Where("queue = ? AND taken_by IS NULL AND expires_at <= ?", queue, micros(now)).
		Order("expires_at").
		Limit(limit).
		Find(&out).
		Error
}

// NextExpiry tells when the next free message of a queue expires; nil for never.
func (v View) NextExpiry(queue string) (*time.Time, error) {
	var item QueueItem
	err := v.sql().Select("expires_at").
		Where("queue = ? AND taken_by IS NULL AND expires_at IS NOT NULL", queue).
		Order("expires_at").
		Take(&item).
		Error
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return item.ExpiresAt, err
}

// PauseQueue stops a queue from handing out messages, or lets it go on.
func (tx *Tx) PauseQueue(queue string, pause bool, now time.Time) error {
	if !pause {
		return tx.sql().Where("queue = ?", queue).Delete(&PausedQueue{}).Error
	}
	return tx.sql().Clauses(clause.OnConflict{DoNothing: true}).Create(&PausedQueue{queue, now}).Error
}

// QueuePaused tells whether a queue is paused.
func (v View) QueuePaused(queue string) (bool, error) {
	var n int64
	return n > 0, v.sql().Model(&PausedQueue{}).Where("queue = ?", queue).Count(&n).Error
}

// PausedQueues lists the queues that are paused.
func (v View) PausedQueues() ([]PausedQueue, error) {
	var out []PausedQueue
	return out, v.sql().Find(&out).Error
}

// MoveItems moves up to limit free messages to another queue; ns chooses some
// by number, nil takes all. What is moved keeps its place by priority and age.
func (tx *Tx) MoveItems(from, to string, ns []int64, limit int) (int64, error) {
	tx.forgetRooms()
	first := free(tx.sql().Model(&QueueItem{}), from, ns).Select("n").Order("priority DESC, n").Limit(limit)
	done := tx.sql().Model(&QueueItem{}).Where("n IN (?)", first).Update("queue", to)
	return done.RowsAffected, done.Error
}

// FreeOf lists up to limit free messages of a queue; ns chooses some by number.
func (v View) FreeOf(queue string, ns []int64, limit int) ([]QueueItem, error) {
	var out []QueueItem
	return out, free(v.sql(), queue, ns).Order("priority DESC, n").Limit(limit).Find(&out).Error
}

func free(db *gorm.DB, queue string, ns []int64) *gorm.DB {
	db = db.Where("queue = ? AND taken_by IS NULL", queue)
	if ns != nil {
		db = db.Where("n IN ?", ns)
	}
	return db
}

// Taken counts messages of a queue that a flow works on: each of several
// readers has its own number in flight.
func (v View) Taken(queue, flow string) (n int64, err error) {
	return n, v.sql().Raw(`SELECT COUNT(*) FROM queue_items q JOIN transactions t ON t.id = q.taken_by
		WHERE q.queue = ? AND q.taken_by IS NOT NULL AND t.flow = ?`, queue, flow).Scan(&n).Error
}

// QueueItem gives a message that stands in a queue, by its number, or ErrNotFound.
func (v View) QueueItem(n int64) (QueueItem, error) {
	var q QueueItem
	return q, v.sql().Select("n", "queue", "from", "put_at", "taken_by").Where("n = ?", n).Take(&q).Error
}

// StillFree gives ErrNotFound unless a message stands in its queue as it did, and
// nobody works on it.
func (v View) StillFree(item *QueueItem) error {
	return v.sql().Select("n").
		Where("n = ? AND queue = ? AND taken_by IS NULL", item.N, item.Queue).
		Take(&QueueItem{}).
		Error
}

// Take marks a message as worked on by a transaction.
func (tx *Tx) Take(n int64, by ID) error {
	tx.job.takes = append(tx.job.takes, taking{n, by})
	tx.forgetRooms()
	return nil
}

// Finish removes a message whose transaction has ended.
func (tx *Tx) Finish(n int64) error {
	tx.job.takes = slices.DeleteFunc(tx.job.takes, func(t taking) bool { return t.n == n })
	tx.job.finished = append(tx.job.finished, n)
	tx.forgetRooms()
	return nil
}

// QueueDepth is how full a queue is.
type QueueDepth struct {
	Queue    string
	Depth    int64 // messages that nobody works on
	InFlight int64
	Oldest   *time.Time // when the oldest free message was put
}

// QueueDepths measures every queue that holds something.
func (v View) QueueDepths() ([]QueueDepth, error) {
	var rows []QueueSize
	if err := v.sql().Where("free <> 0 OR taken <> 0").Order("queue").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]QueueDepth, len(rows))
	for i, r := range rows {
		out[i] = QueueDepth{Queue: r.Queue, Depth: r.Free, InFlight: r.Taken}
		if r.Free == 0 {
			continue
		}
		var item QueueItem
		err := v.sql().Raw(`SELECT put_at FROM queue_items WHERE n = (
			SELECT MIN(first) FROM (SELECT (SELECT MIN(n) FROM queue_items WHERE queue = ? AND taken_by IS NULL AND priority = p.value) AS first
			FROM json_each('[0,1,2,3,4,5,6,7,8,9]') p))`, r.Queue).Scan(&item).Error
		if err != nil {
			return nil, err
		}
		if !item.PutAt.IsZero() {
			out[i].Oldest = &item.PutAt
		}
	}
	return out, nil
}

// QueueLimit tells how many messages a queue holds that nobody works on, and
// how many it may hold.
func (v View) QueueLimit(queue string) (free, limit int64, err error) {
	if v.tx != nil {
		if r := v.tx.room(queue); r != nil {
			return r.free, r.limit, nil
		}
		defer func() {
			if err == nil {
				v.tx.job.rooms[queue] = &room{free, limit}
			}
		}()
	}
	limit = UsualQueueLimit
	var set QueueSettings
	if err = v.sql().Where("queue = ?", queue).Take(&set).Error; err == nil {
		limit = set.Limit
	} else if !errors.Is(err, ErrNotFound) {
		return 0, 0, err
	}
	var size QueueSize
	if err = v.sql().Where("queue = ?", queue).Take(&size).Error; errors.Is(err, ErrNotFound) {
		err = nil
	}
	return size.Free, limit, err
}

// SetQueue keeps what a person has set for a queue.
func (tx *Tx) SetQueue(s *QueueSettings) error {
	tx.forgetRooms()
	return tx.sql().Save(s).Error
}

// QueueSettings lists the queues for which a person has set something.
func (v View) QueueSettings() ([]QueueSettings, error) {
	var out []QueueSettings
	return out, v.sql().Find(&out).Error
}

// Peek lists messages of a queue in the order in which they are taken, without
// taking them; after is the number of the last one seen, or 0. When that one
// has left meanwhile, the list begins anew: rather a message twice than none.
func (v View) Peek(queue string, after int64, limit int) ([]QueueItem, error) {
	q := v.sql().Where("queue = ?", queue).Order("priority DESC, n").Limit(limit)
	if after > 0 {
		var last QueueItem
		err := v.sql().Select("priority").Where("n = ?", after).Take(&last).Error
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
