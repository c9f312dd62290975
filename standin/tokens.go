package standin

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"html"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
)

// Tokens lets a stand-in over HTTP give access tokens (OAuth 2.0, RFC 6749) and take
// nothing without one.
type Tokens struct {
	Path      string `json:"path"`          // where they are given, /token when empty
	Authorize string `json:"authorize"`     // where a person signs in, /authorize when empty
	Seconds   int    `json:"seconds"`       // how long one is good, 3600 when 0
	Key       string `json:"key,omitempty"` // public key as PEM of whoever signs assertions; any may when empty
}

func (t *Tokens) check() error {
	switch {
	case t.Path != "" && !strings.HasPrefix(t.Path, "/"), t.Authorize != "" && !strings.HasPrefix(t.Authorize, "/"):
		return errors.New("tokens: a path begins with /")
	case t.Seconds < 0 || t.Seconds > 86_400:
		return fmt.Errorf("tokens: seconds must be between 1 and 86400, not %d", t.Seconds)
	}
	if t.Key != "" {
		if _, err := rsaKey(t.Key); err != nil {
			return fmt.Errorf("tokens: key: %w", err)
		}
	}
	return nil
}

func rsaKey(text string) (*rsa.PublicKey, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil, errors.New("it is not PEM")
	}
	key, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, errors.New("it is no public key")
	}
	rs, is := key.(*rsa.PublicKey)
	if !is {
		return nil, errors.New("it is no key of RSA")
	}
	return rs, nil
}

// gate is what a stand-in with tokens has given out.
type gate struct {
	mu     sync.Mutex
	tokens map[string]time.Time // access tokens, until when
	codes  map[string]asked     // of people who have signed in
	again  map[string]bool      // refresh tokens; each is good once
}

type asked struct{ challenge, back string }

// mostGiven bounds what a gate remembers.
const mostGiven = 1000

func (g *gate) room() {
	if len(g.tokens)+len(g.codes)+len(g.again) > mostGiven {
		g.tokens, g.codes, g.again = map[string]time.Time{}, map[string]asked{}, map[string]bool{}
	}
	if g.tokens == nil {
		g.tokens, g.codes, g.again = map[string]time.Time{}, map[string]asked{}, map[string]bool{}
	}
}

// answer says what the gate of a stand-in answers; done is false where the call goes on
// to the stand-in itself.
func (g *gate) answer(t *Tokens, r *http.Request, path string, body []byte, now time.Time) (status int, kind,
	text string, done bool) {
	tokens, authorize := t.Path, t.Authorize
	if tokens == "" {
		tokens = "/token"
	}
	if authorize == "" {
		authorize = "/authorize"
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.room()
	switch path {
	case tokens:
		status, text = g.give(t, r, body, now)
		return status, "application/json", text, true
	case authorize:
		status, text = g.person(r)
		return status, "text/html; charset=utf-8", text, true
	}
	given, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if until, is := g.tokens[given]; !is || !now.Before(until) {
		return http.StatusUnauthorized, "application/problem+json",
			`{"title":"The token is not known, or has ended","status":401}`, true
	}
	return 0, "", "", false
}

// person shows the page on which a person lets the application in.
func (g *gate) person(r *http.Request) (int, string) {
	q := r.URL.Query()
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || back.Host == "" || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" {
		return http.StatusBadRequest, "<p>This is no request to sign in."
	}
	code := rand.Text()
	g.codes[code] = asked{q.Get("code_challenge"), q.Get("redirect_uri")}
	values := back.Query()
	values.Set("code", code)
	values.Set("state", q.Get("state"))
	back.RawQuery = values.Encode()
	return http.StatusOK, fmt.Sprintf(`<!doctype html><title>Let somebody in</title><h1>May %s act for you?</h1><p><a href="%s">Allow it</a>`,
		html.EscapeString(q.Get("client_id")), html.EscapeString(back.String()))
}

// give gives a token for what a client shows (RFC 6749, 4.1.3, 4.4.2 and 6; RFC 7523, 2.1).
func (g *gate) give(t *Tokens, r *http.Request, body []byte, now time.Time) (int, string) {
	form, err := url.ParseQuery(string(body))
	if err != nil || r.Method != http.MethodPost {
		return refuse("invalid_request")
	}
	client, _, basic := r.BasicAuth()
	if !basic {
		client = form.Get("client_id")
	}
	lasting := false
	switch form.Get("grant_type") {
	case "client_credentials":
		if client == "" {
			return refuse("invalid_client")
		}
	case "authorization_code":
		code, is := g.codes[form.Get("code")]
		delete(g.codes, form.Get("code"))
		if !is || code.back != form.Get("redirect_uri") || !proves(form.Get("code_verifier"), code.challenge) {
			return refuse("invalid_grant")
		}
		lasting = true
	case "refresh_token":
		if !g.again[form.Get("refresh_token")] {
			return refuse("invalid_grant")
		}
		delete(g.again, form.Get("refresh_token"))
		lasting = true
	case "urn:ietf:params:oauth:grant-type:jwt-bearer":
		if err := asserted(t.Key, form.Get("assertion"), now); err != nil {
			return refuse("invalid_grant")
		}
	default:
		return refuse("unsupported_grant_type")
	}
	seconds := t.Seconds
	if seconds == 0 {
		seconds = 3600
	}
	out := map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": seconds}
	g.tokens[out["access_token"].(string)] = now.Add(time.Duration(seconds) * time.Second)
	if lasting {
		out["refresh_token"] = rand.Text()
		g.again[out["refresh_token"].(string)] = true
	}
	text, _ := json.Marshal(out)
	return http.StatusOK, string(text)
}

func refuse(why string) (int, string) {
	status := http.StatusBadRequest
	if why == "invalid_client" {
		status = http.StatusUnauthorized
	}
	return status, fmt.Sprintf(`{"error":%q}`, why)
}

// proves compares a verifier with its challenge (RFC 7636, 4.6).
func proves(verifier, challenge string) bool {
	d := sha256.Sum256([]byte(verifier))
	return subtle.ConstantTimeCompare([]byte(base64.RawURLEncoding.EncodeToString(d[:])), []byte(challenge)) == 1
}

// asserted checks a signed assertion (RFC 7523, 3): who, for whom, until when, and by RS256.
func asserted(key, assertion string, now time.Time) error {
	parts := strings.Split(assertion, ".")
	if len(parts) != 3 {
		return errors.New("it has no three parts")
	}
	var claims struct {
		Iss, Sub, Aud string
		Exp           int64
	}
	raw, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil || json.Unmarshal(raw, &claims) != nil || claims.Iss == "" || claims.Sub == "" || claims.Aud == "" ||
		claims.Exp < now.Unix() {
		return errors.New("a claim is missing or over")
	}
	if key == "" {
		return nil
	}
	public, err := rsaKey(key)
	if err != nil {
		return err
	}
	signature, err := base64.RawURLEncoding.DecodeString(parts[2])
	if err != nil {
		return err
	}
	d := sha256.Sum256([]byte(parts[0] + "." + parts[1]))
	return rsa.VerifyPKCS1v15(public, crypto.SHA256, d[:], signature)
}
