package api

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"testing"

	"readyferry/core/access"
	"readyferry/engine/bundle"
	"readyferry/engine/people"
)

func (w *world) exported() bundle.Files {
	w.t.Helper()
	var out struct{ Files bundle.Files }
	if err := json.Unmarshal(w.ok("GET", "/api/v1/export", ""), &out); err != nil {
		w.t.Fatal(err)
	}
	return out.Files
}

// imported asks for an import with what else is said, and gives what it says in a line each.
func (w *world) imported(f bundle.Files, more string) []string {
	w.t.Helper()
	b, err := json.Marshal(f)
	if err != nil {
		w.t.Fatal(err)
	}
	var out []bundle.Change
	if err := json.Unmarshal(w.ok("POST", "/api/v1/import", `{"files":`+string(b)+more+`}`), &out); err != nil {
		w.t.Fatal(err)
	}
	lines := []string{}
	for _, c := range out {
		lines = append(lines, c.Does+" "+c.Kind+" "+c.Name)
	}
	slices.Sort(lines)
	return lines
}

// An instance is moved to another: the preview is what the import does, the second import changes
// nothing, what comes out of the other is what went in, and a broken bundle changes nothing at all.
func TestAnInstanceIsMoved(t *testing.T) {
	a, b := start(t), start(t)
	a.inventory()
	a.ok("PUT", "/api/v1/connections/locked", `{"readyferry":"connection/1","name":"locked","kind":"http","address":"https://x.example",
		"sign-in":{"kind":"bearer","secret":"s3cret-token"}}`)
	a.ok("POST", "/api/v1/tables/t/edit", `{"edits":[{"row":0,"value":{"k":"1","n":2}},{"row":0,"value":{"k":"x","n":"2"}}]}`)
	a.ok("PUT", "/api/v1/flows/f/samples/one", `{"body":"{\"x\":1}","expect":{"state":"delivered","outcomes":{}}}`)
	a.ok("POST", "/api/v1/flows/s/pause", "")
	a.ok("PUT", "/api/v1/flows/r", `{"readyferry":"flow/1","name":"r","title":"Edited","intake":{"kind":"queue","queue":"q"},"steps":[]}`)
	a.ok("PUT", "/api/v1/calendars/open", `{"title":"Opening hours","zone":"Europe/Dublin","text":"`+openDaily+`"}`)
	a.ok("PUT", "/api/v1/alarm-rules/much", `{"title":"Much","watch":"received","limit":5,"during":"open","tell":[{"flow":"f"}]}`)
	if err := people.New(people.Config{Store: a.store, Now: a.engine.Journal.Now}).Save(t.Context(), "maud", "Maud",
		[]access.Grant{{Role: access.Owner, Area: "*"}}, false); err != nil {
		t.Fatal(err)
	}
	moved := a.exported()
	all := string(a.ok("GET", "/api/v1/export", ""))
	for _, content := range moved {
		all += string(content)
	}
	if strings.Contains(all, "s3cret-token") {
		t.Error("a secret is exported")
	}
	preview := b.imported(moved, `,"preview":true`)
	if flows := b.ok("GET", "/api/v1/flows", ""); string(flows) != "[]" {
		t.Fatalf("a preview changes something: %s", flows)
	}
	done := b.imported(moved, "")
	if !slices.Equal(preview, done) || len(done) < 12 || !slices.Contains(done, "pauses flow s") ||
		!slices.Contains(done, "publishes flow r") {
		t.Errorf("the preview says\n%v\nand the import did\n%v", preview, done)
	}
	if again := b.imported(moved, ""); len(again) > 0 {
		t.Errorf("a second import does %v", again)
	}
	if !maps.EqualFunc(moved, b.exported(), func(x, y []byte) bool { return string(x) == string(y) }) {
		t.Error("what comes out is not what went in")
	}
	b.ok("POST", "/in/f", `{"a":1}`) // it is live
	if r, err := b.engine.Alarm.Rule("much"); err != nil || r.During != "open" {
		t.Errorf("the rule of alarms is not followed: %+v %v", r, err)
	}
	if c := b.engine.Catalog.Connection("locked"); c == nil || len(c.SignIn.Secrets) > 0 {
		t.Errorf("the connection is %+v", c)
	}
	for what, change := range map[string]func(f bundle.Files){
		"a flow that cannot be read": func(f bundle.Files) { f["flows/zz/flow.yaml"] = []byte("name: zz") },
		"a connection that is nowhere": func(f bundle.Files) {
			delete(f,
				"connections/c.yaml")
			f["flows/f/flow.yaml"] = []byte(strings.ReplaceAll(string(f["flows/f/flow.yaml"]), "to: c", "to: nowhere"))
		},
		"rows that clash": func(f bundle.Files) { f["tables/t.json"] = []byte(`[{"k":"1"},{"k":"1"}]`) },
		"a rule over what is nowhere": func(f bundle.Files) {
			f["alarms/much.json"] = []byte(strings.ReplaceAll(string(f["alarms/much.json"]), `"open"`, `"closed"`))
		},
		"a calendar that cannot be read": func(f bundle.Files) { f["calendars/open.ics"] = []byte("BEGIN:VEVENT") },
		"a path out of it":               func(f bundle.Files) { f["flows/../../x/flow.yaml"] = []byte("x") },
		"no owner left":                  func(f bundle.Files) { f["people.json"] = []byte(`[{"name":"maud","title":"","grants":[]}]`) },
		"a role that there is not": func(f bundle.Files) {
			f["people.json"] = []byte(`[{"name":"x","title":"","grants":[{"role":"king","area":"*"}]}]`)
		},
		"a secret in a document": func(f bundle.Files) {
			f["connections/c.yaml"] = []byte("readyferry: connection/1\nname: c\nkind: http\naddress: https://x.example\nsign-in: {kind: bearer, secret: x}\n")
		},
		"a document under another's name": func(f bundle.Files) { f["tables/u.yaml"] = f["tables/t.yaml"] },
	} {
		f := maps.Clone(moved)
		f["connections/new.yaml"] = []byte("readyferry: connection/1\nname: new\nkind: http\naddress: https://new.example\n")
		change(f)
		text, err := json.Marshal(f)
		if err != nil {
			t.Fatal(err)
		}
		before := string(b.ok("GET", "/api/v1/export", ""))
		if got := b.call("POST", "/api/v1/import", `{"files":`+string(text)+`}`); got.status/100 != 4 {
			t.Errorf("%s: %d %s", what, got.status, got.body)
		}
		if string(b.ok("GET", "/api/v1/export", "")) != before || b.engine.Catalog.Connection("new") != nil {
			t.Errorf("%s changes something", what)
		}
	}
	one := bundle.Files{}
	for name, content := range moved {
		if strings.HasPrefix(name, "flows/l/") {
			one[name] = content
		}
	}
	text, err := json.Marshal(one)
	if err != nil {
		t.Fatal(err)
	}
	if got := b.call("POST", "/api/v1/import", `{"files":`+string(text)+`,"removeOthers":true}`); got.status != 409 ||
		!strings.Contains(string(got.body), "cannot be removed") {
		t.Errorf("a flow with a message under way is removed: %d %s", got.status, got.body)
	}
	c := start(t)
	c.imported(moved, "")
	if did := c.imported(one, `,"removeOthers":true`); !slices.Contains(did, "removes flow f") ||
		!slices.Contains(did, "removes connection c") || !slices.Contains(did, "removes table t") ||
		!slices.Contains(did, "removes alarm much") || !slices.Contains(did, "removes calendar open") {
		t.Errorf("removing the others does %v", did)
	}
}
