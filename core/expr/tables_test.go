package expr

import (
	"strings"
	"testing"
)

func TestLookup(t *testing.T) {
	e := env(t).WithTables(NewTables(map[string][]byte{
		"tables/branches.csv": []byte(
			"code,name,run\r\nMARL,\"Marlow Road, main\",02\r\nELMS,Elms Park,1\r\n7,Seventh,3\r\n",
		),
		"tables/runs.csv":        []byte("run,driver\n02,Ilse\n"),
		"tables/twice.csv":       []byte("k,v\na,1\nb,2\na,3\n"),
		"tables/broken.csv":      []byte("k,v\na,\"1\n"),
		"schemas/branches.json":  []byte("{}"),
		"tables/deep/hidden.csv": []byte("k\n"),
	}))
	const body = `{"branch": "MARL", "n": 7, "gone": null, "many": ["ELMS", "MARL"]}`
	for source, want := range map[string]string{
		`lookup("branches", body.branch)`:                                 `{"code":"MARL","name":"Marlow Road, main","run":"02"}`,
		`lookup("branches", body.n).name`:                                 `"Seventh"`,
		`lookup("branches", "7").run`:                                     `"3"`,
		`lookup("runs", lookup("branches", body.branch).run).driver`:      `"Ilse"`,
		`body.many.map(b, lookup("branches", b).run)`:                     `["1","02"]`,
		`lookup("bran" + "ches", "ELMS").name`:                            `"Elms Park"`,
		`lookup("branches", "none", {"name": "?"}).name`:                  `"?"`,
		`lookup("branches", "none", null) == null`:                        "true",
		`lookup("branches", "none", {"b": 1, "a": 2}).map(k, k)`:          `["a","b"]`,
		`lookup("branches", body.branch).?driver.orValue("nobody") + "!"`: `"nobody!"`,
	} {
		if got := eval(t, e, source, body); got != want {
			t.Errorf("%s: %s, want %s", source, got, want)
		}
	}
	for source, want := range map[string]string{
		`lookup("branches", "MARX").name`:        `the table "branches" has no key "MARX"; near it there is MARL`,
		`lookup("branches", "somewhere else")`:   `it has MARL, ELMS, 7`,
		`lookup("branches", body.brunch).name`:   "near it there is branch",
		`lookup("branches", body.branch).driver`: "driver",
		`lookup("branches", body.many)`:          "is a list, not a text or number",
		`lookup("bran" + "ch", "ELMS").name`:     `there is no table "branch"; did you mean branches?`,
	} {
		p, err := e.Compile(source)
		if err != nil {
			t.Errorf("%s: %v", source, err)
			continue
		}
		if v, err := p.Eval(scope(t, body)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v %v, want %s", source, v, err, want)
		}
	}
	p, err := e.Compile(`lookup("branches", body.gone_)`)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Eval(scope(t, `{"gone_": "x"}`)); !IsMissing(err) ||
		!strings.HasPrefix(err.Error(), `lookup("branches", body.gone_) is missing`) {
		t.Errorf("a key that is not there is a missing value: %v", err)
	}
	if got := p.Reads; len(got) != 1 || got[0].Pointer() != "/gone_" {
		t.Errorf("reads %v", got)
	}
}

// What is wrong with a table is said where the table is named.
func TestTablesAreCheckedWhenTheExpressionIsRead(t *testing.T) {
	e := env(t).WithTables(NewTables(map[string][]byte{
		"tables/branches.csv": []byte("code,name\nMARL,Marlow Road\n"),
		"tables/twice.csv":    []byte("k,v\na,1\nb,2\na,3\n"),
		"tables/broken.csv":   []byte("k,v\na,\"1\n"),
		"tables/empty.csv":    []byte(" \n"),
	}))
	for source, want := range map[string]string{
		`1 + lookup("brunches", "x").n`: `line 1, column 12: there is no table "brunches"; did you mean branches?`,
		`lookup("zzzzzz", "x")`:         `there is no table "zzzzzz"; there is branches, broken, empty, twice`,
		`lookup("twice", "x")`:          `the table "twice" cannot be read: line 4: the key "a" stands twice in the column k`,
		`lookup("broken", "x")`:         `the table "broken" cannot be read: CSV, line 2`,
		`lookup("empty", "x")`:          "it is empty",
		`lookup("twice")`:               `lookup is not called in this way; it is lookup("table", key[, otherwise])`,
		`lookup(1, "x")`:                "lookup is not called in this way",
	} {
		if _, err := e.Compile(source); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", source, err, want)
		}
	}
	if _, err := env(t).Compile(`lookup("branches", "x")`); err == nil ||
		!strings.Contains(err.Error(), "tables/branches.csv") {
		t.Errorf("without tables: %v", err)
	}
	loop, err := e.With("item")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := loop.Compile(`lookup("branches", item)`); err != nil {
		t.Errorf("in a loop: %v", err)
	}
}
