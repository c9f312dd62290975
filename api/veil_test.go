package api

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"readyferry/core/access"
	"readyferry/core/mask"
	"readyferry/engine/watch"
)

// What is masked is searched for in whatever comes out: every address of the interface, asked by
// everybody who may ask but lacks the right to see it, over a message that was mapped, delivered, put into a
// queue, split, noted, and that failed over the very value.
func TestWhatIsMaskedNeverLeaves(t *testing.T) {
	w := signedInWorld(t)
	owner := w.as("all", access.All()...)
	w.session = owner
	const secret, card, age = "Maud-Quillfeather", "4711-0815-99", "8642"
	w.ok("PUT", "/api/v1/connections/c", `{"readyferry":"connection/1","name":"c","kind":"http","address":"stand-in://p"}`)
	w.ok("PUT", "/api/v1/flows/f", `{"readyferry":"flow/1","name":"f","mask":["/patron/name","/patron/card","/patron/age"],
		"search":{"fields":["/patron/name"]},
		"intake":{"kind":"webhook","path":"/f","format":"json","reference":"body.patron.card + \"/\" + body.id"},"steps":[
		{"id":"n","kind":"note","text":"for ${body.patron.name}, ${body.patron.age}"},
		{"id":"s","kind":"set","headers":{"x-who":"${body.patron.name}"},"vars":{"who":"body.patron.name"}},
		{"id":"m","kind":"map","as":"json","fields":[{"to":"/who","from":"body.patron.name"},{"to":"/low","from":"body.patron.name.lowerAscii()"}]},
		{"id":"d","kind":"deliver","to":"c","method":"POST","path":"/${vars.who}"},
		{"id":"p","kind":"deliver","to":{"queue":"q"}},{"id":"b","kind":"deliver","to":{"topic":"n"}},
		{"id":"x","kind":"set","vars":{"n":"int(body.who)"}}]}`)
	w.ok("PUT", "/api/v1/flows/r", `{"readyferry":"flow/1","name":"r","intake":{"kind":"queue","queue":"q","format":"json","reference":"body.who"},"steps":[
		{"id":"x","kind":"filter","keep":"false","reason":"not ${body.who}"}]}`)
	w.ok("PUT", "/api/v1/flows/s", `{"readyferry":"flow/1","name":"s","intake":{"kind":"topic","topic":"n","format":"json"},"steps":[]}`)
	for _, f := range []string{"s", "r", "f"} {
		w.ok("POST", "/api/v1/flows/"+f+"/publish?sure=true", `{}`)
	}
	w.ok("POST", "/in/f", `{"id":"R1","patron":{"name":"`+secret+`","card":"`+card+`","age":`+age+`}}`)
	var letters []struct{ ID, Transaction, Reason string }
	until(t, func() bool {
		letters = nil
		_ = json.Unmarshal(w.ok("GET", "/api/v1/dead-letters", ""), &letters)
		var n []any
		_ = json.Unmarshal(w.ok("GET", "/api/v1/transactions", ""), &n)
		return len(letters) == 1 && len(n) == 3
	})
	if !strings.Contains(letters[0].Reason, secret) {
		t.Fatalf("the reason does not say it: %s", letters[0].Reason)
	}
	seen := string(w.ok("GET", "/api/v1/transactions/"+letters[0].Transaction+"/rehearsal", ""))
	if !strings.Contains(seen, secret) || !strings.Contains(seen, card) {
		t.Fatal("whoever has the right does not see it")
	}
	// That they did is written down, once for all looks at it.
	w.ok("GET", "/api/v1/dead-letters/"+letters[0].ID, "")
	var shown []struct{ Who, Thing, Result string }
	line := w.ok("GET", "/api/v1/audit?what=is+shown+what+is+masked", "")
	if err := json.Unmarshal(line, &shown); err != nil || len(shown) != 1 ||
		shown[0].Thing != "transaction:"+letters[0].Transaction || shown[0].Result != "done" ||
		strings.Contains(string(line), secret) {
		t.Errorf("the look stands in the audit as %s %v", line, err)
	}
	w.ok("POST", "/api/v1/transactions/"+letters[0].Transaction+"/sample", `{"name":"kept"}`)
	var kept struct{ Body string }
	if err := json.Unmarshal(w.ok("GET", "/api/v1/flows/f/samples/kept", ""), &kept); err != nil ||
		strings.Contains(kept.Body, secret) ||
		!strings.Contains(kept.Body, `"id":"R1"`) {
		t.Errorf("the sample is %s %v", kept.Body, err)
	}
	var preview struct{ ID string }
	if err := json.Unmarshal(w.ok("POST", "/api/v1/repair-previews", `{"ids":["`+letters[0].ID+`"]}`),
		&preview); err != nil {
		t.Fatal(err)
	}
	names := map[string]string{"flows": "f", "connections": "c", "targets": "c", "queues": "q", "topics": "n"}
	ids := map[string]string{"transactions": letters[0].Transaction, "dead-letters": letters[0].ID,
		"repair-previews": preview.ID}
	w.session = nil
	everything := []access.Grant{}
	for _, g := range access.All() {
		if g.Role != access.Unmasker {
			everything = append(everything, g)
		}
	}
	others := map[string][]string{"an owner of all other roles": w.as("most", everything...),
		"a reading key": w.keyFor("k", nil, "read manage", "*")}
	found := func(what, by, text string) {
		for _, v := range []string{secret, strings.ToLower(secret), card, age} {
			if strings.Contains(text, v) {
				i := strings.Index(text, v)
				t.Errorf("%s gives %s %q: …%s…", what, by, v, text[max(0, i-80):min(len(text), i+40)])
			}
		}
	}
	for by, headers := range others {
		n := 0
		for _, r := range (&Server{}).routes() {
			if r.method != "GET" || r.path == "/api/v1/events" || r.need.on == byKey.on {
				continue
			}
			parts := strings.Split(r.path, "/")
			for i, p := range parts {
				switch {
				case p == ":name":
					parts[i] = names[parts[i-1]]
				case p == ":id":
					parts[i] = ids[parts[i-1]]
				case p == ":other":
					parts[i] = letters[0].Transaction
				case p == ":sample":
					parts[i] = "kept"
				case p == ":n":
					parts[i] = "1"
				}
				if parts[i] == "" && i > 0 {
					parts[i] = "none"
				}
			}
			if a := w.call("GET", strings.Join(parts, "/"), "", headers...); a.status == http.StatusOK {
				n++
				found(r.path, by, string(a.body))
			}
		}
		if n < 40 {
			t.Errorf("only %d addresses answered", n)
		}
		for path, body := range map[string]string{
			"/api/v1/dead-letters/resend": `{"ids":["` + letters[0].ID +
				`"],"preview":true,"patch":[{"op":"add","path":"/extra","value":1}]}`,
			"/api/v1/flows/f/comparisons":   `{}`,
			"/api/v1/flows/f/samples/k/try": `{}`,
		} {
			found(path, by, string(w.call("POST", path, body, headers...).body))
		}
		for _, query := range []string{"reference=R1", "filter=" + secret, "filter=note:Quillfeather", "reference=" +
			card[:6]} {
			if !w.store.Words() {
				break // this build finds nothing by words
			}
			a := w.call("GET", "/api/v1/transactions?"+query, "", headers...)
			found("the list by "+query, by, strings.ReplaceAll(string(a.body), query, ""))
		}
		for what, change := range map[string]string{
			"a copy":       `"patch":[{"op":"copy","from":"/patron/name","path":"/note"}]`,
			"a test":       `"patch":[{"op":"test","path":"/patron/card","value":"x"}]`,
			"a move":       `"patch":[{"op":"move","from":"/patron","path":"/p"}]`,
			"a search":     `"replace":{"find":"Maud","with":"x"}`,
			"a map":        `"map":{"as":"json","fields":[{"to":"/n","from":"body.patron.name"}]}`,
			"a whole path": `"patch":[{"op":"replace","path":"","value":{}}]`,
		} {
			body := `{"ids":["` + letters[0].ID + `"],` + change + `}`
			for _, path := range []string{"/api/v1/dead-letters/resend", "/api/v1/repairs", "/api/v1/repair-previews"} {
				if a := w.call("POST", path, body, headers...); a.status != http.StatusForbidden && by != "a reading key" {
					t.Errorf("%s by %s at %s: %d %s", what, by, path, a.status, a.body)
				}
			}
		}
	}
	// Edited as it is shown, it leaves as it was.
	w.session = others["an owner of all other roles"]
	w.ok("POST", "/api/v1/dead-letters/resend",
		`{"ids":["`+letters[0].ID+`"],"message":{"id":"R2","patron":{"name":"`+mask.Shown+
			`","card":"`+mask.Shown+`","age":null}}}`)
	rows, err := w.engine.Watch.Messages(parsed(t, letters[0].Transaction))
	if err != nil || len(rows) != 2 || !bytes.Contains(rows[1].Body.Bytes(), []byte(secret)) ||
		!bytes.Contains(rows[1].Body.Bytes(), []byte("R2")) {
		t.Errorf("the repaired message is %s %v", rows[len(rows)-1].Body.Bytes(), err)
	}
	metrics := w.call("GET", "/metrics", "")
	found("/metrics", "anybody", string(metrics.body))
}

func parsed(t *testing.T, id string) watch.ID {
	t.Helper()
	out, err := watch.ParseID(id)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// What is masked in the members of a group is hidden in the group, open and closed; and whoever may
// not see bodies sees none of its members.
func TestWhatIsMaskedIsHiddenInGroups(t *testing.T) {
	w := signedInWorld(t)
	w.session = w.as("all", access.All()...)
	w.ok("PUT", "/api/v1/flows/g", `{"readyferry":"flow/1","name":"g","mask":["/who"],
		"intake":{"kind":"webhook","path":"/g","format":"json"},"steps":[
		{"id":"a","kind":"aggregate","key":"body.k","close":{"count":2,"age":"1h"}},
		{"id":"n","kind":"note","text":"${size(body)} came"}]}`)
	w.ok("POST", "/api/v1/flows/g/publish", `{}`)
	names := []string{"Maud-Quillfeather", "Otto-Brandt-Weir"}
	var open struct{ Groups []struct{ ID string } }
	tx := ""
	for i, name := range names {
		w.ok("POST", "/in/g", `{"k":"x","who":"`+name+`"}`)
		until(t, func() bool {
			_ = json.Unmarshal(w.ok("GET", "/api/v1/groups", ""), &open)
			return len(open.Groups) == 1 || i == 1
		})
		if i == 0 {
			tx = open.Groups[0].ID
		} else {
			until(t, func() bool { return w.plain("GET", "/api/v1/transactions/"+tx) == http.StatusOK })
		}
		all := string(w.ok("GET", "/api/v1/groups/"+tx+"/members", ""))
		if i == 0 && !strings.Contains(all, name) {
			t.Fatalf("whoever may see it does not: %s", all)
		}
		saved := w.session
		w.session = nil
		for who, headers := range map[string][]string{
			"an operator": w.as("otis", access.Grant{Role: access.Operator, Area: "*"}),
			"a reader":    w.as("rhea", access.Grant{Role: access.Reader, Area: "*"}),
		} {
			for _, path := range []string{"groups/" + tx + "/members", "transactions/" + tx, "transactions/" + tx + "/rehearsal",
				"transactions/" + tx + "/messages"} {
				text := string(w.call("GET", "/api/v1/"+path, "", headers...).body)
				if strings.Contains(text, names[0]) || strings.Contains(text, names[1]) {
					t.Errorf("%s gives %s a name: %s", path, who, text)
				}
				if who == "a reader" && strings.Contains(text, `"item":{`) {
					t.Errorf("%s gives a reader a body: %s", path, text)
				}
			}
		}
		w.session = saved
	}
	if seen := string(w.ok("GET", "/api/v1/transactions/"+tx+"/rehearsal", "")); !strings.Contains(seen, names[0]) {
		t.Errorf("the group does not hold what is looked for: %s", seen)
	}
}
