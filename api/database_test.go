package api

import (
	"database/sql"
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	_ "github.com/mattn/go-sqlite3"
)

// database makes a file with two tables, and a connection to it that may write.
func (w *world) database() *sql.DB {
	w.t.Helper()
	file := filepath.Join(w.t.TempDir(), "circ.db")
	db, err := sql.Open("sqlite3", file)
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { _ = db.Close() })
	if _, err := db.Exec(`CREATE TABLE cards (card TEXT PRIMARY KEY, name TEXT NOT NULL, blocked INTEGER DEFAULT 0);
		CREATE TABLE loans (loan INTEGER PRIMARY KEY, card TEXT REFERENCES cards (card));
		INSERT INTO cards VALUES ('LC1', 'maud', 0)`); err != nil {
		w.t.Fatal(err)
	}
	w.ok("PUT", "/api/v1/connections/circ", `{"readyferry":"connection/1","name":"circ","kind":"sql","driver":"sqlite","write":true,"address":"file://`+
		file+`"}`)
	return db
}

// Rows are changed by their columns; how many they concern decides.
func TestRowsAreChangedByTheirColumns(t *testing.T) {
	w := start(t)
	db := w.database()
	flow := func(name, deliver string) string {
		return `{"readyferry":"flow/1","name":"` + name + `","intake":{"kind":"webhook","path":"/` + name + `","reference":"body.card"},"steps":[
			{"id":"d","kind":"deliver","to":"circ",` + deliver + `},{"id":"n","kind":"note","text":"${replies.d.headers[\"affected-rows\"]}"}]}`
	}
	w.live("cards", flow("cards", `"table":"cards","change":"upsert","key":["card"],"columns":{"card":"body.card","name":"nameCase(body.name)"},"expect":"one"`))
	w.live("block", flow("block", `"table":"cards","change":"update","key":["card"],"columns":{"card":"body.card","blocked":"1"},"expect":"one"`))
	for _, body := range []string{`{"card":"LC1","name":"o'neil, maud"}`,
		`{"card":"LC2","name":"'; DROP TABLE cards; --"}`} {
		w.call("POST", "/in/cards", body)
	}
	w.eventually("/api/v1/transactions?flow=cards&reference=LC1", `"state":"delivered"`)
	w.eventually("/api/v1/transactions?flow=cards&reference=LC2", `"state":"delivered"`)
	w.call("POST", "/in/block", `{"card":"LC2"}`)
	w.call("POST", "/in/block", `{"card":"LC9"}`)
	w.eventually("/api/v1/transactions?flow=block&reference=LC2", `"state":"delivered"`)
	w.eventually("/api/v1/transactions?flow=block&reference=LC9",
		"0 rows are concerned, and exactly one must be; nothing was changed")
	var n, blocked int
	if err := db.QueryRow("SELECT COUNT(*), SUM(blocked) FROM cards").Scan(&n, &blocked); err != nil || n != 2 ||
		blocked != 1 {
		t.Error(n, blocked, err)
	}
	for says, deliver := range map[string]string{
		"a delivery to a database names a table, or a statement": `"columns":{"a":"1"}`,
		"names either a table or a statement":                    `"table":"cards","sql":"DELETE FROM cards","columns":{"a":"1"}`,
		"says which column gets what":                            `"table":"cards","change":"insert"`,
		"its key must be named":                                  `"table":"cards","change":"update","columns":{"a":"1"}`,
		"the key b is no column that gets a value":               `"table":"cards","change":"update","key":["b"],"columns":{"a":"1"}`,
		"which has no value":                                     `"sql":"DELETE FROM cards WHERE card = :card"`,
		"a statement has no holes":                               `"sql":"DELETE FROM cards WHERE card = '${body.card}'"`,
	} {
		got := string(w.call("POST", "/api/v1/flows/wrong/check", flow("wrong", deliver)).body)
		if !strings.Contains(got, says) {
			t.Errorf("%s\nis not found: %s\n%s", says, deliver, got)
		}
	}
}

// People are told how tables are made, and a query is written for them.
func TestAQueryIsWritten(t *testing.T) {
	w := start(t)
	w.database()
	if got := string(w.ok("GET", "/api/v1/connections/circ/offers?what=table", "")); got != `["cards","loans"]` {
		t.Error(got)
	}
	if got := string(w.ok("GET", "/api/v1/connections/circ/tables/loans", "")); !strings.Contains(got,
		`{"inward":false,"columns":["card"],"table":"cards","to":["card"]}`) ||
		!strings.Contains(got, `{"name":"loan","type":"integer","null":true,"key":true,"default":false}`) {
		t.Error(got)
	}
	w.problem(422, "there is no table or view nowhere", "GET", "/api/v1/connections/circ/tables/nowhere", "")
	w.problem(404, "", "GET", "/api/v1/connections/nobody/tables/loans", "")
	got := string(w.ok("POST", "/api/v1/connections/circ/query", `{"tables":[{"table":"loans","columns":["loan"]},
		{"table":"cards","columns":["name"],"with":0,"on":["card"],"to":["card"]}],"where":[{"table":1,"column":"blocked","is":"="}],"most":5}`))
	want := "SELECT `loans`.`loan`, `cards`.`name`\\nFROM `loans` AS `loans`\\nJOIN `cards` AS `cards` ON `cards`.`card` = `loans`.`card`" +
		"\\nWHERE `cards`.`blocked` = :blocked\\nLIMIT 5"
	if !strings.Contains(got, want) || !strings.Contains(got, `"params":["blocked"]`) {
		t.Errorf("%s\nwant %s", got, want)
	}
	w.problem(422, "tables: there is none", "POST", "/api/v1/connections/circ/query", `{"tables":[]}`)
	w.problem(400, "", "POST", "/api/v1/connections/circ/query", `{"nothing":1}`)
	if got := string(w.ok("POST", "/api/v1/connections/circ/test", "")); !strings.Contains(got,
		`"there are 2 tables and views"`) ||
		!strings.Contains(got, `"statements may change it"`) {
		t.Error(got)
	}
	w.live("polled", `{"readyferry":"flow/1","name":"polled","intake":{"kind":"table","of":"circ","table":"cards","key":"card","every":"1h"},
		"steps":[{"id":"n","kind":"note","text":"x"}]}`)
	if got := string(w.ok("POST", "/api/v1/flows/polled/take-sample", "")); !strings.Contains(got,
		`\"event\":\"created\",\"key\":\"LC1\"`) {
		t.Error(got)
	}
	w.ok("PUT", "/api/v1/connections/web", `{"readyferry":"connection/1","name":"web","kind":"http","address":"http://127.0.0.1:1"}`)
	w.problem(422, "has no tables", "GET", "/api/v1/connections/web/tables/loans", "")
}

// A load begins by itself when its time has come; one that is repeated goes on behind where
// it stood.
func TestLoadsBeginByThemselves(t *testing.T) {
	w := start(t)
	db := w.database()
	w.live("members", `{"readyferry":"flow/1","name":"members","intake":{"kind":"load","format":"json","reference":"body.card"},
		"steps":[{"id":"n","kind":"note","text":"x"}]}`)
	const sql = "Content-Type: application/sql"
	for query, says := range map[string]string{
		"&at=yesterday": "is no time", "&cron=nonsense": "fields",
		"&cron=0+6+*+*+*&at=2026-03-17T06:00:00Z": "either when it begins",
		"&cron=0+6+31+4+*":                        "never due",
	} {
		if a := w.call("POST", "/api/v1/loads?flow=members&format=query&connection=circ&key=card"+query,
			"SELECT card FROM cards", sql); a.status < 400 ||
			!strings.Contains(string(a.body), says) {
			t.Errorf("%s: %d %s", query, a.status, a.body)
		}
	}
	if a := w.call("POST", "/api/v1/loads?flow=members&format=jsonl&cron=0+6+*+*+*", `{"card":"F1"}`,
		"Content-Type: text/plain"); a.status != 422 {
		t.Errorf("%d %s", a.status, a.body)
	}
	w.call("POST", "/api/v1/loads?flow=members&format=jsonl&at=2026-03-17T06:00:00Z", `{"card":"F1"}`,
		"Content-Type: text/plain")
	w.eventually("/api/v1/transactions?flow=members&reference=F1", `"state":"delivered"`)
	later := w.call("POST", "/api/v1/loads?flow=members&format=jsonl&at=2100-01-01T00:00:00Z", `{"card":"F2"}`,
		"Content-Type: text/plain")
	var one struct{ ID string }
	if err := json.Unmarshal(later.body, &one); err != nil || later.status != 201 {
		t.Fatal(err, string(later.body))
	}
	w.eventually("/api/v1/loads/"+one.ID, `"state":"scheduled"`)
	w.ok("POST", "/api/v1/loads/"+one.ID+"/start", "") // a person need not wait
	w.eventually("/api/v1/transactions?flow=members&reference=F2", `"state":"delivered"`)
	w.eventually("/api/v1/loads/"+one.ID, `"state":"done"`)

	again := w.call("POST", "/api/v1/loads?flow=members&format=query&connection=circ&key=card&cron=*+*+*+*+*+*",
		"SELECT card FROM cards", sql)
	if err := json.Unmarshal(again.body, &one); err != nil || again.status != 201 {
		t.Fatal(err, string(again.body))
	}
	w.eventually("/api/v1/transactions?flow=members&reference=LC1", `"state":"delivered"`)
	w.eventually("/api/v1/loads/"+one.ID, `"state":"scheduled"`)
	if _, err := db.Exec("INSERT INTO cards VALUES ('LC2', 'tunde', 0)"); err != nil {
		t.Fatal(err)
	}
	w.eventually("/api/v1/transactions?flow=members&reference=LC2", `"state":"delivered"`)
	w.eventually("/api/v1/loads/"+one.ID, `"taken":2`)
	if got := string(w.ok("GET", "/api/v1/transactions?flow=members&reference=LC1", "")); strings.Count(got,
		`"reference":"LC1"`) != 1 {
		t.Error(got)
	}
	w.ok("POST", "/api/v1/loads/"+one.ID+"/stop", "")
	if a := w.call("GET", "/api/v1/loads?flow=members&limit=1", ""); a.header.Get("Total-Count") != "3" {
		t.Error(a.header)
	}
}
