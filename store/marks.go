package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
)

// Marks tell, after the process has died, what it was computing then: a small file in
// memory, written without a commit. It outlives the process, not the machine; there
// it is not needed, because a message does not take a machine down.
type Marks struct {
	mu    sync.Mutex
	file  *os.File
	bytes []byte // the file, or where it cannot be mapped plain memory
	free  []int
	unmap func() error
}

// MarkKey names what is computed.
type MarkKey [16]byte

// Mark is what a process that has died was computing.
type Mark struct {
	Key    MarkKey
	Alone  bool // nothing else was computed beside it
	Deaths int  // of processes that computed it alone, before
	Grew   int  // MiB that the process grew by meanwhile, alone
}

const (
	marksFile = "computing"
	markSlots = 256
	markSize  = 32
)

// The states of a slot.
const (
	slotFree  = 0
	slotUsed  = 1
	slotAlone = 2
)

// OpenMarks opens the marks of a folder, and gives those that an earlier process has
// left.
func OpenMarks(dir string) (m *Marks, left []Mark, err error) {
	f, err := os.OpenFile(filepath.Join(dir, marksFile), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, nil, fmt.Errorf("opening the marks: %w", err)
	}
	m = &Marks{file: f}
	if err := f.Truncate(markSlots * markSize); err != nil {
		return nil, nil, errors.Join(err, f.Close())
	}
	if m.bytes, m.unmap, err = mapFile(f, markSlots*markSize); err != nil {
		return nil, nil, errors.Join(fmt.Errorf("mapping the marks: %w", err), f.Close())
	}
	for i := range markSlots {
		b := m.slot(i)
		if b[16] != slotFree {
			one := Mark{Alone: b[16] == slotAlone, Deaths: int(b[17]), Grew: int(binary.BigEndian.Uint32(b[20:]))}
			copy(one.Key[:], b)
			left = append(left, one)
		}
		clear(b)
		m.free = append(m.free, i)
	}
	return m, left, nil
}

func (m *Marks) slot(i int) []byte { return m.bytes[i*markSize : (i+1)*markSize] }

// Begin takes a slot for what is going to be computed; -1 when none is free.
func (m *Marks) Begin() (slot int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.free) == 0 {
		return -1
	}
	slot = m.free[len(m.free)-1]
	m.free = m.free[:len(m.free)-1]
	return slot
}

// Set says what is computed in a slot now. deaths are those of processes that have
// computed it alone; alone tells that nothing else is.
func (m *Marks) Set(slot int, key MarkKey, alone bool, deaths int) {
	if slot < 0 {
		return
	}
	b := m.slot(slot)
	b[16] = slotFree // while the key is written
	copy(b, key[:])
	b[17] = byte(min(deaths, 255))
	binary.BigEndian.PutUint32(b[20:], 0)
	if b[16] = slotUsed; alone {
		b[16] = slotAlone
	}
}

// Grew notes by how many MiB the process has grown meanwhile.
func (m *Marks) Grew(slot, mib int) {
	if slot >= 0 {
		binary.BigEndian.PutUint32(m.slot(slot)[20:], uint32(max(0, mib)))
	}
}

// End gives a slot back: what was computed there has come to an end.
func (m *Marks) End(slot int) {
	if slot < 0 {
		return
	}
	clear(m.slot(slot))
	m.mu.Lock()
	m.free = append(m.free, slot)
	m.mu.Unlock()
}

// Close closes the file.
func (m *Marks) Close() error { return errors.Join(m.unmap(), m.file.Close()) }
