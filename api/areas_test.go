package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"readyferry/core/access"
)

// Whoever has roles in one area alone finds nothing of another in any list, reaches nothing of it
// through a flow of their own, and puts nothing there.
func TestAreasAreKeptApart(t *testing.T) {
	w := signedInWorld(t)
	w.session = w.as("all", access.All()...)
	at := w.inventory()
	w.ok("PUT", "/api/v1/flows/mine", `{"readyferry":"flow/1","name":"mine","area":"interloan","intake":{"kind":"webhook","path":"/mine"},"steps":[]}`)
	w.ok("POST", "/api/v1/tables/t/edit", `{"edits":[{"row":0,"value":{"k":"hidden-row"}}]}`)
	w.session = nil
	mine := []access.Grant{}
	for _, r := range access.Roles() {
		if r != access.Owner {
			mine = append(mine, access.Grant{Role: r, Area: "interloan"})
		}
	}
	others := w.as("others", mine...)
	for _, r := range (&Server{}).routes() {
		if r.method != "GET" || r.need.on != "any" || r.path == "/api/v1/events" {
			continue
		}
		a := w.call("GET", at(r.path), "", others...)
		if a.status != http.StatusOK {
			continue
		}
		for _, theirs := range []string{`"f"`, `"r"`, `"c"`, `"q"`, `"t"`, `"l"`,
			at("/transactions/:id")[len("/transactions/"):]} {
			if strings.Contains(string(a.body), ":"+theirs) || len(theirs) > 5 && strings.Contains(string(a.body), theirs) {
				t.Errorf("%s gives %s: %s", r.path, theirs, a.body)
			}
		}
	}
	var flows []struct{ Name string }
	if err := json.Unmarshal(w.call("GET", "/api/v1/flows", "", others...).body, &flows); err != nil || len(flows) != 1 {
		t.Errorf("the own flows are %v %v", flows, err)
	}
	doc := func(area, steps string) string {
		return fmt.Sprintf(`{"readyferry":"flow/1","name":"mine","area":%q,"intake":{"kind":"webhook","path":"/mine","format":"json"},"steps":[%s]}`, area, steps)
	}
	lookup := `{"id":"look","kind":"lookup","in":"t","key":"body.k"}`
	deliver := `{"id":"d","kind":"deliver","to":"c","method":"POST","path":"/"}`
	put := func(path, body string) int { return w.call("PUT", path, body, others...).status }
	post := func(path, body string) answer { return w.call("POST", path, body, others...) }
	if got := put("/api/v1/flows/mine", doc("circulation", "")); got != http.StatusForbidden {
		t.Errorf("a draft moves to another area: %d", got)
	}
	if got := put("/api/v1/flows/new", strings.Replace(doc("circulation", ""), `"mine"`, `"new"`,
		1)); got != http.StatusForbidden {
		t.Errorf("a flow is made in another area: %d", got)
	}
	for path, body := range map[string]string{
		"/api/v1/connections/x": `{"readyferry":"connection/1","name":"x","kind":"http","address":"https://x.example"}`,
		"/api/v1/tables/x":      `{"readyferry":"table/1","name":"x","area":"circulation","columns":["k"],"keys":[["k"]]}`,
	} {
		if got := put(path, body); got != http.StatusForbidden {
			t.Errorf("%s outside of the area: %d", path, got)
		}
	}
	sample := `,"samples":[{"name":"s","body":"{\"k\":\"hidden-row\"}","headers":{},"params":{},"query":{}}]`
	if a := post("/api/v1/flows/mine/rehearse", `{"document":`+doc("interloan",
		lookup)+sample+`}`); a.status != http.StatusForbidden ||
		strings.Contains(string(a.body), "hidden-row") {
		t.Errorf("a table is read through a rehearsal: %d %s", a.status, a.body)
	}
	for _, steps := range []string{lookup, deliver} {
		if got := put("/api/v1/flows/mine", doc("interloan", steps)); got != http.StatusOK {
			t.Fatal(got)
		}
		if a := post("/api/v1/flows/mine/publish", `{}`); a.status != http.StatusForbidden {
			t.Errorf("what is theirs is reached by publishing %s: %d %s", steps, a.status, a.body)
		}
	}
	if got := put("/api/v1/flows/mine", doc("interloan", "")); got != http.StatusOK {
		t.Fatal(got)
	}
	if a := post("/api/v1/flows/mine/publish", `{}`); a.status != http.StatusOK {
		t.Errorf("the own flow is not published: %d %s", a.status, a.body)
	}
	if a := post("/api/v1/queues/q/move", `{"to":"q2","all":true}`); a.status != http.StatusNotFound {
		t.Errorf("their queue is emptied: %d", a.status)
	}
	letter := at("/dead-letters/:id")[len("/dead-letters/"):]
	for _, path := range []string{"/api/v1/dead-letters/resend", "/api/v1/dead-letters/discard",
		"/api/v1/dead-letters/note",
		"/api/v1/dead-letters/assign", "/api/v1/repairs", "/api/v1/repair-previews"} {
		if a := post(path, `{"ids":["`+letter+`"],"why":"x"}`); a.status != http.StatusNotFound {
			t.Errorf("%s: %d %s", path, a.status, a.body)
		}
	}
	if a := post("/api/v1/repairs", `{"letters":{}}`); a.status == http.StatusCreated {
		t.Errorf("all letters are theirs: %s", a.body)
	}
	// What is left of a flow that is no more is in no area, and for those who have a role everywhere.
	left := at("/transactions/:id")
	w.session = w.as("all", access.All()...)
	w.ok("POST", "/api/v1/dead-letters/discard", `{"ids":["`+letter+`"],"why":"x"}`)
	w.ok("POST", "/api/v1/flows/f/pause", "")
	w.ok("DELETE", "/api/v1/flows/f?sure=true", "")
	w.ok("GET", "/api/v1"+left, "")
	w.session = nil
	for _, path := range []string{left, left + "/rehearsal", left + "/messages", "/dead-letters/" + letter} {
		if a := w.call("GET", "/api/v1"+path, "", others...); a.status != http.StatusNotFound {
			t.Errorf("%s of a flow that is no more: %d", path, a.status)
		}
	}
}
