package http

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/connect/sign"
	"readyferry/connect/token"
)

// signInProperty is how one signs in over HTTP, as JSON Schema.
const signInProperty = `"sign-in": {"type": "object", "title": "Sign-in", "required": ["kind"], "additionalProperties": false, "properties": {
	"kind": {"enum": ["none", "basic", "bearer", "api-key", "oauth2", "hmac", "mtls"], "title": "Sign-in", "default": "none",
		"titles": {"basic": "user and password", "bearer": "bearer token", "api-key": "API key in a header",
			"oauth2": "OAuth 2 token", "hmac": "signature", "mtls": "certificate"}},
	"user": {"type": "string", "title": "User", "when": {"kind": ["basic"]}},
	"grant": {"enum": ["client-credentials", "jwt-bearer", "authorization-code"], "title": "The token is got by",
		"default": "client-credentials", "when": {"kind": ["oauth2"]}, "titles": {"client-credentials": "client id and secret",
			"jwt-bearer": "an assertion signed with a key (RFC 7523)", "authorization-code": "a person who signs in once"}},
	"token-address": {"type": "string", "title": "Tokens from", "when": {"kind": ["oauth2"]}, "description":
		"https://host/path, or stand-in://name/token", "examples": ["https://login.example.org/oauth2/token"]},
	"authorize-address": {"type": "string", "title": "People sign in at", "when": {"kind": ["oauth2"], "grant": ["authorization-code"]},
		"examples": ["https://login.example.org/oauth2/authorize"]},
	"client-id": {"type": "string", "title": "Client id", "when": {"kind": ["oauth2"], "grant": ["client-credentials", "authorization-code"]}},
	"credentials-in": {"enum": ["header", "body"], "title": "Credentials go in", "default": "header",
		"when": {"kind": ["oauth2"], "grant": ["client-credentials", "authorization-code"]}},
	"issuer": {"type": "string", "title": "Issuer", "when": {"kind": ["oauth2"], "grant": ["jwt-bearer"]}, "description":
		"who we are: the account's name"},
	"subject": {"type": "string", "title": "Subject", "when": {"kind": ["oauth2"], "grant": ["jwt-bearer"]}, "description":
		"for whom we act; the issuer when empty"},
	"scope": {"type": "string", "title": "Scope", "when": {"kind": ["oauth2"]}, "description": "what is asked for, several with spaces"},
	"audience": {"type": "string", "title": "Audience", "when": {"kind": ["oauth2"], "grant": ["client-credentials", "jwt-bearer"]},
		"description": "whom the token is for; of an assertion the token address when empty"},
	"scheme": {"enum": ["standard-webhooks", "message-signature", "template"], "title": "Scheme", "default": "standard-webhooks",
		"when": {"kind": ["hmac"]}, "titles": {"standard-webhooks": "Standard Webhooks",
			"message-signature": "HTTP Message Signatures (RFC 9421)", "template": "written as a template"}},
	"algorithm": {"enum": ["hmac-sha256", "ed25519", "ecdsa-p256-sha256", "rsa-pss-sha512", "rsa-v1_5-sha256"], "title": "Algorithm",
		"default": "hmac-sha256", "when": {"kind": ["hmac"], "scheme": ["message-signature"]}},
	"key-id": {"type": "string", "title": "Key id", "maxLength": 200, "when": {"kind": ["hmac", "oauth2"]}, "description":
		"by which the other side finds the key; of signatures and assertions"},
	"covers": {"type": "array", "title": "It covers", "items": {"type": "string", "pattern": "^(@[a-z-]+|[a-z0-9._-]+)$"}, "maxItems": 40,
		"when": {"kind": ["hmac"], "scheme": ["message-signature"]}, "description":
			"components; when empty @method, @authority, @path, @query, content-type and content-digest"},
	"value": {"type": "string", "title": "The header holds", "when": {"kind": ["hmac"], "scheme": ["template"]}, "maxLength": 2000,
		"description": "a template over request (method, authority, path, query, body, time, id) and secret",
		"examples": ["sha256=${hmac(request.body, secret, \"sha256\")}"]},
	"header": {"type": "string", "title": "Header", "pattern": "^[A-Za-z0-9._-]+$", "when": {"kind": ["api-key", "hmac"]},
		"description": "x-api-key, or x-signature of a template, when empty"},
	"time-header": {"type": "string", "title": "Time in", "pattern": "^[A-Za-z0-9._-]+$", "when": {"kind": ["hmac"], "scheme": ["template"]},
		"description": "the header that carries the time that is signed, in Unix seconds; none when empty"},
	"certificate": {"type": "string", "title": "Our certificate", "format": "certificate", "maxLength": 100000,
		"description": "PEM, with those between it and its authority", "when": {"kind": ["mtls"]}},
	"secret": {"type": "string", "title": "Secret", "format": "secret", "description":
		"the password, token or key; of certificates, assertions and signatures with a key pair the private key as PEM",
		"when": {"kind": ["basic", "bearer", "api-key", "oauth2", "hmac", "mtls"]}}}}`

// checkSignIn finds what the schema of the sign-in cannot say.
func checkSignIn(c *connect.Connection, found connect.Found) {
	need := func(settings ...string) {
		for _, name := range settings {
			if c.Text("/sign-in/"+name) == "" {
				found("/sign-in", "missing-key", "this way to sign in needs "+name, "add "+name+":")
			}
		}
	}
	switch c.SignIn.Kind {
	case signInOAuth2:
		need("token-address")
		switch c.Text("/sign-in/grant") {
		case token.AuthorizationCode:
			need("authorize-address", "client-id")
		case token.JWTBearer:
			need("issuer")
		default:
			need("client-id")
		}
		for _, name := range []string{"token-address", "authorize-address"} {
			if text := c.Text("/sign-in/" + name); text != "" {
				checkCallable(text, "/sign-in/"+name, found)
			}
		}
	case connect.SignInHMAC:
		if c.SignIn.Scheme != sign.Written {
			return
		}
		need("value")
		if _, err := sign.ReadTemplate(c.Text("/sign-in/value")); err != nil {
			found("/sign-in/value", "wrong-value", err.Error(), `write it as ${hmac(request.body, secret, "sha256")}`)
		}
	}
}

func checkCallable(text, ptr string, found connect.Found) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "http" && u.Scheme != "https" && u.Scheme != reach.StandInScheme {
		found(ptr, "wrong-value", fmt.Sprintf("%q is no address that can be called", text), "write it as https://host/path")
	}
}

const signInOAuth2 = "oauth2"

// signer signs what a connection sends.
type signer struct {
	tokens   *token.Source
	template *sign.Template
	now      func() time.Time
}

// newSigner makes it, once for each link.
func (l *link) newSigner() (*signer, error) {
	s := &signer{now: time.Now}
	switch {
	case l.c.SignIn.Kind == signInOAuth2:
		s.tokens = token.New(l.c, l.client, l.address, time.Now)
	case l.c.SignIn.Kind == connect.SignInHMAC && l.c.SignIn.Scheme == sign.Written:
		t, err := sign.ReadTemplate(l.c.Text("/sign-in/value"))
		if err != nil {
			return nil, err
		}
		s.template = t
	}
	return s, nil
}

// signIn puts on a request what proves who we are. used is the token that was, so that
// one that is refused can be fetched anew.
func (s *signer) signIn(ctx context.Context, req *http.Request, body []byte, id string, c *connect.Connection) (used string, err error) {
	in := &c.SignIn
	if in.Kind == connect.SignInNone || in.Kind == reach.SignInMTLS {
		return "", nil
	}
	if len(in.Secrets) == 0 && in.Kind != signInOAuth2 {
		return "", errors.New("the connection has no secret to sign in with")
	}
	switch in.Kind {
	case connect.SignInBasic:
		req.SetBasicAuth(in.User, in.Secrets[0])
	case connect.SignInBearer:
		req.Header.Set("Authorization", "Bearer "+in.Secrets[0])
	case connect.SignInAPIKey:
		req.Header.Set(in.Header, in.Secrets[0])
	case signInOAuth2:
		if used, err = s.tokens.Token(ctx); err != nil {
			return "", err
		}
		req.Header.Set("Authorization", "Bearer "+used)
	case connect.SignInHMAC:
		return "", s.signature(req, body, id, c)
	}
	return used, nil
}

// signature signs a request with a key.
func (s *signer) signature(req *http.Request, body []byte, id string, c *connect.Connection) error {
	r, now, secret := sign.Of(req, body), s.now(), c.SignIn.Secrets[0]
	switch c.SignIn.Scheme {
	case sign.MessageSignature:
		m := sign.Message{Algorithm: c.Text("/sign-in/algorithm"), Secret: secret, KeyID: c.Text("/sign-in/key-id"), Components: c.Texts("/sign-in/covers")}
		if m.Algorithm == "" {
			m.Algorithm = sign.HMACSHA256
		}
		if m.Algorithm != sign.HMACSHA256 {
			m.Secret = string(reach.Lines(secret))
		}
		return m.Sign(r, now)
	case sign.Written:
		header := c.SignIn.Header
		if header == "" {
			header = "X-Signature"
		}
		value, err := s.template.Eval(r, secret, id, now)
		if err != nil {
			return fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
		}
		req.Header.Set(header, value)
		if at := c.Text("/sign-in/time-header"); at != "" {
			req.Header.Set(at, fmt.Sprint(now.Unix()))
		}
		return nil
	}
	return sign.SignWebhook(r, secret, id, now)
}

// clientOf gives a client of its own to a connection that has TLS settings, a client
// certificate or a proxy.
func clientOf(shared *http.Client, c *connect.Connection) (*http.Client, error) {
	proxy := c.Text("/proxy")
	if c.Settings.Get("tls") == nil && proxy == "" && c.SignIn.Kind != reach.SignInMTLS {
		return &http.Client{
			CheckRedirect: shared.CheckRedirect, Transport: &asking{shared.Transport.(*http.Transport), c, false},
		}, nil
	}
	u, err := url.Parse(c.Address)
	if err != nil {
		return nil, err
	}
	config, err := reach.Config(c, u.Hostname())
	if err != nil {
		return nil, err
	}
	if c.Text("/tls/server-name") == "" {
		config.ServerName = "" // that of each address: tokens may come from another
	}
	transport := shared.Transport.(*http.Transport).Clone()
	transport.TLSClientConfig = config
	config.ClientSessionCache = tls.NewLRUClientSessionCache(0)
	if proxy != "" {
		through, err := url.Parse(proxy)
		if err != nil {
			return nil, err
		}
		transport.Proxy = http.ProxyURL(through)
	}
	return &http.Client{CheckRedirect: shared.CheckRedirect, Transport: &asking{transport, c, true}}, nil
}
