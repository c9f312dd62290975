package store

import (
	"strings"
)

// tally is how many there are of something; triggers keep it, so that a count costs
// the same however many there are.
type tally struct {
	Kind string `gorm:"primaryKey"` // letters by cause, groups by flow and step; "all letters", "all groups"
	Key  string `gorm:"primaryKey"`
	N    int64
}

// TableName implements schema.Tabler.
func (tally) TableName() string { return "tallies" }

// bytesTally is the kind of the tallies that count the bytes of messages, by flow.
const bytesTally = "bytes"

// sizeOf gives the SQL for the size of the content of a row, in bytes.
func sizeOf(row string) string {
	return strings.ReplaceAll("CASE substr(%.body,1,1) WHEN x'00' THEN length(%.body) - 1 WHEN x'01' THEN "+
		"coalesce((SELECT size FROM bodies b WHERE b.key = substr(%.body,2,32)), 0) ELSE 0 END", "%", row)
}

// bytesByFlow selects the bytes of messages by flow.
var bytesByFlow = "SELECT t.flow AS k, SUM(" + sizeOf("m") + ") AS n FROM messages m " +
	"JOIN transactions t ON t.id = m.tx GROUP BY t.flow"

var countBytes = "INSERT INTO tallies (kind, key, n) SELECT '" + bytesTally + "', k, n FROM (" + bytesByFlow + ") " +
	"WHERE true ON CONFLICT (kind, key) DO UPDATE SET n = excluded.n"

// addTally adds to a tally, or begins it.
const addTally = "INSERT INTO tallies (kind, key, n) VALUES (?, ?, ?) " +
	"ON CONFLICT (kind, key) DO UPDATE SET n = n + excluded.n"

// BytesOf gives the bytes of the messages of a flow that are kept, as they came in.
func (v View) BytesOf(flow string) (int64, error) { return v.tallied(bytesTally, flow) }

func (v View) tallied(kind, key string) (n int64, err error) {
	return n, v.sql().Raw("SELECT COALESCE(SUM(n), 0) FROM tallies WHERE kind = ? AND key = ?", kind, key).Scan(&n).Error
}

// StagedItem is a message that a poll has brought and that is yet to begin: a large
// answer is taken in a little at a time, so that nobody waits for it. They count from
// when the last of an answer is there, together with the mark behind it.
type StagedItem struct {
	Flow   string `gorm:"primaryKey"`
	N      int    `gorm:"primaryKey;autoIncrement:false"` // from 0
	Body   []byte
	Source string
}

// Stage keeps items of an answer.
func (tx *Tx) Stage(items []StagedItem) error {
	return tx.sql().CreateInBatches(&items, 300).Error
}

// Staged lists the next items of a flow.
func (v View) Staged(flow string, limit int) ([]StagedItem, error) {
	var out []StagedItem
	return out, v.sql().Where("flow = ?", flow).Order("n").Limit(limit).Find(&out).Error
}

// TakeStaged removes the items of a flow from one to another, and tells how many.
func (tx *Tx) TakeStaged(flow string, first, last int) (int, error) {
	done := tx.sql().Where("flow = ? AND n BETWEEN ? AND ?", flow, first, last).Delete(&StagedItem{})
	return int(done.RowsAffected), done.Error
}

// Unstage removes up to limit items of a flow.
func (tx *Tx) Unstage(flow string, limit int) (more bool, err error) {
	done := tx.sql().Exec(
		"DELETE FROM staged_items WHERE rowid IN (SELECT rowid FROM staged_items WHERE flow = ? LIMIT ?)", flow, limit,
	)
	return done.RowsAffected == int64(limit), done.Error
}

// Lend notes that a message of a flow waits for another try and has given back its
// reader's place, or with by -1 that it does so no longer.
func (tx *Tx) Lend(flow string, by int64) error {
	return tx.sql().Exec(addTally, "lent", flow, by).Error
}

// Lent tells how many messages of a flow wait like that.
func (v View) Lent(flow string) (int64, error) { return v.tallied("lent", flow) }
