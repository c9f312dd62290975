// Package sql is the system of databases: SQLite, PostgreSQL, MySQL with MariaDB, and SQL
// Server, each through its standard driver for database/sql. One call is one statement in a
// transaction of its own. Values are bound, never put into the text. Unless the connection
// allows writing, the database itself is told to refuse it; SQL Server knows no such
// transaction, so there everything is rolled back.
//
// A delivery changes one row by its columns, or is a statement. How many rows it concerns is
// looked at before it is committed: where it concerns others than it must, nothing is changed.
package sql

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
	"github.com/shopspring/decimal"

	"readyferry/connect"
	"readyferry/connect/reach"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/core/system"
	"readyferry/core/want"
)

// maxAnswer bounds the rows of one answer, in bytes.
const maxAnswer = 4 << 20

// Kind is the name of the system in documents.
const Kind = "sql"

var connectionSchema = `{
	"required": ["address", "driver"],
	"properties": {
		"driver": {"enum": ["sqlite", "postgresql", "mysql", "sqlserver"], "title": "Database", "default": "sqlite", "titles": {
			"sqlite": "SQLite", "postgresql": "PostgreSQL", "mysql": "MySQL or MariaDB", "sqlserver": "SQL Server"}},
		"write": {"type": "boolean", "title": "statements may change it; else it is told to refuse that"},
		"address": {"type": "string", "title": "Base address", "default": "file:///", "description":
			"postgresql://host:5432/database, mysql://host:3306/database, sqlserver://host:1433/database, file:///folder/file.db, or stand-in://name"},
		"encryption": {"enum": ["offered", "verified", "never"], "title": "Encryption", "default": "offered", "titles": {
			"offered": "where the server offers it; nobody looks whose certificate it has", "verified": "with the certificate of the server's name",
			"never": "never"}, "when": {"driver": ["postgresql", "mysql", "sqlserver"]}},
		` + reach.SignInProperty(connect.SignInNone, connect.SignInBasic) + `,
		` + reach.WayProperties + `
	}
}`

// New makes the system. standIns is the folder of simulated databases, own the
// application's own file, which no connection may open.
func New(standIns, own string) connect.System {
	p := &places{standIns, own}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "Database", Summary: "A database that is asked with SQL, or whose tables are polled.",
			Sentence: "{change} a row of {table} at {to}", Ask: system.Schema(step.SQLQuestion),
			Deliver: system.Schema(deliverSchema),
		},
		Outcomes: outcomes(), Connection: system.Schema(connectionSchema), Check: checkDatabase,
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) { return p.open(c) },
	}
}

// checkDatabase says what is wrong with the address of a database.
func checkDatabase(c *connect.Connection, found connect.Found) {
	reach.CheckTLS(c, found)
	u, err := url.Parse(c.Address)
	if err != nil {
		found("/address", "wrong-value", fmt.Sprintf("%q is no address", c.Address), "")
		return
	}
	if u.User != nil {
		found("/address", "secret-in-text", "the address holds a user or password",
			"take them out of the address and use sign-in")
		return
	}
	driver := c.Text("/driver")
	if of, is := servers[driver]; is {
		known := u.Scheme == of.scheme || driver == DriverPostgreSQL && u.Scheme == "postgres"
		if !known || u.Host == "" || len(u.Path) < 2 || strings.Contains(u.Path[1:], "/") {
			found("/address", "wrong-value", fmt.Sprintf("%q is no address of a database of %s", c.Address, of.title),
				fmt.Sprintf("write it as %s://host:%s/database", of.scheme, of.port))
		}
		return
	}
	if reach.Proxied(c) {
		found("/proxy", "wrong-value", "a file is reached through no proxy", "take the proxy out")
	}
	switch {
	case !(u.Scheme == "file" && strings.HasPrefix(u.Path, "/")) && !(u.Scheme == "stand-in" && u.Host != ""):
		found("/address", "wrong-value", fmt.Sprintf("%q is no address of an SQLite file", c.Address),
			"write it as file:///folder/file.db, or stand-in://name for one that ships with the application")
	case u.RawQuery != "" || u.Fragment != "":
		found("/address", "wrong-value", "the address must not hold a query or fragment", "remove it")
	}
}

// places is where databases lie that are no servers.
type places struct{ standIns, own string }

// link is an open database.
type link struct {
	c      *connect.Connection
	driver string // of the connection
	db     *sql.DB
}

// Close implements connect.Link.
func (l *link) Close() error { return l.db.Close() }

func (p *places) open(c *connect.Connection) (*link, error) {
	db, err := p.database(c)
	if err != nil {
		return nil, fmt.Errorf("%w: %s cannot be opened: %w", connect.ErrCannotSend, c.Name, err)
	}
	db.SetMaxOpenConns(c.InFlight)
	db.SetConnMaxIdleTime(time.Minute)
	return &link{c, c.Text("/driver"), db}, nil
}

func same(a, b string) bool {
	if one, err := os.Stat(a); err == nil {
		if other, err := os.Stat(b); err == nil && os.SameFile(one, other) {
			return true // under another name
		}
	}
	x, errX := filepath.Abs(a)
	y, errY := filepath.Abs(b)
	if errX != nil || errY != nil || b == "" {
		return false
	}
	if r, err := filepath.EvalSymlinks(x); err == nil {
		x = r
	}
	if r, err := filepath.EvalSymlinks(y); err == nil {
		y = r
	}
	return x == y
}

// writes tells whether statements may change the database.
func writes(c *connect.Connection) bool { return c.Text("/write") == "true" }

// Ask implements connect.Asker: the answer's body is the list of rows as JSON, and
// where rows were changed a header says how many.
func (l *link) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	if r.Query == nil {
		return connect.Receipt{}, fmt.Errorf("%w: a database is asked with a statement", connect.ErrCannotSend)
	}
	a, err := l.query(ctx, r.Query, nil)
	if err != nil {
		return connect.Receipt{}, err
	}
	headers := []message.Header{{Name: "Content-Type", Value: "application/json"}}
	if a.changed {
		headers = append(headers, message.Header{Name: AffectedHeader, Value: fmt.Sprint(a.affected)})
	}
	return connect.Receipt{
		Outcome: retry.Delivered, Code: "200", Headers: headers, Answer: bytes.NewReader(jsonfmt.Encode(a.rows)),
	}, nil
}

// query makes one statement. good looks at what it came to before that is committed; nil
// for nothing.
func (l *link) query(ctx context.Context, q *want.Query, good func(a *answer) error) (answer, error) {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	a, err := l.ask(ctx, q, good)
	if err != nil {
		return a, plainError(ctx, l.c, err)
	}
	return a, nil
}

// answer is what a statement comes to.
type answer struct {
	rows     *message.Node // a list of maps
	changed  bool          // it is one that changes rows
	affected int64         // how many it did
}

func (l *link) ask(ctx context.Context, q *want.Query, good func(a *answer) error) (a answer, err error) {
	args, text, err := bind(l.driver, q)
	if err != nil {
		return a, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	changing, returning := changes(text)
	// SQL Server has no transaction that only reads, and SQLite's driver sees to it itself.
	readOnly := !writes(l.c) && l.driver != DriverSQLServer && l.driver != DriverSQLite
	// MySQL ends a transaction before it makes or drops a table.
	if (l.driver == DriverSQLServer || l.driver == DriverMySQL) && !writes(l.c) && (changing || !asksAlone(text)) {
		return a, errReadOnly
	}
	tx, err := l.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: readOnly})
	if err != nil {
		return a, err
	}
	defer func() { _ = tx.Rollback() }()
	a.changed = changing
	if changing && !returning {
		a.rows = message.NewList()
		a.affected, err = change(ctx, tx, l.driver, text, args)
	} else {
		a.rows, err = rowsOf(ctx, tx, text, args, q.Most)
		if err == nil && changing {
			a.affected = int64(len(a.rows.Items))
		}
	}
	if err == nil && good != nil {
		err = good(&a)
	}
	if err != nil || l.driver == DriverSQLServer && !writes(l.c) {
		return a, err // rolled back
	}
	return a, tx.Commit()
}

// rowsOf gives the rows of one statement.
func rowsOf(ctx context.Context, tx *sql.Tx, text string, args []any, most int) (*message.Node, error) {
	rows, err := tx.QueryContext(ctx, text, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list, err := read(rows, most)
	if err != nil {
		return nil, err
	}
	if rows.NextResultSet() {
		return nil, errMoreThanOne
	}
	return list, rows.Close()
}

// bind gives the values of a statement in the order of its placeholders.
func bind(driver string, q *want.Query) (args []any, text string, err error) {
	text, names := step.BindNames(q.SQL, func(n int) string { return placeholder(driver, n) })
	values := map[string]any{}
	for _, p := range q.Params {
		r, err := jsonfmt.Decode(p.Value)
		if err != nil {
			return nil, "", fmt.Errorf("the parameter %s: %w", p.Name, err)
		}
		switch n := r.Root; n.Kind {
		case message.Null:
			values[p.Name] = nil
		case message.Bool:
			values[p.Name] = n.Text == "true"
		case message.Number:
			values[p.Name] = number(n.Text)
		default:
			values[p.Name] = n.Text
		}
	}
	for _, name := range names {
		v, ok := values[name]
		if !ok {
			return nil, "", fmt.Errorf("the statement names :%s, which has no value", name)
		}
		args = append(args, v)
	}
	return args, text, nil
}

// number gives a number as it is bound: a whole one as such, another as a float where
// a float holds it to its last digit, and else as the text of its digits, which every
// database takes for a number where a number is expected.
func number(literal string) any {
	if i := strings.IndexAny(literal, "eE"); i >= 0 && len(literal)-i > 5 {
		return literal // far beyond what a float holds
	}
	if i, err := json.Number(literal).Int64(); err == nil {
		return i
	}
	exact, err := decimal.NewFromString(literal)
	if err != nil {
		return literal
	}
	f, err := json.Number(literal).Float64()
	if err != nil {
		return literal
	}
	if kept, err := decimal.NewFromString(strconv.FormatFloat(f, 'g', -1, 64)); err == nil && kept.Equal(exact) {
		return f
	}
	return literal
}

// read makes a list of maps of the rows; more than most is an error.
func read(rows *sql.Rows, most int) (*message.Node, error) {
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	list, size := message.NewList(), 0
	for rows.Next() {
		if len(list.Items) == most {
			return nil, fmt.Errorf("%w: the query gives more than %d rows", connect.ErrCannotSend, most)
		}
		values := make([]any, len(columns))
		into := make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		m := make([]message.Member, len(columns))
		for i, c := range columns {
			m[i] = message.Member{Name: c, Value: node(values[i])}
			size += len(c) + len(m[i].Value.Text) + 6
		}
		if size > maxAnswer {
			return nil, fmt.Errorf("%w: the rows have more than %d bytes", connect.ErrCannotSend, maxAnswer)
		}
		list.Items = append(list.Items, message.NewMap(m...))
	}
	return list, rows.Err()
}

func node(v any) *message.Node {
	switch v := v.(type) {
	case nil:
		return message.NewNull()
	case bool:
		return message.NewBool(v)
	case int64:
		return message.NewNumber(fmt.Sprint(v))
	case float64:
		b, err := json.Marshal(v)
		if err != nil {
			return message.NewString(fmt.Sprint(v))
		}
		return message.NewNumber(string(b))
	case time.Time:
		return message.NewString(v.UTC().Format(time.RFC3339Nano))
	case uint64:
		return message.NewNumber(fmt.Sprint(v))
	case float32:
		return message.NewNumber(strconv.FormatFloat(float64(v), 'g', -1, 32))
	case []byte:
		if utf8.Valid(v) {
			return message.NewString(string(v))
		}
		return message.NewBytes(v)
	}
	return message.NewString(fmt.Sprint(v))
}
