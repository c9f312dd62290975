package store

import (
	"time"

	"gorm.io/gorm"
)

// LetterState says what became of a dead letter.
type LetterState uint8

// The states of a dead letter.
const (
	LetterOpen      LetterState = iota // a person must decide
	LetterResending                    // sent again, outcome not yet known
	LetterResolved                     // sent again with success
	LetterDiscarded                    // given up by a person
	LetterPassed                       // whoever waited for the message was told, and has the letter
)

var letterStateNames = [...]string{"open", "resending", "resolved", "discarded", "passed on"}

// String gives the word that people read.
func (s LetterState) String() string { return letterStateNames[s] }

// ParseLetterState reads the word.
func ParseLetterState(s string) (LetterState, bool) {
	for i, n := range letterStateNames {
		if n == s {
			return LetterState(i), true
		}
	}
	return 0, false
}

// AllLetterStates lists them.
func AllLetterStates() []LetterState {
	return []LetterState{LetterOpen, LetterResending, LetterResolved, LetterDiscarded, LetterPassed}
}

// Letter is a dead letter: a message that a person must decide about.
type Letter struct {
	ID        ID `gorm:"primaryKey"`
	Tx        ID
	Flow      string
	Version   int
	Step      string
	Path      string
	Kind      string
	Phase     string
	Class     string
	Reason    string
	Cause     string // key of letters with the same flow, step and kind of reason
	CauseText string
	Reference string
	State     LetterState
	At        time.Time `gorm:"serializer:micros;type:integer"`
	Assignee  string    // who looks after it, as they are called; "" for nobody
}

// LetterEvent is a line of a dead letter's history.
type LetterEvent struct {
	N      int64 `gorm:"primaryKey;autoIncrement"`
	Letter ID
	At     time.Time `gorm:"serializer:micros;type:integer"`
	Who    string    // a person, the flow or the application; "" where it was not noted
	What   string    // died, resent, resolved, discarded, restored, noted, assigned
	Detail string
}

// Letter gives a dead letter by id, or ErrNotFound.
func (v View) Letter(id ID) (Letter, error) {
	var l Letter
	return l, v.sql().Where("id = ?", id).Take(&l).Error
}

// LettersOf lists the dead letters of a transaction.
func (v View) LettersOf(txID ID) ([]Letter, error) {
	if v.unit(txID) != nil {
		return nil, nil // one with dead letters is not held in memory
	}
	var out []Letter
	return out, v.sql().Where("tx = ?", txID).Order("id").Find(&out).Error
}

// SaveLetter creates or replaces a dead letter and adds a line to its history; who
// says who brought that about.
func (tx *Tx) SaveLetter(l *Letter, at time.Time, who, what, detail string) error {
	tx.forget(l.Tx)
	if err := tx.sql().Save(l).Error; err != nil {
		return err
	}
	return tx.sql().Create(&LetterEvent{Letter: l.ID, At: at, Who: who, What: what, Detail: detail}).Error
}

// History lists what happened to a dead letter.
func (v View) History(id ID) ([]LetterEvent, error) {
	var out []LetterEvent
	return out, v.sql().Where("letter = ?", id).Order("n").Find(&out).Error
}

// LetterFilter chooses dead letters. What is zero chooses all.
type LetterFilter struct {
	States    []LetterState // nil: those that are open
	Cause     string
	Flow      string
	Of        Of // nil: of all flows
	Step      string
	Class     string // as the step said
	Reference string // a part of it, upper and lower case alike
	Reason    string // a part of it
	Assignee  string
	From, To  time.Time // when they died
	After     *ID
	Limit     int
}

// where adds what a filter asks for.
func (f *LetterFilter) where(q *gorm.DB) *gorm.DB {
	if f.States == nil {
		q = q.Where("state = 0")
	} else {
		q = q.Where("state IN ?", f.States)
	}
	for _, c := range []struct{ column, value string }{
		{"cause", f.Cause}, {"flow", f.Flow}, {"step", f.Step}, {"class", f.Class}, {"assignee", f.Assignee},
	} {
		if c.value != "" {
			q = q.Where(c.column+" = ?", c.value)
		}
	}
	q = f.Of.where(q, "flow")
	if f.Reference != "" {
		q = q.Where("instr(lower(reference), lower(?)) > 0", f.Reference)
	}
	if f.Reason != "" {
		q = q.Where("instr(lower(reason), lower(?)) > 0", f.Reason)
	}
	if !f.From.IsZero() {
		q = q.Where("id >= ?", idAt(f.From))
	}
	if !f.To.IsZero() {
		q = q.Where("id < ?", idAt(f.To))
	}
	return q
}

// Letters lists dead letters, the oldest first.
func (v View) Letters(f LetterFilter) ([]Letter, error) {
	q := f.where(v.sql()).Order("id").Limit(f.Limit)
	if f.After != nil {
		q = q.Where("id > ?", *f.After)
	}
	var out []Letter
	return out, q.Find(&out).Error
}

// OpenLetters lists open dead letters, the oldest first, of one cause or of all when
// cause is empty, and of one flow or of all.
func (v View) OpenLetters(cause, flow string, after *ID, limit int) ([]Letter, error) {
	return v.Letters(LetterFilter{Cause: cause, Flow: flow, After: after, Limit: limit})
}

// SoundUnder counts the messages of a flow that were delivered under a version since a time,
// up to a limit, among the latest thousand of the flow that were delivered since then.
func (v View) SoundUnder(flow string, version int, since time.Time, limit int) (n int64, err error) {
	return n, v.sql().Raw(`SELECT COUNT(*) FROM (SELECT 1 FROM (SELECT version FROM transactions
		WHERE parent IS NULL AND flow = ? AND state = ? AND id >= ? ORDER BY id DESC LIMIT 1000) WHERE version = ? LIMIT ?)`,
		flow, Delivered, idAt(since), version, limit).Scan(&n).Error
}

// CountLetters counts them.
func (v View) CountLetters(f LetterFilter) (n int64, err error) {
	return n, f.where(v.sql().Model(&Letter{})).Count(&n).Error
}

// Cause is a group of open dead letters.
type Cause struct {
	Cause, CauseText, Flow, Step, Kind, Path, Class, Phase string
	Version                                                int
	Tx                                                     ID
	N                                                      int64
	Since                                                  ID // the oldest letter; its id tells the time
}

// Causes groups the open dead letters, the largest group first.
func (v View) Causes(limit int) ([]Cause, error) {
	var out []Cause
	// The counts stand beside; only one letter of each cause is fetched.
	return out, v.sql().
		Raw(`SELECT l.cause, l.cause_text, l.flow, l.step, l.kind, l.path, l.class, l.phase, l.version, l.tx, t.n,
		l.id AS since
		FROM (SELECT key, SUM(n) AS n FROM tallies WHERE kind = 'letters' AND n > 0 GROUP BY key ORDER BY 2 DESC LIMIT ?) t
		JOIN letters l ON l.id = (SELECT id FROM letters WHERE state = 0 AND cause = t.key ORDER BY id LIMIT 1)
		ORDER BY t.n DESC, l.id`, limit).
		Scan(&out).
		Error
}

// CountOpenLetters counts the open dead letters.
func (v View) CountOpenLetters() (n int64, err error) {
	return v.tallied("all letters", "")
}
