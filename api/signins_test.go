package api

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"
)

func jsonText(s string) string { b, _ := json.Marshal(s); return string(b) }

// A flow delivers to a system that wants a token, got in each of the ways.
func TestTokensAreGotInEachWay(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	raw, _ := x509.MarshalPKCS8PrivateKey(key)
	private := string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
	raw, _ = x509.MarshalPKIXPublicKey(&key.PublicKey)
	public := string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: raw}))
	w := start(t)
	w.ok("PUT", "/api/v1/stand-ins/cloud", `{"tokens":{"seconds":3600,"key":`+jsonText(public)+`}}`)
	w.problem(400, "it is not PEM", "PUT", "/api/v1/stand-ins/wrong", `{"tokens":{"key":"x"}}`)
	connection := func(signIn string) string {
		return `{"readyferry":"connection/1","name":"cloud","kind":"http","address":"stand-in://cloud","sign-in":{"kind":"oauth2",
			"token-address":"stand-in://cloud/token",` + signIn + `}}`
	}
	w.problem(422, "needs client-id", "PUT", "/api/v1/connections/cloud", connection(`"secret":"s"`))
	w.problem(422, "needs issuer", "PUT", "/api/v1/connections/cloud", connection(`"grant":"jwt-bearer","secret":"s"`))
	w.problem(422, "no address that can be called", "PUT", "/api/v1/connections/cloud",
		strings.Replace(connection(`"client-id":"a","secret":"s"`), "stand-in://cloud/token", "ftp://cloud", 1))
	for name, signIn := range map[string]string{
		"client": `"client-id":"ferry","secret":"s3cret","scope":"topics.write"`,
		"body":   `"client-id":"ferry","secret":"s3cret","credentials-in":"body"`,
		"jwt":    `"grant":"jwt-bearer","issuer":"ferry@larkfield.example","key-id":"k1","secret":` + jsonText(private),
	} {
		w.ok("PUT", "/api/v1/connections/cloud", connection(signIn))
		w.ok("DELETE", "/api/v1/stand-ins/cloud/calls", "")
		w.live(name, `{"readyferry":"flow/1","name":"`+name+`","intake":{"kind":"webhook","path":"/`+name+`"},
			"steps":[{"id":"d","kind":"deliver","to":"cloud","path":"/topics/loans"}]}`)
		var all sync.WaitGroup
		for range 20 {
			all.Go(func() { w.call("POST", "/in/"+name, `{}`) })
		}
		all.Wait()
		w.delivered(name, 20)
		calls := string(w.ok("GET", "/api/v1/stand-ins/cloud", ""))
		if n := strings.Count(calls, `"path":"/token"`); n != 1 {
			t.Errorf("%s: %d tokens were fetched for twenty that waited", name, n)
		}
		if strings.Contains(calls, "s3cret") || strings.Contains(calls, "Bearer ") || strings.Contains(calls, "assertion=") {
			t.Errorf("%s: a secret is shown", name)
		}
		// The system forgets the token: it answers 401, and one is fetched anew.
		w.ok("DELETE", "/api/v1/stand-ins/cloud?sure=true", "")
		w.ok("PUT", "/api/v1/stand-ins/cloud", `{"tokens":{"seconds":3600,"key":`+jsonText(public)+`}}`)
		w.call("POST", "/in/"+name, `{}`)
		w.delivered(name, 21)
		if calls := string(w.ok("GET", "/api/v1/stand-ins/cloud", "")); !strings.Contains(calls, `"status":401`) ||
			strings.Count(calls, `"path":"/token"`) != 1 {
			t.Errorf("%s: %s", name, calls)
		}
		var tested struct {
			OK    bool
			Steps []struct{ Detail string }
		}
		_ = json.Unmarshal(w.ok("POST", "/api/v1/connections/cloud/test", ""), &tested)
		if !tested.OK || len(tested.Steps) != 1 || tested.Steps[0].Detail != "a token is given" {
			t.Errorf("%s: %+v", name, tested)
		}
	}
	// Somebody else's key is refused, and the test says where it ends.
	other, _ := rsa.GenerateKey(rand.Reader, 2048)
	raw, _ = x509.MarshalPKCS8PrivateKey(other)
	w.ok("PUT", "/api/v1/connections/cloud", connection(`"grant":"jwt-bearer","issuer":"ferry","secret":`+
		jsonText(string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})))))
	if tested := string(w.ok("POST", "/api/v1/connections/cloud/test", "")); !strings.Contains(tested, "invalid_grant") ||
		!strings.Contains(tested, `"ok":false`) {
		t.Error(tested)
	}
}

// delivered waits until so many transactions of a flow are.
func (w *world) delivered(flow string, n int) {
	w.t.Helper()
	w.eventually("/metrics", fmt.Sprintf(`readyferry_transactions{flow="%s",state="delivered"} %d`+"\n", flow, n))
}

// A person signs in once in a browser; what stays is sealed, and renewed as it is used.
func TestAPersonSignsInOnce(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/stand-ins/cloud", `{"tokens":{"seconds":3600}}`)
	w.ok("PUT", "/api/v1/connections/cloud", `{"readyferry":"connection/1","name":"cloud","kind":"http","address":"stand-in://cloud","sign-in":{
		"kind":"oauth2","grant":"authorization-code","client-id":"ferry","token-address":"stand-in://cloud/token",
		"authorize-address":"stand-in://cloud/authorize"}}`)
	w.live("out", `{"readyferry":"flow/1","name":"out","intake":{"kind":"webhook","path":"/out"},
		"steps":[{"id":"d","kind":"deliver","to":"cloud","path":"/x"}]}`)
	if tested := string(w.ok("POST", "/api/v1/connections/cloud/test", "")); !strings.Contains(tested,
		"nobody has signed in yet") {
		t.Error(tested)
	}
	signIn := func() *http.Response {
		var begun struct{ Address string }
		_ = json.Unmarshal(w.ok("POST", "/api/v1/connections/cloud/sign-in", ""), &begun)
		at, err := url.Parse(begun.Address)
		if err != nil || at.Query().Get("code_challenge_method") != "S256" || len(at.Query().Get("state")) < 20 {
			t.Fatalf("%s %v", begun.Address, err)
		}
		page := w.call("GET", strings.TrimPrefix(begun.Address, w.server.URL), "")
		link := regexp.MustCompile(`href="([^"]+)"`).FindStringSubmatch(string(page.body))
		if link == nil {
			t.Fatal(string(page.body))
		}
		client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		back, err := client.Get(strings.ReplaceAll(link[1], "&amp;", "&"))
		if err != nil {
			t.Fatal(err)
		}
		_ = back.Body.Close()
		again, err := client.Get(strings.ReplaceAll(link[1], "&amp;", "&"))
		if err != nil || again.StatusCode != 422 {
			t.Errorf("a state is good twice: %d %v", again.StatusCode, err)
		}
		return back
	}
	if to := signIn().Header.Get("Location"); to != "/connections?open=cloud&said=signed+in" {
		t.Fatal(to)
	}
	w.call("POST", "/in/out", `{}`)
	w.delivered("out", 1)
	document := string(w.ok("GET", "/api/v1/connections/cloud", ""))
	if strings.Contains(document, "secret\":\"") || !strings.Contains(document, `"secretSet":true`) {
		t.Error(document)
	}
	w.problem(422, "not known here", "GET", "/api/v1/sign-in?state=made-up&code=x", "")
	// Nobody signs in to a connection of another kind.
	w.ok("PUT", "/api/v1/connections/plain", `{"readyferry":"connection/1","name":"plain","kind":"http","address":"stand-in://cloud"}`)
	w.problem(422, "nobody signs in", "POST", "/api/v1/connections/plain/sign-in", "")
}
