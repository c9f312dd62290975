package store

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
)

// The audit only grows. Each line carries a mark over what it says and over the mark of
// the line before, made with a key that is sealed outside of the database: a line that
// was changed, removed or put between shows, and whoever can write to the file alone
// cannot make another chain. The mark of the newest line stands apart, so that the end
// cannot be cut off unseen; when old lines are let go, the mark of the last of those
// does, so that the rest still hangs on something.

// AuditLine says who did what.
type AuditLine struct {
	N      int64     `gorm:"primaryKey;autoIncrement:false"`
	At     time.Time `gorm:"serializer:micros;type:integer"`
	Who    string    // a person, a key, the command line; "" for the application itself
	Kind   string    // of who: person, key, command line, visitor
	Source string    // the address that it came from
	What   string    // the operation, as openapi.yaml names it, or a command
	Thing  string    // kind:name, "" where it concerns none
	Area   string    // of the thing
	Result string    // "done", or why not
	Before []byte    // JSON: as it was; secrets never
	After  []byte    // JSON: what was asked for; secrets never
	Mark   []byte
}

// The settings by which the chain is held.
const (
	auditKeySetting    = "audit key"    // sealed
	auditHeadSetting   = "audit head"   // number and mark of the newest line
	auditAnchorSetting = "audit anchor" // number and mark of the last line that was let go
)

// mark reckons the mark of a line that follows another.
func (l *AuditLine) mark(key, before []byte) []byte {
	h := hmac.New(sha256.New, key)
	part := func(b []byte) { // with its length: two parts cannot be read as one
		var n [8]byte
		binary.BigEndian.PutUint64(n[:], uint64(len(b)))
		h.Write(n[:])
		h.Write(b)
	}
	part(before)
	part(binary.BigEndian.AppendUint64(nil, uint64(l.N)))
	part(binary.BigEndian.AppendUint64(nil, uint64(l.At.UnixMicro())))
	for _, text := range []string{l.Who, l.Kind, l.Source, l.What, l.Thing, l.Area, l.Result} {
		part([]byte(text))
	}
	part(l.Before)
	part(l.After)
	return h.Sum(nil)
}

// Deed is something that somebody does. The first write on its behalf writes its line,
// so that neither stands without the other.
type Deed struct {
	AuditLine
	Written bool
	// Fill completes the line when it is written; nil: it is complete.
	Fill func(*AuditLine)
}

type deedKey struct{}

// WithDeed gives a context in which writes are part of a deed.
func WithDeed(ctx context.Context, d *Deed) context.Context {
	return context.WithValue(ctx, deedKey{}, d)
}

// DeedOf gives what is done; nil where nobody does anything.
func DeedOf(ctx context.Context) *Deed {
	d, _ := ctx.Value(deedKey{}).(*Deed)
	return d
}

// audited lets a write carry the line of its deed.
func (s *Store) audited(ctx context.Context, work func(*Tx) error) (func(*Tx) error, *Deed) {
	d := DeedOf(ctx)
	if d == nil || d.Written {
		return work, nil
	}
	return func(tx *Tx) error {
		if err := work(tx); err != nil {
			return err
		}
		return tx.AuditDeed(s, d)
	}, d
}

// AuditDeed writes the line of a deed.
func (tx *Tx) AuditDeed(s *Store, d *Deed) error {
	line := d.AuditLine
	if d.Fill != nil {
		d.Fill(&line)
	}
	return tx.Audit(s, &line)
}

// Audit writes a line behind the newest one.
func (tx *Tx) Audit(s *Store, l *AuditLine) error {
	key, err := tx.auditKey(s)
	if err != nil {
		return err
	}
	n, before, err := tx.chainAt(auditHeadSetting)
	if err != nil {
		return err
	}
	l.N, l.At = n+1, l.At.UTC().Truncate(time.Microsecond)
	l.Mark = l.mark(key, before)
	if err := tx.sql().Create(l).Error; err != nil {
		return err
	}
	return tx.SetSetting(auditHeadSetting, held(l.N, l.Mark))
}

// auditKey gives the key of the chain, and makes it for a file that has none.
func (tx *Tx) auditKey(s *Store) ([]byte, error) {
	if s.audit != nil {
		return s.audit, nil
	}
	text, err := tx.Setting(auditKeySetting)
	if err != nil {
		return nil, err
	}
	if text == "" {
		key := make([]byte, sha256.Size)
		if _, err := rand.Read(key); err != nil {
			return nil, err
		}
		sealed, err := s.Seal(auditKeySetting, key)
		if err != nil {
			return nil, err
		}
		return key, tx.SetSetting(auditKeySetting, hex.EncodeToString(sealed))
	}
	s.audit, err = s.unsealAuditKey(text)
	return s.audit, err
}

func (s *Store) unsealAuditKey(text string) ([]byte, error) {
	sealed, err := hex.DecodeString(text)
	if err != nil {
		return nil, fmt.Errorf("the key of the audit: %w", err)
	}
	return s.Unseal(auditKeySetting, sealed)
}

// chainAt reads a setting that holds the chain; zero where there is none.
func (v View) chainAt(setting string) (n int64, mark []byte, err error) {
	text, err := v.Setting(setting)
	if err != nil || text == "" {
		return 0, nil, err
	}
	number, hexed, _ := strings.Cut(text, " ")
	if _, err := fmt.Sscan(number, &n); err != nil {
		return 0, nil, fmt.Errorf("the setting %q of the audit: %w", setting, err)
	}
	mark, err = hex.DecodeString(hexed)
	return n, mark, err
}

func held(n int64, mark []byte) string { return fmt.Sprintf("%d %x", n, mark) }

// AuditQuery narrows the audit. What is empty narrows nothing.
type AuditQuery struct {
	Who, What, Thing, Source, Text string
	From, To                       time.Time
	Areas                          []string // nil: all, also what is of none
	Before                         int64    // lines with smaller numbers; 0: from the newest on
	Limit                          int
}

// AuditLines gives lines, the newest first.
func (v View) AuditLines(q AuditQuery) ([]AuditLine, error) {
	db := v.sql().Order("n DESC").Limit(q.Limit)
	part := func(column, text string) {
		if text != "" {
			db = db.Where(column+" LIKE ? ESCAPE '\\'", "%"+likely(text)+"%")
		}
	}
	part("who", q.Who)
	part("what", q.What)
	part("thing", q.Thing)
	part("source", q.Source)
	if q.Text != "" {
		like := "%" + likely(q.Text) + "%"
		db = db.Where("who LIKE ? ESCAPE '\\' OR what LIKE ? ESCAPE '\\' OR thing LIKE ? ESCAPE '\\' OR result LIKE ? ESCAPE '\\'",
			like, like, like, like)
	}
	if !q.From.IsZero() {
		db = db.Where("at >= ?", micros(q.From))
	}
	if !q.To.IsZero() {
		db = db.Where("at < ?", micros(q.To))
	}
	if q.Areas != nil {
		db = db.Where("area IN ?", q.Areas)
	}
	if q.Before > 0 {
		db = db.Where("n < ?", q.Before)
	}
	var out []AuditLine
	return out, db.Find(&out).Error
}

// CountRefused counts the lines since a time of what was refused.
func (v View) CountRefused(since time.Time) (n int64, err error) {
	err = v.sql().Model(&AuditLine{}).Where("at >= ? AND result LIKE 'refused%'", micros(since)).Count(&n).Error
	return n, err
}

// likely escapes a text for LIKE.
func likely(text string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
}

// LetAuditGo removes lines from before a time; what stays hangs on the mark of the last.
func (tx *Tx) LetAuditGo(before time.Time) error {
	var last AuditLine
	err := tx.sql().Where("at < ?", micros(before)).Order("n DESC").Take(&last).Error
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := tx.sql().Where("n <= ?", last.N).Delete(&AuditLine{}).Error; err != nil {
		return err
	}
	return tx.SetSetting(auditAnchorSetting, held(last.N, last.Mark))
}

// AuditBegins gives the time of the oldest line; zero where there is none.
func (v View) AuditBegins() (time.Time, error) {
	var first AuditLine
	err := v.sql().Order("n").Take(&first).Error
	if errors.Is(err, ErrNotFound) {
		return time.Time{}, nil
	}
	return first.At, err
}

// AuditFault is a place at which the chain does not hold.
type AuditFault struct {
	N    int64  `json:"line"`
	What string `json:"what"`
}

// VerifyAudit walks the whole chain and says where it does not hold, up to so many places.
// It gives how many lines there are.
func (s *Store) VerifyAudit(most int) (lines int64, faults []AuditFault, err error) {
	text, err := s.Setting(auditKeySetting)
	if err != nil {
		return 0, nil, err
	}
	headN, head, err := s.chainAt(auditHeadSetting)
	if err != nil {
		return 0, nil, err
	}
	if text == "" {
		if err := s.sql().Model(&AuditLine{}).Count(&lines).Error; err != nil || lines == 0 && headN == 0 {
			return 0, nil, err
		}
		return lines, []AuditFault{{0, "the key of the chain is gone"}}, nil
	}
	key, err := s.unsealAuditKey(text)
	if err != nil {
		return 0, []AuditFault{{0, "the key of the chain is not that of this folder: " + err.Error()}}, nil
	}
	n, mark, err := s.chainAt(auditAnchorSetting)
	if err != nil {
		return 0, nil, err
	}
	for len(faults) < most {
		var some []AuditLine
		if err := s.sql().Where("n > ?", n).Order("n").Limit(1000).Find(&some).Error; err != nil {
			return lines, faults, err
		}
		if len(some) == 0 {
			break
		}
		for i := range some {
			l := &some[i]
			switch want := l.mark(key, mark); {
			case l.N == n+2:
				faults = append(faults, AuditFault{n + 1, "the line is missing"})
			case l.N != n+1:
				faults = append(faults, AuditFault{n + 1, fmt.Sprintf("the lines from here to %d are missing", l.N-1)})
			case !hmac.Equal(want, l.Mark):
				faults = append(faults, AuditFault{l.N, "the line is not as it was written"})
			}
			n, mark, lines = l.N, l.Mark, lines+1
		}
	}
	if n != headN || !hmac.Equal(mark, head) {
		faults = append(faults, AuditFault{n + 1, fmt.Sprintf("the audit ends here, though it went on to line %d", headN)})
	}
	return lines, faults, nil
}

// jsonOf gives a value as the audit keeps it; nil for none.
func jsonOf(v any) []byte {
	if v == nil {
		return nil
	}
	b, err := json.Marshal(v)
	if err != nil {
		return nil
	}
	return b
}

// NewDeed makes the line of a deed, with what was and what is asked for, as JSON.
func NewDeed(l AuditLine, before, after any) *Deed {
	l.Before, l.After = jsonOf(before), jsonOf(after)
	return &Deed{AuditLine: l}
}
