package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/mattn/go-sqlite3"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
)

// A fleet may keep the journal of messages in several partitions, each of which is a file with a log of its
// own. Every member has all of these files, so that lists, counts and inspections read them as one: on a
// connection for reading the other files are attached, and a temporary view under the name of each table
// stands for the rows of all. Rows are told apart by their ids; numbers that rows have instead
// begin elsewhere in each partition (firstOf).

// partitionBits is how many numbers a partition has: some 10^12.
const partitionBits = 40

// firstOf gives the number behind which those of a partition's rows begin.
func firstOf(partition int) int64 { return int64(partition) << partitionBits }

// numberFrom lets the numbers that the database itself gives begin behind one.
func (s *Store) numberFrom(first int64) error {
	if first == 0 {
		return nil
	}
	var numbered []string
	err := s.write.Raw("SELECT name FROM sqlite_schema WHERE type = 'table' AND sql LIKE '%AUTOINCREMENT%' ORDER BY name").
		Scan(&numbered).
		Error
	if err != nil {
		return err
	}
	for _, table := range numbered {
		if err := errors.Join(
			s.write.Exec("UPDATE sqlite_sequence SET seq = ? WHERE name = ? AND seq < ?", first, table, first).Error,
			s.write.Exec("INSERT INTO sqlite_sequence (name, seq) SELECT ?, ? WHERE NOT EXISTS "+
				"(SELECT 1 FROM sqlite_sequence WHERE name = ?)", table, first, table).Error,
		); err != nil {
			return err
		}
	}
	return nil
}

// MostPartitions is how many partitions there may be: as many files as SQLite attaches to one
// connection, and the first.
const MostPartitions = 8

// PartDir gives the folder of a partition in the data folder of a member.
func PartDir(dir string, part int) string {
	if part == 0 {
		return dir
	}
	return filepath.Join(dir, partsDir, strconv.Itoa(part))
}

// PartDirs lists the folders of further partitions in a data folder.
func PartDirs(dir string) ([]string, error) {
	return filepath.Glob(filepath.Join(dir, partsDir, "[1-9]"))
}

// partsDir is the folder of further partitions.
const partsDir = "partitions"

// perMessage are the tables of which each partition has its own rows.
var perMessage = []string{"transactions", "messages", "effects", "deliveries", "tries", "letters", "letter_events",
	"time_limits", "splits", "bodies", "body_pieces", "once_keys", "counts", "tallies",
	"groups", "members", "helds", "sequences", "paces", "clocks"}

// Together reads the journals of all partitions as one. It is safe for concurrent use.
type Together struct {
	dirs []string // of the others

	own  *Store
	view View

	mu    sync.Mutex
	pool  *sql.DB // opened anew where a file becomes another one
	form  form
	names []string // of the files that have messages, on a connection
}

// Together has All read the journals in other folders, too; each has to be there.
func (s *Store) Together(dirs []string) (*Together, error) {
	if len(dirs) >= MostPartitions {
		return nil, fmt.Errorf("there may be %d partitions", MostPartitions)
	}
	t := &Together{dirs: dirs, own: s}
	if err := t.Renew(); err != nil {
		return nil, err
	}
	db, err := gorm.Open(sqlite.Dialector{Conn: t}, settings())
	if err != nil {
		return nil, err
	}
	t.view = View{db: db, definitions: s.definitions, words: s.words, parts: t}
	s.all.Store(t)
	return t, nil
}

// All gives a view of the journals of all partitions, or of this one where there are no others.
// What others have written is there as far as this machine has followed their logs.
func (s *Store) All() View {
	if t := s.all.Load(); t != nil {
		return t.view
	}
	return s.View
}

// files lists the files that have messages, as a connection names them.
func (t *Together) files() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.names
}

// now gives the pool as it is now.
func (t *Together) now() *sql.DB {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.pool
}

// PrepareContext implements gorm.ConnPool.
func (t *Together) PrepareContext(ctx context.Context, query string) (*sql.Stmt, error) {
	return t.now().PrepareContext(ctx, query)
}

// ExecContext implements gorm.ConnPool.
func (t *Together) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return t.now().ExecContext(ctx, query, args...)
}

// QueryContext implements gorm.ConnPool.
func (t *Together) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	return t.now().QueryContext(ctx, query, args...)
}

// QueryRowContext implements gorm.ConnPool.
func (t *Together) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	return t.now().QueryRowContext(ctx, query, args...)
}

// BeginTx implements gorm.TxBeginner.
func (t *Together) BeginTx(ctx context.Context, o *sql.TxOptions) (*sql.Tx, error) {
	return t.now().BeginTx(ctx, o)
}

// PartitionOf gives the partition whose table has a row of an id, or ErrNotFound. The table is one of the program's
// own.
func (v View) PartitionOf(table string, id ID) (int, error) {
	where, args := "id = ?", []any{id}
	if table == "deliveries" { // there is no index of their ids
		where, args = where+" AND tx >= ? AND tx <= ?", append(args, bound(id, 0), bound(id, 0xff))
	}
	return v.partitionWith(table, where, args...)
}

// PartitionOfLine gives the partition in which messages of a key wait for their turn, or ErrNotFound.
func (v View) PartitionOfLine(flow, path, key string) (int, error) {
	return v.partitionWith("helds", "flow = ? AND path = ? AND key = ?", flow, path, key)
}

// partitionWith gives the first partition whose table has a row of which something is so.
func (v View) partitionWith(table, where string, args ...any) (int, error) {
	if v.parts == nil {
		return 0, ErrNotFound
	}
	for _, file := range v.parts.files() {
		var there int
		q := "SELECT EXISTS (SELECT 1 FROM " + file + "." + table + " WHERE " + where + ")"
		if err := v.sql().Raw(q, args...).Scan(&there).Error; err != nil {
			return 0, err
		}
		if there > 0 {
			return partOf(file), nil
		}
	}
	return 0, ErrNotFound
}

// partOf gives the partition of a file by its name on a connection; "main" is 0.
func partOf(file string) int {
	part, _ := strconv.Atoi(strings.TrimPrefix(file, "part"))
	return part
}

// Renew opens the files anew.
//
// Their form is looked up before the connections that read them are made, and by another one: whatever changes in
// between makes it another form than they have now, so that Follow renews once more. The other way round a file that gets
// its tables just then would stay away from a connection, and nobody would see why.
func (t *Together) Renew() error {
	at := &attaching{dsn: "file:" + escaped(t.own.file) + "?_busy_timeout=10000&" + durable, dirs: present(t.dirs)}
	first := sql.OpenDB(at)
	files, form, err := at.look(first)
	if err = errors.Join(err, first.Close()); err != nil {
		return fmt.Errorf("reading the partitions together: %w", err)
	}
	pool := sql.OpenDB(at)
	pool.SetMaxOpenConns(4)
	pool.SetMaxIdleConns(4)
	t.mu.Lock()
	before := t.pool
	t.pool, t.form, t.names = pool, form, files
	t.mu.Unlock()
	if before != nil {
		return before.Close() // what reads by it now comes to its end
	}
	return nil
}

// Follow opens the files anew where one of them has got another form, or is another file than it was,
// since a copy was taken in its place. It is to be called now and then.
func (t *Together) Follow() error {
	t.mu.Lock()
	pool, form := t.pool, t.form
	t.mu.Unlock()
	_, now, err := (&attaching{dirs: present(t.dirs)}).look(pool)
	if err == nil && now.is(form) {
		return nil
	}
	return t.Renew()
}

// form is what is to stay the same of the files for as long as they are read.
type form struct {
	versions []int
	files    []os.FileInfo
}

func (f form) is(other form) bool {
	return slices.Equal(f.versions, other.versions) && slices.EqualFunc(f.files, other.files,
		func(a, b os.FileInfo) bool { return a == nil && b == nil || a != nil && b != nil && os.SameFile(a, b) })
}

// look lists the files that have messages, as a connection names them, and gives the form of all.
func (a *attaching) look(pool *sql.DB) (files []string, is form, err error) {
	for i := range len(a.dirs) + 1 {
		if i > 0 && a.dirs[i-1] == "" {
			is.versions, is.files = append(is.versions, -1), append(is.files, nil)
			continue
		}
		name, version, has := fileName(i), 0, 0
		if err := errors.Join(
			pool.QueryRow("PRAGMA "+name+".schema_version").Scan(&version),
			pool.QueryRow("SELECT COUNT(*) FROM "+name+".sqlite_schema WHERE name IN ('transactions', 'search_words')").Scan(&has),
		); err != nil {
			return nil, is, err
		}
		if has == 2 || i == 0 {
			files = append(files, name)
		}
		is.versions = append(is.versions, version)
		if i > 0 {
			info, err := os.Stat(filepath.Join(a.dirs[i-1], dbFile))
			if err != nil {
				return nil, is, err
			}
			is.files = append(is.files, info)
		}
	}
	return files, is, nil
}

// Close ends it: All gives the one journal again.
func (t *Together) Close() error {
	t.own.all.Store(nil)
	return t.now().Close()
}

// attaching makes connections that read several files.
type attaching struct {
	dsn  string
	dirs []string // "" for one that is not there now
}

// present gives the folders that have a file, and "" in place of the others: a copy is taken there.
func present(dirs []string) []string {
	out := slices.Clone(dirs)
	for i, dir := range out {
		if _, err := os.Stat(filepath.Join(dir, dbFile)); err != nil {
			out[i] = ""
		}
	}
	return out
}

// Driver implements driver.Connector.
func (a *attaching) Driver() driver.Driver { return &sqlite3.SQLiteDriver{} }

// Connect implements driver.Connector.
func (a *attaching) Connect(context.Context) (driver.Conn, error) {
	d := &sqlite3.SQLiteDriver{ConnectHook: a.attach}
	return d.Open(a.dsn)
}

// fileName is the name under which the file of the partition at a place is known on such a connection.
func fileName(i int) string {
	if i == 0 {
		return "main"
	}
	return fmt.Sprintf("part%d", i)
}

func (a *attaching) attach(conn *sqlite3.SQLiteConn) error {
	for i, dir := range a.dirs {
		if dir == "" {
			continue
		}
		file := "file:" + escaped(filepath.Join(dir, dbFile)) + "?mode=ro"
		if _, err := conn.Exec("ATTACH DATABASE ? AS "+fileName(i+1), []driver.Value{file}); err != nil {
			return fmt.Errorf("%s: %w", dir, err)
		}
	}
	for _, table := range perMessage {
		q, err := a.viewOf(conn, table)
		if err != nil {
			return err
		}
		if _, err := conn.Exec(q, nil); err != nil {
			return fmt.Errorf("%s: %w", table, err)
		}
	}
	_, err := conn.Exec("PRAGMA query_only = true", nil)
	return err
}

// viewOf writes the view of a table. A partition that another release writes may lack a column.
func (a *attaching) viewOf(conn *sqlite3.SQLiteConn, table string) (string, error) {
	columns, err := columnsOf(conn, fileName(0), table)
	if err != nil {
		return "", err
	}
	var parts []string
	for i := range len(a.dirs) + 1 {
		if i > 0 && a.dirs[i-1] == "" {
			continue
		}
		there, err := columnsOf(conn, fileName(i), table)
		if err != nil {
			return "", err
		}
		has := map[string]bool{}
		for _, c := range there {
			has[c] = true
		}
		if len(has) == 0 {
			continue // it has never led, and has no table
		}
		list := make([]string, len(columns))
		for j, c := range columns {
			if list[j] = quoteName(c); !has[c] {
				list[j] = "NULL AS " + list[j]
			}
		}
		parts = append(parts, "SELECT "+strings.Join(list, ", ")+" FROM "+fileName(i)+"."+table)
	}
	return "CREATE TEMP VIEW " + table + " AS " + strings.Join(parts, " UNION ALL "), nil
}

func quoteName(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func columnsOf(conn *sqlite3.SQLiteConn, file, table string) (out []string, err error) {
	rows, err := conn.Query("SELECT name FROM pragma_table_info(?, ?)", []driver.Value{table, file})
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	row := make([]driver.Value, 1)
	for rows.Next(row) == nil {
		out = append(out, fmt.Sprint(row[0]))
	}
	return out, nil
}
