package store

import (
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Clock is when the intake of a flow is due next, and how far it has come.
type Clock struct {
	Flow       string     `gorm:"primaryKey"`
	Spec       string     // what it follows from; another one makes it anew
	NextAt     time.Time  `gorm:"serializer:micros;type:integer"`
	LastAt     *time.Time `gorm:"serializer:micros;type:integer"` // of the last time that it was due
	Mark       []byte     // JSON of the high-water mark; nil before the first poll
	Error      string     // why the last poll failed, or ""
	Fails      int        // in a row
	FailsSince *time.Time `gorm:"serializer:micros;type:integer"` // the first of them; nil: it works
	Marks      []byte     // JSON: where a polled table stood a while ago, for rows that commit late
	Staged     int        // messages of the last answer that are yet to begin
	Taken      int64      // messages so far
	Brought    int        // messages of the last answer that held any
	MarkKey    []byte     // JSON: of rows with the same change time, the last key
}

// PolledRow is a row of an outside table that a poll has seen.
type PolledRow struct {
	Flow   string `gorm:"primaryKey"`
	Key    string `gorm:"primaryKey"` // JSON
	Hash   []byte
	SeenAt time.Time `gorm:"serializer:micros;type:integer"`
}

// Failed notes that the source has failed, or with nil that it works.
func (c *Clock) Failed(err error, now time.Time) {
	if err == nil {
		c.Error, c.Fails, c.FailsSince = "", 0, nil
		return
	}
	c.Error = err.Error()
	c.Fails++
	if c.FailsSince == nil {
		c.FailsSince = &now
	}
}

// Clocks lists the clocks of all flows.
func (v View) Clocks() ([]Clock, error) {
	var out []Clock
	return out, v.sql().Order("next_at").Find(&out).Error
}

// TroubledClocks lists the clocks of flows whose source fails.
func (v View) TroubledClocks() ([]Clock, error) {
	var out []Clock
	return out, v.sql().Where("error <> ''").Order("flow").Find(&out).Error
}

// Clock gives the clock of a flow, or ErrNotFound.
func (v View) Clock(flow string) (Clock, error) {
	var c Clock
	return c, v.sql().Where("flow = ?", flow).Take(&c).Error
}

// ClocksElsewhere names the flows that have a clock in another partition than the first, and the partition.
func (v View) ClocksElsewhere() (map[string]int, error) {
	out := map[string]int{}
	if v.parts == nil {
		return out, nil
	}
	for i, file := range v.parts.files() {
		var flows []string
		if i == 0 {
			continue
		}
		if err := v.sql().Raw("SELECT flow FROM " + file + ".clocks").Scan(&flows).Error; err != nil {
			return nil, err
		}
		for _, flow := range flows {
			out[flow] = partOf(file)
		}
	}
	return out, nil
}

// SaveClock writes a clock.
func (tx *Tx) SaveClock(c *Clock) error { return tx.sql().Save(c).Error }

// DeleteClock removes the clock of a flow and what it has seen.
func (tx *Tx) DeleteClock(flow string) error {
	if err := tx.sql().Where("flow = ?", flow).Delete(&PolledRow{}).Error; err != nil {
		return err
	}
	if err := tx.sql().Where("flow = ?", flow).Delete(&StagedItem{}).Error; err != nil {
		return err
	}
	return tx.sql().Where("flow = ?", flow).Delete(&Clock{}).Error
}

// Polled gives the hashes of rows that were seen before, by key.
func (v View) Polled(flow string, keys []string) (map[string]string, error) {
	return polled(v.sql(), flow, keys)
}

func polled(db *gorm.DB, flow string, keys []string) (map[string]string, error) {
	out := map[string]string{}
	for len(keys) > 0 {
		some := keys[:min(500, len(keys))]
		keys = keys[len(some):]
		var rows []PolledRow
		if err := db.Where("flow = ? AND key IN ?", flow, some).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.Key] = string(r.Hash)
		}
	}
	return out, nil
}

// SavePolled notes rows as they are now.
func (tx *Tx) SavePolled(rows []PolledRow) error {
	if len(rows) == 0 {
		return nil
	}
	return tx.sql().Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(&rows, 300).Error
}

// ForgetPolled forgets rows that are gone.
func (tx *Tx) ForgetPolled(flow string, keys []string) error {
	for len(keys) > 0 {
		some := keys[:min(500, len(keys))]
		keys = keys[len(some):]
		if err := tx.sql().Where("flow = ? AND key IN ?", flow, some).Delete(&PolledRow{}).Error; err != nil {
			return err
		}
	}
	return nil
}

// ForgetSeen forgets up to limit rows that a poll has seen before a moment.
func (tx *Tx) ForgetSeen(flow string, before time.Time, limit int) (more bool, err error) {
	done := tx.sql().Exec("DELETE FROM polled_rows WHERE rowid IN (SELECT rowid FROM polled_rows WHERE flow = ? AND seen_at < ? LIMIT ?)",
		flow, micros(before), limit)
	return done.RowsAffected == int64(limit), done.Error
}

// PolledBehind lists rows that were seen, behind one.
func (v View) PolledBehind(flow, after string, limit int) ([]PolledRow, error) {
	var out []PolledRow
	return out, v.sql().Where("flow = ? AND key > ?", flow, after).Order("key").Limit(limit).Find(&out).Error
}

// PolledKeys lists keys that were seen, behind one.
func (v View) PolledKeys(flow, after string, limit int) ([]string, error) {
	var out []string
	return out, v.sql().Model(&PolledRow{}).
		Where("flow = ? AND key > ?", flow, after).
		Order("key").
		Limit(limit).
		Pluck("key", &out).
		Error
}
