package journal

import (
	"context"
	"errors"
	"fmt"
	"time"

	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/core/want"
	"readyferry/store"
)

// ErrStale is what a piece of work in the writer gives when something is no
// longer as it was read. Nothing of the commit stays, and the session is worked
// out anew.
var ErrStale = errors.New("it is no longer as it was read")

// ErrConflict tells a caller that what it wants to change has changed since it
// was read.
var ErrConflict = errors.New("it has changed since it was read")

// ErrDecision wraps a decision of a person that cannot be carried out; nothing
// is changed then.
var ErrDecision = errors.New("this cannot be done")

// ErrInUse wraps the refusal to delete something that others still need.
var ErrInUse = errors.New("it is still in use")

// ErrNotFound is what a look-up by name or id gets when there is nothing.
var ErrNotFound = store.ErrNotFound

// Performer brings one kind of want about, inside of the application.
//
// Foresee runs outside of the writer and changes nothing: it says what the want
// would come to now. Perform runs inside of the writer and does it. When both
// come to the same, the walk that went on over the first stands; else it is done
// anew over the second. Perform must not compute: no expression, no script, no
// format is touched there, only rows by their keys.
type Performer interface {
	Foresee(m *Move, w want.Asked) (Outcome, error)
	Perform(w *Writing, a want.Asked, foreseen Outcome) (Outcome, error)
}

// Outcome is what a want comes to: an effect, over which the walk goes on; a
// failure; or neither, when the message waits.
type Outcome struct {
	Effect  *want.Effect
	Failure *step.Failure
	Data    any // what Foresee worked out for Perform
}

// same tells whether two outcomes let a walk go on in the same way.
func (o Outcome) same(p Outcome) bool {
	if (o.Failure == nil) != (p.Failure == nil) || o.Failure != nil && *o.Failure != *p.Failure {
		return false
	}
	return o.Effect.Same(p.Effect)
}

// Session is one piece of work: it is worked out outside of the writer and ends
// in one commit.
type Session struct {
	*Journal
	At     time.Time // when it was begun
	Tables *table.Scratch

	alone    bool           // nothing else is computed beside it
	slot     int            // of its mark
	computes *store.MarkKey // what it works on now
	suspect  []store.MarkKey
	watching chan struct{}

	known *known
	jobs  []func(tx *store.Tx, n *Notice) error
	kept  map[any]any
}

// known is what earlier attempts have learned inside of the writer, which sees
// what other moves of the same session have done.
type known struct {
	outcomes map[place]Outcome
	stale    int
}

type place struct {
	tx   store.ID
	path string
}

// Do works something out and commits it. build is called until what it has read
// and assumed still holds inside of the writer; a session without jobs commits
// nothing. It may be called many times, so it must begin anew each time. The
// walks of build count against the flow's share.
func (j *Journal) Do(ctx context.Context, flow string, build func(s *Session) error) error {
	known, alone := &known{outcomes: map[place]Outcome{}}, false
	for {
		s, err := j.build(ctx, flow, known, build, alone)
		if errors.Is(err, errAlone) {
			alone = true
			continue
		}
		if errors.Is(err, errContained) {
			continue
		}
		if err != nil || len(s.jobs) == 0 {
			return err
		}
		if err = j.Write(ctx, s.commit); !errors.Is(err, ErrStale) {
			return err
		}
		if known.stale++; known.stale%1000 == 0 {
			j.Log.Warn("work that has to be done anew again and again", "flow", flow, "times", known.stale)
		}
	}
}

func (j *Journal) build(
	ctx context.Context,
	flow string,
	known *known,
	build func(s *Session) error,
	alone bool,
) (s *Session, err error) {
	release, err := j.shares.take(ctx, flow)
	if err != nil {
		return nil, err
	}
	defer release()
	s = &Session{Journal: j, At: j.Now(), known: known, kept: map[any]any{}}
	if j.marks != nil {
		defer j.marks.enter(s, alone)()
	}
	defer func() {
		if r := recover(); r != nil {
			err = s.contain(flow, r)
		}
	}()
	return s, build(s)
}

// Write commits work that computes nothing, and tells of it.
func (j *Journal) Write(ctx context.Context, work func(tx *store.Tx, n *Notice) error) error {
	n := notices.Get().(*Notice)
	n.clear()
	err := j.Store.Write(ctx, func(tx *store.Tx) error {
		n.clear()
		if err := work(tx, n); err != nil {
			return err
		}
		return j.settleWholes(tx, n)
	})
	if err == nil {
		j.Tell(n)
	}
	if !errors.Is(err, store.ErrClosed) { // else it may be worked on still
		notices.Put(n)
	}
	return err
}

func (s *Session) commit(tx *store.Tx, n *Notice) error {
	for _, do := range s.jobs {
		if err := do(tx, n); err != nil {
			return err
		}
	}
	return nil
}

// Then adds work to be done inside of the writer, behind what was added before.
// It gives ErrStale when what the session has read no longer holds.
func (s *Session) Then(do func(tx *store.Tx, n *Notice) error) { s.jobs = append(s.jobs, do) }

// Tired tells that enough was worked out for one commit, and that the first in
// it should not wait longer for the others.
func (s *Session) Tired() bool { return s.Now().Sub(s.At) > 50*time.Millisecond }

// Crowded tells that moves of the session stood in each other's way before, so
// that they had better be committed one by one.
func (s *Session) Crowded() bool { return s.known.stale > 0 }

// Keep remembers something for the moves of this session, made when it is asked
// for first: what one of them is going to change must be seen by the next.
func Keep[T any](s *Session, key any, make func() (T, error)) (T, error) {
	if v, ok := s.kept[key]; ok {
		return v.(T), nil
	}
	v, err := make()
	if err != nil {
		return v, fmt.Errorf("reading ahead: %w", err)
	}
	s.kept[key] = v
	return v, nil
}
