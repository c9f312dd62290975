package store

import (
	"time"

	"gorm.io/gorm"
)

// Hold keeps deliveries to a target waiting, for maintenance.
type Hold struct {
	Target string    `gorm:"primaryKey"`
	Since  time.Time `gorm:"serializer:micros;type:integer"`
	By     string    // who said so
	Note   string
}

func holds(db *gorm.DB) error { return db.AutoMigrate(&Hold{}) }

// HeldTargets lists the targets that are held.
func (v View) HeldTargets() ([]Hold, error) {
	var out []Hold
	return out, v.sql().Order("target").Find(&out).Error
}

// SaveHold keeps a hold.
func (tx *Tx) SaveHold(h *Hold) error { return tx.sql().Save(h).Error }

// DropHold ends one.
func (tx *Tx) DropHold(target string) error {
	return tx.sql().Where("target = ?", target).Delete(&Hold{}).Error
}

// Pending lists deliveries to a target that are not at their end, from a number on.
func (v View) Pending(target string, after int64, limit int) ([]Delivery, error) {
	var out []Delivery
	return out, v.sql().Select("seq", "id", "tx", "flow", "created_at", "next_at", "next_why", "tries").
		Where("target = ? AND state = 0 AND seq > ?", target, after).Order("seq").Limit(limit).Find(&out).Error
}

// OldestPending gives when the delivery that waits the longest for a target was made; nil for
// none. Its number tells: they are given in order.
func (v View) OldestPending(target string) (*time.Time, error) {
	rows, err := v.Pending(target, 0, 1)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0].CreatedAt, nil
}
