package store

import (
	"errors"
	"time"

	"gorm.io/gorm"

	"readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/table"
)

// Table is reference data. What a version was stays: rows know from which
// version to which they stood.
type Table struct {
	Name      string `gorm:"primaryKey"`
	Document  []byte // JSON of its definition
	Version   int64  // grows with every change of its rows or definition
	Next      int64  // the newest version that was begun
	Dropped   bool   // it is being removed, and nobody sees it
	Loading   int64  // the version that rows are being loaded into, 0 for none; nobody sees it
	Rows      int64
	KeepsAll  bool      // an earlier release made it: where it does not say how long, it keeps all versions
	UpdatedAt time.Time `gorm:"serializer:micros;type:integer;autoCreateTime:false;autoUpdateTime:false"`
}

// TableRow is a row from the version From to the one before To.
type TableRow struct {
	N     int64 `gorm:"primaryKey;autoIncrement"`
	Table string
	Pos   int64  // its place among the rows: that of the row whose place it has taken
	Body  []byte // JSON
	From  int64
	To    int64 // 0: it stands still
}

// TableKey is a row's place in one key of its table.
type TableKey struct {
	Row   int64 `gorm:"primaryKey;autoIncrement:false"`
	K     int   `gorm:"primaryKey;autoIncrement:false"` // number of the key
	Table string
	Key   string
	Lo    string // where its range begins, as table.SortKey has it
	From  int64
	To    int64
}

// TableChange tells what made a version.
type TableChange struct {
	Table   string    `gorm:"primaryKey"`
	Version int64     `gorm:"primaryKey;autoIncrement:false"`
	At      time.Time `gorm:"serializer:micros;type:integer"`
	What    string    // imported, edited, defined, restored, paired
	Detail  string
	By      string // "a person", or the flow
	Tx      *ID    // the transaction that did it
	Added   int64
	Removed int64
	// Document is the definition as it was since this version.
	Document []byte
}

// TableInfo gives a table without its rows, or ErrNotFound.
func (v View) TableInfo(name string) (Table, error) { return tableInfo(v.sql(), name) }

func tableInfo(db *gorm.DB, name string) (Table, error) {
	var t Table
	return t, db.Where("name = ? AND NOT dropped", name).Take(&t).Error
}

// TableDropped tells whether a table of a name is still being removed.
func (v View) TableDropped(name string) (bool, error) {
	var n int64
	return n > 0, v.sql().Model(&Table{}).Where("name = ? AND dropped", name).Count(&n).Error
}

// DroppedTables names the tables that are still being removed.
func (v View) DroppedTables() ([]string, error) {
	var out []string
	return out, v.sql().Model(&Table{}).Where("dropped").Pluck("name", &out).Error
}

// Tables lists all tables.
func (v View) Tables() ([]Table, error) {
	var out []Table
	return out, v.sql().Where("NOT dropped").Order("name").Find(&out).Error
}

// TableRows lists rows of a version in the order in which they came, behind the
// place after; text leaves those out that do not hold it.
func (v View) TableRows(name string, version, after int64, text string, limit int) ([]TableRow, error) {
	var of Table
	if err := v.sql().Select("loading").Where("name = ?", name).Take(&of).Error; err != nil && !errors.Is(err, ErrNotFound) {
		return nil, err
	}
	stands, args := standing("", version, of.Loading)
	q := v.sql().Where(`"table" = ? AND pos > ?`, name, after).Where(stands, args...).
		Order("pos").
		Limit(limit)
	if text != "" {
		q = q.Where("instr(lower(body), lower(?)) > 0", text)
	}
	var out []TableRow
	return out, q.Find(&out).Error
}

// EachTableRow hands every row of a version to do, some at a time.
func (v View) EachTableRow(name string, version int64, do func(row *table.Row) error) error {
	after := int64(0)
	for {
		rows, err := v.TableRows(name, version, after, "", 5000)
		if err != nil || len(rows) == 0 {
			return err
		}
		for i := range rows {
			r, err := rowOf(&rows[i])
			if err != nil {
				return err
			}
			if err := do(r); err != nil {
				return err
			}
		}
		after = rows[len(rows)-1].Pos
	}
}

// Row gives a row that stands in a table, or ErrNotFound.
func (v View) Row(name string, n int64) (*table.Row, error) {
	var r TableRow
	if err := v.sql().Where(`n = ? AND "table" = ? AND "to" = 0`, n, name).Take(&r).Error; err != nil {
		return nil, err
	}
	return rowOf(&r)
}

// SaveTable writes a table's line.
func (tx *Tx) SaveTable(t *Table) error { return tx.sql().Save(t).Error }

// AddChange notes what made a version.
func (tx *Tx) AddChange(c *TableChange) error { return tx.sql().Create(c).Error }

// TableChanges lists versions, the newest first, older than before.
func (v View) TableChanges(name string, before int64, limit int) ([]TableChange, error) {
	var out []TableChange
	q := v.sql().Where(`"table" = ?`, name).Order("version DESC").Limit(limit)
	if before > 0 {
		q = q.Where("version < ?", before)
	}
	return out, q.Find(&out).Error
}

// TableDocument gives the definition that a version had, or ErrNotFound.
func (v View) TableDocument(name string, version int64) ([]byte, error) {
	var c TableChange
	if err := v.sql().Where(`"table" = ? AND version = ?`, name, version).Take(&c).Error; err != nil {
		return nil, err
	}
	return c.Document, nil
}

// insertBatch is how many rows one statement stores.
const insertBatch = 500

// AddRows stores rows that stand from a version on. One without a place comes
// behind all others.
func (tx *Tx) AddRows(d *table.Definition, list []table.Row, version int64) error {
	var n int64
	if err := tx.sql().Raw("SELECT COALESCE(MAX(n), 0) FROM table_rows").Scan(&n).Error; err != nil {
		return err
	}
	for len(list) > 0 {
		some := list[:min(insertBatch, len(list))]
		list = list[len(some):]
		rows := make([]TableRow, len(some))
		for i, r := range some {
			n++
			rows[i] = TableRow{N: n, Table: d.Name, Pos: r.Pos, Body: json.Encode(r.Value), From: version}
			if r.Pos == 0 {
				rows[i].Pos = n
			}
		}
		if err := tx.sql().Create(&rows).Error; err != nil {
			return err
		}
		var keys []TableKey
		for i, r := range some {
			own, err := keysOf(d, r.Value, rows[i].N, version)
			if err != nil {
				return err
			}
			keys = append(keys, own...)
		}
		if err := tx.addKeys(keys); err != nil {
			return err
		}
	}
	return nil
}

func (tx *Tx) addKeys(keys []TableKey) error {
	if len(keys) == 0 {
		return nil
	}
	return tx.sql().CreateInBatches(&keys, insertBatch).Error
}

func keysOf(d *table.Definition, n *message.Node, row, version int64) ([]TableKey, error) {
	places, err := d.Places(n)
	if err != nil {
		return nil, err
	}
	var out []TableKey
	for k, p := range places {
		if p.Key != "" || len(d.Keys[k]) == 0 {
			out = append(out, TableKey{Table: d.Name, K: k, Key: p.Key, Lo: p.Lo, Row: row, From: version})
		}
	}
	return out, nil
}

// CloseRows lets rows of a table stand up to the version before this one, also those
// that what is being loaded would take away.
func (tx *Tx) CloseRows(of *Table, ns []int64, version int64) error {
	loading := unless0(of.Loading)
	for len(ns) > 0 {
		some := ns[:min(insertBatch, len(ns))]
		ns = ns[len(some):]
		if err := errors.Join(
			tx.sql().Model(&TableRow{}).Where(`n IN ? AND "to" IN (0, ?)`, some, loading).Update("to", version).Error,
			tx.sql().Model(&TableKey{}).Where(`row IN ? AND "to" IN (0, ?)`, some, loading).Update("to", version).Error,
		); err != nil {
			return err
		}
	}
	return nil
}

// DropVersion removes what an import that was not finished has left of a version.
func (tx *Tx) DropVersion(name string, version int64, limit int) (more bool, err error) {
	const some = `(SELECT n FROM table_rows WHERE "table" = ? AND "from" = ? ORDER BY n LIMIT ?)`
	if err := tx.sql().Exec(`DELETE FROM table_keys WHERE row IN `+some, name, version, limit).Error; err != nil {
		return false, err
	}
	res := tx.sql().Exec(`DELETE FROM table_rows WHERE n IN `+some, name, version, limit)
	if res.Error != nil || res.RowsAffected == int64(limit) {
		return true, res.Error
	}
	return false, errors.Join(
		tx.sql().Exec(`UPDATE table_rows SET "to" = 0 WHERE "table" = ? AND "to" = ?`, name, version).Error,
		tx.sql().Exec(`UPDATE table_keys SET "to" = 0 WHERE "table" = ? AND "to" = ?`, name, version).Error,
	)
}

// DropTable hides a table; Sweep removes what is left of it.
func (tx *Tx) DropTable(name string) error {
	return tx.sql().Model(&Table{}).Where("name = ?", name).Update("dropped", true).Error
}

// Sweep removes up to limit rows of a table that was dropped, and behind the last the
// table itself.
func (tx *Tx) Sweep(name string, limit int) (more bool, err error) {
	for _, from := range []string{"table_keys", "table_rows", "table_changes"} {
		done := tx.sql().Exec(
			`DELETE FROM `+from+` WHERE rowid IN (SELECT rowid FROM `+from+` WHERE "table" = ? LIMIT ?)`, name, limit,
		)
		if done.Error != nil || done.RowsAffected == int64(limit) {
			return true, done.Error
		}
	}
	return false, tx.sql().Where("name = ? AND dropped", name).Delete(&Table{}).Error
}

// ChangedRows lists the rows that a version brought, and those that it took away.
func (v View) ChangedRows(name string, version int64, limit int) (added, removed []TableRow, err error) {
	return added, removed, errors.Join(
		v.sql().Where(`"table" = ? AND "from" = ?`, name, version).Order("n").Limit(limit).Find(&added).Error,
		v.sql().Where(`"table" = ? AND "to" = ?`, name, version).Order("n").Limit(limit).Find(&removed).Error,
	)
}
