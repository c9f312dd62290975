package sql

import (
	"context"
	"database/sql/driver"
	"slices"
	"strings"

	"github.com/mattn/go-sqlite3"
)

// guarded opens connections to an SQLite file that can reach nothing else. Every
// statement passes SQLite's own authorizer (sqlite.org/c3ref/set_authorizer.html)
// when it is prepared: no other file is attached, which VACUUM INTO would do, too; no
// extension is loaded; and unless the connection may write, nothing but reading is
// let through, whatever settings a statement changed before.
type guarded struct {
	driver *sqlite3.SQLiteDriver
	source string
}

func newGuarded(source string, write bool) driver.Connector {
	d := &sqlite3.SQLiteDriver{ConnectHook: func(c *sqlite3.SQLiteConn) error {
		c.RegisterAuthorizer(func(op int, a, b, _ string) int { return authorize(write, op, a, b) })
		return nil
	}}
	return &guarded{d, source}
}

// Connect implements driver.Connector.
func (g *guarded) Connect(context.Context) (driver.Conn, error) { return g.driver.Open(g.source) }

// Driver implements driver.Connector.
func (g *guarded) Driver() driver.Driver { return g.driver }

// The actions of the authorizer that the driver does not name.
const (
	actionSelect    = 21
	actionFunction  = 31
	actionRecursive = 33
)

// shown are the pragmas that only tell something. Without a value, others do, too.
var shown = []string{
	"table_info", "table_xinfo", "table_list", "index_list", "index_info", "index_xinfo", "foreign_key_list",
	"database_list", "collation_list", "function_list", "integrity_check", "quick_check", "foreign_key_check",
}

// writable are the pragmas that a connection which may write may set: they concern
// its own transaction.
var writable = []string{"foreign_keys", "defer_foreign_keys", "recursive_triggers"}

// authorize decides about one action of a statement.
func authorize(write bool, op int, a, b string) int {
	switch op {
	case sqlite3.SQLITE_ATTACH, sqlite3.SQLITE_DETACH:
		return sqlite3.SQLITE_DENY
	case actionFunction:
		if slices.Contains([]string{"load_extension", "readfile", "writefile", "edit"}, strings.ToLower(b)) {
			return sqlite3.SQLITE_DENY
		}
		return sqlite3.SQLITE_OK
	case sqlite3.SQLITE_PRAGMA:
		name := strings.ToLower(a)
		if b == "" || slices.Contains(shown, name) || write && slices.Contains(writable, name) {
			return sqlite3.SQLITE_OK
		}
		return sqlite3.SQLITE_DENY
	case actionSelect, actionRecursive, sqlite3.SQLITE_READ, sqlite3.SQLITE_TRANSACTION:
		return sqlite3.SQLITE_OK
	}
	if !write {
		return sqlite3.SQLITE_DENY
	}
	return sqlite3.SQLITE_OK
}
