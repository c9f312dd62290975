package sql

import (
	"context"
	"io"
	"strings"
	"testing"

	"readyferry/connect"
	"readyferry/core/want"
)

// What a statement is follows from its words outside of parentheses (SQL:2016, 14).
func TestAStatementIsKnownByItsWords(t *testing.T) {
	for text, want := range map[string][2]bool{
		"SELECT 1":                                                               {false, true},
		"insert into t (a) values (1)":                                           {true, false},
		"INSERT INTO t SELECT * FROM u":                                          {true, false},
		"UPDATE t SET a = (SELECT 1 RETURNING)":                                  {true, false},
		"DELETE FROM t RETURNING a":                                              {true, true},
		"WITH d AS (DELETE FROM t RETURNING a) SELECT * FROM d":                  {false, true},
		"WITH s AS (SELECT 1) UPDATE t SET a = 1":                                {true, false},
		"-- DELETE\n/* UPDATE */ SELECT 'INSERT', \"delete\" FROM t":             {false, true},
		"MERGE INTO t USING u ON t.a = u.a WHEN MATCHED THEN UPDATE SET b = 1":   {true, false},
		"SELECT * FROM t FOR UPDATE":                                             {false, true},
		"VALUES (1)":                                                             {false, true},
		"CREATE TABLE deleted (inserted INTEGER)":                                {false, false},
		"INSERT INTO t (a) VALUES (1) ON CONFLICT (a) DO UPDATE SET a = 2":       {true, false},
		"UPDATE t SET returning_ = 'x' WHERE insert_ = 1 AND b = 'it''s RETURN'": {true, false},
	} {
		if changing, returning := changes(text); changing != want[0] || returning != want[1] {
			t.Errorf("%s: %t %t", text, changing, returning)
		}
	}
}

// affected says how many rows a statement says it has changed, and what it gave.
func affected(t *testing.T, s connect.System, c *connect.Connection, text string) (string, string) {
	t.Helper()
	link, err := s.Open(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	defer link.Close()
	got, err := link.(connect.Asker).Ask(context.Background(),
		connect.Request{Request: want.Request{Query: &want.Query{SQL: text, Most: 10}}})
	if err != nil {
		return err.Error(), ""
	}
	rows, _ := io.ReadAll(got.Answer)
	for _, h := range got.Headers {
		if h.Name == AffectedHeader {
			return h.Value, string(rows)
		}
	}
	return "none", string(rows)
}

func checkAffected(t *testing.T, s connect.System, c *connect.Connection, table string) {
	for _, step := range [][3]string{
		{"UPDATE " + table + " SET name = 'x' WHERE id > 1", "2", "[]"},
		{"UPDATE " + table + " SET name = 'x' WHERE id = 77", "0", "[]"},
		{"INSERT INTO " + table + " (id, name) SELECT id + 10, name FROM " + table, "3", "[]"},
		{"SELECT id FROM " + table + " WHERE id = 11", "none", `[{"id":11}]`},
		{"UPDATE " + table + " SET name = 'y' WHERE id = 11 RETURNING name", "1", `[{"name":"y"}]`},
		{"DELETE FROM " + table + " WHERE id > 10", "3", "[]"},
	} {
		if c.Text("/driver") == DriverMySQL && strings.Contains(step[0], "RETURNING") {
			continue // MariaDB gives no rows back of an update
		}
		if n, rows := affected(t, s, c, step[0]); n != step[1] || rows != step[2] {
			t.Errorf("%s: %s rows affected, %s", step[0], n, rows)
		}
	}
}

func TestAStatementSaysHowManyRowsItChanged(t *testing.T) {
	s, c := sqlite(t, true)
	checkAffected(t, s, c, "members")
}
