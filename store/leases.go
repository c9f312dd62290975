package store

import (
	"errors"
	"time"

	"gorm.io/gorm/clause"
)

// Lease is a message of a queue that somebody outside works on until a time. The message
// is taken by the lease, as one inside is by its transaction.
type Lease struct {
	ID    ID        `gorm:"primaryKey"`
	Queue string    `gorm:"index"`
	N     int64     // of the message
	Until time.Time `gorm:"serializer:micros;type:integer;index"`
	Key   string    // of whoever took it
}

// Lapse counts the leases of a message that ended without a word.
type Lapse struct {
	N     int64 `gorm:"primaryKey;autoIncrement:false"`
	Count int
}

// AddLease hands a message over.
func (tx *Tx) AddLease(l *Lease) error {
	return errors.Join(tx.sql().Create(l).Error, tx.Take(l.N, l.ID))
}

// Lease gives a lease, or ErrNotFound.
func (v View) Lease(id ID) (Lease, error) {
	var l Lease
	return l, v.sql().Where("id = ?", id).Take(&l).Error
}

// Leases counts the leases of a queue.
func (v View) Leases(queue string) (n int64, err error) {
	return n, v.sql().Model(&Lease{}).Where("queue = ?", queue).Count(&n).Error
}

// LeasesOver lists up to limit leases whose time is over.
func (v View) LeasesOver(now time.Time, limit int) (out []Lease, err error) {
	return out, v.sql().Where("until <= ?", micros(now)).Order("until").Limit(limit).Find(&out).Error
}

// NextLeaseOver tells when the time of the next lease is over; nil for none.
func (v View) NextLeaseOver() (*time.Time, error) {
	var l Lease
	err := v.sql().Order("until").Take(&l).Error
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return &l.Until, err
}

// EndLease forgets a lease; the message stays taken until it is freed or finished.
func (tx *Tx) EndLease(id ID) error { return tx.sql().Where("id = ?", id).Delete(&Lease{}).Error }

// FreeItem gives a message back to its queue.
func (tx *Tx) FreeItem(n int64) error {
	tx.forgetRooms()
	return tx.sql().Model(&QueueItem{}).Where("n = ?", n).Update("taken_by", nil).Error
}

// Item gives a message of a queue by its number, or ErrNotFound.
func (v View) Item(n int64) (QueueItem, error) {
	var item QueueItem
	return item, v.sql().Where("n = ?", n).Take(&item).Error
}

// Lapsed counts one more lease of a message that ended without a word, and gives how many
// have.
func (tx *Tx) Lapsed(n int64) (int, error) {
	l := Lapse{N: n}
	if err := tx.sql().Where("n = ?", n).Take(&l).Error; err != nil && !errors.Is(err, ErrNotFound) {
		return 0, err
	}
	l.Count++
	return l.Count, tx.sql().Clauses(clause.OnConflict{UpdateAll: true}).Create(&l).Error
}

// Lapses gives how many leases of a message ended without a word.
func (v View) Lapses(n int64) (int, error) {
	var l Lapse
	err := v.sql().Where("n = ?", n).Take(&l).Error
	if errors.Is(err, ErrNotFound) {
		return 0, nil
	}
	return l.Count, err
}

// ForgetLapses forgets how often a message was given back by time.
func (tx *Tx) ForgetLapses(n int64) error { return tx.sql().Where("n = ?", n).Delete(&Lapse{}).Error }

// SweepLapses forgets those of messages that are no more.
func (tx *Tx) SweepLapses() error {
	return tx.sql().Exec("DELETE FROM lapses WHERE n NOT IN (SELECT n FROM queue_items)").Error
}

// Key lets a program in. The key itself is not kept, but what it hashes to.
type Key struct {
	Name      string `gorm:"primaryKey"`
	Note      string
	Hash      []byte     `gorm:"uniqueIndex"` // SHA-256
	Rights    []byte     // JSON
	PerSecond int        // calls; 0: not bounded
	Bytes     int64      // of what it sends, a second; 0: not bounded
	Until     *time.Time `gorm:"serializer:micros;type:integer"`
	CreatedAt time.Time  `gorm:"serializer:micros;type:integer;autoCreateTime:false"`
	UsedAt    *time.Time `gorm:"serializer:micros;type:integer"`
}

// Keys lists the keys by name.
func (v View) Keys() (out []Key, err error) { return out, v.sql().Order("name").Find(&out).Error }

// AddKey stores a new key.
func (tx *Tx) AddKey(k *Key) error { return tx.sql().Create(k).Error }

// HasKey tells whether there is a key of a name.
func (v View) HasKey(name string) (bool, error) {
	var n int64
	err := v.sql().Model(&Key{}).Where("name = ?", name).Count(&n).Error
	return n > 0, err
}

// KeyUsed notes when a key was used last.
func (tx *Tx) KeyUsed(name string, at time.Time) error {
	return tx.sql().Model(&Key{}).Where("name = ?", name).Update("used_at", micros(at)).Error
}

// DropKey removes a key; false tells that there was none.
func (tx *Tx) DropKey(name string) (bool, error) {
	done := tx.sql().Where("name = ?", name).Delete(&Key{})
	return done.RowsAffected > 0, done.Error
}
