package sql

import (
	"database/sql"
	"strings"
	"testing"

	"readyferry/connect"
	"readyferry/connect/connecttest"
)

// testSelections writes statements and asks them.
func testSelections(t *testing.T, s connect.System, c *connect.Connection, db *sql.DB) {
	furnish(t, db, "readyferry_q", "DROP TABLE %s_loans", "DROP TABLE %s_cards",
		"CREATE TABLE %s_cards (card VARCHAR(20) PRIMARY KEY, name VARCHAR(50) NOT NULL)",
		"CREATE TABLE %s_loans (loan INTEGER PRIMARY KEY, card VARCHAR(20), state VARCHAR(20))",
		"INSERT INTO %s_cards VALUES ('LC1', 'maud'), ('LC2', 'tunde')",
		"INSERT INTO %s_loans VALUES (1, 'LC1', 'out'), (2, 'LC2', 'overdue'), (3, NULL, 'overdue')")
	l := connecttest.Open(t, s, c)
	loans := connect.Selected{Table: "readyferry_q_loans", Columns: []string{"loan", "card"}}
	cards := connect.Selected{Table: "readyferry_q_cards", Columns: []string{"card", "name"}, On: []string{"card"},
		To: []string{"card"}}
	outer := cards
	outer.Missing = true
	for _, one := range []struct {
		selected connect.Selection
		values   []string
		want     string
	}{
		{connect.Selection{Tables: []connect.Selected{{Table: "readyferry_q_cards"}},
			Order: []connect.Ordered{{Column: "card", Down: true}}, Most: 1}, nil,
			`[{"card":"LC2","name":"tunde"}]`},
		{connect.Selection{Tables: []connect.Selected{loans, cards}, Where: []connect.Compared{{Table: 0, Column: "state",
			Is: "="}}},
			[]string{"state", `"overdue"`}, `[{"loan":2,"card":"LC2","readyferry_q_cards_card":"LC2","name":"tunde"}]`},
		{connect.Selection{Tables: []connect.Selected{loans, outer}, Where: []connect.Compared{{Table: 1, Column: "name",
			Is: "null"}}}, nil,
			`[{"loan":3,"card":null,"readyferry_q_cards_card":null,"name":null}]`},
		{connect.Selection{Tables: []connect.Selected{{Table: "readyferry_q_loans", Columns: []string{"loan"}}},
			Where: []connect.Compared{{Column: "loan", Is: ">"}, {Column: "loan", Is: "<="}},
			Order: []connect.Ordered{{Column: "loan"}}},
			[]string{"loan", "1", "loan2", "3"}, `[{"loan":2},{"loan":3}]`},
		{connect.Selection{Tables: []connect.Selected{{Table: "readyferry_q_cards", Columns: []string{"name"}}},
			Where: []connect.Compared{{Column: "name", Is: "like"}}}, []string{"name", `"m%"`}, `[{"name":"maud"}]`},
	} {
		text, params, err := l.(connect.Describer).Query(&one.selected)
		if err != nil || len(params)*2 != len(one.values) {
			t.Errorf("%s %v %v", text, params, err)
			continue
		}
		if got, err := query(s, c, text, one.values...); err != nil || got != one.want {
			t.Errorf("%s\n%s, want\n%s %v", text, got, one.want, err)
		}
	}
}

func TestSelectionsOfSQLite(t *testing.T) {
	s, c := sqlite(t, true)
	l := connecttest.Open(t, s, c).(*link)
	testSelections(t, s, c, l.db)
	for want, selected := range map[string]connect.Selection{
		"there is none":       {},
		"no name of a table":  {Tables: []connect.Selected{{Table: "a`; DROP TABLE b"}}},
		"no name of a column": {Tables: []connect.Selected{{Table: "a", Columns: []string{"x`"}}}},
		"no comparison": {Tables: []connect.Selected{{Table: "a"}}, Where: []connect.Compared{{Column: "x",
			Is: "OR 1=1 --"}}},
		"no table 3": {Tables: []connect.Selected{{Table: "a"}}, Order: []connect.Ordered{{Table: 3, Column: "x"}}},
		"must be joined": {Tables: []connect.Selected{{Table: "a"}, {Table: "b", With: 1, On: []string{"x"},
			To: []string{"x"}}}},
	} {
		if text, _, err := l.Query(&selected); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %s %v", want, text, err)
		}
	}
}
