package api

import (
	"encoding/json"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"readyferry/core/access"
	"readyferry/engine/catalog"
	"readyferry/engine/people"
	"readyferry/engine/watch"
)

// rowsOf reads the rows of a table in docs/security.md that begins with a heading row.
func rowsOf(t *testing.T, head string) (rows [][]string) {
	t.Helper()
	text, err := os.ReadFile("../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	_, after, there := strings.Cut(string(text), head+"\n")
	if !there {
		t.Fatalf("docs/security.md has no table %q", head)
	}
	for _, line := range strings.Split(after, "\n")[1:] {
		if !strings.HasPrefix(line, "|") {
			break
		}
		cells := strings.Split(strings.Trim(line, "|"), "|")
		for i := range cells {
			cells[i] = strings.Trim(strings.TrimSpace(cells[i]), "`")
		}
		rows = append(rows, cells)
	}
	return rows
}

func list(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

// signedInWorld is a world in which people sign in.
func signedInWorld(t *testing.T) *world {
	t.Helper()
	w := start(t)
	now := func() time.Time { return time.Now().UTC() }
	w.door(Door{Loopback: true, Open: []string{"healthz"}}, people.New(people.Config{Store: w.store, Now: now, Log: w.log}))
	return w
}

// as makes somebody with roles, and gives the headers of a browser in which they are signed in.
func (w *world) as(name string, grants ...access.Grant) []string {
	w.t.Helper()
	if err := w.people.Save(w.t.Context(), "boss", "", []access.Grant{{Role: access.Owner, Area: "*"}}, false); err != nil {
		w.t.Fatal(err)
	}
	if err := w.people.Save(w.t.Context(), name, "", grants, false); err != nil {
		w.t.Fatal(err)
	}
	token, _, err := w.people.Enter(w.t.Context(), name, people.Arrival{From: "127.0.0.1"}, "")
	if err != nil {
		w.t.Fatal(err)
	}
	return []string{"Cookie: readyferry-" + w.port() + "=" + token, "Origin: " + w.server.URL}
}

// keyFor makes a key and gives the header with it.
func (w *world) keyFor(name string, until *time.Time, may, on string) []string {
	w.t.Helper()
	secret, err := w.engine.Catalog.MakeKey(w.t.Context(), catalog.Key{Name: name, Until: until,
		Rights: []access.KeyRight{{May: list(may), On: list(on)}}}, time.Now())
	if err != nil {
		w.t.Fatal(err)
	}
	return []string{"Authorization: Bearer " + secret}
}

// inventory makes one of everything in the area circulation, and gives the address of each path.
func (w *world) inventory() func(path string) string {
	w.t.Helper()
	w.ok("PUT", "/api/v1/connections/c", `{"readyferry":"connection/1","name":"c","kind":"http","address":"stand-in://p","area":"circulation"}`)
	w.ok("PUT", "/api/v1/tables/t", `{"readyferry":"table/1","name":"t","area":"circulation","columns":["k"],"keys":[["k"]]}`)
	w.ok("PUT", "/api/v1/flows/f", `{"readyferry":"flow/1","name":"f","area":"circulation","intake":{"kind":"webhook","path":"/f","format":"json"},"steps":[
		{"id":"d","kind":"deliver","to":"c","method":"POST","path":"/"},
		{"id":"p","kind":"deliver","to":{"queue":"q"}},{"id":"b","kind":"deliver","to":{"topic":"n"}},
		{"id":"x","kind":"validate","schema":{"required":["x"]}}]}`)
	w.ok("PUT", "/api/v1/flows/r", `{"readyferry":"flow/1","name":"r","area":"circulation","intake":{"kind":"queue","queue":"q","format":"json"},"steps":[
		{"id":"g","kind":"aggregate","key":"\"k\"","close":{"count":9,"age":"1h"}}]}`)
	w.ok("PUT", "/api/v1/flows/s", `{"readyferry":"flow/1","name":"s","area":"circulation","intake":{"kind":"topic","topic":"n","format":"json"},"steps":[]}`)
	w.ok("PUT", "/api/v1/flows/l", `{"readyferry":"flow/1","name":"l","area":"circulation","intake":{"kind":"load","format":"json"},"steps":[]}`)
	for _, f := range []string{"s", "r", "f", "l"} {
		w.ok("POST", "/api/v1/flows/"+f+"/publish?sure=true", `{}`)
	}
	w.ok("POST", "/in/f", `{"a":1}`)
	ids := map[string]string{}
	until(w.t, func() bool {
		letters, _ := w.engine.Watch.Letters(watch.LetterFilter{Limit: 1})
		groups, _ := w.engine.Watch.OpenGroups(nil, nil, 1)
		if len(letters) == 0 || len(groups) == 0 {
			return false
		}
		deliveries, _ := w.engine.Watch.Deliveries(letters[0].Tx)
		if len(deliveries) == 0 {
			return false
		}
		ids["transactions"], ids["deliveries"], ids["dead-letters"], ids["groups"] = letters[0].Tx.String(), deliveries[0].ID.String(),
			letters[0].ID.String(), groups[0].ID.String()
		return true
	})
	made := func(path, body string) string {
		var out struct{ ID string }
		if err := json.Unmarshal(w.ok("POST", path, body), &out); err != nil || out.ID == "" {
			w.t.Fatalf("%s: %v", path, err)
		}
		return out.ID
	}
	ids["loads"] = made("/api/v1/loads?flow=l&format=jsonl", `{"a":1}`)
	ids["repair-previews"] = made("/api/v1/repair-previews", `{"ids":["`+ids["dead-letters"]+`"]}`)
	ids["repairs"] = made("/api/v1/repairs", `{"ids":["`+ids["dead-letters"]+`"],"beginAt":"2099-01-01T00:00:00Z"}`)
	names := map[string]string{"flows": "f", "connections": "c", "targets": "c", "tables": "t", "queues": "q", "topics": "n"}
	return func(path string) string {
		parts := strings.Split(path, "/")
		for i, p := range parts {
			switch {
			case p == ":name" && names[parts[i-1]] != "":
				parts[i] = names[parts[i-1]]
			case p == ":id" && ids[parts[i-1]] != "":
				parts[i] = ids[parts[i-1]]
			case p == ":other" || p == ":transaction":
				parts[i] = ids["transactions"]
			case p == ":n":
				parts[i] = "1"
			case strings.HasPrefix(p, ":"), strings.HasPrefix(p, "*"):
				parts[i] = "00000000-0000-7000-8000-000000000000"
			}
		}
		return strings.Join(parts, "/")
	}
}

// The table of addresses is that of the router, and what it says is what happens: to each role, to
// nobody, to a key of another area, to a key that is over, and to a page of another site. A query that
// no address knows keeps what is permitted from being done: it is 400 behind the gate.
func TestEveryRouteHasItsRight(t *testing.T) {
	w := signedInWorld(t)
	rows := rowsOf(t, "| call | address | rights | for |")
	var have []string
	for _, r := range (&Server{}).routes() {
		rights := make([]string, len(r.need.rights))
		for i, one := range r.need.rights {
			rights[i] = string(one)
		}
		have = append(have, strings.Join([]string{r.method, r.path, strings.Join(rights, ", "), r.need.on}, " | "))
	}
	var said []string
	for _, r := range rows {
		said = append(said, strings.Join(r, " | "))
	}
	for _, one := range have {
		if !slices.Contains(said, one) {
			t.Errorf("docs/security.md does not have the row | %s |", one)
		}
	}
	for _, one := range said {
		if !slices.Contains(have, one) {
			t.Errorf("docs/security.md has a row of no route: %s", one)
		}
	}
	holds := map[string][]string{}
	for _, r := range rowsOf(t, "| role | rights |") {
		holds[r[0]] = list(r[1])
	}
	owner := w.as("all", access.All()...)
	w.session = owner
	at := w.inventory()
	w.session = nil
	past := time.Now().Add(-time.Hour)
	actors := []struct {
		name    string
		headers []string
		rights  []string // held in circulation
		all     bool     // and everywhere
		other   bool     // of interloan alone
	}{
		{name: "everything", headers: owner, rights: []string{"see", "samples", "bodies", "test", "operate", "design", "publish", "own", "unmask"}, all: true},
		{name: "a reading key of interloan", headers: w.keyFor("other", nil, "read manage", "area:interloan"),
			rights: []string{"see", "samples", "bodies", "test", "operate", "design", "publish"}, other: true},
		{name: "a reading key", headers: w.keyFor("reads", nil, "read", "*"), rights: []string{"see", "samples", "bodies"}, all: true},
		{name: "a managing key", headers: w.keyFor("manages", nil, "manage", "area:circulation"),
			rights: []string{"see", "samples", "test", "operate", "design", "publish"}},
		{name: "a sending key", headers: w.keyFor("sends", nil, "send take", "*")},
	}
	for _, role := range access.Roles() {
		area := "circulation"
		if role == access.Owner {
			area = access.Everywhere
		}
		actors = append(actors, struct {
			name    string
			headers []string
			rights  []string
			all     bool
			other   bool
		}{name: "a " + string(role), headers: w.as(string(role), access.Grant{Role: role, Area: area}), rights: holds[string(role)],
			all: role == access.Owner})
	}
	elsewhere := w.keyFor("elsewhere", nil, "read send take manage", "flow:x")
	over := w.keyFor("over", &past, "read manage send take", "*")
	named := regexp.MustCompile(`^the (flow|connection|table|queue|topic|flows?\b.*)`)
	for _, r := range rows {
		method, path, rights, on := r[0], r[1], list(r[2]), r[3]
		call := at(path) + "?nonsense=1"
		if on == byKey.on { // the key is asked for behind the gate
			call = at(path)
		}
		status := func(headers ...string) int { return w.plain(method, call, headers...) }
		if on == open.on || strings.HasPrefix(on, "everywhere, unless") && on == health.on {
			if got := status(); got == http.StatusUnauthorized || got == http.StatusForbidden {
				t.Errorf("%s %s without sign-in: %d", method, path, got)
			}
			continue
		}
		for name, headers := range map[string][]string{"nobody": nil, "an ended key": over, "a made-up key": {"X-Api-Key: rfk_x"},
			"a made-up session": {"Cookie: readyferry-" + w.port() + "=x", "Origin: " + w.server.URL}} {
			if got := status(headers...); got != http.StatusUnauthorized {
				t.Errorf("%s %s by %s: %d", method, path, name, got)
			}
		}
		if on == byKey.on {
			if got := status(elsewhere...); got != http.StatusForbidden {
				t.Errorf("%s %s by a key of something else: %d", method, path, got)
			}
			continue
		}
		if method != "GET" {
			for _, h := range [][]string{{owner[0], "Origin: https://stranger.example"}, {owner[0], "Sec-Fetch-Site: cross-site"}, {owner[0]}} {
				if got := status(append(h, "Content-Type: text/plain")...); got != http.StatusForbidden {
					t.Errorf("%s %s with a session, from elsewhere (%s): %d", method, path, h[1:], got)
				}
			}
		}
		for _, a := range actors {
			want := http.StatusBadRequest
			for _, right := range rights {
				if !slices.Contains(a.rights, right) || strings.HasPrefix(on, "everywhere") && !a.all {
					want = http.StatusForbidden
				}
			}
			if on == ofDemo.on {
				want = http.StatusForbidden
			}
			if want == http.StatusBadRequest && a.other && named.MatchString(on) {
				want = http.StatusNotFound
			}
			if got := status(a.headers...); got != want {
				t.Errorf("%s %s by %s: %d, not %d", method, path, a.name, got, want)
			}
		}
	}
}

// until waits until something is so.
func until(t *testing.T, is func() bool) {
	t.Helper()
	for range 6000 {
		if is() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatal("it did not come to pass")
}
