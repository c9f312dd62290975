package sql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/core/system"
	"readyferry/core/want"
)

const rows = `CREATE TABLE %[1]s (id INTEGER PRIMARY KEY, name TEXT, due NUMERIC)`
const more = `INSERT INTO %[1]s VALUES (1, 'maud', 2.5), (2, 'tunde', NULL), (3, '''; DROP TABLE %[1]s; -- row', 0)`

// sqlite makes a database and a connection to it.
func sqlite(t *testing.T, write bool) (connect.System, *connect.Connection) {
	t.Helper()
	dir := t.TempDir()
	db, err := sql.Open("sqlite3", filepath.Join(dir, "a b.db"))
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range []string{rows, more} {
		if _, err := db.Exec(fmt.Sprintf(one, "members")); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	return New(dir, filepath.Join(dir, "own.db")), connection("file://"+dir+"/a b.db", DriverSQLite, write)
}

func connection(address, driver string, write bool) *connect.Connection {
	return &connect.Connection{
		Name:      "db",
		Kind:      Kind,
		Address:   address,
		TimeLimit: 2 * time.Second,
		InFlight:  4,
		Settings:  system.Schema(fmt.Sprintf(`{"driver": %q, "write": %t}`, driver, write)),
	}
}

func query(s connect.System, c *connect.Connection, text string, params ...string) (string, error) {
	q := &want.Query{SQL: text, Most: 10}
	for i := 0; i+1 < len(params); i += 2 {
		q.Params = append(q.Params, want.QueryParameter{Name: params[i], Value: []byte(params[i+1])})
	}
	link, err := s.Open(context.Background(), c)
	if err != nil {
		return "", err
	}
	defer link.Close()
	a, err := link.(connect.Asker).Ask(context.Background(), connect.Request{Request: want.Request{Query: q}})
	if err != nil {
		return "", err
	}
	b, err := a.Body()
	return string(b), err
}

// hostile values, as they are known from attacks on statements that are put
// together as text (common practice).
var hostile = []string{
	`"' OR '1'='1"`, `"'; DROP TABLE members; --"`, `"1 OR 1=1"`, `"\" OR \"\"=\""`, `"'/*"`,
	`"\\'; DELETE FROM members --"`, `":id"`, `"$1"`, `"?"`, `"'' UNION SELECT 1, 2, 3"`, `"\u0000'"`,
}

func testDatabase(t *testing.T, s connect.System, c *connect.Connection, table string) {
	got, err := query(
		s,
		c,
		"SELECT id, name, due FROM "+table+" WHERE id = :id OR name = :name ORDER BY id",
		"id",
		"1",
		"name",
		`"tunde"`,
	)
	if err != nil || !strings.HasPrefix(got, `[{"id":1,"name":"maud","due":`) ||
		!strings.HasSuffix(got, `{"id":2,"name":"tunde","due":null}]`) {
		t.Errorf("%s, %v", got, err)
	}
	for _, value := range hostile {
		got, err := query(s, c, "SELECT id FROM "+table+" WHERE name = :name", "name", value)
		if err == nil && got != "[]" {
			t.Errorf("%s finds %s", value, got)
		}
	}
	if got, err := query(s, c, "SELECT COUNT(*) AS n FROM "+table); err != nil || got != `[{"n":3}]` {
		t.Errorf("afterwards %s, %v", got, err)
	}
	if got, err := query(s, c, "SELECT name FROM "+table+" WHERE name = :name", "name", `"'; DROP TABLE `+table+
		`; -- row"`); err != nil ||
		!strings.Contains(got, "DROP TABLE") {
		t.Errorf("a row that looks like a statement: %s, %v", got, err)
	}
	for _, text := range []string{"DELETE FROM " + table, "UPDATE " + table + " SET name = 'x'", "INSERT INTO " + table +
		" VALUES (9, 'x', 1)", "DROP TABLE " + table, "CREATE TABLE other (a INTEGER)"} {
		if _, err := query(s, c, text); !errors.Is(err, connect.ErrCannotSend) {
			t.Errorf("%s: %v", text, err)
		}
	}
	for text, want := range map[string]string{
		"SELECT * FROM nowhere": "refuses the statement",
		"SELEC 1":               "refuses the statement",
		"SELECT id FROM " + table + " WHERE id = :nobody": ":nobody, which has no value",
	} {
		if text == "SELEC 1" && c.Text("/driver") == DriverMySQL {
			want = "allows reading alone" // which is all that is let through
		}
		if _, err := query(s, c, text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
	q := &want.Query{SQL: "SELECT id FROM " + table, Most: 2}
	link, err := s.Open(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	defer link.Close()
	if _, err := link.(connect.Asker).Ask(context.Background(),
		connect.Request{Request: want.Request{Query: q}}); !errors.Is(
		err,
		connect.ErrCannotSend,
	) ||
		!strings.Contains(err.Error(), "more than 2 rows") {
		t.Errorf("%v", err)
	}
}

// The drivers themselves go through the proxy, and leave the name to it.
func TestDriversGoThroughTheProxy(t *testing.T) {
	asked := make(chan string, 100)
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked <- r.Host
		http.Error(w, "not through here", http.StatusForbidden)
	}))
	defer proxy.Close()
	for driver, of := range servers {
		at := "inside-" + driver + ".example.org"
		c := &connect.Connection{Kind: Kind, Address: of.scheme + "://" + at + "/x", TimeLimit: 5 * time.Second,
			Settings: message.NewMap(message.Member{Name: "driver", Value: message.NewString(driver)},
				message.Member{Name: "proxy", Value: message.NewString(proxy.URL)})}
		db, err := (&places{}).database(c)
		if err != nil {
			t.Fatal(err)
		}
		err = db.Ping()
		if err == nil || !strings.Contains(err.Error(), "the proxy answers 403") {
			t.Errorf("%s: %v", driver, err)
		}
		if host := <-asked; !strings.HasPrefix(host, at+":") {
			t.Errorf("%s asks for %s", driver, host)
		}
		for len(asked) > 0 {
			<-asked
		}
		_ = db.Close()
	}
}

func TestSQLite(t *testing.T) {
	s, c := sqlite(t, false)
	testDatabase(t, s, c, "members")
	gone := *c
	gone.Name, gone.Address = "gone", "file:///nowhere/at/all.db"
	if _, err := query(s, &gone, "SELECT 1"); err == nil || errors.Is(err, connect.ErrCannotSend) ||
		!strings.Contains(err.Error(), "cannot be reached") {
		t.Errorf("a file that is not there may come: %v", err)
	}
	own := *c
	own.Name, own.Address = "own", "file://"+filepath.Join(
		filepath.Dir(strings.TrimPrefix(c.Address, "file://")),
		"own.db",
	)
	if _, err := query(s, &own, "SELECT 1"); err == nil ||
		!strings.Contains(err.Error(), "the application's own file") {
		t.Errorf("%v", err)
	}
	escape := *c
	escape.Name, escape.Address = "escape", "stand-in://../x"
	if _, err := query(s, &escape, "SELECT 1"); err == nil || !strings.Contains(err.Error(), "there is no stand-in") {
		t.Errorf("%v", err)
	}
}

func TestWritingWhereItIsAllowed(t *testing.T) {
	s, c := sqlite(t, true)
	if got, err := query(s, c, "INSERT INTO members (name) VALUES (:name) RETURNING id", "name", `"x'; --"`); err != nil ||
		got != `[{"id":4}]` {
		t.Errorf("%s, %v", got, err)
	}
	if got, _ := query(s, c, "SELECT name FROM members WHERE id = 4"); got != `[{"name":"x'; --"}]` {
		t.Errorf("%s", got)
	}
}

func TestNamesAreBoundOutsideOfTexts(t *testing.T) {
	out, names := step.BindNames(`SELECT ':no', "a:no", x::text -- :no
	/* :no */ FROM t WHERE a = :a AND b=:b_2 AND c = :a AND d ~ '\:' `, func(n int) string {
		return fmt.Sprintf("$%d",
			n)
	})
	if fmt.Sprint(names) != "[a b_2 a]" || !strings.Contains(out, "a = $1 AND b=$2 AND c = $3") ||
		!strings.Contains(out, "x::text -- :no") {
		t.Errorf("%v\n%s", names, out)
	}
}
