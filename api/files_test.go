package api

import (
	"encoding/json"
	"strings"
	"testing"
)

// A flow's table is published with it: what began under a version finds the
// rows of that version.
func TestTablesOfAFlow(t *testing.T) {
	w := start(t)
	doc := `{"readyferry":"flow/1","name":"t","intake":{"kind":"webhook","path":"/t"},"steps":[{"id":"m",` +
		`"kind":"map","fields":[{"to":"/name","from":"lookup(\"branches\", body.branch).name"}]}]}`
	sample := `{"document":` + doc + `,"samples":[{"name":"x","body":"{\"branch\":\"MARL\"}"}]}`
	w.ok("PUT", "/api/v1/flows/t", doc)
	w.problem(422, `there is no table \"branches\"`, "POST", "/api/v1/flows/t/publish", "")
	for file, c := range map[string]struct{ content, says string }{
		"tables/branches.csv":  {"code,name\nA,1\nA,2\n", "line 3"},
		"tables/empty.csv":     {" ", "is empty"},
		"tables/branches.json": {"{}", "tables/name.csv"},
		"tables/a/b.csv":       {"k\n", "tables/name.csv"},
		"branches.csv":         {"k\n", "tables/name.csv"},
		"schemas/a.json":       {"k\n", "line 1"},
	} {
		w.problem(400, c.says, "PUT", "/api/v1/flows/t/files/"+file, c.content)
	}
	put := w.call("PUT", "/api/v1/flows/t/files/tables/branches.csv", "code,name\nMARL,Marlow Road\n")
	tag := put.header.Get("ETag")
	if put.status != 204 || tag == "" {
		t.Fatalf("%d, ETag %q", put.status, tag)
	}
	w.problem(412, "", "PUT", "/api/v1/flows/t/files/tables/branches.csv", "code,name\n", `If-Match: "1"`)
	if got := w.call("GET", "/api/v1/flows/t/files/tables/branches.csv", ""); !strings.HasPrefix(
		got.header.Get("Content-Type"),
		"text/csv",
	) {
		t.Errorf("%+v", got)
	}
	if b := string(w.ok("POST", "/api/v1/flows/t/rehearse", sample)); !strings.Contains(b, "Marlow Road") {
		t.Error(b)
	}
	w.ok("POST", "/api/v1/flows/t/publish", "")
	w.ok("PUT", "/api/v1/flows/t/files/tables/branches.csv", "code,name\nMARL,Another\n", "If-Match: "+tag)
	stored := w.ok("POST", "/in/t", `{"branch":"MARL"}`)
	var in struct{ Transaction string }
	if err := json.Unmarshal(stored, &in); err != nil {
		t.Fatalf("%s: %v", stored, err)
	}
	if b := string(w.ok("GET", "/api/v1/transactions/"+in.Transaction+"/rehearsal", "")); !strings.Contains(
		b,
		"Marlow Road",
	) {
		t.Error(b)
	}
	if b := string(w.ok("POST", "/api/v1/flows/t/rehearse", sample)); !strings.Contains(b, "Another") {
		t.Error("the draft has its own table: " + b)
	}
	if b := string(w.ok("POST", "/api/v1/eval",
		`{"expression":"lookup(\"t\", 1).b","tables":{"t":"a,b\n1,2\n"}}`)); !strings.Contains(
		b,
		`"2`,
	) {
		t.Error(b)
	}
}
