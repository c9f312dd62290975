package api

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"readyferry/connect/sign"
)

func folds(t *testing.T, text string) string {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	if _, err := w.Write([]byte(text)); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// A compressed message is kept as what it unfolds to, within the limit of its intake; what
// was signed is what was sent (RFC 9110, 8.4.1.3; RFC 1952).
func TestCompressedMessagesComeIn(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/connections/partner", `{"readyferry":"connection/1","name":"partner","kind":"caller","sign-in":`+
		`{"kind":"hmac","secret":"c2VjcmV0"}}`)
	w.ok("PUT", "/api/v1/flows/g", `{"readyferry":"flow/1","name":"g","intake":{"kind":"webhook","path":"/g","limit":2000,`+
		`"reference":"body.ref"},"steps":[]}`)
	w.ok("POST", "/api/v1/flows/g/publish", "")
	w.ok("PUT", "/api/v1/flows/s", `{"readyferry":"flow/1","name":"s","intake":{"kind":"webhook","path":"/s",`+
		`"callers":["partner"]},"steps":[]}`)
	w.ok("POST", "/api/v1/flows/s/publish", "")
	const zipped, kind = "Content-Encoding: gzip", "Content-Type: application/json"
	content := `{"ref":"R-1","text":"` + strings.Repeat("x", 1500) + `"}`
	var taken struct{ Transaction string }
	if err := json.Unmarshal(w.ok("POST", "/in/g", folds(t, content), zipped, kind), &taken); err != nil {
		t.Fatal(err)
	}
	seen := string(w.ok("GET", "/api/v1/transactions/"+taken.Transaction, ""))
	if !strings.Contains(seen, "R-1") || strings.Contains(strings.ToLower(seen), "content-encoding") {
		t.Errorf("it is kept as %s", seen)
	}
	w.problem(413, "2000 bytes", "POST", "/in/g", folds(t, strings.Repeat(" ", 1<<20)), zipped, kind)
	w.problem(400, "cannot be unfolded", "POST", "/in/g", content, zipped, kind)
	w.problem(400, "cannot be unfolded", "POST", "/in/g", folds(t, content)[:40], zipped, kind)
	w.problem(415, "gzip, identity", "POST", "/in/g", content, "Content-Encoding: br", kind)
	w.problem(415, "identity", "PUT", "/api/v1/flows/g", folds(t, content), zipped, kind)

	sent, now := folds(t, content), time.Now().Unix()
	signed := func(of string) []string {
		signature, err := sign.Webhook("c2VjcmV0", "id-1", now, []byte(of))
		if err != nil {
			t.Fatal(err)
		}
		return []string{zipped, kind, "webhook-id: id-1", fmt.Sprint("webhook-timestamp: ", now), "webhook-signature: " + signature}
	}
	if a := w.call("POST", "/in/s", sent, signed(sent)...); a.status != 202 {
		t.Errorf("signed as it was sent: %d %s", a.status, a.body)
	}
	w.problem(401, "", "POST", "/in/s", sent, signed(content)...)
}
