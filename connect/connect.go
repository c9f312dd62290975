package connect

import (
	"bytes"
	"fmt"
	"reflect"
	"time"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/outbound"
	"readyferry/core/pointer"
	"readyferry/core/retry"
	"readyferry/core/step"
)

// The ways to sign in that several systems have.
const (
	SignInNone   = "none"
	SignInBasic  = "basic"
	SignInBearer = "bearer"
	SignInAPIKey = "api-key"
	SignInHMAC   = "hmac"
)

// Connection is an outside system, as its document says.
type Connection struct {
	Name, Title, Note, Kind string
	Address                 string // without a slash at its end
	At                      string // the runner by which it is reached; "": from here
	SignIn                  SignIn
	SecretUntil             time.Time     // when the secret ends; zero: nobody has said
	SecretFrom              string        // name of a secret of the place; "": it is kept here, or there is none
	TimeLimit               time.Duration // for one try
	InFlight                int           // tries at once
	PerSecond               float64       // tries per second, 0 for no limit
	Retry                   *retry.Plan   // what a delivery uses that names none
	Trip                    int           // "again" outcomes in a row after which deliveries wait; 0: never
	Probe                   time.Duration // pause between probes while they wait
	HeldDuring              string        // a calendar of times at which nothing is delivered; "" for none
	Settings                Settings      // the whole document, without secrets
	// Renewed keeps a secret that the system gives in place of an earlier one, the
	// second of SignIn.Secrets; nil where nothing is kept.
	Renewed func(secret string)
	// Named are the hosts that it may reach, with the kinds of address that they had when it
	// was saved, and Outside is how; a nil Outside reaches whatever this machine does.
	Named   outbound.Named
	Outside *Outside
	// Shown is told when the certificate ends that the system showed; nil: nobody asks.
	Shown func(ends time.Time)
}

// SignIn is how one side proves who it is.
type SignIn struct {
	Kind   string
	User   string
	Header string
	Scheme string
	// Secrets are the passwords, tokens or keys; several for a caller that is
	// changing its key.
	Secrets []string
}

// Text gives a setting by its JSON Pointer as its text, "" where it is not there.
func (c *Connection) Text(ptr string) string {
	p, err := pointer.Parse(ptr)
	if err != nil || c.Settings == nil {
		return ""
	}
	v, err := p.Get(c.Settings)
	if err != nil {
		return ""
	}
	return v.Text
}

// Texts gives a list of settings by its JSON Pointer, nil where it is not there.
func (c *Connection) Texts(ptr string) (out []string) {
	p, err := pointer.Parse(ptr)
	if err != nil || c.Settings == nil {
		return nil
	}
	if v, err := p.Get(c.Settings); err == nil {
		for _, one := range v.Items {
			out = append(out, one.Text)
		}
	}
	return out
}

// Same tells whether two connections are reached in the same way, so that an open
// link serves both.
func (c *Connection) Same(o *Connection) bool {
	if len(c.SignIn.Secrets) != len(o.SignIn.Secrets) || !reflect.DeepEqual(c.Named, o.Named) ||
		!bytes.Equal(jsonfmt.Encode(c.Settings), jsonfmt.Encode(o.Settings)) {
		return false
	}
	for i := range c.SignIn.Secrets {
		if c.SignIn.Secrets[i] != o.SignIn.Secrets[i] {
			return false
		}
	}
	return true
}

// The settings that every connection has, and those of every one that we reach.
// The first are shown before, the second behind those of the system.
const (
	headProperties = `{
		"readyferry": {"const": "connection/1"},
		"kind": {"type": "string"},
		"name": {"type": "string", "title": "Name", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$", "maxLength": 100,
			"description": "letters, digits, hyphens"},
		"title": {"type": "string", "title": "Title"},
		"area": {"type": "string", "title": "Area", "pattern": "^[a-z0-9][a-z0-9-]*$", "maxLength": 60, "description":
			"by which rights are given; none when empty"},
		"note": {"type": "string", "title": "Note"}}`
	secretProperties = `{
		"secret-from": {"type": "string", "title": "Credential by name", "pattern": "^[a-zA-Z_][a-zA-Z0-9_-]*$", "maxLength": 100,
			"description": "name of a secret that the application is started with, in place of one that is kept here"},
		"secret-until": {"type": "string", "title": "Credential ends", "maxLength": 10, "description":
			"day on which the secret ends, such as 2027-01-31: an alarm rings before"}}`
	reachProperties = `{
		"at": {"type": "string", "title": "At the runner", "format": "runner", "pattern": "^[a-z0-9][a-z0-9-]*$", "maxLength": 63,
			"description": "name of the runner beside it, where only a closed network reaches it; empty: it is reached from here"},
		"time-limit": {"type": "string", "title": "Time limit", "format": "duration", "default": "10s", "description":
			"for one try"},
		"limits": {"type": "object", "title": "Limits", "additionalProperties": false, "properties": {
			"in-flight": {"type": "integer", "title": "At once", "minimum": 1, "maximum": 1000, "default": 8, "description":
				"tries in flight"},
			"per-second": {"type": "number", "title": "Per second", "exclusiveMinimum": 0, "maximum": 100000, "description":
				"no limit when empty"}}},
		"breaker": {"type": "object", "title": "Pause", "additionalProperties": false, "required": ["trip"], "properties": {
			"trip": {"type": "integer", "title": "Pause after", "minimum": 1, "maximum": 1000, "description":
				"failures in a row"},
			"probe": {"type": "string", "title": "Probe every", "format": "duration", "default": "30s", "description":
				"while it is paused"}}},
		"hold": {"type": "object", "title": "Hold", "additionalProperties": false, "required": ["during"], "properties": {
			"during": {"type": "string", "title": "Hold during", "format": "calendar", "minLength": 1, "maxLength": 100, "description":
				"name of a calendar: deliveries wait while it covers the time, as for maintenance each night"}}},
		"operations": {"type": "array", "title": "Operations", "maxItems": 500, "description":
			"what deliveries are offered, from the partner's contract", "items": {"type": "object", "additionalProperties": false,
				"required": ["name", "settings"], "properties": {
				"name": {"type": "string", "maxLength": 500}, "title": {"type": "string", "maxLength": 1000},
				"settings": {"type": "object"}, "sample": {"type": "string", "maxLength": 200000}, "format": {"type": "string"}}}},
		"retry": ` + step.RetrySchema + `}`
)

// connection takes a checked document apart.
func (s *System) connection(n *message.Node, found Found) *Connection {
	c := &Connection{Settings: n, TimeLimit: 10 * time.Second, InFlight: 8, Probe: 30 * time.Second}
	c.Name, c.Title, c.Note, c.Kind = c.Text("/name"), c.Text("/title"), c.Text("/note"), c.Text("/kind")
	c.Address, c.At = trimSlash(c.Text("/address")), c.Text("/at")
	c.SignIn = SignIn{
		Kind:   c.Text("/sign-in/kind"),
		User:   c.Text("/sign-in/user"),
		Header: c.Text("/sign-in/header"),
		Scheme: c.Text("/sign-in/scheme"),
	}
	c.SecretFrom = c.Text("/secret-from")
	if text := c.Text("/secret-until"); text != "" {
		until, err := time.Parse(time.DateOnly, text)
		if err != nil {
			found("/secret-until", "wrong-value", "it is no date", "write it as 2027-01-31")
		}
		c.SecretUntil = until
	}
	c.HeldDuring = c.Text("/hold/during")
	if c.Title == "" {
		c.Title = c.Name
	}
	if c.SignIn.Kind == "" {
		c.SignIn.Kind = SignInNone
	}
	if c.SignIn.Kind == SignInAPIKey && c.SignIn.Header == "" {
		c.SignIn.Header = "x-api-key"
	}
	if c.SignIn.Kind == SignInHMAC && c.SignIn.Scheme == "" {
		c.SignIn.Scheme = "standard-webhooks"
	}
	if c.SignIn.Kind == SignInBasic && c.SignIn.User == "" {
		found("/sign-in", "missing-key", "basic sign-in needs a user", "add user:")
	}
	c.reach(found)
	if s.Check != nil {
		s.Check(c, found)
	}
	return c
}

// reach reads how a system is reached: its limits, retry plan and breaker.
func (c *Connection) reach(found Found) {
	span := func(ptr string, into *time.Duration) {
		if t := c.Text(ptr); t != "" {
			d, err := flow.Duration(t)
			if err != nil {
				found(ptr, "wrong-value", err.Error(), "write it as 500ms, 10s or 2m")
				return
			}
			*into = d
		}
	}
	span("/time-limit", &c.TimeLimit)
	span("/breaker/probe", &c.Probe)
	for ptr, into := range map[string]any{"/limits/in-flight": &c.InFlight, "/limits/per-second": &c.PerSecond,
		"/breaker/trip": &c.Trip} {
		if t := c.Text(ptr); t != "" {
			_, _ = fmt.Sscan(t, into)
		}
	}
	if r := c.Settings.Get("retry"); r != nil {
		plan, bad := step.ReadRetry(r)
		for _, b := range bad {
			found("/retry/"+b.Setting, "retry", b.Reason, "")
		}
		if err := plan.Check(); err != nil && len(bad) == 0 {
			found("/retry", "retry", err.Error(), "")
		}
		c.Retry = plan
	}
}

func trimSlash(s string) string {
	for len(s) > 0 && s[len(s)-1] == '/' {
		s = s[:len(s)-1]
	}
	return s
}
