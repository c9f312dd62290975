package store

import (
	"errors"
	"time"

	"gorm.io/gorm/clause"
)

// GroupState says where a group stands.
type GroupState uint8

// The states of a group.
const (
	GroupOpen    GroupState = iota // members may come
	GroupLeaving                   // it has closed, and its members learn of it
	GroupClosed
	GroupClosing // it has closed, and is yet to go on as a transaction
)

// Group is a group of messages that an aggregate gathers. Its id is that of the
// transaction in which it goes on.
type Group struct {
	ID       ID `gorm:"primaryKey"`
	Flow     string
	Path     string // of the aggregate, without numbers of parts
	Scope    string // the split whose parts it waits for, or ""
	Key      string
	Version  int // of the flow, the newest of its members
	State    GroupState
	Members  int
	Bytes    int64      // of its items
	OpenedAt time.Time  `gorm:"serializer:micros;type:integer"`
	LastAt   time.Time  `gorm:"serializer:micros;type:integer"`
	CloseAt  *time.Time `gorm:"serializer:micros;type:integer"` // when time closes it; nil for never
	CloseWhy string     // why it closes then
	ClosedAt *time.Time `gorm:"serializer:micros;type:integer"`
	Why      string     // why it has closed
	Late     bool       // an addition to a group that had closed before
}

// Member is a message in a group.
type Member struct {
	GroupID   ID     `gorm:"primaryKey"`
	N         int    `gorm:"primaryKey;autoIncrement:false"` // from 1
	Tx        ID     // its transaction
	Path      string // of the aggregate in it
	Item      []byte // JSON; nil once the group has closed
	UniqueKey []byte
	At        time.Time `gorm:"serializer:micros;type:integer"`
	Gone      bool      // its transaction does not wait for the group any more
}

// OpenGroup gives the open group of a key, or ErrNotFound.
func (v View) OpenGroup(flow, path, scope, key string) (Group, error) {
	var g Group
	return g, v.sql().Where("flow = ? AND path = ? AND scope = ? AND key = ? AND state = 0", flow, path, scope, key).
		Take(&g).
		Error
}

// ClosedGroup gives the group of a key that closed last, after a moment; or
// ErrNotFound.
func (v View) ClosedGroup(flow, path, scope, key string, after time.Time) (Group, error) {
	var g Group
	return g, v.sql().Where("flow = ? AND path = ? AND scope = ? AND key = ? AND state > 0 AND closed_at > ?", flow, path,
		scope, key, micros(after)).
		Order("closed_at DESC").
		Take(&g).
		Error
}

// CountOpenGroups counts the open groups of a step, up to a limit.
func (v View) CountOpenGroups(flow, path string, limit int) (n int, err error) {
	all, err := v.tallied("groups", flow+" "+path)
	return int(min(all, int64(limit))), err
}

// SaveGroup creates or replaces a group.
func (tx *Tx) SaveGroup(g *Group) error { return tx.sql().Save(g).Error }

// Group gives a group by id, or ErrNotFound.
func (v View) Group(id ID) (Group, error) {
	var g Group
	return g, v.sql().Where("id = ?", id).Take(&g).Error
}

// AddMember adds a message to a group; there is none when its unique key is
// there already.
func (tx *Tx) AddMember(m *Member) (added bool, err error) {
	done := tx.sql().Clauses(clause.OnConflict{DoNothing: true}).Create(m)
	return done.RowsAffected > 0, done.Error
}

// HasMember tells whether a group has a member with a unique key.
func (v View) HasMember(group ID, key []byte) (bool, error) {
	var n int64
	return n > 0, v.sql().Model(&Member{}).Where("group_id = ? AND unique_key = ?", group, key).Count(&n).Error
}

// Items gives the items of a group in the order in which they came, behind a member.
func (v View) Items(group ID, after int) ([][]byte, error) {
	var rows []Member
	if err := v.sql().Select("item").Where("group_id = ? AND n > ?", group, after).Order("n").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([][]byte, len(rows))
	for i, m := range rows {
		out[i] = m.Item
	}
	return out, nil
}

// ForgetItems removes the items of a group: they stand in its transaction now.
func (tx *Tx) ForgetItems(group ID) error {
	return tx.sql().Model(&Member{}).Where("group_id = ?", group).Update("item", nil).Error
}

// WaitingMembers lists members whose transactions wait for a group that has
// closed.
func (v View) WaitingMembers(group ID, limit int) ([]Member, error) {
	var out []Member
	return out, v.sql().Where("group_id = ? AND NOT gone", group).Order("n").Limit(limit).Find(&out).Error
}

// MemberGone notes that a member's transaction does not wait any more.
func (tx *Tx) MemberGone(m *Member) error {
	return tx.sql().Model(&Member{}).Where("group_id = ? AND n = ?", m.GroupID, m.N).Update("gone", true).Error
}

// CloseScope lets time close all open groups of a scope at a moment.
func (tx *Tx) CloseScope(scope string, at time.Time, why string) error {
	return tx.sql().Model(&Group{}).Where("scope = ? AND scope <> '' AND state = 0", scope).
		UpdateColumns(map[string]any{"close_at": micros(at), "close_why": why}).Error
}

// CountSince counts the members of a group that have come since a moment, up
// to a limit.
func (v View) CountSince(group ID, since time.Time, limit int) (n int, err error) {
	return n, v.sql().Raw("SELECT COUNT(*) FROM (SELECT at FROM members WHERE group_id = ? ORDER BY n DESC LIMIT ?) "+
		"WHERE at > ?", group, limit, micros(since)).
		Scan(&n).
		Error
}

// DueGroups lists groups that time closes now.
func (v View) DueGroups(now time.Time, limit int) ([]Group, error) {
	var out []Group
	return out, v.sql().Where("state = 0 AND close_at <= ?", micros(now)).Order("close_at").Limit(limit).Find(&out).Error
}

// ClosingGroups lists groups that have closed and are yet to go on.
func (v View) ClosingGroups(limit int) ([]Group, error) {
	var out []Group
	return out, v.sql().Where("state = 3").Order("id").Limit(limit).Find(&out).Error
}

// LeavingGroups lists groups whose members still have to learn that they have
// closed.
func (v View) LeavingGroups(limit int) ([]Group, error) {
	var out []Group
	return out, v.sql().Where("state = 1").Order("id").Limit(limit).Find(&out).Error
}

// NextGather tells when time next closes a group, gives up a gap or ends a wait;
// nil for never.
func (v View) NextGather() (*time.Time, error) {
	var g Group
	var h Held
	var l TimeLimit
	err := v.sql().Select("close_at").Where("state = 0 AND close_at IS NOT NULL").Order("close_at").Take(&g).Error
	if err != nil && !errors.Is(err, ErrNotFound) {
		return nil, err
	}
	next := g.CloseAt
	sooner := func(at *time.Time, err error) error {
		if err == nil && (next == nil || at.Before(*next)) {
			next = at
		}
		if errors.Is(err, ErrNotFound) {
			return nil
		}
		return err
	}
	if err := sooner(&h.Until, v.sql().Select("until").Order("until").Take(&h).Error); err != nil {
		return nil, err
	}
	return next, sooner(&l.At, v.sql().Select("at").Order("at").Take(&l).Error)
}

// Limit sets the end of the time for which a transaction waits at a step. One
// that is set already stays.
func (tx *Tx) Limit(l *TimeLimit) error {
	return tx.sql().Clauses(clause.OnConflict{DoNothing: true}).Create(l).Error
}

// LimitsOf lists the paths at which a transaction waits for a time or a row.
func (v View) LimitsOf(id ID) ([]string, error) {
	var out []string
	return out, v.sql().Model(&TimeLimit{}).Where("tx = ? AND waits", id).Pluck("path", &out).Error
}

// MoveLimit moves the end of a wait.
func (tx *Tx) MoveLimit(l *TimeLimit, at time.Time) error {
	return tx.sql().Model(&TimeLimit{}).Where("tx = ? AND path = ?", l.Tx, l.Path).Update("at", micros(at)).Error
}

// Watching lists what waits for a row of a table, behind the one given.
func (v View) Watching(table string, after TimeLimit, limit int) ([]TimeLimit, error) {
	var out []TimeLimit
	return out, v.sql().Where("watched = ? AND (tx > ? OR tx = ? AND path > ?)", table, after.Tx, after.Tx, after.Path).
		Order("tx, path").
		Limit(limit).
		Find(&out).
		Error
}

// Watched lists the tables that messages are held for.
func (v View) Watched() ([]string, error) {
	var out []string
	return out, v.sql().Model(&TimeLimit{}).Where("watched <> ''").Distinct().Pluck("watched", &out).Error
}

// Pace gives the times of a key; none when it is new.
func (v View) Pace(flow, path, key string) (Pace, error) {
	p := Pace{Flow: flow, Path: path, Key: key}
	err := v.sql().Where("flow = ? AND path = ? AND key = ?", flow, path, key).Take(&p).Error
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return p, err
}

// SavePace writes the times of a key.
func (tx *Tx) SavePace(p *Pace) error { // not Save, which takes an empty key for none
	return tx.sql().Clauses(clause.OnConflict{UpdateAll: true}).Create(p).Error
}

// ForgetPaces removes keys whose times no longer matter.
func (tx *Tx) ForgetPaces(now time.Time, limit int) (more bool, err error) {
	done := tx.sql().Exec(
		"DELETE FROM paces WHERE rowid IN (SELECT rowid FROM paces WHERE until < ? LIMIT ?)",
		micros(now),
		limit,
	)
	return done.RowsAffected == int64(limit), done.Error
}

// DueLimits lists the waits whose time is over.
func (v View) DueLimits(now time.Time, limit int) ([]TimeLimit, error) {
	var out []TimeLimit
	return out, v.sql().Where("at <= ?", micros(now)).Order("at").Limit(limit).Find(&out).Error
}

// TimeLimit gives the end of a wait, or ErrNotFound.
func (v View) TimeLimit(id ID, path string) (TimeLimit, error) {
	var l TimeLimit
	return l, v.sql().Where("tx = ? AND path = ?", id, path).Take(&l).Error
}

// LimitOver forgets a time limit.
func (tx *Tx) LimitOver(l *TimeLimit) error {
	return tx.sql().Where("tx = ? AND path = ?", l.Tx, l.Path).Delete(&TimeLimit{}).Error
}

// OpenGroups lists open groups, the oldest first.
func (v View) OpenGroups(of Of, after *ID, limit int) ([]Group, error) {
	q := of.where(v.sql().Where("state = 0").Order("id").Limit(limit), "flow")
	if after != nil {
		q = q.Where("id > ?", *after)
	}
	var out []Group
	return out, q.Find(&out).Error
}

// CountAllOpenGroups counts the open groups of all flows.
func (v View) CountAllOpenGroups() (n int64, err error) {
	return v.tallied("all groups", "")
}

// Members lists the members of a group, in the order in which they came.
func (v View) Members(group ID, after, limit int) ([]Member, error) {
	var out []Member
	return out, v.sql().Where("group_id = ? AND n > ?", group, after).Order("n").Limit(limit).Find(&out).Error
}

// Memberships lists the groups that a transaction is in.
func (v View) Memberships(id ID) ([]Member, error) {
	var out []Member
	return out, v.sql().Select("group_id", "n", "tx", "path", "at", "gone").
		Where("tx = ?", id).
		Order("at").
		Find(&out).
		Error
}
