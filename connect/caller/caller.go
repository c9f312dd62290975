// Package caller is the system of those who call us: it decides who may call a
// webhook. All comparisons of secrets take the same time whatever is compared.
//
// There are three ways to say who one is: a key in a header; user and password
// (RFC 7617); a signature over id, time and body as Standard Webhooks 1.0 has it,
// whose time must be within five minutes of ours. Several secrets may be in force,
// so that a caller can change over. Nothing is ever sent to a caller, so its link
// neither sends nor receives.
package caller

import (
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/connect/sign"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "caller"

const connectionSchema = `{
	"required": ["sign-in"],
	"properties": {
		"sign-in": {"type": "object", "title": "Sign-in", "required": ["kind"], "additionalProperties": false, "properties": {
				"kind": {"enum": ["api-key", "basic", "hmac"], "title": "Sign-in", "default": "api-key", "titles": {"api-key":
					"API key in a header", "basic": "user and password", "hmac": "signature"}},
				"user": {"type": "string", "title": "User", "when": {"kind": ["basic"]}},
				"scheme": {"enum": ["standard-webhooks", "message-signature", "template"], "title": "Scheme", "default": "standard-webhooks",
					"when": {"kind": ["hmac"]}, "titles": {"standard-webhooks": "Standard Webhooks",
						"message-signature": "HTTP Message Signatures (RFC 9421)", "template": "written as a template"}},
				"algorithm": {"enum": ["hmac-sha256", "ed25519", "ecdsa-p256-sha256", "rsa-pss-sha512", "rsa-v1_5-sha256"],
					"title": "Algorithm", "default": "hmac-sha256", "when": {"kind": ["hmac"], "scheme": ["message-signature"]}},
				"key-id": {"type": "string", "title": "Key id", "maxLength": 200,
					"when": {"kind": ["hmac"], "scheme": ["message-signature"]}, "description": "any when empty"},
				"covers": {"type": "array", "title": "It covers", "items": {"type": "string", "pattern": "^(@[a-z-]+|[a-z0-9._-]+)$"},
					"maxItems": 40, "when": {"kind": ["hmac"], "scheme": ["message-signature"]}, "description":
						"at least; when empty @method, @authority, @path, @query, content-type and content-digest"},
				"value": {"type": "string", "title": "The header holds", "when": {"kind": ["hmac"], "scheme": ["template"]}, "maxLength": 2000,
					"description": "a template over request (method, authority, path, query, body, time, id) and secret",
					"examples": ["sha256=${hmac(request.body, secret, \"sha256\")}"]},
				"header": {"type": "string", "title": "Header", "pattern": "^[A-Za-z0-9._-]+$", "when": {"kind": ["api-key", "hmac"]},
					"description": "x-api-key, or x-signature of a template, when empty"},
				"time-header": {"type": "string", "title": "Time in", "pattern": "^[A-Za-z0-9._-]+$",
					"when": {"kind": ["hmac"], "scheme": ["template"]}, "description":
						"the header with the time that is signed, in Unix seconds: older than five minutes is refused; none when empty"},
				"secret": {"type": "string", "title": "Secret", "format": "secret", "description":
					"the key or password; of a key pair the public key as PEM"},
				"secrets": {"type": "array", "items": {"type": "string", "format": "secret"}, "title": "Secrets", "description":
					"several, while a caller changes its key", "when": {"kind": []}}}}
	}
}`

// System is the kind of system. It has no Open: nobody is called.
func System() connect.System {
	return connect.System{
		Kind: system.Kind{
			Name:    Kind,
			Title:   "Caller",
			Summary: "Somebody who calls us: who it is, and how it proves that.",
		},
		Connection: system.Schema(connectionSchema), Check: check,
	}
}

// check finds what the schema cannot say.
func check(c *connect.Connection, found connect.Found) {
	if c.SignIn.Kind != connect.SignInHMAC || c.SignIn.Scheme != sign.Written {
		return
	}
	if _, err := sign.ReadTemplate(c.Text("/sign-in/value")); err != nil || c.Text("/sign-in/value") == "" {
		found("/sign-in/value", "wrong-value", fmt.Sprintf("it is no signature: %v", err), `write it as ${hmac(request.body, secret, "sha256")}`)
	}
}

// ErrUnknown is what a caller gets that proves nothing. It does not say what
// was wrong.
var ErrUnknown = errors.New("the caller is not known here")

// Verifier tells who calls. The zero value is ready; it is safe for concurrent use.
type Verifier struct {
	mu        sync.Mutex
	templates map[string]*sign.Template // of signatures, by how they are written
}

// mostTemplates bounds how many compiled templates are kept.
const mostTemplates = 100

// Verify tells whether a request comes from one of the callers, and from
// which. It looks at every caller and every secret in any case.
func (v *Verifier) Verify(callers []*connect.Connection, r *sign.Request, now time.Time) (name string, err error) {
	for _, c := range callers {
		if ok := v.verify(c, r, now); ok && name == "" {
			name = c.Name
		}
	}
	if name == "" {
		return "", ErrUnknown
	}
	return name, nil
}

func (v *Verifier) verify(c *connect.Connection, r *sign.Request, now time.Time) bool {
	s := &c.SignIn
	switch s.Kind {
	case connect.SignInAPIKey:
		return anyEqual(r.Header.Get(s.Header), s.Secrets)
	case connect.SignInBasic:
		user, password, ok := (&http.Request{Header: r.Header}).BasicAuth()
		userOK := equal(user, s.User)
		return anyEqual(password, s.Secrets) && userOK && ok
	case connect.SignInHMAC:
		return v.signed(c, r, now) == nil
	}
	return false
}

// signed checks a signature.
func (v *Verifier) signed(c *connect.Connection, r *sign.Request, now time.Time) error {
	switch c.SignIn.Scheme {
	case sign.MessageSignature:
		err := error(ErrUnknown)
		for _, secret := range c.SignIn.Secrets {
			m := sign.Message{Algorithm: c.Text("/sign-in/algorithm"), Secret: secret, KeyID: c.Text("/sign-in/key-id"), Components: c.Texts("/sign-in/covers")}
			if m.Algorithm == "" {
				m.Algorithm = sign.HMACSHA256
			}
			if m.Algorithm != sign.HMACSHA256 {
				m.Secret = string(reach.Lines(secret))
			}
			if fits := m.Verify(r, now); fits == nil {
				err = nil
			}
		}
		return err
	case sign.Written:
		t, err := v.template(c.Text("/sign-in/value"))
		if err != nil {
			return err
		}
		header := c.SignIn.Header
		if header == "" {
			header = "X-Signature"
		}
		return t.Verify(r, header, c.Text("/sign-in/time-header"), c.SignIn.Secrets, now)
	}
	return sign.VerifyWebhook(r, c.SignIn.Secrets, now)
}

// template compiles how a signature is written, once.
func (v *Verifier) template(source string) (*sign.Template, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if t := v.templates[source]; t != nil {
		return t, nil
	}
	t, err := sign.ReadTemplate(source)
	if err != nil {
		return nil, err
	}
	if v.templates == nil || len(v.templates) >= mostTemplates {
		v.templates = map[string]*sign.Template{}
	}
	v.templates[source] = t
	return t, nil
}

// equal compares in a time that depends on neither value: both are hashed first.
func equal(given, secret string) bool {
	a, b := sha256.Sum256([]byte(given)), sha256.Sum256([]byte(secret))
	return subtle.ConstantTimeCompare(a[:], b[:]) == 1
}

func anyEqual(given string, secrets []string) bool {
	found := 0
	for _, s := range secrets {
		if equal(given, s) && s != "" {
			found = 1
		}
	}
	return found == 1
}
