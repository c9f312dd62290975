// Package token gets the access tokens that systems over HTTP ask for (OAuth 2.0, RFC
// 6749): by the client's own credentials, by a refresh token that a person's sign-in has
// left, or by a signed assertion (RFC 7523).
//
// A token is fetched once for all that wait for it, renewed before it ends, and fetched
// anew when it was refused. It stands in memory alone and is never shown.
package token

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"
	"golang.org/x/oauth2/jwt"

	"readyferry/connect"
	"readyferry/connect/reach"
)

// The ways to get a token.
const (
	ClientCredentials = "client-credentials"
	AuthorizationCode = "authorization-code"
	JWTBearer         = "jwt-bearer"
)

// early is how long before its end a token is renewed, at most a tenth of its life.
const early = time.Minute

// unknownLife is how long a token is used that does not say when it ends.
const unknownLife = 30 * time.Minute

// ErrNotSignedIn tells that a person has to sign in first.
var ErrNotSignedIn = errors.New("nobody has signed in yet: open the connection and sign in")

// Source gives the tokens of one connection. It is safe for concurrent use.
type Source struct {
	c       *connect.Connection
	client  *http.Client
	resolve func(address string) (string, error)
	now     func() time.Time

	mu      sync.Mutex // held while one is fetched: who else wants it waits for that
	token   *oauth2.Token
	until   time.Time
	refresh string // the newest refresh token
}

// New makes a source. client speaks with the server that gives tokens, whose address
// resolve makes one that can be called.
func New(c *connect.Connection, client *http.Client, resolve func(address string) (string, error), now func() time.Time) *Source {
	s := &Source{c: c, client: client, resolve: resolve, now: now}
	if len(c.SignIn.Secrets) > 1 {
		s.refresh = c.SignIn.Secrets[1]
	}
	return s
}

// Token gives a token that is good now.
func (s *Source) Token(ctx context.Context) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.token != nil && s.now().Before(s.until) {
		return s.token.AccessToken, nil
	}
	t, err := s.fetch(context.WithValue(ctx, oauth2.HTTPClient, s.client))
	if err != nil {
		return "", InWords(err)
	}
	s.keep(t)
	return t.AccessToken, nil
}

// Refused tells that a token was not taken: the next one is fetched anew.
func (s *Source) Refused(token string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.token != nil && s.token.AccessToken == token {
		s.token = nil
	}
}

func (s *Source) keep(t *oauth2.Token) {
	life := unknownLife
	if !t.Expiry.IsZero() {
		life = time.Until(t.Expiry) // as the library reckons it
	}
	s.token, s.until = t, s.now().Add(life-min(early, life/10))
	if t.RefreshToken != "" && t.RefreshToken != s.refresh {
		s.refresh = t.RefreshToken // RFC 6749, 6: the old one may be void from now on
		if s.c.Renewed != nil {
			s.c.Renewed(t.RefreshToken)
		}
	}
}

func (s *Source) fetch(ctx context.Context) (*oauth2.Token, error) {
	ctx, cancel := context.WithTimeout(ctx, s.c.TimeLimit)
	defer cancel()
	at, err := s.resolve(s.c.Text("/sign-in/token-address"))
	if err != nil {
		return nil, err
	}
	secret := first(s.c)
	switch s.c.Text("/sign-in/grant") {
	case AuthorizationCode:
		if s.refresh == "" {
			return nil, ErrNotSignedIn
		}
		return Config(s.c, "", "", at).TokenSource(ctx, &oauth2.Token{RefreshToken: s.refresh}).Token()
	case JWTBearer:
		config := &jwt.Config{
			Email: s.c.Text("/sign-in/issuer"), Subject: s.c.Text("/sign-in/subject"), PrivateKey: reach.Lines(secret),
			PrivateKeyID: s.c.Text("/sign-in/key-id"), Scopes: scopes(s.c), TokenURL: at,
			Audience: s.c.Text("/sign-in/audience"),
		}
		if config.Subject == "" {
			config.Subject = config.Email
		}
		return config.TokenSource(ctx).Token()
	}
	config := &clientcredentials.Config{
		ClientID: s.c.Text("/sign-in/client-id"), ClientSecret: secret, TokenURL: at, Scopes: scopes(s.c),
		AuthStyle: style(s.c),
	}
	if audience := s.c.Text("/sign-in/audience"); audience != "" {
		config.EndpointParams = url.Values{"audience": {audience}}
	}
	return config.Token(ctx)
}

// Config gives what signing in by a person needs: where that person signs in and comes
// back to, and where tokens are given.
func Config(c *connect.Connection, back, authorize, tokens string) *oauth2.Config {
	return &oauth2.Config{
		ClientID: c.Text("/sign-in/client-id"), ClientSecret: first(c), RedirectURL: back, Scopes: scopes(c),
		Endpoint: oauth2.Endpoint{AuthURL: authorize, TokenURL: tokens, AuthStyle: style(c)},
	}
}

func first(c *connect.Connection) string {
	if len(c.SignIn.Secrets) == 0 {
		return ""
	}
	return c.SignIn.Secrets[0]
}

func style(c *connect.Connection) oauth2.AuthStyle {
	if c.Text("/sign-in/credentials-in") == "body" {
		return oauth2.AuthStyleInParams
	}
	return oauth2.AuthStyleInHeader
}

func scopes(c *connect.Connection) []string { return strings.Fields(c.Text("/sign-in/scope")) }

// InWords says why there is no token. It holds nothing that was sent.
func InWords(err error) error {
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused):
		return &Refusal{refused.Response.StatusCode, said(refused)}
	case errors.Is(err, ErrNotSignedIn):
		return err
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return fmt.Errorf("getting a token: %w", err)
}

// said gives the error and its description, which the library reads for some ways alone.
func said(refused *oauth2.RetrieveError) string {
	var in struct {
		Error       string `json:"error"`
		Description string `json:"error_description"`
	}
	in.Error, in.Description = refused.ErrorCode, refused.ErrorDescription
	if in.Error == "" {
		_ = json.Unmarshal(refused.Body, &in)
	}
	if in.Error == "" {
		return "it does not say why"
	}
	return strings.TrimSpace(in.Error + " " + in.Description)
}

// Refusal is a refused request for a token.
type Refusal struct {
	Status int
	Why    string // the server's own word (RFC 6749, 5.2)
}

// Error implements error.
func (r *Refusal) Error() string {
	return fmt.Sprintf("the server that gives tokens refused with %d: %.300s", r.Status, r.Why)
}
