package api

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"readyferry/core/access"
)

// In an area where publishing needs a second person nobody publishes alone: not by asking twice,
// not for another draft than the one that was asked for, not by a key, not by moving the flow away,
// not by an import.
func TestPublishingNeedsASecondPerson(t *testing.T) {
	w := signedInWorld(t)
	publisher := access.Grant{Role: access.Publisher, Area: "*"}
	designer := access.Grant{Role: access.Designer, Area: "*"}
	w.session = w.as("owen", access.Grant{Role: access.Owner, Area: "*"})
	if got := w.call("PUT", "/api/v1/publishing",
		`{"secondPerson":["The Area"]}`); got.status != http.StatusUnprocessableEntity {
		t.Errorf("%d %s", got.status, got.body)
	}
	w.ok("PUT", "/api/v1/publishing", `{"secondPerson":["circulation"]}`)
	maud, otto := w.as("maud", publisher, designer), w.as("otto", publisher, designer)
	publish := func(who []string, want int, says string) {
		t.Helper()
		w.session = who
		if got := w.call("POST", "/api/v1/flows/f/publish", `{"note":"by `+says+`"}`); got.status != want {
			t.Errorf("%d %s", got.status, got.body)
		}
	}
	live := func() (n int, asked map[string]any) {
		t.Helper()
		var f struct {
			Live  int
			Asked map[string]any
		}
		if err := json.Unmarshal(w.ok("GET", "/api/v1/flows/f", ""), &f); err != nil {
			t.Fatal(err)
		}
		return f.Live, f.Asked
	}
	draft := func(title, area string) {
		t.Helper()
		w.ok("PUT", "/api/v1/flows/f", `{"readyferry":"flow/1","name":"f","title":"`+title+`","area":"`+area+`",
			"intake":{"kind":"webhook","path":"/f"},"steps":[]}`)
	}
	w.session = maud
	draft("one", "circulation")
	publish(maud, http.StatusAccepted, "maud")
	publish(maud, http.StatusAccepted, "maud again")
	if n, asked := live(); n != 0 || asked["by"] != "maud" || asked["same"] != true || asked["note"] != "by maud again" {
		t.Errorf("version %d, %v", n, asked)
	}
	w.session = otto
	draft("two", "circulation")
	if _, asked := live(); asked["same"] != false {
		t.Errorf("the draft was changed since: %v", asked)
	}
	publish(otto, http.StatusAccepted, "otto")
	publish(maud, http.StatusOK, "maud")
	if n, asked := live(); n != 1 || asked != nil {
		t.Errorf("version %d, %v", n, asked)
	}
	if v := string(w.ok("GET", "/api/v1/flows/f/versions", "")); !strings.Contains(v, `"by":"otto and maud"`) {
		t.Errorf("who it was: %s", v)
	}
	draft("three", "elsewhere")
	publish(maud, http.StatusAccepted, "moving it away")
	w.ok("DELETE", "/api/v1/flows/f/publish", "")
	if n, asked := live(); n != 1 || asked != nil {
		t.Errorf("taken back: version %d, %v", n, asked)
	}

	w.session = maud
	w.ok("PUT", "/api/v1/connections/c", `{"readyferry":"connection/1","name":"c","kind":"http","address":"https://shelf.example"}`)
	if c := string(w.ok("GET", "/api/v1/connections/c", "")); !strings.Contains(c, `"by":"maud"`) {
		t.Errorf("who saved the connection: %s", c)
	}
	w.ok("PUT", "/api/v1/alarm-rules/much", `{"title":"Much","watch":"received","limit":5}`)
	if r := string(w.ok("GET", "/api/v1/alarm-rules", "")); !strings.Contains(r, `"by":"maud"`) {
		t.Errorf("who saved the rule: %s", r)
	}
	saved := w.people
	w.door(Door{Loopback: true}, nil) // nobody signs in, and nobody has a name
	w.session = nil
	if got := w.call("POST", "/api/v1/flows/f/publish", `{}`); got.status != http.StatusUnprocessableEntity {
		t.Errorf("somebody without a name is one of two: %d %s", got.status, got.body)
	}
	w.door(Door{Loopback: true, Open: []string{"healthz"}}, saved)
	w.session = maud
	program := w.keyFor("deploy", nil, "read manage", "*")
	publish(program, http.StatusAccepted, "deploy")
	publish(maud, http.StatusAccepted, "maud, whose program that is")
	publish(program, http.StatusAccepted, "deploy")
	if n, _ := live(); n != 1 {
		t.Errorf("a program is a person: version %d", n)
	}
	w.session = program
	var bundle struct{ Files map[string]json.RawMessage }
	if err := json.Unmarshal(w.ok("GET", "/api/v1/export", ""), &bundle); err != nil {
		t.Fatal(err)
	}
	delete(bundle.Files, "flows/f/live.yaml")
	files, err := json.Marshal(bundle.Files)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		got := string(w.ok("POST", "/api/v1/import", `{"files":`+string(files)+`}`))
		if strings.Contains(got, "publishes") {
			t.Errorf("an import publishes alone: %s", got)
		}
	}
	if n, _ := live(); n != 1 {
		t.Errorf("an import publishes alone: version %d", n)
	}
	publish(maud, http.StatusAccepted, "maud")
	publish(otto, http.StatusOK, "otto")
	if n, _ := live(); n != 2 {
		t.Errorf("two persons do not come through: version %d", n)
	}
}
