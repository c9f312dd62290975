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
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "caller"

const connectionSchema = `{
	"required": ["sign-in"],
	"properties": {
		"sign-in": {"type": "object", "title": "Sign-in", "required": ["kind"], "additionalProperties": false, "properties": {
				"kind": {"enum": ["api-key", "basic", "hmac"], "title": "Sign-in", "default": "api-key", "titles": {"api-key":
					"API key in a header", "basic": "user and password", "hmac": "signature (Standard Webhooks)"}},
				"user": {"type": "string", "title": "User", "when": {"kind": ["basic"]}},
				"header": {"type": "string", "title": "Header", "default": "x-api-key", "pattern": "^[A-Za-z0-9._-]+$",
					"when": {"kind": ["api-key"]}},
				"scheme": {"enum": ["standard-webhooks"], "title": "Scheme", "when": {"kind": ["hmac"]}},
				"secret": {"type": "string", "title": "Secret", "format": "secret"},
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
		Connection: system.Schema(connectionSchema),
	}
}

// tolerance is how far a signed time may lie from now (Standard Webhooks).
const tolerance = 5 * time.Minute

// ErrUnknown is what a caller gets that proves nothing. It does not say what
// was wrong.
var ErrUnknown = errors.New("the caller is not known here")

// Verify tells whether a request comes from one of the callers, and from
// which. It looks at every caller and every secret in any case.
func Verify(callers []*connect.Connection, header http.Header, body []byte, now time.Time) (name string, err error) {
	for _, c := range callers {
		if ok := verify(&c.SignIn, header, body, now); ok && name == "" {
			name = c.Name
		}
	}
	if name == "" {
		return "", ErrUnknown
	}
	return name, nil
}

func verify(s *connect.SignIn, header http.Header, body []byte, now time.Time) bool {
	switch s.Kind {
	case connect.SignInAPIKey:
		return anyEqual(header.Get(s.Header), s.Secrets)
	case connect.SignInBasic:
		user, password, ok := (&http.Request{Header: header}).BasicAuth()
		userOK := equal(user, s.User)
		return anyEqual(password, s.Secrets) && userOK && ok
	case connect.SignInHMAC:
		return standardWebhooks(s.Secrets, header, body, now)
	}
	return false
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

// standardWebhooks checks a signature as the Standard Webhooks specification
// has it: HMAC-SHA256 (RFC 2104) over "id.timestamp.body", base64, behind "v1,".
func standardWebhooks(secrets []string, header http.Header, body []byte, now time.Time) bool {
	id, stamp, given := header.Get("webhook-id"), header.Get("webhook-timestamp"), header.Get("webhook-signature")
	seconds, err := strconv.ParseInt(stamp, 10, 64)
	if err != nil || id == "" {
		return false
	}
	if at := time.Unix(seconds, 0); at.Before(now.Add(-tolerance)) || at.After(now.Add(tolerance)) {
		return false
	}
	ok := false
	for _, secret := range secrets {
		want, err := Sign(secret, id, seconds, body)
		if err != nil {
			continue
		}
		for _, signature := range strings.Fields(given) {
			if hmac.Equal([]byte(signature), []byte(want)) {
				ok = true
			}
		}
	}
	return ok
}

// Sign makes a Standard Webhooks signature. The secret is base64, with or
// without the prefix "whsec_".
func Sign(secret, id string, unix int64, body []byte) (string, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if err != nil {
		return "", fmt.Errorf("the secret is not base64: %w", err)
	}
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%d.", id, unix)
	mac.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil)), nil
}
