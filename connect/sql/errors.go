package sql

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/mattn/go-sqlite3"
	mssql "github.com/microsoft/go-mssqldb"

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

// mysqlCodes are those numbers of MySQL and MariaDB whose SQLSTATE says nothing (HY000) or
// another thing (their manuals, error reference; from memory).
var mysqlCodes = map[uint16]verdict{
	1021: again, 1037: again, 1038: again, 1041: again, // disk full, no memory
	1040: again, 1203: again, 1226: again, // too many connections, a quota
	1053: again, 1205: again, 1290: again, 1836: again, // shutdown, lock wait, the server only reads
	1969: again, 3024: again, 3572: again, // it took too long, a lock is held
	1364: badData, 1366: badData, 1265: badData, 1261: badData, 1262: badData, 3819: badData, 4025: badData,
}

// sqlServerCodes are numbers of SQL Server (its documentation, database engine errors; from
// memory). It gives no SQLSTATE to this driver.
var sqlServerCodes = map[int32]verdict{
	1205: again, 1222: again, 3960: again, // deadlock, lock timeout, snapshot conflict
	701: again, 802: again, 1105: again, 9002: again, // memory, disk, log
	4221: again, 10928: again, 10929: again, 40197: again, 40501: again, 40613: again, 49918: again, 49919: again,
	49920: again,
	6005:  again, 17142: again, // shutdown, paused
	515: badData, 547: badData, 2601: badData, 2627: badData, // null, check or foreign key, unique
	220: badData, 241: badData, 242: badData, 245: badData, 248: badData, 295: badData, 517: badData, 8114: badData,
	8115: badData,
	8152: badData, 2628: badData, 8169: badData, 232: badData, 235: badData,
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
	var my *mysql.MySQLError
	if errors.As(err, &my) {
		state := string(my.SQLState[:])
		if v, is := mysqlCodes[my.Number]; is {
			return v, state, true
		}
		return classes[state[:2]], state, true
	}
	var ms mssql.Error
	if errors.As(err, &ms) {
		return sqlServerCodes[ms.Number], fmt.Sprint(ms.Number), true
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
	var my *mysql.MySQLError
	if errors.As(err, &my) {
		return my.Number == 1792 // it is in a transaction that only reads
	}
	if errors.Is(err, errReadOnly) {
		return true
	}
	var lite sqlite3.Error
	return errors.As(err, &lite) && slices.Contains([]sqlite3.ErrNo{sqlite3.ErrReadonly, sqlite3.ErrAuth}, lite.Code)
}

// unreachable tells of an error that comes from the way to the database, not from it.
func unreachable(err error) bool {
	var op *net.OpError
	var failed *pgconn.ConnectError
	var lite sqlite3.Error
	return errors.As(err, &lite) && lite.Code == sqlite3.ErrCantOpen || errors.As(err, &op) || errors.As(err,
		&failed) || errors.Is(err, sql.ErrConnDone) ||
		errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, io.EOF) ||
		strings.Contains(err.Error(), "conn closed") ||
		strings.Contains(err.Error(), "unexpected EOF")
}

func first(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}
