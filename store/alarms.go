package store

import (
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Calendar is an iCalendar file that has a name here.
type Calendar struct {
	Name     string `gorm:"primaryKey"`
	Title    string
	Zone     string // of times that have none of their own
	Except   string // names of calendars that it leaves out, parted by spaces
	Text     string // RFC 5545
	Revision int64
}

// AlarmRule is what somebody wants to be told of.
type AlarmRule struct {
	Name      string `gorm:"primaryKey"`
	Document  []byte // JSON
	Revision  int64
	CreatedAt time.Time `gorm:"serializer:micros;type:integer;autoCreateTime:false"`
	By        string    // who saved it last; "" where it was not noted
}

// Ring is one time that a rule found something: from when it began to when it was over.
type Ring struct {
	ID      ID `gorm:"primaryKey"`
	Rule    string
	Subject string     // the flow, queue, connection that it is about
	Began   time.Time  `gorm:"serializer:micros;type:integer"`
	Ended   *time.Time `gorm:"serializer:micros;type:integer"`
	Value   float64    // when it was looked at last
	Worst   float64
	// Who has it in hand, since when, and what that person said.
	AckedAt *time.Time `gorm:"serializer:micros;type:integer"`
	AckedBy string
	Note    string
}

// Telling notes that a receiver of a rule was told of a ring, so that it is not told twice.
type Telling struct {
	Ring ID        `gorm:"primaryKey"`
	To   int       `gorm:"primaryKey;autoIncrement:false"` // place among the receivers of the rule
	Kind string    `gorm:"primaryKey"`                     // rings, still or resolved
	At   time.Time `gorm:"serializer:micros;type:integer"`
}

// Notice is what goes to a receiver: one message about one or several rings.
type Notice struct {
	ID    ID         `gorm:"primaryKey"`
	To    []byte     // JSON of the receiver
	Body  []byte     // JSON of what it is told
	At    time.Time  `gorm:"serializer:micros;type:integer"`
	Next  *time.Time `gorm:"serializer:micros;type:integer"` // try; nil: it has come to its end
	Tries int
	Done  bool
	Error string
}

// Measure is what something came to in a minute; it is kept where that has changed.
type Measure struct {
	Series string `gorm:"primaryKey"`
	Minute int64  `gorm:"primaryKey;autoIncrement:false"` // minutes since 1970
	Value  float64
}

func alarms(db *gorm.DB) error {
	if err := db.AutoMigrate(&Calendar{}, &AlarmRule{}, &Ring{}, &Telling{}, &Notice{}); err != nil {
		return err
	}
	return execAll(db,
		"CREATE TABLE IF NOT EXISTS measures (series TEXT NOT NULL, minute INTEGER NOT NULL, value REAL NOT NULL, "+
			"PRIMARY KEY (series, minute)) WITHOUT ROWID",
		"CREATE INDEX IF NOT EXISTS rings_open ON rings (rule, subject) WHERE ended IS NULL",
		"CREATE INDEX IF NOT EXISTS rings_ended ON rings (ended)",
		"CREATE INDEX IF NOT EXISTS notices_next ON notices (next) WHERE next IS NOT NULL",
		"CREATE INDEX IF NOT EXISTS letters_open_flow ON letters (flow) WHERE state = 0",
	)
}

// Calendars lists the calendars by name.
func (v View) Calendars() ([]Calendar, error) {
	var out []Calendar
	return out, v.sql().Order("name").Find(&out).Error
}

// Calendar gives one.
func (v View) Calendar(name string) (c Calendar, err error) {
	return c, v.sql().Where("name = ?", name).Take(&c).Error
}

// SaveCalendar keeps a calendar, in place of one of the same name.
func (tx *Tx) SaveCalendar(c *Calendar) error { return tx.sql().Save(c).Error }

// DropCalendar removes one.
func (tx *Tx) DropCalendar(name string) error {
	return tx.sql().Where("name = ?", name).Delete(&Calendar{}).Error
}

// AlarmRules lists the rules by name.
func (v View) AlarmRules() ([]AlarmRule, error) {
	var out []AlarmRule
	return out, v.sql().Order("name").Find(&out).Error
}

// AlarmRule gives one.
func (v View) AlarmRule(name string) (r AlarmRule, err error) {
	return r, v.sql().Where("name = ?", name).Take(&r).Error
}

// SaveAlarmRule keeps a rule, in place of one of the same name.
func (tx *Tx) SaveAlarmRule(r *AlarmRule) error { return tx.sql().Save(r).Error }

// DropAlarmRule removes one, and ends what rings for it.
func (tx *Tx) DropAlarmRule(name string, now time.Time) error {
	if err := tx.sql().Exec("UPDATE rings SET ended = ? WHERE rule = ? AND ended IS NULL", micros(now), name).Error; err != nil {
		return err
	}
	return tx.sql().Where("name = ?", name).Delete(&AlarmRule{}).Error
}

// OpenRings lists what rings now, the oldest first.
func (v View) OpenRings() ([]Ring, error) {
	var out []Ring
	return out, v.sql().Where("ended IS NULL").Order("id").Find(&out).Error
}

// Rings lists what rings or rang, the newest first, behind one where that is not nil.
func (v View) Rings(rule string, after *ID, limit int) ([]Ring, error) {
	q := v.sql().Order("id DESC").Limit(limit)
	if rule != "" {
		q = q.Where("rule = ?", rule)
	}
	if after != nil {
		q = q.Where("id < ?", *after)
	}
	var out []Ring
	return out, q.Find(&out).Error
}

// Ring gives one.
func (v View) Ring(id ID) (r Ring, err error) { return r, v.sql().Where("id = ?", id).Take(&r).Error }

// SaveRing keeps a ring.
func (tx *Tx) SaveRing(r *Ring) error { return tx.sql().Save(r).Error }

// RecentlyEnded lists the rings that ended since a moment.
func (v View) RecentlyEnded(since time.Time) ([]Ring, error) {
	var out []Ring
	return out, v.sql().Where("ended >= ?", micros(since)).Order("id").Find(&out).Error
}

// Tellings lists what was told of rings.
func (v View) Tellings(rings []ID) ([]Telling, error) {
	var out []Telling
	return out, v.sql().Where("ring IN ?", rings).Find(&out).Error
}

// SaveTellings notes what was told.
func (tx *Tx) SaveTellings(all []Telling) error {
	return tx.sql().Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(all, 100).Error
}

// SaveNotice keeps a notice.
func (tx *Tx) SaveNotice(n *Notice) error { return tx.sql().Save(n).Error }

// DueNotices lists those that are to be tried by a moment.
func (v View) DueNotices(now time.Time) ([]Notice, error) {
	var out []Notice
	return out, v.sql().Where("next IS NOT NULL AND next <= ?", micros(now)).Order("next").Limit(100).Find(&out).Error
}

// Notices lists the newest.
func (v View) Notices(limit int) ([]Notice, error) {
	var out []Notice
	return out, v.sql().Order("id DESC").Limit(limit).Find(&out).Error
}

// AddMeasures keeps what things came to in a minute.
func (tx *Tx) AddMeasures(all []Measure) error {
	return tx.sql().Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(all, 300).Error
}

// Measures gives what a series came to from a minute up to another, in order: first what stood
// before them, where that is known.
func (v View) Measures(series string, from, to int64) ([]Measure, error) {
	var out, before []Measure
	if err := v.sql().Where("series = ? AND minute < ?", series, from).Order("minute DESC").Limit(1).
		Find(&before).Error; err != nil {
		return nil, err
	}
	err := v.sql().Where("series = ? AND minute BETWEEN ? AND ?", series, from, to).Order("minute").Find(&out).Error
	return append(before, out...), err
}

// MeasuredSeries names the series whose names begin so.
func (v View) MeasuredSeries(prefix string) ([]string, error) {
	var out []string
	return out, v.sql().Raw("SELECT DISTINCT series FROM measures WHERE series >= ? AND series < ?",
		prefix, prefix+"\uffff").Scan(&out).Error
}

// PruneAlarms removes measures, rings that have ended and notices of before a moment, at most so
// many of each.
func (tx *Tx) PruneAlarms(before time.Time, limit int) error {
	cut := micros(before)
	for _, q := range []struct {
		sql string
		arg int64
	}{
		{"DELETE FROM measures WHERE (series, minute) IN (SELECT series, minute FROM measures WHERE minute < ? LIMIT ?)",
			before.Unix() / 60},
		{"DELETE FROM tellings WHERE at < ? AND ring IN (SELECT id FROM rings WHERE ended IS NOT NULL LIMIT ?)", cut},
		{"DELETE FROM rings WHERE id IN (SELECT id FROM rings WHERE ended < ? LIMIT ?)", cut},
		{"DELETE FROM notices WHERE id IN (SELECT id FROM notices WHERE next IS NULL AND at < ? LIMIT ?)", cut},
	} {
		if err := tx.sql().Exec(q.sql, q.arg, limit).Error; err != nil {
			return err
		}
	}
	return nil
}

// LetterMinute is how many dead letters of a flow came in a minute.
type LetterMinute struct {
	Minute int64
	Flow   string
	N      int64
}

// LettersByMinute counts the dead letters from a moment to another. Ids only find where to begin:
// behind a clock that was set back they are ahead of it.
func (v View) LettersByMinute(from, to time.Time) ([]LetterMinute, error) {
	var out []LetterMinute
	return out, v.sql().Raw("SELECT at / 60000000 AS minute, flow, COUNT(*) AS n FROM letters "+
		"WHERE id >= ? AND at >= ? AND at < ? GROUP BY 1, 2", IDAt(from, 0), micros(from), micros(to)).Scan(&out).Error
}

// OpenLettersByFlow counts the letters that a person must decide about, by flow.
func (v View) OpenLettersByFlow() (map[string]int64, error) {
	var rows []LetterMinute
	if err := v.sql().Raw("SELECT flow, COUNT(*) AS n FROM letters WHERE state = 0 GROUP BY flow").
		Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, r := range rows {
		out[r.Flow] = r.N
	}
	return out, nil
}

// OldestUnfinished gives when the oldest transaction of a flow came that has not ended; nil for none.
func (v View) OldestUnfinished(flow string) (*time.Time, error) {
	var oldest *time.Time
	for _, state := range []State{UnderWay, Waiting} {
		var rows []Transaction
		if err := v.sql().Select("id", "received_at").Where("flow = ? AND state = ?", flow, state).Order("id").Limit(1).
			Find(&rows).Error; err != nil {
			return nil, err
		}
		if len(rows) == 1 && (oldest == nil || rows[0].ReceivedAt.Before(*oldest)) {
			oldest = &rows[0].ReceivedAt
		}
	}
	return oldest, nil
}

// LastReceived gives the minute of the last message of a flow before a moment; zero for none.
func (v View) LastReceived(flow string, before time.Time) (time.Time, error) {
	var minute int64
	err := v.sql().Raw("SELECT minute FROM counts WHERE minute > 0 AND minute < ? AND flow = ? AND n <> 0 "+
		"ORDER BY minute DESC LIMIT 1", before.Unix()/60+1, flow).Scan(&minute).Error
	if minute == 0 {
		return time.Time{}, err
	}
	return time.Unix(minute*60, 0).UTC(), err
}
