package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"
)

// LoadState says where a bulk load stands.
type LoadState string

// The states of a bulk load.
const (
	LoadCounting LoadState = "counting" // its records are counted; nothing is loaded
	LoadReady    LoadState = "ready"    // a person may begin it
	// LoadScheduled waits for the time at which it begins, the first one or the next one.
	LoadScheduled LoadState = "scheduled"
	LoadRunning   LoadState = "running"
	LoadPaused    LoadState = "paused"
	LoadDone      LoadState = "done"
	LoadStopped   LoadState = "stopped" // given up by a person
	LoadFailed    LoadState = "failed"
)

// Load is a bulk load: many records that become messages of one flow.
type Load struct {
	ID         ID `gorm:"primaryKey"`
	Flow       string
	Title      string
	Format     string // csv, jsonl or query
	Connection string // of a query
	SQL        string
	Key        string // of a query: the column by which its rows are read in order
	Filter     string // expression over record, or ""
	State      LoadState
	Total      int64  // records, once they are counted
	Matching   int64  // of those, what the filter lets pass
	Read       int64  // records that have been read
	Taken      int64  // messages so far
	Skipped    int64  // by the filter
	Refused    int64  // that the intake could not read; they are dead letters
	Offset     int64  // bytes of the file
	Last       []byte // JSON of the key of the last row
	Error      string
	Cron, Zone string     // of one that begins again and again, behind where it stood; "" for once
	NextAt     *time.Time `gorm:"serializer:micros;type:integer"` // when it begins by itself
	CreatedAt  time.Time  `gorm:"serializer:micros;type:integer;autoCreateTime:false;autoUpdateTime:false"`
	FinishedAt *time.Time `gorm:"serializer:micros;type:integer"`
}

// Load gives a bulk load, or ErrNotFound.
func (v View) Load(id ID) (Load, error) {
	var l Load
	return l, v.sql().Where("id = ?", id).Take(&l).Error
}

// Loads lists bulk loads of some flows, or of all, the newest first.
func (v View) Loads(of Of, after *ID, limit int) ([]Load, error) {
	q := of.where(v.sql().Order("id DESC").Limit(limit), "flow")
	if after != nil {
		q = q.Where("id < ?", *after)
	}
	var out []Load
	return out, q.Find(&out).Error
}

// OpenLoads lists the loads that are to go on after a start.
func (v View) OpenLoads() ([]Load, error) {
	var out []Load
	return out, v.sql().Where("state IN ?", []LoadState{LoadCounting, LoadRunning}).Find(&out).Error
}

// DueLoads lists the loads that begin by themselves, the next one first.
func (v View) DueLoads(limit int) ([]Load, error) {
	var out []Load
	return out, v.sql().Where("next_at IS NOT NULL AND state IN ?", []LoadState{LoadScheduled, LoadFailed}).
		Order("next_at").Limit(limit).Find(&out).Error
}

// CountLoads counts the loads of some flows, or all.
func (v View) CountLoads(of Of) (int64, error) {
	q := of.where(v.sql().Model(&Load{}), "flow")
	var n int64
	return n, q.Count(&n).Error
}

// FailedLoads lists the loads that stopped over an error, the oldest first, at most a
// hundred.
func (v View) FailedLoads() ([]Load, error) {
	var out []Load
	return out, v.sql().Where("state = ?", LoadFailed).Order("id").Limit(100).Find(&out).Error
}

// SaveLoad writes a bulk load.
func (tx *Tx) SaveLoad(l *Load) error { return tx.sql().Save(l).Error }

// LoadFile is where the file of a load lies.
func (s *Store) LoadFile(id ID) string { return filepath.Join(s.Dir, "loads", id.String()) }

// NewLoadFile makes the file of a load.
func (s *Store) NewLoadFile(id ID) (*os.File, error) {
	if err := os.MkdirAll(filepath.Join(s.Dir, "loads"), 0o700); err != nil {
		return nil, err
	}
	return os.OpenFile(s.LoadFile(id), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
}

// loadPiece is how much of a file stands in one row, in bytes.
const loadPiece = 1 << 20

// KeepLoadFile puts the file of a load into the journal, where several machines have that: whichever of
// them works on the load has it then. Of a journal that one has alone the file is enough.
func (s *Store) KeepLoadFile(ctx context.Context, id ID) error {
	if s.rec == nil {
		return nil
	}
	f, err := os.Open(s.LoadFile(id))
	if err != nil {
		return err
	}
	defer f.Close()
	for i := 0; ; i++ {
		piece := make([]byte, loadPiece)
		n, err := io.ReadFull(f, piece)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
			return err
		}
		if err := s.Write(ctx, func(tx *Tx) error {
			return tx.prepared.exec("INSERT INTO load_pieces (load, i, data) VALUES (?, ?, ?)", []any{id[:], i, piece[:n]})
		}); err != nil {
			return err
		}
	}
}

// BringLoadFile makes the file of a load from what is in the journal, where another machine has begun it.
func (s *Store) BringLoadFile(id ID) error {
	if s.rec == nil {
		return nil
	}
	if _, err := os.Stat(s.LoadFile(id)); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := os.MkdirAll(filepath.Join(s.Dir, "loads"), 0o700); err != nil {
		return err
	}
	part := s.LoadFile(id) + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	for i := 0; err == nil; i++ {
		var piece []byte
		err = s.sql().Raw("SELECT data FROM load_pieces WHERE load = ? AND i = ?", id[:], i).Row().Scan(&piece)
		if err == nil {
			_, err = f.Write(piece)
		}
	}
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(part))
	}
	return os.Rename(part, s.LoadFile(id))
}

// DropLoadFile removes the file of a load that has ended.
func (s *Store) DropLoadFile(ctx context.Context, id ID) error {
	if err := os.Remove(s.LoadFile(id)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("the file of the load: %w", err)
	}
	if s.rec == nil {
		return nil
	}
	return s.Write(ctx, func(tx *Tx) error {
		return tx.prepared.exec("DELETE FROM load_pieces WHERE load = ?", []any{id[:]})
	})
}
