package store

import (
	"encoding/json"
	"errors"
	"math"
	"os"
	"path/filepath"

	"gorm.io/gorm/clause"
)

// RoomLimits say when the disk counts as short.
type RoomLimits struct {
	// MinFree is how many bytes are to stay free where the data lies; nil: the smaller of
	// UsualMinFree and a twentieth of the disk, and at least 8 MiB.
	MinFree *int64 `json:"minFree"`
	// MaxJournal bounds the journal with what is written ahead of it, in bytes; 0: nothing does.
	MaxJournal int64 `json:"maxJournal"`
}

// UsualMinFree is how much stays free on a large disk of which nobody has said anything, in
// bytes.
const UsualMinFree = 1 << 30

// Room tells how much room there is, in bytes.
type Room struct {
	Free    int64 // where the data lies
	Disk    int64 // the size of that
	Journal int64 // the file without its free pages, and what is written ahead of it
}

// FreeAt tells how many bytes are left for us where a folder lies; 0 where that cannot be known.
func FreeAt(dir string) int64 {
	free, _, err := diskOf(dir)
	if err != nil || free == math.MaxInt64 {
		return 0
	}
	return free
}

const roomSetting = "room"

// RoomLimits gives what has been set.
func (v View) RoomLimits() (l RoomLimits, err error) {
	var s setting
	err = v.sql().Where("key = ?", roomSetting).Take(&s).Error
	if errors.Is(err, ErrNotFound) {
		return l, nil
	} else if err != nil {
		return l, err
	}
	return l, json.Unmarshal([]byte(s.Value), &l)
}

// SetRoomLimits sets it.
func (tx *Tx) SetRoomLimits(l RoomLimits) error {
	text, err := json.Marshal(l)
	if err != nil {
		return err
	}
	return tx.sql().Clauses(clause.OnConflict{UpdateAll: true}).Create(&setting{roomSetting, string(text)}).Error
}

// Room looks how much room there is. It asks no writer, so that it also tells when nothing
// can be written.
func (s *Store) Room() (Room, error) {
	var r Room
	var err error
	if r.Free, r.Disk, err = diskOf(s.Dir); err != nil {
		return r, err
	}
	s.mostLog.Store(logFor(r.Free))
	free, _, each, err := s.View.pages()
	if err != nil {
		return r, err
	}
	for _, name := range []string{dbFile, dbFile + "-wal"} {
		info, err := os.Stat(filepath.Join(s.Dir, name))
		if err == nil {
			r.Journal += info.Size()
		} else if !errors.Is(err, os.ErrNotExist) {
			return r, err
		}
	}
	r.Journal -= free * each
	return r, nil
}
