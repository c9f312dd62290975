package store

import (
	"time"

	"gorm.io/gorm"
)

// count is how many transactions of a flow, received in one minute, are in a
// state. Minute 0 holds the sum over all time. Pages read counts from here, so
// that they cost the same however many transactions there are.
type count struct {
	Minute int64  `gorm:"primaryKey;autoIncrement:false"` // minutes since 1970
	Flow   string `gorm:"primaryKey"`
	State  State  `gorm:"primaryKey;autoIncrement:false"`
	N      int64
}

// TableName implements schema.Tabler.
func (count) TableName() string { return "counts" }

type countKey struct {
	minute int64
	flow   string
	state  State
}

func (tx *Tx) count(t *Transaction, state State, by int64) {
	tx.counts[countKey{t.ReceivedAt.Unix() / 60, t.Flow, state}] += by
	tx.counts[countKey{0, t.Flow, state}] += by
}

// addCounts adds what a batch has counted.
func addCounts(p *prepared, counts map[countKey]int64) error {
	for k, n := range counts {
		if n == 0 {
			continue
		}
		p.args = countRow.values(p.args[:0], &count{k.minute, k.flow, k.state, n})
		if err := p.exec(addCount, p.args); err != nil {
			return err
		}
	}
	return nil
}

// Count is a number of transactions in a state, received in one minute.
type Count struct {
	Minute time.Time
	Flow   string
	State  State
	N      int64
}

// Counts gives the counts of the minutes from (included) to to (excluded), of
// one flow or of all when flow is empty.
func (v View) Counts(flow string, from, to time.Time) ([]Count, error) {
	q := v.sql().Model(&count{}).Where("minute >= ? AND minute < ? AND n <> 0", max(1, from.Unix()/60), to.Unix()/60+1)
	if flow != "" {
		q = q.Where("flow = ?", flow)
	}
	return readCounts(q)
}

// Totals gives the counts over all time.
func (v View) Totals() ([]Count, error) {
	return readCounts(v.sql().Model(&count{}).Where("minute = 0 AND n <> 0"))
}

func readCounts(q *gorm.DB) ([]Count, error) {
	var rows []count
	if err := q.Order("minute").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Count, len(rows))
	for i, r := range rows {
		out[i] = Count{time.Unix(r.Minute*60, 0).UTC(), r.Flow, r.State, r.N}
	}
	return out, nil
}
