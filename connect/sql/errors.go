package sql

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/mattn/go-sqlite3"

	"readyferry/connect"
)

// verdict says what an error of a database is worth.
type verdict int

const (
	refused verdict = iota // the statement stays refused
	again                  // another try may help: it is busy, gone, or has rolled back for others
	badData                // the values break a rule of the database
)

// classes are the classes of SQLSTATE (the SQL standard, part 2, 24.1; PostgreSQL,
// appendix A), by the first two characters of the code.
var classes = map[string]verdict{
	"08": again,   // connection exception
	"40": again,   // transaction rollback: serialization failure, deadlock
	"53": again,   // insufficient resources
	"57": again,   // operator intervention: shutdown, cancelled
	"58": again,   // system error outside of the database
	"XX": again,   // internal error
	"22": badData, // data exception
	"23": badData, // integrity constraint violation
	"44": badData, // WITH CHECK OPTION violation
}

// states are single codes that differ from their class.
var states = map[string]verdict{
	"55P03": again,   // lock not available
	"55006": again,   // object in use
	"25006": refused, // read-only transaction
	"57P05": again,   // idle session timeout
}

// sqliteCodes are the primary result codes of SQLite (sqlite.org/rescode.html).
var sqliteCodes = map[sqlite3.ErrNo]verdict{
	sqlite3.ErrBusy: again, sqlite3.ErrLocked: again, sqlite3.ErrIoErr: again, sqlite3.ErrFull: again,
	sqlite3.ErrCantOpen: again, sqlite3.ErrProtocol: again, sqlite3.ErrNomem: again, sqlite3.ErrSchema: again,
	sqlite3.ErrInterrupt: again, sqlite3.ErrCorrupt: again, sqlite3.ErrNotADB: again,
	sqlite3.ErrConstraint: badData, sqlite3.ErrMismatch: badData, sqlite3.ErrTooBig: badData,
}

// judge tells what an error is worth. known is false for one that no database made.
func judge(err error) (v verdict, code string, known bool) {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		if v, ok := states[pg.Code]; ok {
			return v, pg.Code, true
		}
		return classes[pg.Code[:min(2, len(pg.Code))]], pg.Code, true
	}
	var lite sqlite3.Error
	if errors.As(err, &lite) {
		return sqliteCodes[lite.Code], "", true
	}
	return refused, "", false
}

// plainError says in words what went wrong, and whether another try may help.
func plainError(ctx context.Context, c *connect.Connection, err error) error {
	text := first(err.Error())
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fmt.Errorf("%s did not answer within %s", c.Name, c.TimeLimit)
	case errors.Is(err, context.Canceled):
		return fmt.Errorf("the try was interrupted: %w", context.Canceled)
	case errors.Is(err, connect.ErrCannotSend):
		return err
	case readOnly(err):
		return fmt.Errorf(
			"%w: %s allows reading alone; write: true in the connection would allow more",
			connect.ErrCannotSend,
			c.Name,
		)
	}
	switch v, code, known := judge(err); {
	case unreachable(err):
		return fmt.Errorf("%s cannot be reached: %s", c.Name, text)
	case known && v == again:
		if code != "" && !strings.Contains(text, code) {
			text += " (SQLSTATE " + code + ")"
		}
		return fmt.Errorf("%s cannot do it now: %s", c.Name, text)
	case known && v == badData:
		return fmt.Errorf("%w: %w: %s does not take the values: %s", connect.ErrCannotSend, connect.ErrBadData, c.Name, text)
	}
	return fmt.Errorf("%w: %s refuses the statement: %s", connect.ErrCannotSend, c.Name, text)
}

// readOnly tells that a statement would have written over a connection that may not.
func readOnly(err error) bool {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return pg.Code == "25006" // read_only_sql_transaction
	}
	var lite sqlite3.Error
	return errors.As(err, &lite) && slices.Contains([]sqlite3.ErrNo{sqlite3.ErrReadonly, sqlite3.ErrAuth}, lite.Code)
}

// unreachable tells of an error that comes from the way to the database, not from it.
func unreachable(err error) bool {
	var op *net.OpError
	var failed *pgconn.ConnectError
	var lite sqlite3.Error
	return errors.As(err, &lite) && lite.Code == sqlite3.ErrCantOpen || errors.As(err, &op) || errors.As(err, &failed) || errors.Is(err, sql.ErrConnDone) ||
		errors.Is(err, driver.ErrBadConn) || strings.Contains(err.Error(), "conn closed") ||
		strings.Contains(err.Error(), "unexpected EOF")
}

func first(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}
