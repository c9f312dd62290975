package store

import (
	"context"
	"database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"

	"github.com/mattn/go-sqlite3"
)

// ErrNotTheSame tells that a copy was not what the record was made for: it has to be made anew.
var ErrNotTheSame = errors.New("the copy is not the same as the journal that it is of")

// replaying executes records on a connection, beneath database/sql: a copy does little else, and what that adds to
// each statement is more than what most of them take. One that has begun is short, and is not given up.
type replaying struct {
	conn  *sqlite3.SQLiteConn
	stmts map[string]*sqlite3.SQLiteStmt
	args  []driver.NamedValue
	held  folding
}

var errDamaged = errors.New("a record is damaged")

// do executes a record, or holds what may be done later.
func (p *replaying) do(record []byte) error {
	in, err := unsqueeze(record)
	if err != nil {
		return err
	}
	r := &reading{rest: in}
	var texts []string
	for len(r.rest) > 0 {
		switch part := r.byte(); part {
		case partText:
			texts = append(texts, string(r.bytes()))
		case partExec:
			n, rows := r.number(), r.number()
			if r.err != nil || n >= uint64(len(texts)) {
				return errors.Join(errDamaged, r.err)
			}
			if err := p.statement(texts[n], int64(rows), r); err != nil {
				return err
			}
		default:
			return fmt.Errorf("a record has a part that this release does not know: %d", part)
		}
	}
	return r.err
}

// again executes a statement as it was executed.
func (p *replaying) again(query string, rows int64) error {
	ctx := context.Background() // one that could end costs a goroutine for each statement
	stmt := p.stmts[query]
	if stmt == nil {
		made, err := p.conn.PrepareContext(ctx, query)
		if err != nil {
			return fmt.Errorf("%w: preparing %q: %w", ErrNotTheSame, query, err)
		}
		stmt = made.(*sqlite3.SQLiteStmt)
		p.stmts[query] = stmt
	}
	if strings.Contains(query, " RETURNING ") { // it goes on until what it gives is read
		if err := drain(stmt.QueryContext(ctx, p.args)); err != nil {
			return fmt.Errorf("%w: %q: %w", ErrNotTheSame, query, err)
		}
		return nil
	}
	res, err := stmt.ExecContext(ctx, p.args)
	if err != nil {
		return fmt.Errorf("%w: %q: %w", ErrNotTheSame, query, err)
	}
	if n, err := res.RowsAffected(); err != nil || rows != unknownRows && n != rows {
		return fmt.Errorf("%w: %q changed %d rows, and %d there", ErrNotTheSame, query, n, rows)
	}
	return nil
}

func (p *replaying) close() error {
	var errs []error
	for _, s := range p.stmts {
		errs = append(errs, s.Close())
	}
	return errors.Join(errs...)
}

func drain(rows driver.Rows, err error) error {
	if err != nil {
		return err
	}
	row := make([]driver.Value, len(rows.Columns()))
	for err == nil {
		err = rows.Next(row)
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return errors.Join(err, rows.Close())
}

// value reads a value as recorder.value notes it.
func (r *reading) value() any {
	switch kind := r.byte(); kind {
	case valueNull:
		return nil
	case valueInt:
		return r.signed()
	case valueFloat:
		if len(r.rest) < 8 {
			r.fails(errCut)
			return nil
		}
		v := math.Float64frombits(binary.LittleEndian.Uint64(r.rest))
		r.rest = r.rest[8:]
		return v
	case valueText:
		return string(r.bytes())
	case valueBlob:
		b := r.bytes()
		if b == nil {
			b = []byte{}
		}
		return b
	default:
		r.fails(fmt.Errorf("a value of kind %d", kind))
		return nil
	}
}
