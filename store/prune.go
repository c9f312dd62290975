package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"readyferry/core/flow"

	"gorm.io/gorm"
)

// Ended is a transaction that has come to its end, and may go.
type Ended struct {
	ID         ID
	ReceivedAt time.Time `gorm:"serializer:micros"`
	FinishedAt time.Time `gorm:"serializer:micros"`
	Bytes      int64     // of its message, as it came in, where asked for
}

// EndedOf lists whole transactions of a flow in a state, the oldest first, behind one.
func (v View) EndedOf(flow string, state State, behind ID, limit int) ([]Ended, error) {
	var out []Ended
	return out, v.sql().Model(&Transaction{}).Select("id", "received_at", "finished_at").
		Where("flow = ? AND state = ? AND parent IS NULL AND id > ?", flow, state, behind).
		Order("id").Limit(limit).Find(&out).Error
}

// OldestEnded lists the whole transactions of a flow that have come to an end, whichever, the
// oldest first, behind one, with the bytes of their messages.
func (v View) OldestEnded(flow string, behind ID, limit int) ([]Ended, error) {
	var out []Ended
	for _, state := range []State{Delivered, TurnedAway} {
		some, err := v.EndedOf(flow, state, behind, limit)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	slices.SortFunc(out, func(a, b Ended) int { return bytes.Compare(a.ID[:], b.ID[:]) })
	out = out[:min(len(out), limit)]
	for i := range out {
		m, err := v.FirstMessage(out[i].ID)
		if err != nil {
			return nil, err
		}
		out[i].Bytes = m.Body.Size()
	}
	return out, nil
}

// Prune removes a transaction that has been delivered or turned away, with its parts and
// all that belongs to it, until so many transactions have gone. What has not ended, or has
// a letter that is open, stays as it is. It gives how many are left of the budget; done
// tells that nothing of the transaction is left to remove. In between, what is left agrees
// with what counts it.
func (tx *Tx) Prune(id ID, budget int) (left int, done bool, err error) {
	var t Transaction
	err = tx.sql().Where("id = ? AND state IN ?", id, []State{Delivered, TurnedAway}).Take(&t).Error
	switch {
	case errors.Is(err, ErrNotFound):
		return budget, true, nil
	case err != nil:
		return budget, false, err
	}
	if letters, err := tx.LettersOf(id); err != nil || len(letters) > 0 {
		for i := range letters {
			if letters[i].State <= LetterResending {
				return budget, true, err
			}
		}
		if err != nil {
			return budget, false, err
		}
	}
	if t.Parts > 0 {
		if budget, done, err = tx.pruneParts(id, budget); err != nil || !done {
			return budget, false, err
		}
	}
	if budget <= 0 {
		return budget, false, nil
	}
	return budget - 1, true, tx.remove(&t)
}

// pruneParts removes the parts of a transaction.
func (tx *Tx) pruneParts(of ID, budget int) (left int, done bool, err error) {
	var parts []ID
	err = tx.sql().Model(&Transaction{}).Where("parent = ?", of).Order("id").Limit(budget+1).Pluck("id", &parts).Error
	if err != nil {
		return budget, false, err
	}
	for _, part := range parts {
		if budget, done, err = tx.Prune(part, budget); err != nil || !done {
			return budget, false, err
		}
	}
	return budget, true, nil
}

// remove takes one transaction out of the file, and out of what is counted.
func (tx *Tx) remove(t *Transaction) error {
	var messages []Message
	if err := tx.sql().Select("body").Where(messagesOf, one(t.ID), one(t.ID)).Find(&messages).Error; err != nil {
		return err
	}
	for i := range messages {
		tx.sized(t.Flow, -messages[i].Body.Size())
	}
	if t.Parent == nil {
		tx.count(t, t.State, -1)
	} else {
		p := []any{t.State == Delivered, t.State == TurnedAway, t.Parent[:], t.SplitPath}
		if err := tx.prepared.exec(partGone, p); err != nil {
			return err
		}
	}
	tx.forget(t.ID)
	all := removals
	if tx.words {
		all = append(unsearched[:len(unsearched):len(unsearched)], removals...)
	}
	for _, query := range all {
		if err := tx.prepared.exec(query, []any{t.ID[:]}); err != nil {
			return err
		}
	}
	return nil
}

// partGone takes a part out of the numbers of its split.
const partGone = "UPDATE splits SET total = total - 1, next = next - 1, delivered = delivered - ?, " +
	"turned_away = turned_away - ? WHERE tx = ? AND path = ?"

// removals remove what belongs to a transaction, the transaction last.
var removals = []string{
	"DELETE FROM tries WHERE delivery IN (SELECT id FROM deliveries WHERE tx = ?)",
	"DELETE FROM deliveries WHERE tx = ?",
	"DELETE FROM effects WHERE tx = ?",
	"DELETE FROM messages WHERE tx = ? AND n > 0",
	"DELETE FROM messages WHERE seq = (SELECT message FROM transactions WHERE id = ?)",
	"DELETE FROM letter_events WHERE letter IN (SELECT id FROM letters WHERE tx = ?)",
	"DELETE FROM letters WHERE tx = ?",
	"DELETE FROM splits WHERE tx = ?",
	"DELETE FROM asks WHERE tx = ?",
	"DELETE FROM time_limits WHERE tx = ?",
	"DELETE FROM members WHERE tx = ?",
	"DELETE FROM members WHERE group_id = ?",
	"DELETE FROM groups WHERE id = ?",
	"DELETE FROM transactions WHERE id = ?",
}

// unsearched are what is forgotten of a transaction by the index of words, where there is one.
var unsearched = []string{
	"DELETE FROM search_words WHERE rowid = (SELECT message FROM transactions WHERE id = ?)",
	"DELETE FROM search_refs WHERE rowid = (SELECT message FROM transactions WHERE id = ?)",
	"DELETE FROM search_later WHERE tx = ?",
}

// PruneLoads removes the loads of a flow that came to their end before a moment, up to so
// many; their files went with their end.
func (tx *Tx) PruneLoads(flow string, before time.Time, limit int) (more bool, err error) {
	const some = "(SELECT id FROM loads WHERE flow = ? AND state IN ? AND finished_at < ? LIMIT ?)"
	ended := []LoadState{LoadDone, LoadStopped}
	done := tx.sql().Exec("DELETE FROM loads WHERE id IN "+some, flow, ended, micros(before), limit)
	return done.RowsAffected == int64(limit), done.Error
}

// KeepOf gives how long versions of a table are kept, as its definition says it.
func (v View) KeepOf(t *Table) (flow.Keep, error) {
	d, err := v.definitions.read(t.Name, t.Document)
	if err != nil {
		return flow.Keep{}, err
	}
	return d.Keep, nil
}

// PruneTable removes what versions of a table had that no version has had since a moment, up
// to so many rows. The version that stood then stays, with those behind it.
func (tx *Tx) PruneTable(name string, before time.Time, limit int) (more bool, err error) {
	var stood TableChange
	err = tx.sql().Select("version").Where(`"table" = ? AND at <= ?`, name, micros(before)).
		Order("version DESC").Take(&stood).Error
	if errors.Is(err, ErrNotFound) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	const gone = `(SELECT n FROM table_rows WHERE "table" = ? AND "to" > 0 AND "to" <= ? ORDER BY n LIMIT ?)`
	if err := tx.sql().Exec("DELETE FROM table_keys WHERE row IN "+gone, name, stood.Version, limit).Error; err != nil {
		return false, err
	}
	rows := tx.sql().Exec("DELETE FROM table_rows WHERE n IN "+gone, name, stood.Version, limit)
	if rows.Error != nil || rows.RowsAffected == int64(limit) {
		return true, rows.Error
	}
	const old = `(SELECT rowid FROM table_changes WHERE "table" = ? AND version < ? LIMIT ?)`
	changes := tx.sql().Exec("DELETE FROM table_changes WHERE rowid IN "+old, name, stood.Version, limit)
	return changes.RowsAffected == int64(limit), changes.Error
}

// PruneCounts removes numbers of minutes of which nothing is left, up to so many.
func (tx *Tx) PruneCounts(limit int) (more bool, err error) {
	const empty = "(SELECT rowid FROM counts WHERE n = 0 AND minute <> 0 LIMIT ?)"
	done := tx.sql().Exec("DELETE FROM counts WHERE rowid IN "+empty, limit)
	return done.RowsAffected == int64(limit), done.Error
}

// keptFree is how many free pages the file keeps for what comes next, of a hundred that it has.
const keptFree = 5

// GiveBack shortens the file by about so many bytes of pages that hold nothing, and keeps a
// few for what comes next; more tells that there are others.
func (s *Store) GiveBack(ctx context.Context, bytes int64) (more bool, err error) {
	err = s.Write(ctx, func(tx *Tx) error {
		free, pages, each, err := tx.pages()
		if err != nil {
			return err
		}
		limit, over := bytes/each, free-pages*keptFree/100
		if over < limit {
			return nil
		}
		more = over >= 2*limit
		rows, err := tx.sql().Raw(fmt.Sprintf("PRAGMA incremental_vacuum(%d)", limit)).Rows()
		if err != nil {
			return err
		}
		for rows.Next() { // it gives back one page at each step
			continue
		}
		return errors.Join(rows.Err(), rows.Close())
	})
	return more, err
}

// WriteBack brings what is written ahead into the file, which is shortened by what it has
// given back, and empties the log.
func (s *Store) WriteBack(ctx context.Context) error {
	return s.db.WithContext(ctx).Exec("PRAGMA wal_checkpoint(TRUNCATE)").Error
}

// pages tells how many pages of the file hold nothing, how many it has, and the bytes of each.
func (v View) pages() (free, all, each int64, err error) {
	err = errors.Join(v.sql().Raw("PRAGMA freelist_count").Scan(&free).Error,
		v.sql().Raw("PRAGMA page_count").Scan(&all).Error, v.sql().Raw("PRAGMA page_size").Scan(&each).Error)
	return free, all, each, err
}

// shrinkable makes a file of an earlier release one that can be shortened while it is in
// use. It is written anew for that, where there is room for it; else it stays as it is until
// there is, and what goes makes room for what comes.
func shrinkable(db *gorm.DB, file string) error {
	var mode int
	if err := db.Raw("PRAGMA auto_vacuum").Scan(&mode).Error; err != nil || mode == incremental {
		return err
	}
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	if room, _, err := diskOf(filepath.Dir(file)); err != nil || room < 3*info.Size() {
		return err
	}
	return execAll(db, "PRAGMA auto_vacuum = INCREMENTAL", "VACUUM")
}

// incremental is how SQLite names the mode in which a file can be shortened a little at a time.
const incremental = 2
