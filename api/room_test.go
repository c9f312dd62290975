package api

import (
	"encoding/json"
	"strings"
	"testing"
)

// What is kept of room, limits of flows and limits of keys is told as documented.
func TestRoomAndLimits(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/flows/few", `{"readyferry":"flow/1","name":"few","limits":{"per-second":1},
		"intake":{"kind":"webhook","path":"/few","format":"json"},"steps":[]}`)
	w.ok("POST", "/api/v1/flows/few/publish", "{}")
	if a := w.call("POST", "/in/few", `{}`, "Content-Type: application/json"); a.status != 202 {
		t.Fatal(a.status, string(a.body))
	}
	a := w.call("POST", "/in/few", `{}`, "Content-Type: application/json")
	if a.status != 429 || a.header.Get("Retry-After") != "1" || !strings.Contains(string(a.body), "1 messages a second") {
		t.Errorf("%d %v %s", a.status, a.header, a.body)
	}
	var room struct {
		Free, Journal, MinFree, MaxJournal int64
		Since                              *string
		Why                                string
	}
	read := func(b []byte) {
		t.Helper()
		room.Since = nil
		if err := json.Unmarshal(b, &room); err != nil {
			t.Fatal(err)
		}
	}
	read(w.ok("GET", "/api/v1/room", ""))
	if room.Since != nil || room.Free <= 0 || room.MinFree <= 0 {
		t.Fatalf("%+v", room)
	}
	read(w.ok("PUT", "/api/v1/room", `{"maxJournal":1}`))
	if room.Since == nil || room.Why == "" {
		t.Errorf("%+v", room)
	}
	w.ok("PUT", "/api/v1/flows/g", `{"readyferry":"flow/1","name":"g","intake":{"kind":"webhook","path":"/g","format":"json"},"steps":[]}`)
	w.ok("POST", "/api/v1/flows/g/publish", "{}")
	if a := w.call("POST", "/in/g", `{}`, "Content-Type: application/json"); a.status != 429 || a.header.Get("Retry-After") == "" {
		t.Errorf("%d %v %s", a.status, a.header, a.body)
	}
	metrics := string(w.ok("GET", "/metrics", ""))
	for _, want := range []string{"readyferry_room_short 1\n", "readyferry_disk_free_bytes ", "readyferry_journal_bytes ",
		`readyferry_held{what="messages under way"} `, `readyferry_held_limit{what="bytes that are read and worked on"} `} {
		if !strings.Contains(metrics, want) {
			t.Errorf("/metrics does not say %s", want)
		}
	}
	read(w.ok("PUT", "/api/v1/room", `{}`))
	if a := w.call("POST", "/in/g", `{}`, "Content-Type: application/json"); room.Since != nil || a.status != 202 {
		t.Errorf("%+v %d %s", room, a.status, a.body)
	}
	if a := w.call("PUT", "/api/v1/room", `{"minFree":-1}`); a.status != 422 && a.status != 400 {
		t.Errorf("%d %s", a.status, a.body)
	}
	w.ok("PUT", "/api/v1/flows/r", `{"readyferry":"flow/1","name":"r","intake":{"kind":"queue","queue":"q"},"steps":[]}`)
	w.ok("POST", "/api/v1/flows/r/publish", "{}")
	var made struct{ Key string }
	if err := json.Unmarshal(w.ok("PUT", "/api/v1/keys/van", `{"rights":[{"may":["send"],"on":["queue:*"]}],"perSecond":2}`), &made); err != nil {
		t.Fatal(err)
	}
	for i, want := range []int{202, 202, 429} {
		if a := w.call("POST", "/out/queues/q", `{}`, "Content-Type: application/json", "Authorization: Bearer "+made.Key); a.status != want {
			t.Errorf("call %d with the key: %d %s", i, a.status, a.body)
		}
	}
}

// What comes in pieces, without a word of how much it is, counts against its key as well.
func TestBytesOfUnknownLengthCountAgainstTheirKey(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/flows/r", `{"readyferry":"flow/1","name":"r","intake":{"kind":"queue","queue":"q"},"steps":[]}`)
	w.ok("POST", "/api/v1/flows/r/publish", "{}")
	w.ok("PUT", "/api/v1/connections/desk", "readyferry: connection/1\nname: desk\nkind: caller\n"+
		"sign-in: {kind: api-key, secret: s3cret}\n", "Content-Type: application/yaml")
	w.ok("PUT", "/api/v1/flows/scans", `{"readyferry":"flow/1","name":"scans",
		"intake":{"kind":"webhook","path":"/scans","format":"binary","callers":["desk"]},"steps":[]}`)
	w.ok("POST", "/api/v1/flows/scans/publish", "{}")
	for at, on := range map[string]string{"/out/queues/q": "queue:*", "/in/scans": "flow:scans"} {
		var made struct{ Key string }
		name := strings.ReplaceAll(strings.Trim(at, "/"), "/", "-")
		key := w.ok("PUT", "/api/v1/keys/"+name, `{"rights":[{"may":["send"],"on":["`+on+`"]}],"bytes":16}`)
		if err := json.Unmarshal(key, &made); err != nil {
			t.Fatal(err)
		}
		for i, want := range []int{202, 429} {
			a := w.call("POST", at, strings.Repeat("x", 16<<10), "Content-Type: application/octet-stream",
				"X-Api-Key: "+made.Key, "Transfer-Encoding: chunked")
			if a.status != want {
				t.Errorf("call %d of %s: %d %s", i, at, a.status, a.body)
			}
		}
	}
}
