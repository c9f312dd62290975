package caller

import (
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"testing"
	"time"

	"readyferry/connect"
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
			{Name: "a", SignIn: connect.SignIn{Kind: connect.SignInHMAC, Secrets: []string{c.Secret}}},
		}
		_, err := Verify(known, h, []byte(c.Body), time.Unix(c.Now, 0))
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
		got, err := Verify(all, c.header, nil, time.Now())
		if got != c.want || (err == nil) != (c.want != "") || err != nil && !errors.Is(err, ErrUnknown) {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
}
