package api

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"testing"
)

// A stranger's page posts a form to an open webhook that answers with what came in: what
// comes back is no page of the application. It runs no script, has no origin, and
// leaves no cookie.
func TestWhatAFlowAnswersIsNoPageOfTheApplication(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/flows/echo", `{"readyferry":"flow/1","name":"echo",
		"intake":{"kind":"webhook","path":"/echo","format":"text","answer":"finished"},"steps":[
		{"id":"a","kind":"answer","status":200,"text":"${body}","headers":{"content-type":"application/xhtml+xml",
			"content-security-policy":"default-src *","x-content-type-options":"sniff","set-cookie":"readyferry=theirs",
			"clear-site-data":"\"cookies\"","service-worker-allowed":"/","access-control-allow-origin":"*"}}]}`)
	w.ok("POST", "/api/v1/flows/echo/publish", `{}`)
	a := w.call("POST", "/in/echo", `<html xmlns="http://www.w3.org/1999/xhtml"><script>fetch('/api/v1/flows/echo/pause')</script></html>`,
		"Content-Type: text/plain", "Origin: https://stranger.example", "Sec-Fetch-Site: cross-site")
	if a.status != 200 || !strings.Contains(string(a.body), "<script>") {
		t.Fatalf("%d %s", a.status, a.body)
	}
	if csp := a.header.Get("Content-Security-Policy"); !strings.HasPrefix(csp, "sandbox; default-src 'none'") {
		t.Errorf("the policy is %q", csp)
	}
	if got := a.header.Values("X-Content-Type-Options"); len(got) != 1 || got[0] != "nosniff" {
		t.Errorf("X-Content-Type-Options is %q", got)
	}
	for _, name := range []string{"Set-Cookie", "Clear-Site-Data", "Service-Worker-Allowed"} {
		if got := a.header.Get(name); got != "" {
			t.Errorf("%s is %q", name, got)
		}
	}
	if a.header.Get("Access-Control-Allow-Origin") != "*" {
		t.Error("what a flow may say to its callers is taken away")
	}
	for _, path := range []string{"/in/none", "/out/queues/q/messages", "/stand-ins/p"} {
		a := w.call("GET", path, "")
		if csp := a.header.Get("Content-Security-Policy"); !strings.HasPrefix(csp, "sandbox") ||
			a.header.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("%s: %d %v", path, a.status, a.header)
		}
	}
	page := w.call("GET", "/flows", "").header
	if csp := page.Get("Content-Security-Policy"); !strings.Contains(csp, "script-src "+w.server.URL+"/assets/;") ||
		!strings.Contains(csp, "frame-ancestors 'none'") || strings.Contains(csp, "script-src 'self'") ||
		page.Get("X-Frame-Options") != "DENY" || page.Get("Cross-Origin-Opener-Policy") != "same-origin" {
		t.Errorf("the page comes with %v", page)
	}
	if got := w.call("GET", "/api/v1/flows", "").header.Get("Cache-Control"); got != "no-store" {
		t.Errorf("answers may be kept: %q", got)
	}
}

// A page whose host name was made to lead to this machine calls by that name, and is
// refused, whatever it asks for. So is one that writes from elsewhere.
func TestForeignNamesAndPagesAreRefused(t *testing.T) {
	w := start(t)
	for _, path := range []string{"/", "/flows", "/api/v1/flows", "/metrics", "/healthz", "/api/openapi.json", "/in/x",
		"/out/queues/q/messages", "/stand-ins/p", "/assets/a.js"} {
		for _, host := range []string{"rebound.example", "127.0.0.1.rebound.example", "localhost.rebound.example:80",
			"0x7f.1", "10.0.0.1"} {
			if a := w.call("GET", path, "", "Host: "+host); a.status != http.StatusForbidden {
				t.Errorf("%s as %s: %d", path, host, a.status)
			}
		}
		for _, host := range []string{"localhost:1", "[::1]:80", "127.0.0.1"} {
			if a := w.call("GET", path, "", "Host: "+host); a.status == http.StatusForbidden {
				t.Errorf("%s as %s: %d", path, host, a.status)
			}
		}
	}
	for _, kind := range []string{"text/plain", "application/x-www-form-urlencoded", "multipart/form-data; boundary=x"} {
		for _, h := range [][]string{{"Sec-Fetch-Site: cross-site"}, {"Sec-Fetch-Site: same-site"},
			{"Origin: https://stranger.example"},
			{"Origin: null"}} {
			h = append(h, "Content-Type: "+kind)
			if a := w.call("POST", "/api/v1/flows/f/pause", "", h...); a.status != http.StatusForbidden {
				t.Errorf("%v: %d", h, a.status)
			}
		}
	}
}

// What programs are answered is a file to a browser; what should not happen is told by a reference
// to the log, whose own words stay there.
func TestAnswersToPrograms(t *testing.T) {
	w := start(t)
	for path, want := range map[string]string{"/api/v1/flows": `attachment; filename="api.json"`,
		"/api/v1/flows/none": `attachment; filename="api.json"`, "/healthz": ""} {
		if got := w.call("GET", path, "").header.Get("Content-Disposition"); got != want {
			t.Errorf("%s: %q", path, got)
		}
	}
	if err := w.store.Close(); err != nil {
		t.Fatal(err)
	}
	a := w.call("GET", "/api/v1/transactions", "")
	var p Problem
	if err := json.Unmarshal(a.body, &p); err != nil || a.status != http.StatusInternalServerError ||
		!strings.Contains(p.Detail, "under the reference ") || strings.Contains(p.Detail, "sql") {
		t.Errorf("%d %s %v", a.status, a.body, err)
	}
}

// By which names it may be called follows from how it was started.
func TestNamesOfTheApplication(t *testing.T) {
	public, err := url.Parse("https://ferry.example.org")
	if err != nil {
		t.Fatal(err)
	}
	behind := Door{Loopback: true, Public: public, Hosts: []string{"hooks.example.org"}}
	open := Door{}
	for _, c := range []struct {
		door       Door
		host, path string
		served     bool
	}{
		{behind, "ferry.example.org", "/flows", true},
		{behind, "FERRY.example.org", "/flows", true},
		{behind, "ferry.example.org:444", "/flows", false},
		{behind, "hooks.example.org", "/in/x", true},
		{behind, "elsewhere.example.org", "/in/x", false},
		{behind, "127.0.0.1:8420", "/flows", true},
		{open, "192.0.2.7:8420", "/flows", true},
		{open, "elsewhere.example.org", "/flows", false},
		{open, "elsewhere.example.org", "/metrics", false},
		{open, "elsewhere.example.org", "/in/x", true},
	} {
		s := &Server{door: c.door}
		r := httptest.NewRequest("GET", "http://"+c.host+c.path, nil)
		if why := s.foreign(r, c.path); (why == "") != c.served {
			t.Errorf("%s of %s: %q", c.path, c.host, why)
		}
	}
}

// Nobody but a named proxy is believed when it says where a call is from, or that it came
// over TLS.
func TestProxiesAreBelievedWhenNamed(t *testing.T) {
	named := &Server{door: Door{Proxies: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}}}
	r := httptest.NewRequest("GET", "http://127.0.0.1/", nil)
	r.Header.Set("X-Forwarded-Proto", "https")
	for remote, want := range map[string]bool{"192.0.2.9:1": true, "[::ffff:192.0.2.9]:1": true,
		"198.51.100.1:1": false, "": false} {
		if r.RemoteAddr = remote; named.secure(r) != want {
			t.Errorf("from %q over TLS: %v", remote, !want)
		}
	}
	if r.RemoteAddr = "192.0.2.9:1"; (&Server{}).secure(r) {
		t.Error("believed though nobody is named")
	}
}
