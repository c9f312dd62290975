// Package sql asks databases: SQLite and PostgreSQL, each through its standard
// driver for database/sql. One call is one statement in a transaction of its
// own. Values are bound, never put into the text. Unless the connection allows
// writing, the database itself is told to refuse it.
package sql

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
	_ "github.com/mattn/go-sqlite3"    // the driver "sqlite3"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/core/want"
)

// maxAnswer bounds the rows of one answer, in bytes.
const maxAnswer = 4 << 20

// Sender asks databases.
type Sender struct {
	standIns string // folder of the databases that ship with the application
	own      string // the application's own file, which no connection may open

	mu   sync.Mutex
	open map[string]opened
}

type opened struct {
	key string
	db  *sql.DB
}

// New makes a sender. standIns is the folder of simulated databases, own the
// application's own file.
func New(standIns, own string) *Sender {
	return &Sender{standIns: standIns, own: own, open: map[string]opened{}}
}

// Close closes what is open.
func (s *Sender) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for name, o := range s.open {
		errs = append(errs, o.db.Close())
		delete(s.open, name)
	}
	return errors.Join(errs...)
}

// database gives the pool of a connection, opened anew when its settings changed.
func (s *Sender) database(c *connect.Connection) (*sql.DB, error) {
	driver, source, err := s.source(c)
	if err != nil {
		return nil, err
	}
	key := driver + "\x00" + source
	s.mu.Lock()
	defer s.mu.Unlock()
	if o, ok := s.open[c.Name]; ok {
		if o.key == key {
			return o.db, nil
		}
		_ = o.db.Close()
	}
	db, err := sql.Open(driver, source)
	if err != nil {
		return nil, fmt.Errorf("%w: %s cannot be opened: %w", connect.ErrCannotSend, c.Name, err)
	}
	db.SetMaxOpenConns(c.InFlight)
	db.SetConnMaxIdleTime(time.Minute)
	s.open[c.Name] = opened{key, db}
	return db, nil
}

func (s *Sender) source(c *connect.Connection) (driver, source string, err error) {
	if c.Driver == connect.DriverPostgreSQL {
		u, err := url.Parse(c.Address)
		if err != nil {
			return "", "", fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
		}
		if c.SignIn.Kind == connect.SignInBasic && len(c.SignIn.Secrets) > 0 {
			u.User = url.UserPassword(c.SignIn.User, c.SignIn.Secrets[0])
		}
		return "pgx", u.String(), nil
	}
	path := strings.TrimPrefix(c.Address, "file://")
	if name, ok := strings.CutPrefix(c.Address, "stand-in://"); ok {
		if s.standIns == "" || name != filepath.Base(name) {
			return "", "", fmt.Errorf("%w: there is no stand-in %q here", connect.ErrCannotSend, name)
		}
		path = filepath.Join(s.standIns, name)
	}
	if same(path, s.own) {
		return "", "", fmt.Errorf("%w: that is the application's own file", connect.ErrCannotSend)
	}
	mode := "mode=ro&_query_only=true"
	if c.Write {
		mode = "mode=rw&_txlock=immediate"
	}
	return "sqlite3", "file:" + (&url.URL{Path: path}).EscapedPath() + "?_busy_timeout=5000&" + mode, nil
}

func same(a, b string) bool {
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

// Send implements connect.Sender: the answer's body is the list of rows as JSON.
func (s *Sender) Send(ctx context.Context, c *connect.Connection, r connect.Request) (connect.Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, c.TimeLimit)
	defer cancel()
	q := r.Query
	if q == nil {
		q = &want.Query{SQL: "SELECT 1 AS answer", Most: 1} // a test
	}
	db, err := s.database(c)
	if err != nil {
		return connect.Answer{}, err
	}
	list, err := ask(ctx, db, c, q)
	if err != nil {
		return connect.Answer{}, s.plainError(ctx, c, err)
	}
	return connect.Answer{Status: 200, Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}}, Body: jsonfmt.Encode(list)}, nil
}

func ask(ctx context.Context, db *sql.DB, c *connect.Connection, q *want.Query) (list *message.Node, err error) {
	args, text, err := bind(c.Driver, q)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: !c.Write && c.Driver == connect.DriverPostgreSQL})
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	rows, err := tx.QueryContext(ctx, text, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	if list, err = read(rows, q.Most); err != nil {
		return nil, err
	}
	if rows.NextResultSet() {
		return nil, fmt.Errorf("%w: it is more than one statement", connect.ErrCannotSend)
	}
	if err := rows.Close(); err != nil {
		return nil, err
	}
	return list, tx.Commit()
}

// bind gives the values of a statement in the order of its placeholders.
func bind(driver string, q *want.Query) (args []any, text string, err error) {
	place := func(int) string { return "?" }
	if driver == connect.DriverPostgreSQL {
		place = func(n int) string { return fmt.Sprintf("$%d", n) }
	}
	text, names := step.BindNames(q.SQL, place)
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
			if i, err := json.Number(n.Text).Int64(); err == nil {
				values[p.Name] = i
			} else if f, err := json.Number(n.Text).Float64(); err == nil {
				values[p.Name] = f
			} else {
				values[p.Name] = n.Text
			}
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
	case []byte:
		if utf8.Valid(v) {
			return message.NewString(string(v))
		}
		return message.NewBytes(v)
	}
	return message.NewString(fmt.Sprint(v))
}

// plainError says in words what went wrong, and whether another try may help:
// a database that is not there or busy may be back, a statement that it refuses
// stays refused.
func (s *Sender) plainError(ctx context.Context, c *connect.Connection, err error) error {
	var op *net.OpError
	text := err.Error()
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fmt.Errorf("%s did not answer within %s", c.Name, c.TimeLimit)
	case errors.Is(err, context.Canceled):
		return fmt.Errorf("the try was interrupted: %w", context.Canceled)
	case errors.Is(err, connect.ErrCannotSend):
		return err
	case errors.As(err, &op) || strings.Contains(text, "failed to connect") || strings.Contains(text, "unable to open database") || strings.Contains(text, "database is locked") || errors.Is(err, sql.ErrConnDone):
		return fmt.Errorf("%s cannot be reached: %s", c.Name, first(text))
	case strings.Contains(text, "readonly database") || strings.Contains(text, "read-only transaction"):
		return fmt.Errorf("%w: %s allows reading alone; write: true in the connection would allow more", connect.ErrCannotSend, c.Name)
	}
	return fmt.Errorf("%w: %s refuses the statement: %s", connect.ErrCannotSend, c.Name, first(text))
}

func first(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}
