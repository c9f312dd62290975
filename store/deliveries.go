package store

import (
	"errors"
	"time"

	"gorm.io/gorm/clause"
)

// AddDelivery stores a new delivery. With an order value it waits behind an
// earlier one of the same value and target that has not ended.
func (tx *Tx) AddDelivery(d *Delivery) error {
	if err := errors.Join(tx.line(d), tx.keep(&d.Body)); err != nil {
		return err
	}
	return tx.db.Create(d).Error
}

func (tx *Tx) line(d *Delivery) error {
	if d.OrderValue == "" {
		return nil
	}
	var ahead int64
	q := tx.db.Model(&Delivery{}).
		Where("target = ? AND order_value = ? AND state <= 1 AND order_value <> ''", d.Target, d.OrderValue)
	if d.Seq != 0 {
		q = q.Where("seq < ?", d.Seq)
	}
	if err := q.Limit(1).Count(&ahead).Error; err != nil {
		return err
	}
	if ahead > 0 {
		d.State, d.NextAt = Behind, nil
	}
	return nil
}

// RearmDelivery makes a delivery that ended wait for its turn again.
func (tx *Tx) RearmDelivery(d *Delivery) error {
	if err := errors.Join(tx.line(d), tx.keep(&d.Body)); err != nil {
		return err
	}
	return tx.db.Save(d).Error
}

// SaveDelivery writes where a delivery stands; what it hands over stays as it is.
// When it has ended, the next one in its line gets its turn.
func (tx *Tx) SaveDelivery(d *Delivery, now time.Time) error {
	if err := tx.db.Model(d).Select("State", "Tries", "Total", "FirstAt", "NextAt",
		"NextWhy").Updates(d).Error; err != nil {
		return err
	}
	if d.State <= Behind || d.OrderValue == "" {
		return nil
	}
	var next Delivery
	err := tx.db.Where("target = ? AND order_value = ? AND state <= 1 AND order_value <> ''", d.Target, d.OrderValue).
		Order("seq").
		Take(&next).
		Error
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	if err != nil || next.State == Pending {
		return err
	}
	return tx.db.Model(&next).
		Where("seq = ?", next.Seq).
		Updates(map[string]any{"state": Pending, "next_at": micros(now)}).
		Error
}

// Delivery gives a delivery by id, or ErrNotFound.
func (v View) Delivery(id ID) (Delivery, error) {
	var d Delivery
	return d, v.db.Where("id = ?", id).Take(&d).Error
}

// Deliveries lists the deliveries of a transaction in the order of their making.
func (v View) Deliveries(txID ID) ([]Delivery, error) {
	var out []Delivery
	return out, v.db.Where("tx = ?", txID).Order("seq").Find(&out).Error
}

// Due lists deliveries to a target whose time has come, the longest due first.
func (v View) Due(target string, now time.Time, limit int) ([]Delivery, error) {
	var out []Delivery
	return out, v.db.Where("target = ? AND state = 0 AND next_at <= ?", target, micros(now)).
		Order("next_at").
		Limit(limit).
		Find(&out).
		Error
}

// NextDue gives the time of the earliest delivery to a target; ok is false
// when none waits.
func (v View) NextDue(target string) (at time.Time, ok bool, err error) {
	var d Delivery
	err = v.db.Select("next_at").Where("target = ? AND state = 0", target).Order("next_at").Take(&d).Error
	if errors.Is(err, ErrNotFound) || err == nil && d.NextAt == nil {
		return at, false, nil
	}
	if err != nil {
		return at, false, err
	}
	return *d.NextAt, true, nil
}

// After gives the time of the earliest delivery to a target that is due later
// than now, or nil.
func (v View) After(target string, now time.Time) (*time.Time, error) {
	var d Delivery
	err := v.db.Select("next_at").
		Where("target = ? AND state = 0 AND next_at > ?", target, micros(now)).
		Order("next_at").
		Take(&d).
		Error
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return d.NextAt, err
}

// PendingTargets lists the targets for which deliveries wait.
func (v View) PendingTargets() ([]string, error) {
	var out []string
	return out, v.db.Model(&Delivery{}).Where("state = 0").Distinct().Pluck("target", &out).Error
}

// WaitingFor counts deliveries that wait for a target, up to a thousand.
func (v View) WaitingFor(target string) (n int64, err error) {
	return n, v.db.Raw("SELECT COUNT(*) FROM (SELECT 1 FROM deliveries WHERE target = ? AND state = 0 LIMIT 1000)",
		target).
		Scan(&n).
		Error
}

// AddTry stores an attempt.
func (tx *Tx) AddTry(t *Try) error {
	if err := tx.keep(&t.Body); err != nil {
		return err
	}
	return tx.db.Clauses(clause.OnConflict{DoNothing: true}).Create(t).Error
}

// Tries lists the attempts of a delivery in order.
func (v View) Tries(id ID) ([]Try, error) {
	var out []Try
	if err := v.db.Where("delivery = ?", id).Order("n").Find(&out).Error; err != nil {
		return nil, err
	}
	for i := range out {
		if err := v.Fill(&out[i].Body); err != nil {
			return nil, err
		}
	}
	return out, nil
}
