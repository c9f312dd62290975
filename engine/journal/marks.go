package journal

import (
	"encoding/binary"
	"errors"
	"fmt"
	"runtime/debug"
	"runtime/metrics"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"

	"readyferry/core/step"
	"readyferry/engine/catalog"
	"readyferry/store"
)

// Nothing that a message brings may end the process. What bounds expressions, scripts
// and documents sees to that; should one get past them all the same, it must not take
// the process down again at every start. So what is computed is marked, and when the
// process has died the marked messages are computed one at a time, with nothing else
// beside. One over which the process dies alone is set aside as a dead letter; all
// others are as innocent as what was marked when somebody pulled the plug.
//
// The mark is of a flow and the bytes of a message, because a message that has not
// been stored yet has no other name by which it would be known when it comes again.

// ErrSetAside is wrapped by the error of a message that is not computed any more.
var ErrSetAside = errors.New("it was set aside")

// errAlone tells that a session must be done anew with nothing beside.
var errAlone = errors.New("it has to be computed alone")

// grewMuch is by how many MiB the process must have grown over a message, computing it
// alone, for one death to be enough; without that it takes two.
const grewMuch = 256

type marks struct {
	file *store.Marks

	gate     sync.RWMutex // held alone by a session that computes a suspect
	mu       sync.Mutex
	suspects map[store.MarkKey]int // deaths so far, alone
	aside    map[store.MarkKey]int
	failed   map[store.MarkKey]string // over which a walk of this process panicked, and how
}

func newMarks(file *store.Marks, left []store.Mark) *marks {
	m := &marks{file: file, suspects: map[store.MarkKey]int{}, aside: map[store.MarkKey]int{},
		failed: map[store.MarkKey]string{}}
	for _, l := range left {
		deaths := l.Deaths
		if l.Alone {
			deaths++
		}
		if l.Alone && (deaths > 1 || l.Grew >= grewMuch) {
			m.aside[l.Key] = deaths
			continue
		}
		m.suspects[l.Key] = deaths
	}
	return m
}

// MarkOf names a message of a flow by what it holds.
func MarkOf(flow string, content []byte) (key store.MarkKey) {
	h := xxhash.New()
	_, _ = h.WriteString(flow)
	binary.BigEndian.PutUint64(key[:], h.Sum64())
	binary.BigEndian.PutUint64(key[8:], xxhash.Sum64(content))
	return key
}

// Computes marks what the session works on from now on. The error wraps ErrSetAside,
// or lets the session be done anew alone.
func (s *Session) Computes(flow string, content []byte) error {
	m := s.marks
	if m == nil {
		return nil
	}
	key := MarkOf(flow, content)
	m.mu.Lock()
	deaths, suspect := m.suspects[key]
	_, aside := m.aside[key]
	why, failed := m.failed[key]
	m.mu.Unlock()
	s.computes = &key
	switch {
	case failed:
		return fmt.Errorf("%w: the application failed over this message (%s), which is a fault of its own: please report it; "+
			"another message or flow may get past it", ErrSetAside, why)
	case aside:
		return fmt.Errorf(
			"%w: the application ended while it worked on this message alone, with nothing else beside it; "+
				"change the message or the flow before you send it again", ErrSetAside,
		)
	case suspect && !s.alone:
		return errAlone
	}
	m.file.Set(s.slot, key, s.alone && suspect, deaths)
	if suspect {
		s.suspect = append(s.suspect, key)
		s.watching = m.watch(s.slot, s.watching)
	}
	return nil
}

// errContained tells that a session panicked, and is to be done anew without the message over
// which it did.
var errContained = errors.New("it panicked")

// contain sets the message aside over which a session panicked: it is a dead letter, and all
// others go on.
func (s *Session) contain(flow string, r any) error {
	s.Log.Error("a walk panicked", "flow", flow, "panic", r, "stack", string(debug.Stack()))
	if s.marks == nil || s.computes == nil {
		return fmt.Errorf("it panicked: %v", r)
	}
	s.marks.mu.Lock()
	defer s.marks.mu.Unlock()
	if _, again := s.marks.failed[*s.computes]; again {
		return fmt.Errorf("it panicked again: %v", r)
	}
	s.marks.failed[*s.computes] = fmt.Sprintf("%.200v", r)
	return errContained
}

// Pardon lets a message be computed again that was set aside: a person asks for it.
func (j *Journal) Pardon(flow string, content []byte) {
	if j.marks == nil {
		return
	}
	key := MarkOf(flow, content)
	j.marks.mu.Lock()
	defer j.marks.mu.Unlock()
	delete(j.marks.failed, key)
	if _, aside := j.marks.aside[key]; aside {
		delete(j.marks.aside, key)
		j.marks.suspects[key] = 1
	}
}

// SetAside is the failure of such a message.
func SetAside(err error) step.Failure {
	return step.Failure{Kind: "intake", Phase: "crash", Class: step.Flow, Reason: err.Error()}
}

// CannotGoOn gives the failure of a transaction that cannot be walked, whatever is
// tried: its version cannot be read, or it was set aside. nil for any other error.
func CannotGoOn(err error) *step.Failure {
	var f step.Failure
	switch {
	case errors.Is(err, catalog.ErrUnreadable):
		f = Unreadable(err)
	case errors.Is(err, ErrSetAside):
		f = SetAside(err)
	default:
		return nil
	}
	return &f
}

// enter begins the computing of a session; leave ends it.
func (m *marks) enter(s *Session, alone bool) (leave func()) {
	if alone {
		m.gate.Lock()
	} else {
		m.gate.RLock()
	}
	s.alone, s.slot = alone, m.file.Begin()
	return func() {
		if s.watching != nil {
			close(s.watching)
		}
		m.file.End(s.slot)
		m.mu.Lock()
		for _, key := range s.suspect { // the process lives
			delete(m.suspects, key)
		}
		m.mu.Unlock()
		if alone {
			m.gate.Unlock()
		} else {
			m.gate.RUnlock()
		}
	}
}

// watch notes by how much the process grows while it computes a suspect.
func (m *marks) watch(slot int, already chan struct{}) chan struct{} {
	if already != nil || slot < 0 {
		return already
	}
	done := make(chan struct{})
	began := footprint()
	go func() {
		tick := time.NewTicker(2 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				m.file.Grew(slot, int((footprint()-began)>>20))
			}
		}
	}()
	return done
}

// footprint is what the process has of the system's memory, in bytes.
func footprint() int64 {
	s := []metrics.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"}}
	metrics.Read(s)
	return int64(s[0].Value.Uint64() - s[1].Value.Uint64())
}
