package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"readyferry/core/access"
	"readyferry/store"
)

// OpenID is an issuer by whom people sign in (OpenID Connect Core 1.0, with the code flow,
// PKCE and a nonce). What it says of them may give them roles.
type OpenID struct {
	Issuer, Client, Secret string
	// Roles give roles by claims; where there are some, they are given anew at each sign-in,
	// and nobody comes in whom none fits. Without any an owner gives roles, and adds people
	// beforehand under the name that the issuer calls them.
	Roles []RoleOf
	// HTTP reaches the issuer; nil: a client that follows no redirect.
	HTTP *http.Client

	mu       sync.Mutex
	provider *oidc.Provider
	begun    map[string]openIDSignIn
}

// RoleOf gives a role to whoever has a value among those of a claim.
type RoleOf struct {
	Claim, Value string
	Grant        access.Grant
}

// ParseRoleOf reads claim=value:role or claim=value:role@area.
func ParseRoleOf(text string) (RoleOf, error) {
	claim, rest, ok := strings.Cut(text, "=")
	i := strings.LastIndex(rest, ":")
	if !ok || claim == "" || i <= 0 {
		return RoleOf{}, fmt.Errorf("%q gives no role; write claim=value:role or claim=value:role@area", text)
	}
	role, area, in := strings.Cut(rest[i+1:], "@")
	if !in {
		area = access.Everywhere
	}
	r := RoleOf{Claim: claim, Value: rest[:i], Grant: access.Grant{Role: access.Role(role), Area: area}}
	return r, r.Grant.Check()
}

type openIDSignIn struct {
	nonce, verifier, back string
	until                 time.Time
}

// How long somebody may take to sign in at the issuer, and how many may do so at once.
const (
	signInWithin  = 10 * time.Minute
	signInsAtOnce = 10_000
	askWithin     = 15 * time.Second
)

var plainClient = &http.Client{Timeout: askWithin,
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

func (o *OpenID) context(ctx context.Context) context.Context {
	c := o.HTTP
	if c == nil {
		c = plainClient
	}
	return oidc.ClientContext(ctx, c)
}

// ask reads what the issuer says of itself, once it answers.
func (o *OpenID) ask(ctx context.Context) (*oidc.Provider, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.provider != nil {
		return o.provider, nil
	}
	p, err := oidc.NewProvider(o.context(context.WithoutCancel(ctx)), o.Issuer)
	if err != nil {
		return nil, fmt.Errorf("%w: the issuer %s does not answer as one: %w", ErrRule, o.Issuer, err)
	}
	o.provider = p
	return p, nil
}

func (o *OpenID) config(p *oidc.Provider, back string) *oauth2.Config {
	return &oauth2.Config{ClientID: o.Client, ClientSecret: o.Secret, Endpoint: p.Endpoint(), RedirectURL: back,
		Scopes: []string{oidc.ScopeOpenID, "profile", "email", "groups"}}
}

// Begin gives where a browser goes to sign in, and the state that it has to bring back. back
// is where it comes back to.
func (o *OpenID) Begin(ctx context.Context, back string, now time.Time) (to, state string, err error) {
	p, err := o.ask(ctx)
	if err != nil {
		return "", "", err
	}
	state = rand.Text()
	s := openIDSignIn{nonce: rand.Text(), verifier: oauth2.GenerateVerifier(), back: back, until: now.Add(signInWithin)}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.begun == nil {
		o.begun = map[string]openIDSignIn{}
	}
	for k, one := range o.begun {
		if now.After(one.until) || len(o.begun) >= signInsAtOnce {
			delete(o.begun, k)
		}
	}
	o.begun[state] = s
	return o.config(p, back).AuthCodeURL(state, oidc.Nonce(s.nonce), oauth2.S256ChallengeOption(s.verifier)), state, nil
}

// taken gives a sign-in that was begun, once.
func (o *OpenID) taken(state, held string, now time.Time) (openIDSignIn, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	s, there := o.begun[state]
	delete(o.begun, state)
	if !there || now.After(s.until) || subtle.ConstantTimeCompare([]byte(state), []byte(held)) != 1 {
		return s, fmt.Errorf("%w: this sign-in was not begun in this browser, or took too long; begin again", ErrRule)
	}
	return s, nil
}

// claims are what an issuer says of somebody.
type claims struct {
	Subject string `json:"sub"`
	Name    string `json:"name"`
	Login   string `json:"preferred_username"`
	Email   string `json:"email"`
	Proven  bool   `json:"email_verified"`
	all     map[string]any
}

// end verifies what the issuer answered.
func (o *OpenID) end(ctx context.Context, s openIDSignIn, code string) (*claims, error) {
	p, err := o.ask(ctx)
	if err != nil {
		return nil, err
	}
	ctx = o.context(ctx)
	t, err := o.config(p, s.back).Exchange(ctx, code, oauth2.VerifierOption(s.verifier))
	if err != nil {
		return nil, fmt.Errorf("%w: the issuer gives no token for the code: %w", ErrRule, err)
	}
	raw, _ := t.Extra("id_token").(string)
	id, err := p.Verifier(&oidc.Config{ClientID: o.Client}).Verify(ctx, raw)
	if err != nil {
		return nil, fmt.Errorf("%w: what the issuer says is not taken: %w", ErrRule, err)
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(s.nonce)) != 1 {
		return nil, fmt.Errorf("%w: the issuer answers another question than was asked", ErrRule)
	}
	c := &claims{}
	if err := errors.Join(id.Claims(c), id.Claims(&c.all)); err != nil {
		return nil, err
	}
	c.Subject = id.Issuer + " " + id.Subject
	return c, nil
}

// grants gives the roles that claims give.
func (o *OpenID) grants(c *claims) (out []access.Grant) {
	for _, r := range o.Roles {
		if has(c.all[r.Claim], r.Value) && !slices.Contains(out, r.Grant) {
			out = append(out, r.Grant)
		}
	}
	return out
}

func has(claim any, value string) bool {
	switch c := claim.(type) {
	case string:
		return c == value
	case []any:
		return slices.ContainsFunc(c, func(one any) bool { return has(one, value) })
	}
	return false
}

// ByOpenID lets somebody in whom the issuer has sent back with a code. held is the state that
// the browser was given when it went.
func (p *People) ByOpenID(ctx context.Context, o *OpenID, state, held, code string, a Arrival, old string) (string,
	*access.Who, error) {
	s, err := o.taken(state, held, p.now())
	if err != nil {
		return "", nil, err
	}
	c, err := o.end(ctx, s, code)
	if err != nil {
		return "", nil, err
	}
	row, err := p.personOf(ctx, o, c)
	if err != nil {
		return "", nil, err
	}
	return p.let(ctx, row, a, old)
}

// personOf finds who it is, or lets them be somebody from now on: whoever is known by the same
// subject, whoever an owner has added under the name and has no other way in, or, where claims
// give roles, somebody new.
func (p *People) personOf(ctx context.Context, o *OpenID, c *claims) (row *store.Person, err error) {
	grants := o.grants(c)
	if len(o.Roles) > 0 && len(grants) == 0 {
		return nil, fmt.Errorf("%w: the issuer says nothing of you that gives you a role here; ask an owner", ErrRule)
	}
	name := NameOf(c.Login)
	if name == "" && c.Proven {
		name = NameOf(c.Email)
	}
	err = p.store.Write(ctx, func(tx *store.Tx) error {
		found, err := tx.PersonOf(c.Subject)
		if errors.Is(err, store.ErrNotFound) {
			found, err = p.newcomer(tx, name, c, len(o.Roles) > 0)
		}
		if err != nil {
			return err
		}
		if len(o.Roles) > 0 {
			found.Grants = grantsOf(grants)
		}
		row = &found
		return tx.SavePerson(row)
	})
	return row, err
}

func (p *People) newcomer(tx *store.Tx, name string, c *claims, add bool) (store.Person, error) {
	if err := checkName(name); err != nil {
		return store.Person{}, fmt.Errorf("%w: the issuer gives no name that can be taken here (preferred_username, or a verified email)", ErrRule)
	}
	found, err := tx.Person(name)
	switch {
	case errors.Is(err, store.ErrNotFound) && add:
		found = store.Person{Name: name, Title: c.Name, CreatedAt: p.now(), Grants: json.RawMessage("[]")}
	case errors.Is(err, store.ErrNotFound):
		return found, fmt.Errorf("%w: nobody has added %s here yet; ask an owner", ErrRule, name)
	case err != nil:
		return found, err
	case found.Password != "" || found.Subject != "":
		return found, fmt.Errorf("%w: there is somebody named %s already who signs in otherwise; ask an owner", ErrRule, name)
	}
	found.Subject, found.ChangedAt = c.Subject, p.now()
	return found, nil
}
