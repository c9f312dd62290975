package store

import (
	"time"

	"gorm.io/gorm"
)

// RepairState says how far a repair has come.
type RepairState uint8

// The states of a repair.
const (
	RepairPlanned RepairState = iota // it begins at a time, or when a target answers
	RepairRunning
	RepairStopped // a person stopped it; what it had done stays
	RepairDone
)

var repairStateNames = [...]string{"planned", "running", "stopped", "done"}

// String gives the word that people read.
func (s RepairState) String() string { return repairStateNames[s] }

// Repair is one decision about many: dead letters, or transactions that are sent again. It
// goes on over restarts, and its report stays.
type Repair struct {
	ID       ID `gorm:"primaryKey"`
	State    RepairState
	What     string // resend, discard, again
	Title    string // what it is about, in words
	By       string // who decided
	Decision []byte // JSON of what was decided
	Pace     int    // a second; 0 for as fast as it goes
	Total    int64
	At       time.Time  `gorm:"serializer:micros;type:integer"` // decided
	BeginAt  *time.Time `gorm:"serializer:micros;type:integer"` // planned for
	Nightly  bool       // it does the next Most each day, until none is left
	When     string     // the connection that has to answer first, or ""
	Most     int        // at most so many in one night; 0 for all
	EndedAt  *time.Time `gorm:"serializer:micros;type:integer"`
}

// RepairItemState says what a repair did to one of its items.
type RepairItemState uint8

// The states of an item of a repair.
const (
	ItemWaits   RepairItemState = iota
	ItemDone                    // sent, discarded; what became of it then its letter or transaction says
	ItemRefused                 // it could not be, Detail says why
)

var repairItemNames = [...]string{"waits", "done", "refused"}

// String gives the word that people read.
func (s RepairItemState) String() string { return repairItemNames[s] }

// RepairItem is one dead letter, or one transaction, of a repair.
type RepairItem struct {
	Repair ID    `gorm:"primaryKey"`
	N      int64 `gorm:"primaryKey;autoIncrement:false"` // from 1
	State  RepairItemState
	Letter *ID // the dead letter; nil for a transaction that is sent again
	Tx     ID  // its transaction
	Made   *ID // the transaction in which it is sent again
	Detail string
}

// repairs adds what decisions about many dead letters need.
func repairs(db *gorm.DB) error {
	if err := addColumns(db, []column{
		{&Letter{}, "Assignee", "ALTER TABLE letters ADD COLUMN assignee text NOT NULL DEFAULT ''"},
	}); err != nil {
		return err
	}
	if err := db.AutoMigrate(&Repair{}, &RepairItem{}); err != nil {
		return err
	}
	return execAll(db, "UPDATE letters SET assignee = '' WHERE assignee IS NULL",
		"CREATE INDEX IF NOT EXISTS repair_items_letter ON repair_items (letter) WHERE letter IS NOT NULL",
		"CREATE INDEX IF NOT EXISTS repair_items_waiting ON repair_items (repair, n) WHERE state = 0",
		"CREATE INDEX IF NOT EXISTS repair_items_tx ON repair_items (repair, tx)",
		"CREATE INDEX IF NOT EXISTS letters_flow ON letters (flow, id) WHERE state = 0",
		"CREATE INDEX IF NOT EXISTS letters_by_state ON letters (state, id)")
}

// AddRepair keeps a repair with its first items.
func (tx *Tx) AddRepair(r *Repair, items []RepairItem) error {
	if err := tx.sql().Create(r).Error; err != nil {
		return err
	}
	return tx.sql().CreateInBatches(&items, 500).Error
}

// SaveRepair keeps what a repair has come to.
func (tx *Tx) SaveRepair(r *Repair) error { return tx.sql().Save(r).Error }

// SaveRepairItem keeps what was done to an item.
func (tx *Tx) SaveRepairItem(i *RepairItem) error { return tx.sql().Save(i).Error }

// Repair gives a repair by id, or ErrNotFound.
func (v View) Repair(id ID) (Repair, error) {
	var r Repair
	return r, v.sql().Where("id = ?", id).Take(&r).Error
}

// Repairs lists repairs that are about some flows alone, the latest first; open lists those
// that are not at their end.
func (v View) Repairs(of Of, open bool, after *ID, limit int) ([]Repair, error) {
	q := v.sql().Order("id DESC").Limit(limit)
	if of != nil {
		q = q.Where("NOT EXISTS (SELECT 1 FROM repair_items i JOIN transactions t ON t.id = i.tx WHERE i.repair = repairs.id "+
			"AND t.flow NOT IN ?)", append([]string{""}, of...))
	}
	if open {
		q = q.Where("state <= ?", RepairRunning)
	}
	if after != nil {
		q = q.Where("id < ?", *after)
	}
	var out []Repair
	return out, q.Find(&out).Error
}

// RepairItems lists items of a repair from a number on; waiting lists those that wait.
func (v View) RepairItems(id ID, waiting bool, after int64, limit int) ([]RepairItem, error) {
	q := v.sql().Where("repair = ? AND n > ?", id, after).Order("n").Limit(limit)
	if waiting {
		q = q.Where("state = ?", ItemWaits)
	}
	var out []RepairItem
	return out, q.Find(&out).Error
}

// RepairItemsOf lists the items of a repair that wait and are about one transaction.
func (v View) RepairItemsOf(id, about ID) ([]RepairItem, error) {
	var out []RepairItem
	return out, v.sql().Where("repair = ? AND tx = ? AND state = ?", id, about, ItemWaits).Order("n").Find(&out).Error
}

// RepairsOf lists the repairs that a dead letter was in, the latest first.
func (v View) RepairsOf(letter ID) ([]Repair, error) {
	var out []Repair
	return out, v.sql().Where("id IN (SELECT repair FROM repair_items WHERE letter = ?)", letter).Order("id DESC").
		Limit(20).Find(&out).Error
}

// RepairOutcome is how many items of a repair came to the same.
type RepairOutcome struct {
	Item   RepairItemState
	Letter *LetterState // nil where there is none
	State  *State       // of the transaction in which it went on
	N      int64
}

// RepairOutcomes counts what has become of the items of a repair by now.
func (v View) RepairOutcomes(id ID) ([]RepairOutcome, error) {
	var out []RepairOutcome
	return out, v.sql().Raw(`SELECT i.state AS item, l.state AS letter, t.state AS state, COUNT(*) AS n
		FROM repair_items i LEFT JOIN letters l ON l.id = i.letter
		LEFT JOIN transactions t ON t.id = COALESCE(i.made, i.tx)
		WHERE i.repair = ? GROUP BY i.state, l.state, t.state`, id).Scan(&out).Error
}

// BeginRepair marks a repair as running from now on, where it was planned or stopped.
func (tx *Tx) BeginRepair(id ID) error {
	return tx.sql().Model(&Repair{}).Where("id = ? AND state IN (?, ?)", id, RepairPlanned, RepairStopped).
		Updates(map[string]any{"state": RepairRunning, "ended_at": nil}).Error
}
