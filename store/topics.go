package store

import (
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// TopicMessage is one message in the log of a topic.
type TopicMessage struct {
	Topic     string `gorm:"primaryKey"`
	N         int64  `gorm:"primaryKey;autoIncrement:false"` // its offset, from 0
	From      ID     // the transaction that put it there
	Path      string
	Headers   []byte // JSON
	Body      []byte
	Reference string
	PutAt     time.Time `gorm:"serializer:micros;type:integer"`
	Journey   *ID       // that it belongs to, where that is not From's own
}

// size is what a message counts against the size of its topic, in bytes.
func (m *TopicMessage) size() int64 { return int64(len(m.Headers) + len(m.Body)) }

// Topic is an append log inside the application. Its messages have the offsets
// from First (included) to Next (excluded).
type Topic struct {
	Name    string `gorm:"primaryKey"`
	First   int64
	Next    int64
	Bytes   int64
	Unheard int64 // messages put while there was no subscription
	// Retention: how old and how large the log may become; 0 for no bound.
	KeepFor    time.Duration
	KeepBytes  int64
	DropUnread bool // drop even what a subscription has not read
}

// The retention of a topic that nobody has set.
const (
	UsualKeepFor   = 7 * 24 * time.Hour
	UsualKeepBytes = 1 << 30
)

// Subscription is a reader's place in a topic. Several flows may share it.
type Subscription struct {
	Topic     string    `gorm:"primaryKey"`
	Name      string    `gorm:"primaryKey"`
	Position  int64     // the offset that is read next
	Missed    int64     // messages that the topic dropped before they were read
	CreatedAt time.Time `gorm:"serializer:micros;type:integer;autoCreateTime:false;autoUpdateTime:false"`
}

// TopicTaken is a message of a subscription that a transaction works on.
type TopicTaken struct {
	Tx           ID `gorm:"primaryKey"`
	Topic        string
	Subscription string
	Flow         string
	N            int64
}

// Topic gives a topic, or one as it would begin.
func (v View) Topic(name string) (Topic, error) {
	if v.tx != nil {
		if l := v.tx.log(name); l != nil {
			return l.Topic, nil
		}
	}
	t := Topic{Name: name, KeepFor: UsualKeepFor, KeepBytes: UsualKeepBytes}
	err := v.sql().Where("name = ?", name).Take(&t).Error
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return t, err
}

// SaveTopic writes a changed topic.
func (tx *Tx) SaveTopic(t *Topic) error {
	err := tx.sql().Save(t).Error
	tx.forgetLogs()
	return err
}

// log is a topic to whose end messages are added, and how many subscriptions it has.
type log struct {
	Topic
	subscriptions int64
	changed       bool // it is not yet in the file as it is here
}

// log gives what this write knows of a topic; nil: it has to be read.
func (tx *Tx) log(name string) *log {
	if l := tx.job.logs[name]; l != nil {
		return l
	}
	return tx.batch.logs[name]
}

// forgetLogs lets topics be read anew. What is known of them must be in the file.
func (tx *Tx) forgetLogs() {
	clear(tx.job.logs)
	clear(tx.batch.logs)
}

// Append adds a message at the end of its topic's log and fills its offset in.
// heard tells whether there is a subscription that will read it.
func (tx *Tx) Append(m *TopicMessage) (heard bool, err error) {
	was := tx.log(m.Topic)
	if was == nil {
		was = &log{}
		if was.Topic, err = tx.Topic(m.Topic); err != nil {
			return false, err
		}
		err := tx.sql().Model(&Subscription{}).Where("topic = ?", m.Topic).Count(&was.subscriptions).Error
		if err != nil {
			return false, err
		}
	}
	now := *was
	m.N = now.Next
	now.Next++
	now.Bytes += m.size()
	if now.subscriptions == 0 {
		now.Unheard++
	}
	now.changed = true
	kept := *m
	tx.job.logged = append(tx.job.logged, &kept)
	tx.job.logs[m.Topic] = &now
	return now.subscriptions > 0, nil
}

// Subscribe makes a subscription unless it exists; begin says where in the
// topic it begins to read.
func (tx *Tx) Subscribe(topic, name string, now time.Time, begin func(Topic) (int64, error)) error {
	t, err := tx.Topic(topic)
	if err != nil {
		return err
	}
	at, err := begin(t)
	if err != nil {
		return err
	}
	if err := tx.sql().Clauses(clause.OnConflict{DoNothing: true}).Create(&t).Error; err != nil {
		return err
	}
	tx.forgetLogs()
	return tx.sql().Clauses(clause.OnConflict{DoNothing: true}).
		Create(&Subscription{Topic: topic, Name: name, Position: at, CreatedAt: now}).
		Error
}

// Subscription gives a subscription by name, or ErrNotFound.
func (v View) Subscription(topic, name string) (Subscription, error) {
	var s Subscription
	return s, v.sql().Where("topic = ? AND name = ?", topic, name).Take(&s).Error
}

// SaveSubscription writes a changed subscription.
func (tx *Tx) SaveSubscription(s *Subscription) error { return tx.sql().Save(s).Error }

// Unsubscribe removes a subscription. What it works on goes on.
func (tx *Tx) Unsubscribe(topic, name string) error {
	err := tx.sql().Where("topic = ? AND name = ?", topic, name).Delete(&Subscription{}).Error
	tx.forgetLogs()
	return err
}

// OffsetAt gives the offset of the first message put at a time or later.
func (v View) OffsetAt(t Topic, at time.Time) (int64, error) {
	var m TopicMessage
	// Offsets grow with time but for a clock that was set back; the first fits.
	err := v.sql().Select("n").Where("topic = ? AND put_at >= ?", t.Name, micros(at)).Order("put_at, n").Take(&m).Error
	if errors.Is(err, ErrNotFound) {
		return t.Next, nil
	}
	return m.N, err
}

// ReadTopic lists the next messages of a subscription, without moving it.
func (v View) ReadTopic(s *Subscription, limit int) ([]TopicMessage, error) {
	var out []TopicMessage
	return out, v.sql().Where("topic = ? AND n >= ?", s.Topic, s.Position).Order("n").Limit(limit).Find(&out).Error
}

// TakeFromTopic remembers that a transaction works on a message.
func (tx *Tx) TakeFromTopic(t *TopicTaken) error {
	kept := *t
	tx.job.topicTakens = append(tx.job.topicTakens, &kept)
	return nil
}

// FinishTopic forgets it again, when the transaction has ended.
func (tx *Tx) FinishTopic(id ID) error {
	for i, t := range slices.Backward(tx.job.topicTakens) {
		if t.Tx == id { // it is done with it in one go, and the file need not know
			tx.job.topicTakens = slices.Delete(tx.job.topicTakens, i, i+1)
			return nil
		}
	}
	tx.job.topicDone = append(tx.job.topicDone, id)
	return nil
}

// TopicWork lists what is worked on of a topic, from one offset up to another, both included.
func (v View) TopicWork(topic string, from, to int64) ([]TopicTaken, error) {
	var out []TopicTaken
	return out, v.sql().Where("topic = ? AND n BETWEEN ? AND ?", topic, from, to).Order("n").Limit(5000).Find(&out).Error
}

// TakenFromTopic counts what a flow works on of a subscription.
func (v View) TakenFromTopic(topic, subscription, flow string) (n int64, err error) {
	return n, v.sql().Model(&TopicTaken{}).
		Where("topic = ? AND subscription = ? AND flow = ?", topic, subscription, flow).
		Count(&n).
		Error
}

// Retain drops up to limit of the oldest messages of a topic that are too old
// or make it too large. What a subscription has not read stays, unless the
// topic is set to drop it; then the subscription counts it as missed.
func (tx *Tx) Retain(name string, now time.Time, limit int) (dropped int, err error) {
	t, err := tx.Topic(name)
	if err != nil {
		return 0, err
	}
	subscriptions, err := subscriptions(tx.sql(), name)
	if err != nil {
		return 0, err
	}
	end := t.Next
	if !t.DropUnread {
		for _, s := range subscriptions {
			end = min(end, s.Position)
		}
	}
	var rows []struct {
		N, Size int64
		PutAt   time.Time `gorm:"serializer:micros"`
	}
	err = tx.sql().Model(&TopicMessage{}).Select("n, put_at, length(headers) + length(body) AS size").
		Where("topic = ? AND n < ?", name, end).Order("n").Limit(limit).Find(&rows).Error
	if err != nil {
		return 0, err
	}
	for _, r := range rows {
		if !(t.KeepFor > 0 && r.PutAt.Before(now.Add(-t.KeepFor)) || t.KeepBytes > 0 && t.Bytes > t.KeepBytes) {
			break
		}
		t.First, t.Bytes = r.N+1, t.Bytes-r.Size
		dropped++
	}
	if dropped == 0 {
		return 0, nil
	}
	if err := tx.sql().Where("topic = ? AND n < ?", name, t.First).Delete(&TopicMessage{}).Error; err != nil {
		return 0, err
	}
	for _, s := range subscriptions {
		if s.Position < t.First {
			s.Missed, s.Position = s.Missed+t.First-s.Position, t.First
			if err := tx.SaveSubscription(&s); err != nil {
				return 0, err
			}
		}
	}
	return dropped, tx.SaveTopic(&t)
}

func subscriptions(db *gorm.DB, topic string) ([]Subscription, error) {
	q := db.Order("topic, name")
	if topic != "" {
		q = q.Where("topic = ?", topic)
	}
	var out []Subscription
	return out, q.Find(&out).Error
}

// Topics lists all topics, by name.
func (v View) Topics() ([]Topic, error) {
	var out []Topic
	return out, v.sql().Order("name").Find(&out).Error
}

// Subscriptions lists the subscriptions of a topic, or all of them.
func (v View) Subscriptions(topic string) ([]Subscription, error) {
	return subscriptions(v.sql(), topic)
}

// PutAt tells when the message at an offset, or the next one behind it, was put.
func (v View) PutAt(topic string, n int64) (*time.Time, error) {
	var m TopicMessage
	err := v.sql().Select("put_at").Where("topic = ? AND n >= ?", topic, n).Order("n").Take(&m).Error
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return &m.PutAt, err
}

// ReadLog lists messages of a topic from an offset on, or with newest the last
// ones before it, the newest first.
func (v View) ReadLog(topic string, n int64, newest bool, limit int) ([]TopicMessage, error) {
	q := v.sql().Limit(limit)
	if newest {
		q = q.Where("topic = ? AND n < ?", topic, n).Order("n DESC")
	} else {
		q = q.Where("topic = ? AND n >= ?", topic, n).Order("n")
	}
	var out []TopicMessage
	return out, q.Find(&out).Error
}

// TopicFlight is how many messages of a subscription are worked on.
type TopicFlight struct {
	Topic, Subscription string
	N                   int64
}

// TopicFlights counts what is worked on, by subscription.
func (v View) TopicFlights() ([]TopicFlight, error) {
	var out []TopicFlight
	return out, v.sql().Model(&TopicTaken{}).
		Select("topic, subscription, COUNT(*) AS n").
		Group("topic, subscription").
		Scan(&out).
		Error
}
