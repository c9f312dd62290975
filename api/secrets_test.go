package api

import (
	"fmt"
	"strings"
	"testing"
)

// A secret goes where it was given for. Whoever writes another address, sign-in or header without
// it is told to give it again; what does not decide where it goes may be changed.
func TestASecretStaysWithItsDoor(t *testing.T) {
	w := start(t)
	doc := func(address, signIn, more string) string {
		return fmt.Sprintf(`{"readyferry":"connection/1","name":"c","kind":"http","address":%q,"sign-in":%s%s}`, address,
			signIn, more)
	}
	const at, key = "https://shelves.example.org/api", `{"kind":"api-key","header":"x-key"}`
	w.ok("PUT", "/api/v1/connections/c", doc(at, `{"kind":"api-key","header":"x-key","secret":"s3cret"}`, ""))
	for name, d := range map[string]string{
		"another host":   doc("https://stranger.example/api", key, ""),
		"another path":   doc("https://shelves.example.org/other", key, ""),
		"another scheme": doc("http://shelves.example.org/api", key, ""),
		"another header": doc(at, `{"kind":"api-key","header":"x-other"}`, ""),
		"another way":    doc(at, `{"kind":"bearer"}`, ""),
		"by a proxy":     doc(at, key, `,"proxy":"http://stranger.example:3128"`),
		"at a runner":    doc(at, key, `,"at":"strangers"`),
		"another name":   doc(at, key, `,"tls":{"server-name":"stranger.example"}`),
	} {
		a := w.call("PUT", "/api/v1/connections/c", d)
		if a.status != 422 || !strings.Contains(string(a.body), `"secret-stays"`) {
			t.Errorf("%s: %d %s", name, a.status, a.body)
		}
	}
	for _, more := range []string{`,"title":"Shelves"`, `,"limits":{"in-flight":3},"time-limit":"4s"`,
		`,"test":{"path":"/health"},"note":"n"`} {
		w.ok("PUT", "/api/v1/connections/c", doc(at, key, more))
	}
	w.ok("PUT", "/api/v1/connections/c", doc("https://other.example.org",
		`{"kind":"api-key","header":"x-key","secret":"new"}`, ""))
	if c := w.engine.Catalog.Connection("c"); len(c.SignIn.Secrets) != 1 || c.SignIn.Secrets[0] != "new" {
		t.Errorf("the secrets are %d", len(c.SignIn.Secrets))
	}
}
