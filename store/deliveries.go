package store

import (
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"readyferry/store/body"
)

// DeliveryState says where a delivery stands.
type DeliveryState uint8

// The states of a delivery.
const (
	Pending   DeliveryState = iota // due at NextAt
	Behind                         // waits for an earlier one of the same order value
	Done                           // delivered
	Dead                           // given up; a dead letter tells
	Withdrawn                      // a person or another version made it needless
)

var deliveryStateNames = [...]string{"waiting", "waiting", "delivered", "dead letter", "withdrawn"}

// String gives the word that people read.
func (s DeliveryState) String() string { return deliveryStateNames[s] }

// Delivery is one guaranteed send of one message to one target.
type Delivery struct {
	Seq        int64 `gorm:"primaryKey;autoIncrement:false"`
	ID         ID    // begins with the six bytes that Tx begins with, by which it is found
	Tx         ID
	Flow       string
	Path       string
	Step       string
	Target     string
	OrderValue string
	State      DeliveryState
	Request    []byte // JSON, but for the body
	Body       body.Body
	Plan       []byte     // JSON of the retry plan
	Round      int        // grows with every resend
	Tries      int        // in this round
	Total      int        // in all rounds
	FirstAt    *time.Time `gorm:"serializer:micros;type:integer"`
	NextAt     *time.Time `gorm:"serializer:micros;type:integer"`
	NextWhy    string     // why the next try comes when it does
	CreatedAt  time.Time  `gorm:"serializer:micros;type:integer;autoCreateTime:false;autoUpdateTime:false"`
	Soft       bool       // it stands in a way of a scatter: given up, it is a missing answer and no dead letter
	Taken      []byte     // the try that delivered it, where it is no row of tries
}

// Try is one attempt of a delivery.
type Try struct {
	Delivery ID  `gorm:"primaryKey"`
	N        int `gorm:"primaryKey;autoIncrement:false"` // over all rounds
	Round    int
	At       time.Time `gorm:"serializer:micros;type:integer"`
	Took     int64     // microseconds
	Outcome  string
	Status   int
	Detail   string
	Headers  []byte    // JSON
	Body     body.Body // the answer's first 64 KiB
}

// Unknown is the outcome of a Try that the application did not see the end of, because it
// stopped. It counts as none of its plan.
const Unknown = "unknown"

// Counts tells whether a try is one of its plan.
func (t *Try) Counts() bool { return t.Outcome != Late && t.Outcome != Unknown }

// Late is the outcome of a Try that is none: an answer for which nobody waited any more,
// because it came late or a second time.
const Late = "late"

// AddDelivery stores a new delivery. With an order value it waits behind an
// earlier one of the same value and target that has not ended.
func (tx *Tx) AddDelivery(d *Delivery) error {
	if bound(d.ID, 0) != bound(d.Tx, 0) {
		return fmt.Errorf("the delivery %s does not begin as its transaction %s does", d.ID, d.Tx)
	}
	if err := errors.Join(tx.line(d), tx.keep(&d.Body)); err != nil {
		return err
	}
	d.Seq = tx.numbers.delivery()
	tx.put(d, true, true)
	return nil
}

// put keeps a delivery as it is now.
func (tx *Tx) put(d *Delivery, fresh, whole bool) {
	now := *d
	now.FirstAt, now.NextAt, now.CreatedAt = exactly(d.FirstAt), exactly(d.NextAt), exact(d.CreatedAt)
	tx.job.place(&now, fresh, whole)
	if u := tx.unit(d.Tx); u != nil {
		tx.job.units[d.Tx] = u.with(&now)
		tx.job.of[d.ID] = d.Tx
	}
}

// line lets a delivery wait while another one of its order value is open: of those exactly
// one has its turn. One that is sent again has the next, if it was there before the others.
func (tx *Tx) line(d *Delivery) error {
	if d.OrderValue == "" {
		return nil
	}
	var ahead int64
	err := tx.sql().Raw("SELECT COUNT(*) FROM (SELECT 1 FROM deliveries WHERE target = ? AND order_value = ? AND state <= 1 "+
		"AND order_value <> '' LIMIT 1)", d.Target, d.OrderValue).Scan(&ahead).Error
	if err != nil {
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
	tx.apart(d)
	tx.put(d, false, true)
	if u := tx.unit(d.Tx); u != nil {
		tx.job.units[d.Tx] = u.unanswered(d.Path)
	}
	return nil
}

// SaveDelivery writes where a delivery stands; what it hands over stays as it is.
// When it has ended, the next one in its line gets its turn.
func (tx *Tx) SaveDelivery(d *Delivery, now time.Time) error {
	tx.noteSettled(d, now)
	if d.State <= Behind || d.OrderValue == "" {
		tx.put(d, false, false)
		return nil
	}
	was, err := tx.Delivery(d.ID)
	tx.put(d, false, false)
	if err != nil || was.State != Pending { // it had not the turn
		return err
	}
	var next Delivery
	err = tx.sql().Where("target = ? AND order_value = ? AND state <= 1 AND order_value <> ''", d.Target, d.OrderValue).
		Order("seq").
		Take(&next).
		Error
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	if err != nil || next.State == Pending {
		return err
	}
	tx.forget(next.Tx)
	return tx.sql().Model(&next).
		Where("seq = ?", next.Seq).
		Updates(map[string]any{"state": Pending, "next_at": micros(now)}).
		Error
}

// Delivery gives a delivery by id, or ErrNotFound.
func (v View) Delivery(id ID) (Delivery, error) {
	if u, i := v.unitOf(id); u != nil {
		return u.deliveries[i], nil
	}
	var d Delivery
	return d, v.sql().Where("id = ? AND tx >= ? AND tx <= ?", id, bound(id, 0), bound(id, 0xff)).Take(&d).Error
}

// bound gives the first or the last of the transactions to which a delivery can belong: the id
// of a delivery begins with their time. They are those of a millisecond, so an index of
// deliveries by transaction finds them by their own ids, too.
func bound(delivery ID, fill byte) (tx ID) {
	const time = 6 // bytes
	copy(tx[:], delivery[:time])
	for i := time; i < len(tx); i++ {
		tx[i] = fill
	}
	return tx
}

// Deliveries lists the deliveries of a transaction in the order of their making.
func (v View) Deliveries(txID ID) ([]Delivery, error) {
	if u := v.unit(txID); u != nil {
		return slices.Clone(u.deliveries), nil
	}
	var out []Delivery
	return out, v.sql().Where("tx = ?", txID).Order("seq").Find(&out).Error
}

// Due is a delivery whose time has come, and its transaction.
type Due struct{ ID, Tx ID }

// Due lists the deliveries of a flow to a target whose time has come, the longest due first.
func (v View) Due(target, flow string, now time.Time, limit int) ([]Due, error) {
	var out []Due
	return out, v.sql().Model(&Delivery{}).Select("id", "tx").
		Where("target = ? AND flow = ? AND state = 0 AND next_at <= ?", target, flow, micros(now)).
		Order("next_at").
		Limit(limit).
		Find(&out).
		Error
}

// FlowsFor names the flows with deliveries that wait for a target. It costs what the flows
// are, however much waits.
func (v View) FlowsFor(target string) ([]string, error) {
	return v.flowsIn("deliveries", "target = @value AND state = 0", sql.Named("value", target))
}

// After gives the time of the earliest delivery of a flow to a target that is due later
// than now, or nil.
func (v View) After(target, flow string, now time.Time) (*time.Time, error) {
	var d Delivery
	err := v.sql().Select("next_at").
		Where("target = ? AND flow = ? AND state = 0 AND next_at > ?", target, flow, micros(now)).
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
	return out, v.sql().Model(&Delivery{}).Where("state = 0").Distinct().Pluck("target", &out).Error
}

// WaitingFor counts deliveries that wait for a target, up to a thousand.
func (v View) WaitingFor(target string) (n int64, err error) {
	return n, v.sql().Raw("SELECT COUNT(*) FROM (SELECT 1 FROM deliveries WHERE target = ? AND state = 0 LIMIT 1000)",
		target).
		Scan(&n).
		Error
}

// Tries lists the attempts of a delivery in order.
func (v View) Tries(id ID) ([]Try, error) {
	var out []Try
	if err := v.sql().Where("delivery = ?", id).Order("n").Find(&out).Error; err != nil {
		return nil, err
	}
	switch d, err := v.Delivery(id); {
	case err != nil && !errors.Is(err, ErrNotFound):
		return nil, err
	case err == nil && d.Taken != nil:
		out = append(out, *d.taken())
	}
	for i := range out {
		if err := v.Fill(&out[i].Body); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// CountPending counts the deliveries to a target that are not at their end, up to a limit.
func (v View) CountPending(target string, limit int) (n int64, err error) {
	return n, v.sql().Raw("SELECT COUNT(*) FROM (SELECT 1 FROM deliveries WHERE target = ? AND state = 0 LIMIT ?)",
		target, limit).Scan(&n).Error
}
