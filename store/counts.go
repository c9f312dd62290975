package store

import (
	"time"

	"gorm.io/gorm"
)

// count is how many transactions of a flow, received in one minute, are in a
// state. Minute 0 holds the sum over all time, and minute -h that of the hour h since
// 1970. Pages read counts from here, so that they cost the same however many transactions
// there are.
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

// sums are what a job, or a batch of them, has counted.
type sums struct {
	counts map[countKey]int64
	bytes  map[string]int64 // of messages, by flow

	observed bool // somebody wants to know what happened
	happened []Happened
}

func newSums(observed bool) *sums {
	return &sums{counts: map[countKey]int64{}, bytes: map[string]int64{}, observed: observed}
}

// cleared makes it that of the next job.
func (c *sums) cleared() *sums {
	clear(c.counts)
	clear(c.bytes)
	c.happened = c.happened[:0]
	return c
}

func (c *sums) count(t *Transaction, state State, by int64) {
	c.counts[countKey{t.ReceivedAt.Unix() / 60, t.Flow, state}] += by
	c.counts[countKey{0, t.Flow, state}] += by
	c.counts[countKey{-(t.ReceivedAt.Unix() / 3600), t.Flow, state}] += by
}

// sized notes that messages of a flow have come, or with less than 0 that they have gone.
func (c *sums) sized(flow string, bytes int64) { c.bytes[flow] += bytes }

func (c *sums) join(job *sums) {
	for k, n := range job.counts {
		c.counts[k] += n
	}
	for flow, n := range job.bytes {
		c.bytes[flow] += n
	}
	c.happened = append(c.happened, job.happened...)
}

// write adds it to what the file counts.
func (c *sums) write(p *prepared) error {
	for flow, n := range c.bytes {
		p.args = append(p.args[:0], bytesTally, flow, n)
		if err := p.exec(addTally, p.args); err != nil {
			return err
		}
	}
	for k, n := range c.counts {
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
// some flows or all.
func (v View) Counts(of Of, from, to time.Time) ([]Count, error) {
	q := v.sql().Model(&count{}).Where("minute >= ? AND minute < ? AND n <> 0", max(1, from.Unix()/60), to.Unix()/60+1)
	return readCounts(of.where(q, "flow"))
}

// CountSpan counts the transactions of a span of time, of some flows or all and in one state or
// all, from what is kept beside; minutes count as a whole.
func (v View) CountSpan(of Of, state *State, from, to time.Time) (n int64, err error) {
	q := v.sql().Model(&count{}).Select("COALESCE(SUM(n), 0)")
	if from.IsZero() && to.IsZero() {
		q = q.Where("minute = 0")
	} else {
		q = q.Where("minute >= ?", max(1, from.Unix()/60))
		if !to.IsZero() {
			q = q.Where("minute <= ?", to.Unix()/60)
		}
	}
	q = of.where(q, "flow")
	if state != nil {
		q = q.Where("state = ?", *state)
	}
	return n, q.Scan(&n).Error
}

// hourly brings the sums of hours into a file of an earlier release.
func hourly(db *gorm.DB) error {
	return db.Exec("INSERT INTO counts (minute, flow, state, n) SELECT -(minute / 60), flow, state, SUM(n) FROM counts " +
		"WHERE minute > 0 GROUP BY 1, 2, 3 HAVING SUM(n) <> 0 ON CONFLICT (minute, flow, state) DO UPDATE SET n = excluded.n").Error
}

// CountsBy gives the counts of a span in steps of so many minutes; those of whole hours are read
// from the sums of hours.
func (v View) CountsBy(of Of, from, to time.Time, step int64) ([]Count, error) {
	if step%60 == 0 {
		return v.countsByHours(of, from, to, step/60)
	}
	only, flows := of.sql()
	q := v.sql().Raw("SELECT minute / ? * ? AS minute, '' AS flow, state, SUM(n) AS n FROM counts "+
		"WHERE minute >= ? AND minute <= ? AND "+only+" GROUP BY 1, 3 ORDER BY 1",
		append([]any{step, step, max(1, from.Unix()/60), to.Unix() / 60}, flows...)...)
	var rows []count
	if err := q.Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Count, len(rows))
	for i, r := range rows {
		out[i] = Count{time.Unix(r.Minute*60, 0).UTC(), r.Flow, r.State, r.N}
	}
	return out, nil
}

func (v View) countsByHours(of Of, from, to time.Time, step int64) ([]Count, error) {
	var rows []count
	only, flows := of.sql()
	err := v.sql().Raw("SELECT -minute / ? * ? AS minute, '' AS flow, state, SUM(n) AS n FROM counts "+
		"WHERE minute < 0 AND minute <= ? AND minute >= ? AND "+only+" GROUP BY 1, 3 ORDER BY 1",
		append([]any{step, step, -(from.Unix() / 3600), -(to.Unix() / 3600)}, flows...)...).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	out := make([]Count, len(rows))
	for i, r := range rows {
		out[i] = Count{time.Unix(r.Minute*3600, 0).UTC(), r.Flow, r.State, r.N}
	}
	return out, nil
}

// SumCounts gives the counts of a span by flow and state, each with the last minute of it.
func (v View) SumCounts(from, to time.Time) ([]Count, error) {
	var rows []count
	err := v.sql().
		Raw("SELECT MAX(CASE WHEN n <> 0 THEN minute ELSE 0 END) AS minute, flow, state, SUM(n) AS n FROM counts "+
			"WHERE minute >= ? AND minute <= ? GROUP BY flow, state", max(1, from.Unix()/60), to.Unix()/60).
		Scan(&rows).
		Error
	if err != nil {
		return nil, err
	}
	out := make([]Count, len(rows))
	for i, r := range rows {
		out[i] = Count{time.Unix(r.Minute*60, 0).UTC(), r.Flow, r.State, r.N}
	}
	return out, nil
}

// CountsByMinute gives the counts of a span, of one flow, in the order of their minutes.
func (v View) CountsByMinute(flow string, from, to time.Time) ([]Count, error) {
	return readCounts(v.sql().Model(&count{}).Where("minute >= ? AND minute <= ? AND flow = ? AND n <> 0",
		max(1, from.Unix()/60), to.Unix()/60, flow))
}

// Totals gives the counts over all time.
func (v View) Totals() ([]Count, error) {
	return readCounts(v.sql().Model(&count{}).Where("minute = 0 AND n <> 0"))
}

func readCounts(q *gorm.DB) ([]Count, error) {
	var rows []count
	// Of several partitions each has a row of its own.
	q = q.Select("minute", "flow", "state", "SUM(n) AS n").Group("minute, flow, state")
	if err := q.Order("minute").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Count, len(rows))
	for i, r := range rows {
		out[i] = Count{time.Unix(r.Minute*60, 0).UTC(), r.Flow, r.State, r.N}
	}
	return out, nil
}
