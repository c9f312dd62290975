package caller

import (
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/sign"
	"readyferry/core/system"
)

// Source: the reference vectors of the Standard Webhooks library,
// testdata/standard-webhooks.json.
func TestStandardWebhooksVectors(t *testing.T) {
	b, err := os.ReadFile("testdata/standard-webhooks.json")
	if err != nil {
		t.Fatal(err)
	}
	var f struct {
		Cases []struct {
			Name    string
			Now     int64
			Secret  string
			Headers map[string]string
			Body    string
			Valid   bool
		}
	}
	if err := json.Unmarshal(b, &f); err != nil || len(f.Cases) == 0 {
		t.Fatal(err)
	}
	for _, c := range f.Cases {
		h := http.Header{}
		for k, v := range c.Headers {
			h.Set(k, v)
		}
		known := []*connect.Connection{
			{Name: "a", SignIn: connect.SignIn{Kind: connect.SignInHMAC, Scheme: sign.StandardWebhooks,
				Secrets: []string{c.Secret}}},
		}
		_, err := new(Verifier).Verify(known, &sign.Request{Header: h, Body: []byte(c.Body)}, time.Unix(c.Now, 0))
		if (err == nil) != c.Valid {
			t.Errorf("%s: %v, want valid %v", c.Name, err, c.Valid)
		}
	}
}

func TestKeysAndPasswords(t *testing.T) {
	key := &connect.Connection{
		Name:   "key",
		SignIn: connect.SignIn{Kind: connect.SignInAPIKey, Header: "x-api-key", Secrets: []string{"old", "new"}},
	}
	basic := &connect.Connection{
		Name:   "basic",
		SignIn: connect.SignIn{Kind: connect.SignInBasic, User: "u", Secrets: []string{"p"}},
	}
	none := &connect.Connection{Name: "none", SignIn: connect.SignIn{Kind: connect.SignInAPIKey, Header: "x-api-key"}}
	all := []*connect.Connection{key, basic, none}
	with := func(set func(*http.Request)) http.Header {
		r, _ := http.NewRequest("POST", "/", nil)
		set(r)
		return r.Header
	}
	for _, c := range []struct {
		name   string
		header http.Header
		want   string
	}{
		{"a key", with(func(r *http.Request) { r.Header.Set("X-Api-Key", "old") }), "key"},
		{"the next key", with(func(r *http.Request) { r.Header.Set("X-Api-Key", "new") }), "key"},
		{"a wrong key", with(func(r *http.Request) { r.Header.Set("X-Api-Key", "ol") }), ""},
		{"an empty key", with(func(r *http.Request) { r.Header.Set("X-Api-Key", "") }), ""},
		{"nothing", http.Header{}, ""},
		{"a password", with(func(r *http.Request) { r.SetBasicAuth("u", "p") }), "basic"},
		{"a wrong password", with(func(r *http.Request) { r.SetBasicAuth("u", "q") }), ""},
		{"a wrong user", with(func(r *http.Request) { r.SetBasicAuth("v", "p") }), ""},
	} {
		got, err := new(Verifier).Verify(all, &sign.Request{Header: c.header}, time.Now())
		if got != c.want || (err == nil) != (c.want != "") || err != nil && !errors.Is(err, ErrUnknown) {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
}

func TestSignaturesOfRequests(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	document := func(signIn string) *connect.Connection {
		c := &connect.Connection{Name: "c", Settings: system.Schema(`{"sign-in": ` + signIn + `}`)}
		c.SignIn = connect.SignIn{Kind: connect.SignInHMAC, Scheme: c.Text("/sign-in/scheme"), Secrets: []string{"b2xk",
			"c2VjcmV0"}}
		return c
	}
	request := func() *sign.Request {
		return &sign.Request{Method: "POST", Authority: "ferry.example", Path: "/in/x",
			Header: http.Header{"Content-Type": {"text/plain"}}, Body: []byte("hi")}
	}
	var v Verifier
	for name, c := range map[string]struct {
		connection *connect.Connection
		sign       func(r *sign.Request) error
	}{
		"message": {document(`{"scheme": "message-signature", "key-id": "kiosk"}`), func(r *sign.Request) error {
			return (&sign.Message{Algorithm: sign.HMACSHA256, Secret: "c2VjcmV0", KeyID: "kiosk"}).Sign(r, now)
		}},
		"less": {document(`{"scheme": "message-signature", "covers": ["@method"]}`), func(r *sign.Request) error {
			return (&sign.Message{Algorithm: sign.HMACSHA256, Secret: "b2xk", Components: []string{"@method",
				"@path"}}).Sign(r, now)
		}},
		"template": {document(`{"scheme": "template", "value": "v=${hmac(request.time + request.body, secret, \"sha256\")}", "time-header": "x-time"}`),
			func(r *sign.Request) error {
				tmpl, err := sign.ReadTemplate(`v=${hmac(request.time + request.body, secret, "sha256")}`)
				if err != nil {
					return err
				}
				text, err := tmpl.Eval(r, "c2VjcmV0", "", now)
				r.Header.Set("X-Signature", text)
				r.Header.Set("X-Time", "1800000000")
				return err
			}},
		"webhook": {document(`{"scheme": "standard-webhooks"}`), func(r *sign.Request) error {
			return sign.SignWebhook(r,
				"c2VjcmV0", "m", now)
		}},
	} {
		all := []*connect.Connection{c.connection}
		r := request()
		if _, err := v.Verify(all, r, now); !errors.Is(err, ErrUnknown) {
			t.Errorf("%s: nothing is signed, and it is let in", name)
		}
		if err := c.sign(r); err != nil {
			t.Fatal(err)
		}
		if got, err := v.Verify(all, r, now.Add(time.Minute)); err != nil || got != "c" {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := v.Verify(all, r, now.Add(time.Hour)); !errors.Is(err, ErrUnknown) {
			t.Errorf("%s: it is let in an hour later", name)
		}
		if name != "less" {
			r.Body = []byte("ho")
			if _, err := v.Verify(all, r, now); !errors.Is(err, ErrUnknown) {
				t.Errorf("%s: another body is let in", name)
			}
		}
	}
	var bad []string
	check(document(`{"scheme": "template", "value": "${secrets}"}`), func(ptr, _, _, _ string) { bad = append(bad, ptr) })
	check(document(`{"scheme": "template"}`), func(ptr, _, _, _ string) { bad = append(bad, ptr) })
	if len(bad) != 2 {
		t.Error(bad)
	}
}
