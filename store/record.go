package store

import (
	"context"
	"database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/klauspost/compress/s2"
	"github.com/mattn/go-sqlite3"
)

// A journal that several machines have is one log of what its commits change, and a copy of the file
// at each machine that follows that log. A record of the log is what one commit has executed: its
// statements with the values that were bound to them, in their order. Two files that were the same
// before a record are the same behind it, since a statement that changes something says the same of
// the same file: none asks for the time, for chance or for a number of the connection
// (the tests of the engine run over mirrored journals, READYFERRY_MIRROR=1, and compare). How many rows each one changed stands with it, so that a
// file that is not the same is noticed at once and made anew.

// Log keeps what commits change.
type Log interface {
	// Append keeps a record behind the one at a position, and returns when it is kept for good. On an
	// error nobody else has it or will have it from this store, which takes no further writes.
	Append(behind int64, record []byte) (at int64, err error)
}

// recorder notes what the writer's connection executes between the begin and the end of a commit.
// The writer alone uses it.
type recorder struct {
	on    bool
	out   []byte
	texts map[string]int // in this record, by statement
	bound []driver.NamedValue
	fault error
}

// begin begins a record.
func (r *recorder) begin() {
	r.on, r.out, r.fault = true, r.out[:0], nil
	clear(r.texts)
}

// end gives what was executed; nothing where nothing was changed.
func (r *recorder) end() ([]byte, error) {
	r.on = false
	if r.fault != nil || len(r.out) == 0 {
		return nil, r.fault
	}
	return squeeze(r.out), nil
}

// The parts of a record.
const (
	partText = 1 // a statement's text; those that come are numbered
	partExec = 2 // the number of its text, how many rows it changed, the values
)

// The kinds of a value.
const (
	valueNull = iota
	valueInt
	valueFloat
	valueText
	valueBlob
)

// unknownRows stands for a statement whose rows nobody counted.
const unknownRows = math.MaxInt64

func (r *recorder) exec(query string, args []driver.NamedValue, rows int64) {
	n, known := r.texts[query]
	if !known {
		if r.texts == nil {
			r.texts = map[string]int{}
		}
		n = len(r.texts)
		r.texts[query] = n
		r.out = append(r.out, partText)
		r.out = appendBytes(r.out, query)
	}
	r.out = binary.AppendUvarint(append(r.out, partExec), uint64(n))
	r.out = binary.AppendUvarint(r.out, uint64(rows))
	r.out = binary.AppendUvarint(r.out, uint64(len(args)))
	for i := range args {
		if err := r.value(&args[i]); err != nil && r.fault == nil {
			r.fault = fmt.Errorf("%q: %w", query, err)
		}
	}
}

// toBind gives what has to be bound: the driver takes back what was bound before, and what is not bound is null.
func (r *recorder) toBind(args []driver.NamedValue) []driver.NamedValue {
	r.bound = r.bound[:0]
	for i := range args {
		if args[i].Value != nil {
			r.bound = append(r.bound, args[i])
		}
	}
	return r.bound
}

// value notes a value as the driver binds it.
func (r *recorder) value(v *driver.NamedValue) error {
	if v.Name != "" {
		return errors.New("a value that is bound by a name is not noted")
	}
	switch v := v.Value.(type) {
	case nil:
		r.out = append(r.out, valueNull)
	case int64:
		r.out = binary.AppendVarint(append(r.out, valueInt), v)
	case bool:
		n := int64(0)
		if v {
			n = 1
		}
		r.out = binary.AppendVarint(append(r.out, valueInt), n)
	case float64:
		r.out = binary.LittleEndian.AppendUint64(append(r.out, valueFloat), math.Float64bits(v))
	case string:
		r.out = appendBytes(append(r.out, valueText), v)
	case time.Time:
		r.out = appendBytes(append(r.out, valueText), v.Format(sqlite3.SQLiteTimestampFormats[0]))
	case []byte:
		if v == nil {
			r.out = append(r.out, valueNull)
			return nil
		}
		r.out = appendBytes(append(r.out, valueBlob), v)
	default:
		return fmt.Errorf("a value of type %T is not noted", v)
	}
	return nil
}

func appendBytes[T string | []byte](to []byte, b T) []byte {
	return append(binary.AppendUvarint(to, uint64(len(b))), b...)
}

// changes tells whether a statement is noted: whether it changes the file, or how what it changes is
// taken back.
func changes(query string) bool {
	word, rest, _ := strings.Cut(strings.TrimSpace(query), " ")
	switch strings.ToUpper(word) {
	case "BEGIN", "COMMIT", "SELECT", "EXPLAIN":
		return false
	case "PRAGMA":
		return strings.HasPrefix(rest, "secure_delete") // what is erased is erased from every copy
	case "ROLLBACK":
		return rest != ""
	}
	return !strings.HasPrefix(query, positionUpdate)
}

// recording makes connections whose statements are noted.
type recording struct {
	dsn string
	rec *recorder
}

// Connect implements driver.Connector.
func (c *recording) Connect(context.Context) (driver.Conn, error) {
	conn, err := (&sqlite3.SQLiteDriver{}).Open(c.dsn)
	if err != nil {
		return nil, err
	}
	return &recordedConn{conn.(*sqlite3.SQLiteConn), c.rec}, nil
}

// Driver implements driver.Connector.
func (c *recording) Driver() driver.Driver { return &sqlite3.SQLiteDriver{} }

type recordedConn struct {
	*sqlite3.SQLiteConn
	rec *recorder
}

// ExecContext implements driver.ExecerContext.
func (c *recordedConn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result,
	error) {
	res, err := c.SQLiteConn.ExecContext(ctx, query, args)
	if c.rec.on && err == nil && changes(query) {
		c.rec.exec(query, args, rowsOf(query, res))
	}
	return res, err
}

// QueryContext implements driver.QueryerContext.
func (c *recordedConn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows,
	error) {
	if c.rec.on && changes(query) {
		c.rec.exec(query, args, unknownRows)
	}
	return c.SQLiteConn.QueryContext(ctx, query, args)
}

// PrepareContext implements driver.ConnPrepareContext.
func (c *recordedConn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	stmt, err := c.SQLiteConn.PrepareContext(ctx, query)
	if err != nil || !changes(query) {
		return stmt, err
	}
	return &recordedStmt{stmt.(*sqlite3.SQLiteStmt), query, c.rec}, nil
}

// Prepare implements driver.Conn.
func (c *recordedConn) Prepare(query string) (driver.Stmt, error) {
	return c.PrepareContext(context.Background(), query)
}

type recordedStmt struct {
	*sqlite3.SQLiteStmt
	query string
	rec   *recorder
}

// ExecContext implements driver.StmtExecContext.
func (s *recordedStmt) ExecContext(ctx context.Context, args []driver.NamedValue) (driver.Result, error) {
	res, err := s.SQLiteStmt.ExecContext(ctx, s.rec.toBind(args))
	if s.rec.on && err == nil {
		s.rec.exec(s.query, args, rowsOf(s.query, res))
	}
	return res, err
}

// QueryContext implements driver.StmtQueryContext.
func (s *recordedStmt) QueryContext(ctx context.Context, args []driver.NamedValue) (driver.Rows, error) {
	if s.rec.on {
		s.rec.exec(s.query, args, unknownRows)
	}
	return s.SQLiteStmt.QueryContext(ctx, args)
}

// rowsOf gives how many rows a statement changed, where it is one that says so.
func rowsOf(query string, res driver.Result) int64 {
	switch word, _, _ := strings.Cut(query, " "); word {
	case "INSERT", "UPDATE", "DELETE":
	default:
		return unknownRows
	}
	n, err := res.RowsAffected()
	if err != nil {
		return unknownRows
	}
	return n
}

// A record is kept as it is, or smaller (S2); its first byte says which.
const (
	plainRecord = 0
	s2Record    = 1
	worthIt     = 256 // bytes from which it is made smaller
)

func squeeze(b []byte) []byte {
	if len(b) < worthIt {
		return append([]byte{plainRecord}, b...)
	}
	out := make([]byte, 1+s2.MaxEncodedLen(len(b)))
	out[0] = s2Record
	return out[:1+len(s2.Encode(out[1:], b))]
}

func unsqueeze(b []byte) ([]byte, error) {
	if len(b) == 0 {
		return nil, errors.New("a record is empty")
	}
	switch b[0] {
	case plainRecord:
		return b[1:], nil
	case s2Record:
		return s2.Decode(nil, b[1:])
	}
	return nil, fmt.Errorf("a record of a form that this release does not know: %d", b[0])
}
